"""Writing and proving, and every way it goes wrong. Targets are files and simulated drives."""

from __future__ import annotations

import gzip
import hashlib
import random
import threading
import time
import zipfile
from dataclasses import replace
from pathlib import Path

import pytest

from kyklon.base.errors import (
    BadBlock,
    Cancelled,
    KyklonError,
    Refused,
    SourceError,
    TargetFull,
    TargetLost,
    VerifyError,
)
from kyklon.base.progress import UNWATCHED, CancelToken, Progress, Watch
from kyklon.catalogue.loader import Catalogue
from kyklon.devices.files import FileHandle
from kyklon.devices.simulated.drives import SimulatedHandle
from kyklon.model.build import CardState, edited
from kyklon.model.image_file import Stated
from kyklon.model.world import World
from kyklon.operations import checksums
from kyklon.operations.boot.acts import put_boot_files
from kyklon.operations.card.acts import write_card
from kyklon.operations.card.drives.fat_files import FatFiles
from kyklon.operations.card.drives.interlock import Purpose, Request, opened
from kyklon.operations.card.drives.writer import PLACE, PLAINLY, Order, _Job, write_image
from kyklon.operations.card.sources import source
from kyklon.operations.card.volumes import contents
from kyklon.operations.card.volumes.fat import FatVolume
from support import MIB, Demo, simulated, write


def image(folder: Path, chunks: float = 5.5) -> Path:
    path = folder / "a.img"
    path.write_bytes(random.Random(8).randbytes(int(chunks * source.CHUNK) // 512 * 512))
    return path


def test_a_written_card_holds_the_image_and_the_report_its_sums(tmp_path: Path) -> None:
    path = image(tmp_path)
    target = simulated(tmp_path)
    reports: list[Progress] = []
    report = write(target, path, watch=Watch(reports.append))
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
        write(target, path, watch=Watch(watch, cancel))
    written = target.path.read_bytes()
    assert len(written) > source.CHUNK
    assert not any(written[: source.CHUNK])


def test_cancelling_marks_the_card_as_not_bootable(demo: Demo) -> None:
    cancel = CancelToken()
    cancel.cancel()
    target = demo.target("blank-card")
    ended = demo.write(watch=Watch(cancel=cancel))
    assert isinstance(ended.bad, Cancelled)
    assert ended.report is None
    assert ended.record.state is CardState.CANCELLED
    assert not demo.build.card.bootable
    assert contents.observe(target.path).table is None


def test_a_write_that_was_killed_is_told_as_interrupted(demo: Demo, catalogue: Catalogue) -> None:
    from kyklon.operations.card.findings import findings

    build = edited(demo.build, "card", {"drive": "sim:blank-card", "state": "being written"})
    (found,) = [finding for finding in findings(build, catalogue, World()) if finding.code == "card.not-bootable"]
    assert (found.severity, found.subject) == ("stop", "blank-card")
    assert "was interrupted" in found.message
    now_ = findings(build, catalogue, World(writing=True))
    assert "card.being-written" in {each.code for each in now_}


def test_cancelling_the_reading_back_says_unproven(demo: Demo) -> None:
    cancel = CancelToken()

    def watch(report: Progress) -> None:
        if report.phase == "Writing" and report.done == report.total:
            cancel.cancel()

    ended = demo.write(watch=Watch(watch, cancel))
    assert isinstance(ended.bad, Cancelled)
    assert ended.record.state in (CardState.UNPROVEN, CardState.CANCELLED)


@pytest.mark.parametrize(
    ("faults", "error", "words"),
    [
        ({"unplugged_at": 9 * MIB}, TargetLost, "was disconnected"),
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
        write(target, path)
    assert not any(target.path.read_bytes()[:512])


def test_a_loose_card_is_recorded_as_failed(demo: Demo) -> None:
    ended = demo.write("loose-card")
    assert isinstance(ended.bad, TargetLost)
    assert ended.record.state is CardState.FAILED
    assert demo.build.card.state is CardState.FAILED


def test_a_wrong_checksum_stops_before_the_table_is_written(demo: Demo) -> None:
    target = demo.target("blank-card")
    facts = source.inspect(demo.image)
    with pytest.raises(SourceError, match="SHA-256"):
        write(target, facts, Order(Stated("SHA-256", "0" * 64)))
    assert not any(target.path.read_bytes()[:512])


@pytest.mark.parametrize("which", ["file", "image"])
def test_the_makers_checksum_may_be_of_the_file_or_of_the_image(which: str, demo: Demo) -> None:
    import lzma

    data = demo.image.read_bytes()
    known = hashlib.sha256(data if which == "file" else lzma.decompress(data)).hexdigest()
    target = demo.target("blank-card")
    assert write(target, demo.image, Order(Stated("SHA-256", known))).verified


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
    for typed in ("", "yes", name):
        with pytest.raises(Refused, match=words):
            demo.write(name, typed=typed)
    assert (path.read_bytes() if path.exists() else None) == before
    assert demo.build.card.state is CardState.NEVER


def test_an_image_cut_off_on_the_way_leaves_no_card(demo: Demo) -> None:
    """Its xz index is whole, so the damage shows only while unpacking."""
    data = bytearray(demo.image.read_bytes())
    data[len(data) // 2] ^= 0xFF
    demo.image.write_bytes(bytes(data))
    job = demo.job()
    ended = write_card(job, source.inspect(demo.image))
    assert isinstance(ended.bad, SourceError)
    assert ended.record.state is CardState.FAILED


def test_an_open_drive_takes_only_the_image_it_was_judged_for(tmp_path: Path) -> None:
    target = simulated(tmp_path)
    judged = source.inspect(image(tmp_path))
    other = tmp_path / "other.img"
    other.write_bytes(b"x" * 512)
    with opened(Request(target, Purpose.WRITE, judged)) as place:
        with pytest.raises(Refused, match="another image"):
            write_image(place, source.inspect(other))
        with pytest.raises(Refused, match="not opened for this"):
            place.handle_for(Purpose.PREPARE)
    with pytest.raises(Refused, match="not opened for this"):
        write_image(place, judged)  # the with-block is over
    assert target.path.read_bytes() == b""


def test_no_thread_is_left_behind(tmp_path: Path) -> None:
    before = threading.active_count()
    target = simulated(tmp_path, unplugged_at=5 * MIB)
    with pytest.raises(TargetLost):
        write(target, image(tmp_path))
    assert threading.active_count() == before


def test_a_full_boot_partition_is_told_and_unchanged(demo: Demo, catalogue: Catalogue, tmp_path: Path) -> None:
    target = demo.target("blank-card")
    demo.write()
    table = contents.observe(target.path).table
    assert table is not None
    volume = FatVolume(target.path, table.boot().start)
    filler = bytes(volume.free_bytes() - 2048)
    with opened(Request(target, Purpose.EDIT)) as place:
        FatFiles(place, table.boot().start).replace({"filler.bin": filler})
    before = volume.read("merrow.settings")
    build = edited(demo.build, "boot.kernel_words", ["word" + "x" * 4000])
    with pytest.raises(TargetFull, match="bytes free"):
        put_boot_files(demo.folder, build, catalogue, target)
    assert volume.read("merrow.settings") == before


def test_boot_files_on_an_empty_card_are_refused_with_advice(demo: Demo, catalogue: Catalogue) -> None:
    target = demo.target("blank-card")
    demo.drive("blank-card").write_bytes(bytes(4096))
    with pytest.raises(KyklonError, match="Write the image first"):
        put_boot_files(demo.folder, demo.build, catalogue, target)


def test_an_edit_made_while_writing_is_not_lost(demo: Demo) -> None:
    """The window saves edits while the job keeps the card's record."""
    from kyklon.record import folder as store

    done = []

    def watch(report: Progress) -> None:
        if not done:
            store.save(demo.folder, edited(store.load(demo.folder).build, "boot.country", "NL"))
            done.append(True)

    demo.write(watch=Watch(watch))
    assert demo.build.boot.country == "NL"
    assert demo.build.card.state is CardState.PROVEN


def test_a_zip_counts_by_its_own_sum_and_by_its_images(tmp_path: Path) -> None:
    data = random.Random(4).randbytes(3 * MIB)
    path = tmp_path / "a.img.zip"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("a.img", data)
    facts = source.inspect(path)
    for whole in (path.read_bytes(), data):
        stated = Stated("SHA-256", hashlib.sha256(whole).hexdigest())
        report = write(simulated(tmp_path), facts, Order(stated))
        assert "SHA-256" in report.checked
    with pytest.raises(SourceError, match="the published one is"):
        write(simulated(tmp_path), facts, Order(Stated("SHA-256", "0" * 64)))
    with simulated(tmp_path).drives.open("sim:x", write=False) as handle:
        assert not any(handle.read_at(512, 0))


@pytest.mark.parametrize("slow", [0.0, 0.3])
def test_the_sum_is_right_however_slow_the_medium_is(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, slow: float
) -> None:
    """With a slow medium the sum is made from memory while it syncs, with a quick one while it is read back."""
    path = tmp_path / "a.img"
    path.write_bytes(random.Random(5).randbytes(9 * MIB + 512 * 3))
    real = FileHandle.sync

    def sync(handle: FileHandle) -> None:
        time.sleep(slow)
        real(handle)

    monkeypatch.setattr(FileHandle, "sync", sync)
    monkeypatch.setattr(SimulatedHandle, "cached", True)
    report = write(simulated(tmp_path), path, Order(digest=True))
    assert report.sha256 == hashlib.sha256(path.read_bytes()).hexdigest()
    assert report.size == path.stat().st_size


# --- the job, against a drive that does what a test tells it
# -----------------------------------------------------------


class Scripted:
    """A drive in memory. fails: times that a call at an offset fails before it works, by ('read' or 'write',
    offset)."""

    node = path = None
    cached = False

    def __init__(self, size: int, fails: dict[tuple[str, int], int] | None = None, *, zeroes: bool = False) -> None:
        self.data, self.fails, self.zeroes = bytearray(b"\xaa" * size), dict(fails or {}), zeroes
        self.calls: list[tuple[str, int, int]] = []

    def _try(self, kind: str, offset: int, length: int) -> None:
        self.calls.append((kind, offset, length))
        for (what, place), times in self.fails.items():
            if what == kind and offset <= place < offset + length and times:
                if length == PLACE or length < PLACE:
                    self.fails[what, place] = times - 1
                raise BadBlock("bad", place)

    def write_at(self, data: bytes | memoryview, offset: int) -> None:
        self._try("write", offset, len(data))
        self.data[offset : offset + len(data)] = data

    def read_at(self, length: int, offset: int) -> bytes:
        self._try("read", offset, length)
        return bytes(self.data[offset : offset + length])

    def zero(self, length: int, offset: int) -> bool:
        if self.zeroes:
            self.data[offset : offset + length] = bytes(length)
        return self.zeroes

    def sync(self) -> None:
        self.calls.append(("sync", 0, 0))

    def forget_cache(self) -> None:
        self.calls.append(("forget", 0, 0))


def job_of(path: Path, handle: Scripted, order: Order = PLAINLY) -> _Job:
    """A whole write and its reading back."""
    job = _Job(source.inspect(path), handle, order, UNWATCHED)
    job.write()
    job.check_sum()
    job.finish()
    job.verify()
    return job


@pytest.mark.parametrize("times", [1, 2, 3])
@pytest.mark.parametrize("kind", ["write", "read"])
@pytest.mark.parametrize("place", [source.CHUNK, source.CHUNK + 5 * PLACE, 2 * source.CHUNK + 3 * PLACE])
def test_a_bad_place_is_tried_three_times_and_named(kind: str, place: int, times: int, tmp_path: Path) -> None:
    path = image(tmp_path)
    handle = Scripted(path.stat().st_size, {(kind, place): times})
    if times == 3:
        with pytest.raises(BadBlock, match=f"{PLACE >> 10} KiB at byte {place} cannot be") as bad:
            job_of(path, handle)
        assert bad.value.offset == place
        assert sum(call == (kind, place, PLACE) for call in handle.calls) == 3
        return
    report = job_of(path, handle).report(1.0, ())
    assert bytes(handle.data) == path.read_bytes()
    chunk = place // source.CHUNK * source.CHUNK
    assert report.retried == (place if kind == "write" and times else chunk,)
    assert sum(call == (kind, place, PLACE) for call in handle.calls) == times + 1


def test_a_chunk_that_fails_once_as_a_whole_is_named_by_its_beginning(tmp_path: Path) -> None:
    path = image(tmp_path)

    class Whole(Scripted):
        def _try(self, kind: str, offset: int, length: int) -> None:
            super()._try(kind, offset, length)
            if kind == "write" and length > PLACE and offset == 2 * source.CHUNK:
                raise BadBlock("bad", offset)

    report = job_of(path, Whole(path.stat().st_size)).report(1.0, ())
    assert report.retried == (2 * source.CHUNK,)


def test_zeros_that_need_not_be_sent_are_counted_and_the_rate_is_of_the_rest(tmp_path: Path) -> None:
    path = tmp_path / "a.img"
    body = random.Random(3).randbytes(source.CHUNK)
    path.write_bytes(body + bytes(2 * source.CHUNK) + body)
    handle = Scripted(path.stat().st_size, zeroes=True)
    job = job_of(path, handle)
    job.busy_s = 2.0
    report = job.report(5.0, ("told",))
    assert bytes(handle.data) == path.read_bytes()
    assert report.skipped == 2 * source.CHUNK
    assert report.target_rate == source.CHUNK
    assert (report.seconds, report.notes, report.size) == (5.0, ("told",), 4 * source.CHUNK)
    sent = Scripted(path.stat().st_size)
    assert job_of(path, sent).report(1.0, ()).skipped == 0
    assert bytes(sent.data) == path.read_bytes()


def test_the_first_chunk_is_synced_apart_from_the_rest(tmp_path: Path) -> None:
    path = image(tmp_path)
    handle = Scripted(path.stat().st_size)
    job_of(path, handle)
    kinds = [(kind, offset) for kind, offset, _length in handle.calls if kind in ("write", "sync")]
    last = len(kinds) - 1
    assert kinds[0] == ("write", 0)
    assert kinds[last - 2 :] == [("sync", 0), ("write", 0), ("sync", 0)]
    assert kinds.count(("write", 0)) == 2


@pytest.mark.long(keep=3)
@pytest.mark.parametrize("cached", [False, True])
@pytest.mark.parametrize("algorithm", ["", "SHA-256", "SHA-512", "MD5"])
def test_every_way_of_summing_gives_the_same_sums(cached: bool, algorithm: str, tmp_path: Path) -> None:
    path = image(tmp_path)
    data = path.read_bytes()
    stated = Stated(algorithm, hashlib.new(algorithm.replace("-", ""), data).hexdigest()) if algorithm else None
    handle = Scripted(len(data))
    handle.cached = cached
    handle.sync = lambda: time.sleep(0.2)
    job = _Job(source.inspect(path), handle, Order(stated, digest=True), UNWATCHED)
    job.write()
    reads = [call for call in handle.calls if call[0] == "read"]
    assert bool(reads) == (cached and not algorithm)  # from memory, while the drive takes it: only where nobody waits
    assert job.hashed in ((len(data),) if not (cached and not algorithm) else (0, *range(1, len(data) + 1)))
    job.check_sum()
    job.finish()
    job.verify()
    report = job.report(1.0, ())
    assert report.sha256 == hashlib.sha256(data).hexdigest()
    assert len(job.marks) == -(-len(data) // PLACE)
    if stated:
        assert job.got["image"] == stated
        assert report.checked == stated.words


def test_a_difference_is_placed_to_64_kib(tmp_path: Path) -> None:
    path = image(tmp_path)
    job = _Job(source.inspect(path), handle := Scripted(path.stat().st_size), PLAINLY, UNWATCHED)
    job.write()
    job.finish()
    handle.data[source.CHUNK + 7 * PLACE + 12] ^= 1
    with pytest.raises(VerifyError, match=f"from byte {source.CHUNK + 7 * PLACE}") as bad:
        job.verify()
    assert bad.value.offset == source.CHUNK + 7 * PLACE


def test_a_drive_that_ends_early_is_told(tmp_path: Path) -> None:
    path = image(tmp_path)
    job = _Job(source.inspect(path), handle := Scripted(path.stat().st_size), PLAINLY, UNWATCHED)
    job.write()
    job.finish()
    del handle.data[2 * source.CHUNK :]
    with pytest.raises(KyklonError, match=f"ends at byte {2 * source.CHUNK}|differs"):
        job.verify()


def test_a_size_that_the_file_denies_is_told(tmp_path: Path) -> None:
    path = image(tmp_path)
    facts = replace(source.inspect(path), unpacked=path.stat().st_size + 512)
    job = _Job(facts, Scripted(path.stat().st_size), PLAINLY, UNWATCHED)
    job.write()
    with pytest.raises(SourceError, match=r"contains .* but states"):
        job.check_sum()
    guessed = _Job(replace(facts, exact=False), Scripted(path.stat().st_size), PLAINLY, UNWATCHED)
    guessed.write()
    guessed.check_sum()


def test_a_packed_image_tells_its_own_sum_only_where_the_maker_states_one(tmp_path: Path) -> None:
    assert (PLACE, source.CHUNK % PLACE) == (65_536, 0)
    data = random.Random(2).randbytes(100_000 // 512 * 512)
    path = tmp_path / "a.img.gz"
    path.write_bytes(gzip.compress(data))
    own = Stated("SHA-256", hashlib.sha256(path.read_bytes()).hexdigest())
    assert job_of(path, Scripted(len(data))).report(1.0, ()).source_sum is None
    told = job_of(path, Scripted(len(data)), Order(own)).report(1.0, ())
    assert told.source_sum == own
    inner = Stated("SHA-256", hashlib.sha256(data).hexdigest())
    assert job_of(path, Scripted(len(data)), Order(inner)).report(1.0, ()).checked


class SlowSum:
    """A SHA-256 that takes its time, the first piece the longest: two at once would come in the wrong order."""

    def __init__(self) -> None:
        self._sum, self._calls = hashlib.sha256(), 0

    def update(self, data: bytes) -> None:
        self._calls += 1
        time.sleep(0.25 / self._calls)
        self._sum.update(data)

    def hexdigest(self) -> str:
        return self._sum.hexdigest()


@pytest.mark.parametrize("digest", [False, True])
def test_a_sum_that_is_slower_than_the_drive_is_right_or_left_out(
    digest: bool, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = image(tmp_path, 8)
    right = hashlib.sha256(path.read_bytes()).hexdigest()
    handle = Scripted(path.stat().st_size)
    handle.cached = True
    monkeypatch.setattr(checksums, "new_sum", lambda _algorithm: SlowSum())
    report = job_of(path, handle, Order(digest=digest)).report(1.0, ())
    assert report.sha256 == (right if digest else "")


def test_the_drives_own_rate_leaves_the_waiting_for_the_source_out(tmp_path: Path) -> None:
    path = image(tmp_path)
    assert job_of(path, Scripted(path.stat().st_size)).busy_s > 0
    handle = Scripted(path.stat().st_size)
    handle.cached, handle.sync = True, lambda: time.sleep(0.1)
    assert job_of(path, handle).busy_s >= 0.3  # three syncs of a tenth of a second each; no machine is quicker
