"""Every kind of part through every verb of the shelf, by command and by window: none raises, none is a dead end."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtWidgets import QWidget
from pytestqt.qtbot import QtBot

from kyklon.app.pages.shelf.edit_dialog import EditDialog
from kyklon.app.theme.tokens import Theme
from kyklon.base.errors import WrongUse
from kyklon.base.places import catalogue_folder
from kyklon.catalogue.loader import KINDS, Catalogue, load
from kyklon.catalogue.records import Adapter, Bridge, Cable, Disk
from kyklon.commands import part as by_command
from kyklon.commands import plan
from kyklon.operations.plan.acts import ROLES, fresh_build, is_usable, with_part_used, without_part
from kyklon.operations.plan.connections import connections
from kyklon.parts.facts import facts_of
from kyklon.parts.fields import KIND_WORDS, fields_of, one
from kyklon.record import folder as store

OUTSIDE = ("dialects", "templates", "add_ons")  # hold text: an import of them has to be agreed to


def test_the_shelf_has_a_name_and_fields_for_every_kind() -> None:
    assert set(KIND_WORDS) == set(KINDS)
    assert all(len(fields_of(kind)) > 1 for kind in KINDS)


@pytest.mark.long(keep=6)
@pytest.mark.parametrize("kind", list(KINDS))
def test_every_kind_is_copied_changed_exported_deleted_and_imported(
    kind: str, catalogue: Catalogue, tmp_path: Path, qtbot: QtBot
) -> None:
    part = next(iter(catalogue.parts[kind].values()))
    name = one(kind)
    by_command.copy(name, part.id, "Own one")
    assert by_command.change(name, "own-one", "note", "changed by hand") == 0
    own = load(catalogue_folder())
    assert own.parts[kind]["own-one"].note == "changed by hand"
    assert facts_of(kind, "own-one", own)
    for field in fields_of(kind):  # whatever is shown can be typed, and says the same again
        value = getattr(own.parts[kind]["own-one"], field.name, None)
        if value is not None and field.typed(value):
            assert by_command.change(name, "own-one", field.name, field.typed(value)) == 0
    holder = QWidget()
    qtbot.addWidget(holder)
    dialog = EditDialog(kind, own.parts[kind]["own-one"], Theme(), holder)
    dialog._on_keep()
    assert dialog.result() == 1, dialog._wrong.text()
    file = tmp_path / "own.toml"
    assert by_command.export(name, "own-one", file) == 0
    assert by_command.delete(name, "own-one") == 0
    assert "own-one" not in load(catalogue_folder()).parts[kind]
    told = by_command.import_(file)
    assert told == (1 if kind in OUTSIDE else 0)
    if kind not in OUTSIDE:
        assert load(catalogue_folder()).parts[kind]["own-one"].note == "changed by hand"


@pytest.mark.parametrize("kind", [kind for kind in KINDS if is_usable(kind)])
def test_every_kind_that_a_build_has_is_used_and_taken_out(kind: str, catalogue: Catalogue) -> None:
    build = fresh_build("Own", catalogue)
    for part in catalogue.parts[kind].values():
        made = with_part_used(build, kind, part.id, catalogue)
        if kind in ROLES:
            assert made.part(ROLES[kind]) == part.id
            assert not [connection for connection in connections(made, catalogue) if connection.faults]
        if kind in ("boards", "images", "dialects"):
            continue
        if kind == "systems" and len(made.systems) == 1:
            continue
        gone = without_part(made, kind, part.id, catalogue)
        assert part.id not in (*(each.part for each in gone.parts), *gone.systems, gone.controls.panel)
    with pytest.raises(ValueError, match="not in this build"):
        without_part(build, "disks", "nowhere", catalogue)
    with pytest.raises(ValueError, match="chosen where it is needed"):
        with_part_used(build, "cables", "any", catalogue)
    with pytest.raises(ValueError, match="is no role"):
        with_part_used(build, "encoders", "tackle-12", catalogue, "board-2")


TYPED = {
    "adapter": ("Own adapter", ["socket_in=HDMI A", "socket_out=DE-15", "sync_out=separate", "delay_ms=2 ms"], Adapter),
    "disk": ("Own disk", ["capacity_bytes=256 GB", "peak_a=900 mA"], Disk),
    "disk bridge": ("Own bridge", ["usb_id=6b79, 0c77", "uas=misbehaves"], Bridge),
    "cable": ("Own cable", ["ends=HDMI A, HDMI A", "signals=HDMI", "length_m=75 cm"], Cable),
}


@pytest.mark.parametrize("kind", list(TYPED))
def test_parts_by_their_print(kind: str) -> None:
    name, answers, record = TYPED[kind]
    assert by_command.add(kind, name, answers, agree=True) == 0
    part = load(catalogue_folder()).find(record, name.lower().replace(" ", "-"))
    assert part is not None
    assert part.name == name


def test_an_own_cable_goes_where_it_is_put(
    tmp_path: Path, catalogue: Catalogue, capsys: pytest.CaptureFixture[str]
) -> None:
    by_command.add("cable", *TYPED["cable"][:2], agree=True)
    folder = tmp_path / "build"
    store.save(folder, fresh_build("Own", catalogue))
    assert plan.connect(folder, "board.video", "display.video", "own-cable") == 0
    plan.show(folder)
    assert "own-cable" in capsys.readouterr().out
    build = store.load(folder).build
    assert [link.cable for link in build.links if link.start == "board.video"] == ["own-cable"]
    assert any(copy.kind == "cables" for copy in build.copies), "the build keeps a copy of it"
    assert plan.connect(folder, "board.video", "display.video") == 0
    build = store.load(folder).build
    assert [link.cable for link in build.links if link.start == "board.video"] == ["own-cable"], "own ones come first"
    assert plan.disconnect(folder, "display.video") == 0
    with pytest.raises(WrongUse, match="Nothing is plugged"):
        plan.disconnect(folder, "display.video")


@pytest.mark.parametrize(
    ("name", "answers"),
    [
        ("AdapterWalk", {"sync_out": "composite"}),
        ("DiskWalk", {"capacity_bytes": "512 GB"}),
        ("BridgeWalk", {"usb_id": "6b79, 0c99"}),
    ],
)
def test_walks_of_what_is_printed(user: Any, name: str, answers: dict[str, str]) -> None:
    user.window.open_shelf()
    walk = user.window.shelf_page().start("print_walk", name)
    walk.grab()
    assert walk.draft is not None
    draft = walk.draft
    for field, value in answers.items():
        draft = draft.answered(field, value)
    walk.take(draft.agreed().with_value("name", "Own thing"))
    walk.grab()
    assert walk.draft is not None
    assert walk.draft.part().id == "own-thing"


@pytest.fixture
def own_cable() -> None:
    by_command.add("cable", *TYPED["cable"][:2], agree=True)


@pytest.mark.usefixtures("own_cable")
def test_a_cable_is_chosen_pulled_out_and_connected_by_the_menu(user: Any) -> None:
    """An own cable goes where it is needed, with the others that fit."""
    page = user.open(10)

    def entries() -> dict[str, Any]:
        return {act.text(): act.menu() for act in page.cable_menu().actions() if act.menu() is not None}

    def choices(words: str) -> dict[str, Any]:
        return {act.text(): act for act in next(menu for text, menu in entries().items() if words in text).actions()}

    def link() -> list[str]:
        return [each.cable for each in user.window.session.build.links if each.start == "board.video"]

    assert link() == ["hdmi-a-a-1m"]
    assert next(iter(choices("Video to"))) == "Own cable", "the user's own come first"
    choices("Video to")["Own cable"].trigger()
    assert link() == ["own-cable"]
    choices("Video to")["Disconnect"].trigger()
    assert link() == []
    next(act for text, act in choices("not connected").items() if "HDMI A to A" in text).trigger()
    assert link() == ["hdmi-a-a-1m"]
