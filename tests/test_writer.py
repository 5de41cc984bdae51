"""Writing and proving, and every way it goes wrong. Targets are files and simulated drives."""

from __future__ import annotations

import hashlib
import random
import threading
from pathlib import Path

import pytest

from kyklon.base.errors import Cancelled, KyklonError, Refused, SourceError, TargetFull, TargetLost, VerifyError
from kyklon.base.progress import CancelToken, Progress, Watch
from kyklon.catalogue.loader import Catalogue
from kyklon.devices.simulated.drives import Faults, SimulatedDrives
from kyklon.model.build import CardState, edited
from kyklon.model.image_file import Stated
from kyklon.operations import workshop
from kyklon.operations.card.drives import writer
from kyklon.operations.card.drives.interlock import Case, grant
from kyklon.operations.card.sources import source
from kyklon.operations.card.volumes import contents
from kyklon.operations.card.volumes.fat import FatVolume
from support import Demo

MIB = 1 << 20


def image(folder: Path, chunks: float = 5.5) -> Path:
    path = folder / "a.img"
    path.write_bytes(random.Random(8).randbytes(int(chunks * source.CHUNK) // 512 * 512))
    return path


def simulated(folder: Path, size: int = 64 * MIB, **faults: int) -> workshop.Target:
    """One simulated drive with faults."""
    from kyklon.devices.ports import DriveFacts
    from kyklon.devices.simulated.drives import SimulatedDrive

    facts = DriveFacts(identity="sim:x", name="x", size=size, bus="usb", removable=True, simulated=True)
    drives = SimulatedDrives(folder / "drives")
    drives.save((SimulatedDrive(facts=facts, backing="x.img", faults=Faults(**faults)),))
    return workshop.Target(drives, facts)


def test_a_written_card_holds_the_image_and_the_report_its_sums(tmp_path: Path) -> None:
    path = image(tmp_path)
    target = simulated(tmp_path)
    reports: list[Progress] = []
    report = workshop.write(target, source.inspect(path), None, watch=Watch(reports.append))
    data = path.read_bytes()
    assert target.path.read_bytes() == data
    assert report.size == len(data)
    assert report.sha256 == hashlib.sha256(data).hexdigest()
    assert report.verified
    assert {each.phase for each in reports} == {"Writing", "Reading back"}
    assert all(0 <= (each.fraction or 0) <= 1 for each in reports)


def test_the_partition_table_is_written_last(tmp_path: Path) -> None:
    """Whatever cuts a write short, the first bytes on the target are zeros."""
    path = image(tmp_path)
    cancel = CancelToken()

    def watch(report: Progress) -> None:
        if report.phase == "Writing" and report.done > source.CHUNK:
            cancel.cancel()

    target = simulated(tmp_path, rate=200 * MIB)
    with pytest.raises(Cancelled):
        workshop.write(target, source.inspect(path), None, watch=Watch(watch, cancel))
    written = target.path.read_bytes()
    assert len(written) > source.CHUNK
    assert not any(written[: source.CHUNK])


def test_cancelling_marks_the_card_as_not_bootable(demo: Demo) -> None:
    cancel = CancelToken()
    cancel.cancel()
    target = workshop.find_target("blank-card", demo.folder)
    record, bad, report, _event = workshop.write_card(demo.folder, demo.build, target, watch=Watch(cancel=cancel))
    assert isinstance(bad, Cancelled)
    assert report is None
    assert record.state is CardState.CANCELLED
    assert not demo.build.card.bootable
    assert contents.observe(target.path).table is None


def test_a_write_that_was_killed_is_told_as_interrupted(demo: Demo) -> None:
    from kyklon.operations.card.findings import findings

    build = edited(demo.build, "card", {"drive": "sim:blank-card", "state": "being written"})
    (found,) = [each for each in findings(build, None, "", None) if each.code == "card.not-bootable"]
    assert (found.severity, found.subject) == ("stop", "blank-card")
    assert "was interrupted" in found.message
    now_ = findings(build, None, "", None, writing=True)
    assert "card.being-written" in {each.code for each in now_}


def test_cancelling_the_reading_back_says_unproven(demo: Demo) -> None:
    cancel = CancelToken()

    def watch(report: Progress) -> None:
        if report.phase == "Writing" and report.done == report.total:
            cancel.cancel()

    target = workshop.find_target("blank-card", demo.folder)
    record, bad, _report, _event = workshop.write_card(demo.folder, demo.build, target, watch=Watch(watch, cancel))
    assert isinstance(bad, Cancelled)
    assert record.state in (CardState.UNPROVEN, CardState.CANCELLED)


@pytest.mark.parametrize(
    ("faults", "error", "words"),
    [
        ({"unplugged_at": 9 * MIB}, TargetLost, "went away"),
        ({"bad_block_at": 13 * MIB}, KyklonError, "KiB at byte 13631488 cannot be written, tried 3 times"),
        ({"true_size": 8 * MIB}, VerifyError, "differs"),
    ],
)
def test_a_failing_drive_is_named_and_left_without_a_table(
    faults: dict[str, int], error: type[KyklonError], words: str, tmp_path: Path
) -> None:
    path = image(tmp_path)
    target = simulated(tmp_path, **faults)
    with pytest.raises(error, match=words):
        workshop.write(target, source.inspect(path), None)
    assert not any(target.path.read_bytes()[:512])


def test_a_loose_card_is_recorded_as_failed(demo: Demo) -> None:
    target = workshop.find_target("loose-card", demo.folder)
    record, bad, _report, _event = workshop.write_card(demo.folder, demo.build, target)
    assert isinstance(bad, TargetLost)
    assert record.state is CardState.FAILED
    assert demo.build.card.state is CardState.FAILED


def test_a_wrong_checksum_stops_before_the_table_is_written(demo: Demo) -> None:
    target = workshop.find_target("blank-card", demo.folder)
    facts = source.inspect(demo.image)
    with pytest.raises(SourceError, match="SHA-256"):
        workshop.write(target, facts, None, stated=Stated("SHA-256", "0" * 64))
    assert not any(target.path.read_bytes()[:512])


@pytest.mark.parametrize("which", ["file", "image"])
def test_the_makers_checksum_may_be_of_the_file_or_of_the_image(which: str, demo: Demo) -> None:
    import lzma

    data = demo.image.read_bytes()
    known = hashlib.sha256(data if which == "file" else lzma.decompress(data)).hexdigest()
    target = workshop.find_target("blank-card", demo.folder)
    assert workshop.write(target, source.inspect(demo.image), None, stated=Stated("SHA-256", known)).verified


@pytest.mark.parametrize(
    ("name", "words"),
    [
        ("system-disk", "running system"),
        ("small-card", "needs"),
        ("locked-card", "read-only"),
        ("photo-stick", "HOLIDAY 24"),
    ],
)
def test_refused_drives_are_not_touched(name: str, words: str, demo: Demo) -> None:
    path = demo.drive(name)
    before = path.read_bytes() if path.exists() else None
    target = workshop.find_target(name, demo.folder)
    for typed in ("", "yes", name):
        with pytest.raises(Refused, match=words):
            workshop.write_card(demo.folder, demo.build, target, typed=typed)
    assert (path.read_bytes() if path.exists() else None) == before
    assert demo.build.card.state is CardState.NEVER


def test_an_image_cut_off_on_the_way_leaves_no_card(demo: Demo) -> None:
    """Its xz index is whole, so the damage shows only while unpacking."""
    data = bytearray(demo.image.read_bytes())
    data[len(data) // 2] ^= 0xFF
    demo.image.write_bytes(bytes(data))
    target = workshop.find_target("blank-card", demo.folder)
    build = edited(demo.build, "source.sha256", None)
    record, bad, _report, _event = workshop.write_card(demo.folder, build, target)
    assert isinstance(bad, SourceError)
    assert record.state is CardState.FAILED


def test_a_permit_for_another_drive_writes_nothing(tmp_path: Path) -> None:
    path = image(tmp_path)
    target = simulated(tmp_path)
    other = target.facts.model_copy(update={"identity": "sim:y"})
    permit = grant(Case(other, 1, str(path.resolve())))
    with pytest.raises(Refused):
        writer.write_image(source.inspect(path), target.drives, target.facts, permit)
    assert not target.path.exists()


def test_no_thread_is_left_behind(tmp_path: Path) -> None:
    before = threading.active_count()
    target = simulated(tmp_path, unplugged_at=5 * MIB)
    with pytest.raises(TargetLost):
        workshop.write(target, source.inspect(image(tmp_path)), None)
    assert threading.active_count() == before


def test_a_full_boot_partition_is_told_and_unchanged(demo: Demo, catalogue: Catalogue, tmp_path: Path) -> None:
    target = workshop.find_target("blank-card", demo.folder)
    workshop.write_card(demo.folder, demo.build, target)
    table = contents.observe(target.path).table
    assert table is not None
    volume = FatVolume(target.path, table.boot().start)
    filler = bytes(volume.free_bytes() - 2048)
    volume.replace({"filler.bin": filler}, grant(Case(target.facts, 0, "boot files", edit=True)), target.facts.identity)
    before = volume.read("merrow.cfg")
    build = edited(demo.build, "boot.kernel_words", ["word" + "x" * 4000])
    with pytest.raises(TargetFull, match="bytes free"):
        workshop.put_boot_files(demo.folder, build, catalogue, target)
    assert volume.read("merrow.cfg") == before


def test_boot_files_on_an_empty_card_are_refused_with_advice(demo: Demo, catalogue: Catalogue) -> None:
    target = workshop.find_target("blank-card", demo.folder)
    demo.drive("blank-card").write_bytes(bytes(4096))
    with pytest.raises(KyklonError, match="Write the image first"):
        workshop.put_boot_files(demo.folder, demo.build, catalogue, target)


def test_an_edit_made_while_writing_is_not_lost(demo: Demo) -> None:
    """The window saves edits while the job keeps the card's record."""
    from kyklon.record import folder as store

    build = demo.build
    done = []

    def watch(report: Progress) -> None:
        if not done:
            store.save(demo.folder, edited(store.load(demo.folder).build, "boot.country", "NL"))
            done.append(True)

    workshop.write_card(demo.folder, build, workshop.find_target("blank-card", demo.folder), watch=Watch(watch))
    assert demo.build.boot.country == "NL"
    assert demo.build.card.state is CardState.PROVEN
