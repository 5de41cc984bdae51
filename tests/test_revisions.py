"""Firmware revisions: the best of those under the right name is taken, and a strange file is none."""

from __future__ import annotations

import hashlib
from itertools import permutations
from pathlib import Path

import pytest

from kyklon.base.errors import WrongUse
from kyklon.base.places import catalogue_folder
from kyklon.catalogue.image_records import BareMetal, Image
from kyklon.catalogue.loader import Catalogue, load
from kyklon.catalogue.records import Board
from kyklon.catalogue.system_records import System
from kyklon.commands import part as by_command
from kyklon.demo import sets
from kyklon.model.build import LibrarySettings
from kyklon.model.library import FoundSystemFile, Revision, SystemFile
from kyklon.operations.card.sets import baremetal
from kyklon.operations.library import scan as scanning
from kyklon.operations.library.soundness import There, bad_system_files

BEST, GOOD, POOR, STRANGE = b"best" * 256, b"good" * 512, b"poor" * 256, b"odd!" * 256


def sum_of(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


WANTED = SystemFile(
    name="core.rom",
    size=len(BEST),
    sha256=sum_of(BEST),
    revisions=(
        Revision(size=len(GOOD), sha256=sum_of(GOOD), note="second"),
        Revision(size=len(POOR), sha256=sum_of(POOR)),
    ),
)


def found_in(folder: Path, files: dict[str, bytes], catalogue: Catalogue) -> FoundSystemFile:
    shelf = folder / "system-files"
    shelf.mkdir(parents=True)
    for name, data in files.items():
        (shelf / name).write_bytes(data)
    system = catalogue.all(System)[0].model_copy(update={"system_files": (WANTED,)})
    (found,) = scanning.scan(folder, (system,), LibrarySettings()).system_files
    return found


@pytest.mark.parametrize("order", list(permutations([BEST, GOOD, POOR])))
def test_what_is_under_the_right_name_stays_and_else_the_best_is_taken(
    order: tuple[bytes, ...], tmp_path: Path, catalogue: Catalogue
) -> None:
    found = found_in(tmp_path / "named", dict(zip(("a.rom", "b.rom", "core.rom"), order, strict=True)), catalogue)
    assert found.usable
    assert (tmp_path / "named" / found.found).read_bytes() == order[2]
    assert found.rank == (BEST, GOOD, POOR).index(order[2])
    found = found_in(tmp_path / "other", dict(zip(("a.rom", "b.rom", "c.rom"), order, strict=True)), catalogue)
    assert (tmp_path / "other" / found.found).read_bytes() == BEST
    assert (found.usable, found.rank, found.size) == (False, 0, len(BEST))


def test_a_less_good_one_is_taken_and_a_strange_one_is_not(tmp_path: Path, catalogue: Catalogue) -> None:
    found = found_in(tmp_path / "one", {"core.rom": POOR, "x.rom": STRANGE}, catalogue)
    assert (found.usable, found.rank) == (True, 2)
    found = found_in(tmp_path / "two", {"core.rom": STRANGE}, catalogue)
    assert (found.usable, found.found) == (False, "")
    twice = found_in(tmp_path / "three", {"a.rom": GOOD, "core.rom": GOOD}, catalogue)
    assert twice.usable  # of two alike the one under its own name


def test_on_the_machine_another_revision_is_no_damage(catalogue: Catalogue) -> None:
    image = catalogue.all(Image)[0]
    system = catalogue.all(System)[0].model_copy(update={"system_files": (WANTED,)})

    def told(data: bytes, digest: str | None = None) -> dict[str, str]:
        path = f"{image.system_files_path.strip('/')}/core.rom"
        there = There({path: len(data)}, lambda _: "", None, lambda _: sum_of(data) if digest is None else digest)
        return bad_system_files(there, (system,), image)

    assert told(BEST) == told(GOOD) == told(POOR) == told(GOOD, "") == {}
    assert "different contents" in told(STRANGE)["core.rom"]
    assert "2 bytes instead of 1024 or 2048" in told(b"no")["core.rom"]


def test_a_bare_metal_set_starts_with_a_revision_and_says_so(tmp_path: Path, catalogue: Catalogue) -> None:
    folder = sets.make_bare_metal(tmp_path / "set", mistakes=False)
    layout = catalogue.all(BareMetal)[0]
    image, board = catalogue.get(Image, layout.image), catalogue.get(Board, "cod")
    (folder / "machines" / "elm-s" / "elm-system").write_bytes(GOOD)
    assert "system-file-size" in {each.code for each in baremetal.plan(folder, layout, image, board).problems}
    machine = layout.machines[0]
    revision = Revision(size=len(GOOD), sha256=sum_of(GOOD), note="The second release.")
    first = machine.files[0].model_copy(update={"revisions": (revision,)})
    own = layout.model_copy(
        update={"machines": (machine.model_copy(update={"files": (first, *machine.files[1:])}), *layout.machines[1:])}
    )
    made = baremetal.plan(folder, own, image, board)
    assert [(each.code, each.why) for each in made.problems] == [("system-file-revision", "The second release.")]
    assert made.ready
    assert "elm-s" in made.machines


def test_revisions_are_taken_from_good_files_by_command(tmp_path: Path, catalogue: Catalogue) -> None:
    system = catalogue.all(System)[0]
    by_command.copy("system", system.id, "Own one")
    for name, data in (("core.rom", BEST), ("second.rom", GOOD)):
        (tmp_path / name).write_bytes(data)
    assert by_command.firmware("own-one", tmp_path / "core.rom") == 0
    assert by_command.firmware("own-one", tmp_path / "second.rom", revision_of="core.rom", note="second") == 0
    own = next(each for each in load(catalogue_folder()).get(System, "own-one").system_files if each.name == "core.rom")
    assert own.revisions == (Revision(size=len(GOOD), sha256=sum_of(GOOD), note="second"),)
    with pytest.raises(WrongUse, match="already"):
        by_command.firmware("own-one", tmp_path / "second.rom", revision_of="core.rom")
    with pytest.raises(WrongUse, match="asks for no"):
        by_command.firmware("own-one", tmp_path / "second.rom", revision_of="other.rom")
