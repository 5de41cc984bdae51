"""The shipped catalogue, row by row, and what the loader refuses."""

from __future__ import annotations

from pathlib import Path

import pytest

from kyklon.base.errors import CatalogueError
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import KINDS, Catalogue, load, standard_timings
from kyklon.catalogue.records import Board, Cable, Display, Encoder
from kyklon.catalogue.system_records import Panel, System


def test_every_kind_ships_with_something(catalogue: Catalogue) -> None:
    assert {kind for kind in KINDS if not catalogue.parts[kind]} == set()


def test_every_connector_of_a_cable_fits_some_port(catalogue: Catalogue) -> None:
    connectors = {port.connector for rows in catalogue.parts.values() for part in rows.values() for port in part.ports}
    for cable in catalogue.all(Cable):
        assert set(cable.ends) <= connectors, cable.id


def test_every_board_has_a_native_kernel_and_an_image(catalogue: Catalogue) -> None:
    images = catalogue.all(Image)
    for board in catalogue.all(Board):
        assert board.native_set in board.runs
        serving = [image for image in images if board.id in image.boards]
        assert serving, board.id
        assert all(board.native_set in {k.instruction_set for k in image.kernels} for image in serving)


def test_ranges_have_the_lowest_first(catalogue: Catalogue) -> None:
    for display in catalogue.all(Display):
        for band in display.ranges:
            assert band.line_khz[0] < band.line_khz[1]
            assert band.field_hz[0] < band.field_hz[1]


def test_terminals_are_unique_and_belong_to_a_player(catalogue: Catalogue) -> None:
    for encoder in catalogue.all(Encoder):
        ids = [terminal.id for terminal in encoder.terminals]
        assert len(ids) == len(set(ids))
        assert {terminal.player for terminal in encoder.terminals} == set(range(1, encoder.players + 1))


def test_every_input_of_a_system_has_a_place_that_some_panel_has(catalogue: Catalogue) -> None:
    """Or one that people look for it at on a full one."""
    places = {place for panel in catalogue.all(Panel) for place in panel.switches()} | {f"b{n}" for n in range(1, 9)}
    for system in catalogue.all(System):
        assert {each.place for each in system.inputs} <= places, system.id


def test_no_two_controls_of_a_panel_overlap(catalogue: Catalogue) -> None:
    for panel in catalogue.all(Panel):
        for index, a in enumerate(panel.controls):
            for b in panel.controls[index + 1 :]:
                distance = ((a.x - b.x) ** 2 + (a.y - b.y) ** 2) ** 0.5
                assert distance > (a.bore + b.bore) / 2, (panel.id, a.id, b.id)


def user_file(folder: Path, name: str, text: str) -> Path:
    folder.mkdir(exist_ok=True)
    (folder / name).write_text(text, encoding="utf-8")
    return folder


CARD = """
[[cards]]
id = "{id}"
name = "My card"
capacity_bytes = 64000000000
speed_class = "U1"
read_mb_s = 80
write_mb_s = 30
"""


def test_a_users_part_is_as_good_as_a_shipped_one(tmp_path: Path) -> None:
    folder = user_file(tmp_path / "mine", "cards.toml", CARD.format(id="my-card"))
    made = load(folder)
    assert made.any("my-card").name == "My card"
    assert made.any("cockle-32") is not None


def test_a_users_row_replaces_a_shipped_one(tmp_path: Path) -> None:
    folder = user_file(tmp_path / "mine", "cards.toml", CARD.format(id="cockle-32"))
    assert load(folder).any("cockle-32").name == "My card"


@pytest.mark.parametrize(
    ("text", "told"),
    [
        (CARD.format(id="x") + "colour = 'red'\n", "colour"),
        (CARD.format(id="x").replace("read_mb_s = 80", "read_mb_s = -1"), "read_mb_s"),
        (CARD.format(id="x") + CARD.format(id="x"), "twice"),
        (CARD.format(id="not valid"), "id"),
        ("[[boards]]\n", "boards"),
        ("[[cards]\n", "TOML"),
        ("cards = [1]\n", "row 1"),
    ],
)
def test_what_is_wrong_in_a_users_file_is_named_with_file_and_key(tmp_path: Path, text: str, told: str) -> None:
    folder = user_file(tmp_path / "mine", "cards.toml", text)
    with pytest.raises(CatalogueError) as caught:
        load(folder)
    assert "cards.toml" in str(caught.value)
    assert told in str(caught.value)


def test_a_dangling_reference_is_an_error(tmp_path: Path) -> None:
    text = '[[emulators]]\nid = "e"\nname = "E"\ntemplate = "nowhere"\nframes_ahead = false\n'
    with pytest.raises(CatalogueError, match="nowhere"):
        load(user_file(tmp_path / "mine", "emulators.toml", text))


def test_an_unknown_part_is_named_with_what_there_is(catalogue: Catalogue) -> None:
    with pytest.raises(CatalogueError, match="herring"):
        catalogue.get(Board, "hering")


def test_standard_tables_are_complete() -> None:
    assert len(standard_timings("dmt")) == 88  # VESA DMT 1.13
    assert {1, 8, 16, 23, 39, 64, 107} <= set(standard_timings("cta"))
