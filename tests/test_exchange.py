"""A card exchanged for a copy, for one that is written anew, and for a disk: steps by what happened since."""

from __future__ import annotations

from dataclasses import replace

import pytest

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Bridge, Disk
from kyklon.model.build import Build, CardEvent, CardRecord, CardState, edited
from kyklon.model.card import CardContents, KernelFile
from kyklon.model.world import World
from kyklon.operations.card import disk
from kyklon.operations.upkeep import exchange
from support import Demo

T = "2026-06-{:02d}T10:00:00+02:00"


def at_work(demo: Demo, way: str) -> Build:
    """A build with an old card, whose exchange was begun on the 10th."""
    card = CardRecord(drive="old", state=CardState.PROVEN, at=T.format(1), boot_files_at=T.format(1))
    backed_up = CardEvent(at=T.format(2), what="backed up")
    build = demo.build.model_copy(update={"card": card}).with_event("old", 1, backed_up)
    return exchange.begun(edited(build, "upkeep.exchange_by", way), T.format(10))


def open_steps(build: Build, catalogue: Catalogue) -> list[str]:
    return [step.name for step in exchange.steps(build, catalogue, World()) if not step.done]


def written(build: Build, drive: str, day: int, boot: int = 0) -> Build:
    at = T.format(boot) if boot else T.format(1)
    card = CardRecord(drive=drive, state=CardState.PROVEN, at=T.format(day), boot_files_at=at)
    return build.model_copy(update={"card": card})


def test_what_happened_before_it_was_begun_does_not_count(demo: Demo, catalogue: Catalogue) -> None:
    build = at_work(demo, "copy")
    every = ["saves", "backup", "write", "start", "keep-old"]
    assert open_steps(build, catalogue) == every
    assert open_steps(edited(build, "upkeep.saves_at", T.format(9)), catalogue) == every
    assert open_steps(edited(build, "upkeep.saves_at", T.format(11)), catalogue) == every[1:]
    assert open_steps(written(build, "old", 12), catalogue) == every  # the old card once more is no new one
    of_another = build.with_event("other", 1, CardEvent(at=T.format(11), what="backed up"))
    assert open_steps(of_another, catalogue) == every


def test_a_copy_is_done_when_all_of_it_is(demo: Demo, catalogue: Catalogue) -> None:
    build = edited(at_work(demo, "copy"), "upkeep.saves_at", T.format(11))
    build = build.with_event("old", 1, CardEvent(at=T.format(11), what="backed up"))
    build = written(build, "new", 12)
    for name in ("start", "keep-old"):
        build = exchange.with_tick(build, name, on=True)
    assert open_steps(build, catalogue) == []
    build = exchange.with_tick(build, "start", on=False)
    assert open_steps(build, catalogue) == ["start"]
    with pytest.raises(ValueError, match="not ticked by hand"):
        exchange.with_tick(build, "write", on=True)
    over = exchange.ended(build)
    assert not over.upkeep.exchange_since
    assert "write" in open_steps(over, catalogue)


def test_a_fresh_card_needs_boot_files_that_are_newer_than_its_writing(demo: Demo, catalogue: Catalogue) -> None:
    build = at_work(demo, "fresh")
    assert {"boot", "games", "restore"} <= set(open_steps(build, catalogue))
    assert "boot" in open_steps(written(build, "new", 12, boot=11), catalogue)
    assert "boot" not in open_steps(written(build, "new", 12, boot=13), catalogue)
    failed = written(build, "new", 12)
    failed = failed.model_copy(update={"card": failed.card.model_copy(update={"state": CardState.FAILED})})
    assert "write" in open_steps(failed, catalogue)


def test_a_disk_is_clear_when_nothing_speaks_against_it(demo: Demo, catalogue: Catalogue) -> None:
    build = at_work(demo, "disk")
    assert {"choose", "medium", "clear", "parts"} <= set(open_steps(build, catalogue))
    board = next(each for each in catalogue.parts["boards"].values() if each.disk_boot)  # type: ignore[attr-defined]
    build = build.with_part("board", board.id)
    build = build.with_part("disk", catalogue.all(Disk)[0].id).with_part("bridge", catalogue.all(Bridge)[0].id)
    build = edited(build, "medium", "disk")
    troubles = [each for each in disk.findings(build, catalogue, World()) if each.severity != "note"]
    rest = open_steps(build, catalogue)
    assert "medium" not in rest
    assert ("clear" in rest) == bool(troubles)
    for each in troubles:
        clear = next(step for step in exchange.steps(build, catalogue, World()) if step.name == "clear")
        assert clear.why == f"{troubles[0].title}."
        if each.remedy is not None:
            assert each.title


def test_what_is_read_faster_from_a_disk_is_size_by_speed(demo: Demo, catalogue: Catalogue) -> None:
    build = demo.build.with_part("disk", catalogue.all(Disk)[0].id).with_part("bridge", catalogue.all(Bridge)[0].id)
    found = disk.outlook(build, catalogue)
    assert found is not None
    kernel = KernelFile(build.boot.kernel, 30_000_000, "ARMv7")
    rows = disk.readings(found, build, World(card=CardContents(kernels=(kernel,))))
    assert [(row.what, row.guessed) for row in rows] == [("Kernel", False), ("System, until its menu", True)]
    for row in rows:
        assert row.card_s * found.card_mb_s == pytest.approx(row.size / 1e6)
        assert row.disk_s * found.disk_mb_s == pytest.approx(row.size / 1e6)
    tiny = KernelFile(build.boot.kernel, 1000, "ARMv7")
    assert len(disk.readings(found, build, World(card=CardContents(kernels=(tiny,))))) == 1
    assert disk.readings(replace(found, card_mb_s=0.0), build, World()) == ()
    read_back = CardEvent(at=T.format(1), what="written and read back", read_rate=11e6)
    measured = build.model_copy(update={"card": CardRecord(drive="old")}).with_event("old", 1, read_back)
    outlook = disk.outlook(measured, catalogue)
    assert outlook is not None
    assert (outlook.card_mb_s, outlook.measured) == (11.0, True)
    of_disk = disk.outlook(edited(measured, "medium", "disk"), catalogue)  # then it was the disk that was read back
    assert of_disk is not None
    assert not of_disk.measured
