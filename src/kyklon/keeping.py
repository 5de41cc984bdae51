"""Looking after cards: probing, proving, backing up, restoring, comparing, preparing. Each act is logged and becomes
part of the card's history."""

from __future__ import annotations

import hashlib
import os
import tempfile
from dataclasses import dataclass
from pathlib import Path

from kyklon import workshop
from kyklon.card import backup, baremetal, compare, multiboot, prepare, prove, source
from kyklon.card.filesystems import EDIT, FatVolume
from kyklon.card.interlock import Case, Verdict, grant, judge
from kyklon.card.meter import Meter
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Card, Chooser
from kyklon.devices.files import told_of
from kyklon.errors import VerifyError, WrongUse
from kyklon.model.build import Build, CardEvent, CardRecord, edited
from kyklon.progress import CancelToken, Sink, no_sink
from kyklon.quantities import show_bytes, show_duration
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook, now
from kyklon.workshop import Target


def whole_case(build: Build | None, target: Target, purpose: str, need: int = 0, chosen: str = "") -> Case:
    """What the interlock is to judge for an act that writes over a whole card without an image."""
    return Case(
        drive=target.facts,
        need=need,
        source=purpose,
        own=workshop.is_own(build, target),
        disk=build is not None and build.medium == "disk",
        chosen_identity=chosen,
    )


def whole_verdict(build: Build | None, target: Target) -> Verdict:
    return judge(whole_case(build, target, prove.SOURCE))


def remember(folder: Path | None, target: Target, event: CardEvent, title: str) -> None:
    """Into the logbook and the card's history, on disk."""
    if folder is None:
        return
    store.update(folder, lambda build: build.with_event(target.facts.identity, target.facts.size, event))
    Logbook(folder).add(20, title, event.detail)


@dataclass(frozen=True)
class Proven:
    proof: prove.Proof
    event: CardEvent


def prove_card(
    target: Target,
    build: Build | None,
    folder: Path | None,
    *,
    full: bool = False,
    typed: str = "",
    sink: Sink = no_sink,
    cancel: CancelToken | None = None,
    chosen: str = "",
) -> Proven:
    """Probe a card, or prove every byte of it. Raises Refused, Cancelled, TargetError (cannot be opened)."""
    permit = grant(whole_case(build, target, prove.SOURCE, chosen=chosen), typed=typed)
    proof = prove.prove(target.drives, target.facts, permit, full=full, sink=sink, cancel=cancel)
    workshop.relabel(target, "")
    what = "proven byte by byte" if full else "probed"
    rate = f", {show_bytes(proof.write_rate)}/s" if proof.write_rate else ""
    detail = f"{proof.verdict}: {proof.sentence} {show_duration(proof.seconds)}{rate}"
    event = CardEvent(at=now(), what=what, detail=detail, verdict=proof.verdict, rate=proof.write_rate)
    remember(folder, target, event, f"{target.facts.name} {what}: {proof.verdict}")
    _emptied(folder, target)
    return Proven(proof, event)


def _emptied(folder: Path | None, target: Target) -> None:
    """A card that was the build's and holds nothing now."""
    if folder is None:
        return

    def change(build: Build) -> Build:
        return edited(build, "card", CardRecord()) if build.card.drive == target.facts.identity else build

    store.update(folder, change)


def backup_card(
    target: Target,
    folder: Path | None,
    to: Path,
    *,
    sink: Sink = no_sink,
    cancel: CancelToken | None = None,
) -> tuple[backup.BackupReport, CardEvent]:
    """A card into a compressed image with its checksum beside it. Raises WrongUse, TargetError, Cancelled."""
    report = backup.backup(target.drives, target.facts, to, sink=sink, cancel=cancel)
    detail = (
        f"{report.path.name}: {show_bytes(report.read)} of {show_bytes(report.size)} in use, "
        f"{show_bytes(report.packed)} packed, {show_duration(report.seconds)}\nSHA-256 {report.sha256}"
    )
    event = CardEvent(at=now(), what="backed up", detail="\n".join((detail, *report.notes)))
    remember(folder, target, event, f"{target.facts.name} backed up")
    return report, event


def compare_cards(
    first: compare.Side, second: compare.Side, folder: Path | None, *, sink: Sink = no_sink,
    cancel: CancelToken | None = None,
) -> compare.Comparison:  # fmt: skip
    """Two cards or images. Raises WrongUse, SourceError, Cancelled."""
    found = compare.compare(first, second, sink=sink, cancel=cancel)
    if folder is not None:
        words = "the same" if found.same else f"{len(found.files)} boot files differ"
        Logbook(folder).add(20, f"Compared {first.name} and {second.name}: {words}", compare_words(found))
    return found


def compare_words(found: compare.Comparison) -> str:
    """One line per difference."""
    lines = [f"{found.same_files} files of the boot partition are the same"]
    for file in found.files:
        at = f" from byte {file.offset}" if file.offset is not None else ""
        lines.append(f"{file.name}: {file.kind}{at}")
    for part in found.parts:
        if part.first != part.second:
            sizes = " and ".join("missing" if size is None else show_bytes(size) for size in (part.first, part.second))
            lines.append(f"partition {part.number} ({part.word}): {sizes}")
        elif part.offset is not None:
            lines.append(f"partition {part.number} ({part.word}): differs from byte {part.offset}")
        elif part.used:
            lines.append(f"partition {part.number} ({part.word}): {show_bytes(part.used)} in use are the same")
    return "\n".join(lines)


def prepare_card(
    target: Target,
    build: Build | None,
    folder: Path | None,
    label: str,
    *,
    typed: str = "",
    sink: Sink = no_sink,
    cancel: CancelToken | None = None,
    chosen: str = "",
) -> tuple[prepare.Prepared, CardEvent]:
    """A plain FAT card with nothing old on it. Raises Refused, WrongUse, TargetError, Cancelled."""
    label = prepare.check_label(label)
    permit = grant(whole_case(build, target, prepare.SOURCE, chosen=chosen), typed=typed)
    done = prepare.prepare(target.drives, target.facts, permit, label, sink=sink, cancel=cancel)
    workshop.relabel(target, f"an empty {done.kind} volume", done.label)
    detail = f"{done.kind} “{done.label}”, {show_bytes(done.size)}, clusters of {done.cluster} bytes"
    if done.cleared:
        detail += f"\nCleared: {'; '.join(done.cleared)}"
    event = CardEvent(at=now(), what="prepared as a plain FAT card", detail=detail)
    remember(folder, target, event, f"{target.facts.name} prepared")
    _emptied(folder, target)
    return done, event


# --- bare metal and multi-boot -----------------------------------------------------------------------------------


def bare_metal_card(
    target: Target,
    build: Build | None,
    folder: Path | None,
    set_folder: Path,
    planned: baremetal.Plan,
    label: str,
    *,
    typed: str = "",
    sink: Sink = no_sink,
    cancel: CancelToken | None = None,
    chosen: str = "",
) -> tuple[compare.Comparison, CardEvent]:
    """A plain FAT card with a bare-metal set's chosen files, read back and compared.

    Raises WrongUse while a stop stands, Refused, TargetError, ToolError, Cancelled.
    """
    with tempfile.TemporaryDirectory(prefix="kyklon-set-") as held:
        ready = Path(held) / "set"
        ready.mkdir()
        baremetal.gather(set_folder, planned, ready)
        done, _event = prepare_card(target, build, folder, label, typed=typed, sink=sink, cancel=cancel, chosen=chosen)
        found = _copy_onto(target, done.start, ready)
    workshop.relabel(target, f"a bare-metal set of {len(planned.placed)} files", label)
    detail = f"{len(planned.placed)} files of {set_folder.name}, {show_bytes(planned.size)}, read back and compared"
    event = CardEvent(at=now(), what="bare-metal set put on", detail=detail)
    remember(folder, target, event, f"{target.facts.name}: bare-metal set put on")
    return found, event


def _copy_onto(target: Target, start: int, ready: Path) -> compare.Comparison:
    """Copy a folder onto a drive's FAT volume and compare what is there now. Raises VerifyError."""
    permit = grant(Case(drive=target.facts, need=0, source=EDIT, edit=True))
    volume = FatVolume(target.path, start)
    volume.copy_in(ready, permit, target.facts.identity)
    with tempfile.TemporaryDirectory(prefix="kyklon-back-") as held:
        back = Path(held)
        volume.copy_out(back)
        same, files = compare.compare_folders(ready, back)
    if files:
        raise VerifyError(f"{files[0].name} on the card {files[0].kind}.", do="The card is worn. Use another one.")
    return compare.Comparison(same, (), ())


def lay_out_bundles(
    source_folder: Path,
    chooser: Chooser,
    checked: multiboot.Check,
    to: Path,
    *,
    sink: Sink = no_sink,
    cancel: CancelToken | None = None,
) -> tuple[int, int]:
    """The chosen bundles into a stick's folder, in the chooser's layout, read back; files and bytes copied.

    Raises WrongUse while a stop stands or where the bundles are there already, TargetError, Cancelled.
    """
    if not checked.ready:
        raise WrongUse("The bundles are not ready.", do="Put their stops right, and choose at least one.")
    top = multiboot.top_of(source_folder, chooser)
    destination = to / chooser.bundles
    if destination.resolve() == top.resolve():
        raise WrongUse(f"{to} is where the bundles are now.", do="Choose the stick.")
    jobs = []
    for name in checked.chosen:
        for path in sorted((top / name).rglob("*")):
            if path.is_file():
                jobs.append((path, destination / path.relative_to(top)))
    total = sum(source.stat().st_size for source, _target in jobs)
    meter = Meter("Laying the bundles out", total, sink, cancel or CancelToken())
    done = 0
    for path, target in jobs:
        done = _copy_file(path, target, meter, done)
    meter.report(total, force=True)
    return len(jobs), total


def _copy_file(path: Path, target: Path, meter: Meter, done: int) -> int:
    """One file under a second name, read back, then renamed."""
    fresh = target.with_name(f"{target.name}.new")
    wanted, got = hashlib.sha256(), hashlib.sha256()
    try:
        with told_of(target):
            target.parent.mkdir(parents=True, exist_ok=True)
            with path.open("rb") as file, fresh.open("wb") as out:
                while block := file.read(1 << 20):
                    meter.wait()
                    wanted.update(block)
                    out.write(block)
                    done += len(block)
                    meter.report(done)
                out.flush()
                os.fsync(out.fileno())
                os.posix_fadvise(out.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
            with fresh.open("rb") as back:
                while block := back.read(1 << 20):
                    meter.wait()
                    got.update(block)
            if got.digest() != wanted.digest():
                raise VerifyError(f"{target.name} reads back different.", do="The stick is worn. Use another one.")
            fresh.replace(target)
    except BaseException:
        fresh.unlink(missing_ok=True)
        raise
    return done


# --- what to expect of the next write ---------------------------------------------------------------------------


@dataclass(frozen=True)
class Estimate:
    """seconds to write and read back; source: where the rate comes from."""

    seconds: float
    rate: float
    source: str


def estimate(build: Build, catalogue: Catalogue, target: Target, facts: source.SourceFacts) -> Estimate | None:
    """How long the next write takes: from this card's last write where it was measured, else from its class."""
    if not facts.unpacked:
        return None
    card = catalogue.find(Card, build.part("card"))
    known = build.known_card(target.facts.identity)
    if known is not None and known.last_rate:
        rate, words = known.last_rate, "measured at its last write"
    elif card is not None:
        rate, words = card.write_mb_s * 1e6, f"typical of {card.name}"
    else:
        return None
    back = card.read_mb_s * 1e6 if card else 2 * rate
    return Estimate(facts.unpacked / rate + facts.unpacked / max(rate, back), rate, words)


@dataclass(frozen=True)
class Expansion:
    """What the first boot does to the root partition: start and ends in bytes."""

    start: int
    end: int
    grown_end: int


def expansion(table_end: int, root_start: int, drive_size: int) -> Expansion | None:
    """The root partition grows from table_end to the drive's end, when it is the last one and there is room."""
    if not drive_size or drive_size - table_end < 1 << 20:
        return None
    return Expansion(root_start, table_end, drive_size // 512 * 512)
