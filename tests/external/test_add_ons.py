"""Add-ons: learnt from scripts, installed for real, foretold from a card.

Outside references: busybox ash and dash(1) run the installing script in a root of their own; systemd-analyze(1)
verifies the unit where it is there.
"""

from __future__ import annotations

import json
import shutil
import subprocess
from pathlib import Path

import pytest

from kyklon.base.cell import why_none
from kyklon.base.errors import CatalogueError, KyklonError, WrongUse
from kyklon.base.places import catalogue_folder
from kyklon.catalogue.add_on_records import AddOn, AddOnFile
from kyklon.catalogue.loader import load
from kyklon.commands import part as part_command
from kyklon.commands import plan
from kyklon.commands import setup as by_command
from kyklon.commands.shared import open_folder
from kyklon.model.build import PartCopy, edited
from kyklon.model.world import World
from kyklon.operations.boot import add_on_findings
from kyklon.operations.boot.add_ons import lines, unit
from kyklon.operations.plan.steps import steps
from kyklon.parts import add_on, copies, trust, view
from kyklon.parts.store import plain_row
from kyklon.record import folder as store
from support import Demo
from test_failures import catalogue, copied, good, good_build, observed, put, run, world_of  # noqa: F401 # a fixture

in_a_cell = pytest.mark.skipif(bool(why_none()) or shutil.which("busybox") is None, reason="no cell, or no busybox")
WAKE = """#!/bin/sh
until i2cset -y 1 0x20 0x01 0x02 2>/dev/null; do sleep 1; done
if command -v beep >/dev/null; then beep; fi
/opt/screen/dim 20
"""


def made(**changes: object) -> AddOn:
    row = {
        "id": "own-tool",
        "name": "Own tool",
        "files": ({"path": "usr/local/bin/own-tool", "text": "#!/bin/sh\necho here\n", "mode": "0755"},),
    }
    return AddOn.model_validate({**row, **changes})


def test_a_script_tells_what_it_calls(tmp_path: Path) -> None:
    tool = tmp_path / "wake-screen"
    tool.write_text(WAKE)
    draft = add_on.learn(tool)
    assert draft.row["files"] == [{"path": "usr/local/bin/wake-screen", "text": WAKE, "mode": "0755"}]
    assert draft.suggested["programs"] == ("i2cset", "dim")
    assert any("i2cset" in words and "/dev/null" in words for words in draft.told)
    part = draft.agreed().part()
    assert isinstance(part, AddOn)
    assert (part.name, part.started) == ("Wake screen", "/usr/local/bin/wake-screen")
    folder = tmp_path / "led clock"
    (folder / "usr" / "bin").mkdir(parents=True)
    (folder / "usr" / "bin" / "clock").write_text("#!/usr/bin/env python3\nimport json, beside, matrix9\n")
    (folder / "beside.py").write_text("import os\n")
    whole = add_on.learn(folder)
    assert {row["path"] for row in whole.row["files"]} == {"usr/bin/clock", "opt/led clock/beside.py"}
    assert (whole.suggested["modules"], whole.suggested["programs"]) == (("matrix9",), ("python3",))


@pytest.mark.parametrize(
    ("name", "data", "words"),
    [
        ("tool", b"\x7fELF\x02\x01\x01\0", "a text"),
        ("tool", b"#!/bin/sh\n\xff", "a text"),
        ("tool", b"x" * 40_000, "tool"),
    ],
)
def test_what_is_no_script_is_refused(name: str, data: bytes, words: str, tmp_path: Path) -> None:
    (tmp_path / name).write_bytes(data)
    with pytest.raises(KyklonError, match=words):
        add_on.learn(tmp_path / name)
    (tmp_path / "nothing").mkdir()
    with pytest.raises(KyklonError, match="is empty"):
        add_on.learn(tmp_path / "nothing")
    (tmp_path / "linked").mkdir()
    (tmp_path / "linked" / "shadow").symlink_to("/etc/shadow")
    with pytest.raises(KyklonError, match="a link"):
        add_on.learn(tmp_path / "linked")


@pytest.mark.parametrize(
    "changes",
    [
        {"command": "/bin/x\nExecStartPre=/bin/rm"},
        {"command": "x; rm -rf /"},
        {"command": "/bin/x $(rm)"},
        {"user": "root\n"},
        {"programs": ["a b"]},
        {"files": [{"path": "../etc/passwd", "text": ""}]},
        {"files": [{"path": "boot/kernel", "text": ""}]},
        {"files": [{"path": "etc/a", "text": ""}, {"path": "etc/a", "text": ""}]},
        {"files": [{"path": "etc/a", "text": "", "mode": "4755"}]},
    ],
)
def test_a_hostile_add_on_is_no_part(changes: dict[str, object]) -> None:
    with pytest.raises(ValueError, match="validation error"):
        made(**changes)


HARD = (
    AddOnFile(path='etc/own/a b\'c "d" $e', text="KYKLON\nKYKLON2\n$(touch /hurt) `touch /hurt` \\\n'\"\tend"),
    AddOnFile(path="usr/local/bin/own-tool", text="#!/bin/sh\necho here\n", mode="0755"),
)


@in_a_cell
@pytest.mark.parametrize("shell", ["busybox", "dash"])
@pytest.mark.parametrize("user", ["", "player"])
def test_what_the_script_installs_is_byte_for_byte_what_was_learnt(shell: str, user: str, tmp_path: Path) -> None:
    """Run twice by a real shell in a root of its own, without systemd and with it: nothing is doubled."""
    tool = made(files=HARD, command="/usr/local/bin/own-tool --now", drivers=("i2c-dev",), user=user)
    root = tmp_path / "root"
    for name in ("bin", "etc", "proc", "dev", "tmp"):
        (root / name).mkdir(parents=True)
    shutil.copy(shutil.which("busybox") or "", root / "bin" / "busybox")
    for name in ("sh", "mkdir", "cat", "chmod", "grep", "printf", "head", "tail", "cut", "mv", "ln", "id"):
        (root / "bin" / name).symlink_to("busybox")
    (root / "etc" / "rc.local").write_text("#!/bin/sh -e\necho before\nexit 0\n")
    cell = ["bwrap", "--unshare-all", "--bind", root, "/", "--proc", "/proc", "--dev", "/dev"]
    reader = ["/bin/busybox", "sh"]
    if shell == "dash":
        if not (dash := shutil.which("dash")):
            pytest.skip("no dash")
        cell += ["--ro-bind", "/lib", "/lib", "--ro-bind", "/lib64", "/lib64", "--ro-bind", dash, "/tmp/dash"]
        reader = ["/tmp/dash"]
    for _time in range(2):
        text = f"set -e\nPATH=/bin\n{lines(tool)}"
        subprocess.run([*cell, *reader, "-c", text], check=True, capture_output=True, timeout=60)
    for each in HARD:
        there = root / each.path
        assert there.read_text() == each.text + ("" if each.text.endswith("\n") else "\n")
        assert f"{there.stat().st_mode & 0o777:04o}" == each.mode
    assert not (root / "hurt").exists()
    assert (root / "etc" / "modules-load.d" / "own-tool.conf").read_text() == "i2c-dev\n"
    local = (root / "etc" / "rc.local").read_text().split("\n")
    started = [line for line in local if "own-tool" in line]
    assert len(started) == 1
    assert local.index(started[0]) < local.index("exit 0")
    assert started[0].endswith(" &")
    assert ("su -s /bin/sh player" in started[0]) == bool(user)
    (root / "run" / "systemd" / "system").mkdir(parents=True)
    subprocess.run([*cell, *reader, "-c", f"PATH=/bin\n{lines(tool)}"], check=True, capture_output=True, timeout=60)
    wanted = root / "etc" / "systemd" / "system" / "multi-user.target.wants" / "own-tool.service"
    assert str(wanted.readlink()) == "/etc/systemd/system/own-tool.service"
    assert (root / "etc" / "systemd" / "system" / "own-tool.service").read_text() == unit(tool)


@pytest.mark.skipif(shutil.which("systemd-analyze") is None, reason="no systemd-analyze")
def test_its_unit_is_one_to_systemd(tmp_path: Path) -> None:
    tool = made(command="/bin/true 100%", user="root", groups=("root",), network=True, restarts=True, name="100% tool")
    place = tmp_path / "own-tool.service"
    place.write_text(unit(tool))
    told = subprocess.run(["systemd-analyze", "verify", place], capture_output=True, text=True)
    assert "own-tool.service" not in told.stderr


def own_image() -> str:
    """An image on the shelf that runs no script of ours."""
    assert part_command.copy("image", "quayside", "Own image") == 0
    assert part_command.change("image", "own-image", "first_boot_script", "") == 0
    return "own-image"


def test_by_commands_from_a_script_to_the_machine(demo: Demo, capsys: pytest.CaptureFixture[str]) -> None:
    tool = demo.folder / "wake-screen"
    tool.write_text(WAKE)
    assert part_command.learn("add-on", str(tool), agree=True, save=True, set_=["packages=i2c-tools"]) == 0
    assert plan.use(demo.folder, "add-on", "wake-screen") == 0
    capsys.readouterr()
    with pytest.raises(WrongUse, match="at its first boot"):
        by_command.setup(demo.folder, demo.folder / "setup.sh")
    assert by_command.setup(demo.folder, as_json=True) == 0
    rows = json.loads(capsys.readouterr().out)["add_ons"]
    assert [(row["id"], row["needs"], row["user"]) for row in rows] == [("wake-screen", ["i2cset", "dim"], "root")]
    store.update(
        demo.folder, lambda now: edited(now.with_part("image", own_image()), "system.time_zone", "Europe/Dublin")
    )
    assert by_command.setup(demo.folder, demo.folder / "setup.sh") == 0
    text = (demo.folder / "setup.sh").read_text()
    assert "apt-get install -y i2c-tools" in text
    assert WAKE in text
    assert "zoneinfo/Europe/Dublin" in text
    subprocess.run(["sh", "-n", demo.folder / "setup.sh"], check=True)
    build, known = open_folder(demo.folder)
    (step,) = (each for each in steps(build, known, World()) if each.id == "add-on-wake-screen")
    assert step.alone == (1.0, 3.0, 5.0), "its own minutes: nothing installs it at the first boot"
    assert "open-start" in dict(step.after)
    kept = json.loads((demo.folder / "build.json").read_text())
    assert [copy["id"] for copy in kept["copies"] if copy["kind"] == "add_ons"] == ["wake-screen"]
    assert "wake-screen" in copies.ids_in(kept)


def test_an_add_on_of_somebody_else_installs_nothing_until_it_was_looked_at(demo: Demo) -> None:
    """It would run as root on the machine."""
    row = plain_row(made())
    build = edited(
        edited(demo.build, "copies", [PartCopy(kind="add_ons", id="own-tool", row=row)]), "system.add_ons", ["own-tool"]
    )
    shelf = load()
    assert [copy.id for copy in trust.unseen(build.copies, shelf)] == ["own-tool"]
    seen = view.catalogue_for(build, shelf).get(AddOn, "own-tool")
    assert (seen.files, seen.command, lines(seen)) == ((), "", "")
    assert "echo here" in trust.shown("add_ons", row)
    trust.remember([("add_ons", row)])
    assert view.catalogue_for(build, shelf).get(AddOn, "own-tool") == made()


def test_what_lacks_and_what_is_not_installed_is_foretold(good: dict[str, Path], tmp_path: Path) -> None:
    build = good_build("merrow")
    world, card = world_of(build, good["folder"]), copied(good["merrow"], tmp_path / "card.img")
    with_fan = edited(build, "system.add_ons", ["fan-by-heat"])
    told = {failure.code: failure for failure in run(card, with_fan, world).failures}
    assert told["system.add-on-absent:fan-by-heat"].remedy is not None, "it has to reach the card"
    assert not any(each.blocks for each in told.values())
    put(card, with_fan)
    result = run(card, with_fan, world)
    assert not [failure for failure in result.failures if failure.code.startswith("system.add-on")]
    assert any("Fan by temperature starts" in event.text for event in result.events)
    both = edited(build, "system.add_ons", ["fan-by-heat", "long-press"])
    put(card, both)
    told = {failure.code: failure for failure in run(card, both, world).failures}
    assert set(told) == {"system.add-on:long-press"}
    assert "the program gpioget" in told["system.add-on:long-press"].cause
    assert "the package gpiod" in told["system.add-on:long-press"].cause
    found = add_on_findings.findings(both, catalogue(), World(card=observed(card, both)))
    assert [each.code for each in found] == ["boot.add-on:long-press"]


def test_findings_without_a_card(demo: Demo) -> None:
    shelf = load()
    gone = edited(demo.build, "system.add_ons", ["nobody"])
    found = add_on_findings.findings(gone, shelf, World())
    assert [each.code for each in found] == ["boot.add-on-unknown:nobody"]
    assert found[0].remedy is not None
    assert add_on_findings.findings(edited(demo.build, "system.add_ons", ["fan-by-heat"]), shelf, World()) == []


def test_shipped_ones_need_what_their_text_calls() -> None:
    for part in load().all(AddOn):
        assert subprocess.run(["sh", "-n"], input=lines(part), text=True).returncode == 0
        for file in part.files:
            needs = set(part.programs)
            place = catalogue_folder() / "try"
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_text(file.text)
            draft = add_on.learn(place)
            assert set(draft.suggested.get("programs", ())) <= needs, part.id


def test_an_add_on_with_a_wrong_key_is_named(tmp_path: Path) -> None:
    (tmp_path / "add_ons.toml").write_text('[[add_ons]]\nid = "a"\nname = "A"\nstarts = "never"\n')
    with pytest.raises(CatalogueError, match="starts"):
        load(tmp_path)
