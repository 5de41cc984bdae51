"""What is done with cards. Each act takes a job, goes through the interlock once, and keeps the truth about it: in
build.json, in the logbook, in the card's history."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from statistics import median
from typing import TYPE_CHECKING

from kyklon.base import scratch
from kyklon.base.errors import Cancelled, KyklonError, VerifyError
from kyklon.base.progress import UNWATCHED, Progress, Watch
from kyklon.base.quantities import counted, show_bytes, show_duration
from kyklon.devices.ports import Target
from kyklon.model.build import Build, CardEvent, CardRecord, CardState, edited
from kyklon.model.image_file import SourceFacts, Stated
from kyklon.operations import checksums
from kyklon.operations.card.drives import backup, judgement, prepare, prove
from kyklon.operations.card.drives.fat_files import FatFiles
from kyklon.operations.card.drives.interlock import (
    NOTHING_SAID,
    Consent,
    OpenTarget,
    Purpose,
    Request,
    Verdict,
    judge,
    opened,
)
from kyklon.operations.card.drives.writer import Order, WriteReport, write_image
from kyklon.operations.card.sets import baremetal
from kyklon.operations.card.volumes import compare
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook, now

if TYPE_CHECKING:
    from kyklon.operations.card.drives import prove

OPERATION = 20


@dataclass(frozen=True)
class CardJob:
    """What an act on a card needs to know. build and folder: None outside a build, and nothing is recorded then."""

    target: Target
    consent: Consent = NOTHING_SAID
    build: Build | None = None
    folder: Path | None = None

    def request(self, purpose: Purpose, image: SourceFacts | None = None) -> Request:
        """What the interlock is asked."""
        return Request(self.target, purpose, image, self.consent, self.build)

    def verdict(self, purpose: Purpose, image: SourceFacts | None = None) -> Verdict:
        """What the interlock would say now, from the facts as they were last listed."""
        return judge(self.request(purpose, image).case)


# --- writing -----------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Written:
    """How a write ended. bad: why it failed; report: of one that went through; event: for the card's history."""

    record: CardRecord
    bad: KyklonError | None
    report: WriteReport | None
    event: CardEvent


def stated_for(build: Build | None, facts: SourceFacts) -> Stated | None:
    """The checksum that must be right: the one pasted into the build, else what a file beside the image states."""
    if build is not None and build.source.sha256:
        return Stated("SHA-256", build.source.sha256)
    return checksums.beside(facts)


def write_card(
    job: CardJob, facts: SourceFacts, *, stated: Stated | None = None, speed_class: str = "", watch: Watch = UNWATCHED
) -> Written:
    """Write a card and keep the truth about it: before the first byte, and after, however it ends.

    stated: the checksum that must be right. speed_class: as printed on the card. A card that reads back other bytes is
    probed at once, so that it gets its right name. Raises Refused when the interlock does not agree, and TargetError
    when the drive cannot be opened; nothing was touched then.
    """
    phases, reached = [""], [0]

    def follow(report: Progress) -> None:
        phases[0], reached[0] = report.phase, report.done
        watch.sink(report)

    with opened(job.request(Purpose.WRITE, facts)) as target:
        record = CardRecord(drive=target.facts.identity, state=CardState.WRITING, at=now())
        _keep_record(job, record)

        def on_written() -> None:
            _keep_record(job, record.model_copy(update={"state": CardState.UNPROVEN}))

        try:
            report = write_image(target, facts, Order(stated, True, on_written), replace(watch, sink=follow))
        except KyklonError as bad:
            proof = _probe_after(target, watch) if isinstance(bad, VerifyError) else None
            return _failed(job, record, (bad, phases[0], reached[0]), proof)
    job.target.drives.now_holds(record.drive, f"the image {facts.name}")
    return _proven(job, facts, report, speed_class)


def _proven(job: CardJob, facts: SourceFacts, report: WriteReport, speed_class: str) -> Written:
    """Keep what was written, how fast, and what it says of the card."""
    found = judgement.of_report(report, speed_class)
    record = CardRecord(
        drive=job.target.facts.identity,
        state=CardState.PROVEN,
        image_sha256=report.sha256,
        bytes_written=report.size,
        at=now(),
        verdict=found.name,
        sentence=found.sentence,
    )
    rate = f"{show_bytes(report.target_rate)}/s"
    words = f"{facts.name}, {show_bytes(report.size)} in {show_duration(report.seconds)}, {rate}"
    back = [rate for _at, rate in report.verify_rates]
    event = CardEvent(
        at=now(),
        what="written and read back",
        detail=words,
        verdict=found.name,
        rate=report.target_rate,
        read_rate=median(back) if back else 0.0,
    )
    _keep_record(job, record, event)
    sums = f"SHA-256 {report.sha256}" + (f"\nIt matches the maker's {report.checked}." if report.checked else "")
    lines = [words, sums, found.sentence, found.do, _curve_words(report), *report.notes]
    _log(job, f"Card written and read back: {job.target.facts.name}", "\n".join(line for line in lines if line))
    return Written(record, None, report, event)


def _failed(
    job: CardJob, record: CardRecord, ended: tuple[KyklonError, str, int], proof: prove.Proof | None
) -> Written:
    """Keep how far it came and what it says of the card. ended: the error, the phase it came in, the bytes done."""
    bad, phase, reached = ended
    state = _state_after(bad, phase)
    name, sentence = "cancelled", ""
    if not isinstance(bad, Cancelled):
        found = judgement.of_error(bad)
        name, sentence = found.name, f"{found.sentence} {found.do}"
    if proof is not None:
        name, sentence = proof.verdict, proof.sentence
        if proof.good:
            name, sentence = "worn", f"{bad.what} Its size is right, so it is worn: use another card."
    record = record.model_copy(
        update={"state": state, "at": now(), "bytes_written": reached, "verdict": name, "sentence": sentence}
    )
    event = CardEvent(at=now(), what=state.value, detail=f"{bad} {sentence}".strip(), verdict=name)
    _keep_record(job, record, event)
    detail = f"{bad}\n{name}: {sentence}" if sentence else str(bad)
    _log(job, f"Writing {job.target.facts.name}: {state.value}", detail)
    return Written(record, bad, None, event)


def _probe_after(target: OpenTarget, watch: Watch) -> prove.Proof | None:
    """What the card is, after it read back other bytes; its contents were given up for the write already."""
    try:
        return prove.prove(target, watch=watch)
    except KyklonError:
        return None


def _curve_words(report: WriteReport) -> str:
    """The speed curve in ten figures, for the logbook."""
    rates = report.write_rates
    if not rates:
        return ""
    step = max(1, len(rates) // 10)
    told = [f"{at:.1f} s {rate / 1e6:.0f}" for at, rate in rates[::step][:10]]
    return f"Speed in MB/s: {', '.join(told)}"


def _state_after(bad: KyklonError, phase: str) -> CardState:
    if isinstance(bad, Cancelled):
        return CardState.UNPROVEN if phase == "Reading back" else CardState.CANCELLED
    return CardState.FAILED


# --- the record --------------------------------------------------------------------------------------------------


def _update(job: CardJob, change: Callable[[Build], Build]) -> None:
    """Into the build as it is on disk now: an edit made meanwhile is not lost."""
    if job.folder is not None:
        store.update(job.folder, change)


def _log(job: CardJob, title: str, detail: str) -> None:
    if job.folder is not None:
        Logbook(job.folder).add(OPERATION, title, detail)


def _keep_record(job: CardJob, record: CardRecord, event: CardEvent | None = None) -> None:
    facts = job.target.facts

    def change(build: Build) -> Build:
        build = edited(build, "card", record)
        return build.with_event(facts.identity, facts.size, event) if event else build

    _update(job, change)


def _remember(job: CardJob, event: CardEvent, title: str, *, emptied: bool = False) -> None:
    """Into the logbook and the card's history; emptied: a card that was the build's holds nothing of it now."""
    facts = job.target.facts

    def change(build: Build) -> Build:
        build = build.with_event(facts.identity, facts.size, event)
        own = emptied and build.card.drive == facts.identity
        return edited(build, "card", CardRecord()) if own else build

    _update(job, change)
    _log(job, title, event.detail)


# --- looking after cards -----------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Proven:
    proof: prove.Proof
    event: CardEvent


def prove_card(job: CardJob, *, full: bool = False, watch: Watch = UNWATCHED) -> Proven:
    """Probe a card, or prove every byte of it. Raises Refused, Cancelled, TargetError (cannot be opened)."""
    with opened(job.request(Purpose.PROVE)) as target:
        proof = prove.prove(target, full=full, watch=watch)
    job.target.drives.now_holds(job.target.facts.identity, "")
    what = "proven byte by byte" if full else "probed"
    rate = f", {show_bytes(proof.write_rate)}/s" if proof.write_rate else ""
    detail = f"{proof.verdict}: {proof.sentence} {show_duration(proof.seconds)}{rate}"
    event = CardEvent(at=now(), what=what, detail=detail, verdict=proof.verdict, rate=proof.write_rate)
    _remember(job, event, f"{job.target.facts.name} {what}: {proof.verdict}", emptied=True)
    return Proven(proof, event)


def backup_card(job: CardJob, to: Path, watch: Watch = UNWATCHED) -> tuple[backup.BackupReport, CardEvent]:
    """A card into a compressed image with its checksum beside it. Raises WrongUse, TargetError, Cancelled."""
    report = backup.backup(job.target, to, watch)
    detail = (
        f"{report.path.name}: {show_bytes(report.read)} of {show_bytes(report.size)} in use, "
        f"{show_bytes(report.packed)} packed, {show_duration(report.seconds)}\nSHA-256 {report.sha256}"
    )
    event = CardEvent(at=now(), what="backed up", detail="\n".join((detail, *report.notes)))
    _remember(job, event, f"{job.target.facts.name} backed up")
    return report, event


def compare_cards(
    first: compare.Side, second: compare.Side, folder: Path | None, watch: Watch = UNWATCHED
) -> compare.Comparison:
    """Two cards or images. Raises WrongUse, SourceError, Cancelled."""
    found = compare.compare(first, second, watch)
    if folder is not None:
        words = "the same" if found.same else f"{len(found.files)} boot files differ"
        Logbook(folder).add(OPERATION, f"Compared {first.name} and {second.name}: {words}", compare.in_words(found))
    return found


def prepare_card(
    job: CardJob, label: str, watch: Watch = UNWATCHED, kind: prepare.Kind = "FAT"
) -> tuple[prepare.Prepared, CardEvent]:
    """A plain card with nothing old on it. Raises Refused, WrongUse, TargetError, ToolError, Cancelled."""
    label = prepare.check_label(label, kind)
    prepare.check_size(job.target.facts)
    with opened(job.request(Purpose.PREPARE)) as target:
        done = prepare.prepare(target, label, watch, kind)
    return done, _prepared(job, done)


def _prepared(job: CardJob, done: prepare.Prepared) -> CardEvent:
    job.target.drives.now_holds(job.target.facts.identity, f"an empty {done.kind} volume", done.label)
    detail = f"{done.kind} “{done.label}”, {show_bytes(done.size)}, clusters of {done.cluster} bytes"
    if done.cleared:
        detail += f"\nCleared: {'; '.join(done.cleared)}"
    what = f"made a plain {'FAT' if done.kind.startswith('FAT') else done.kind} card"
    event = CardEvent(at=now(), what=what, detail=detail)
    _remember(job, event, f"{job.target.facts.name} {what}", emptied=True)
    return event


def bare_metal_card(
    job: CardJob,
    set_folder: Path,
    planned: baremetal.Plan,
    label: str,
    watch: Watch = UNWATCHED,
    *,
    own: bool = False,
) -> tuple[compare.Comparison, CardEvent]:
    """A plain FAT card with a bare-metal set's chosen files, read back and compared. own: it is the build's own card.

    Raises WrongUse while a stop stands, Refused, TargetError, ToolError, Cancelled.
    """
    label = prepare.check_label(label)
    prepare.check_size(job.target.facts)
    with scratch.folder("set") as held:
        ready = Path(held) / "set"
        ready.mkdir()
        baremetal.gather(set_folder, planned, ready)
        with opened(job.request(Purpose.PREPARE)) as target:
            done = prepare.prepare(target, label, watch)
            _prepared(job, done)
            found = _copy_onto(FatFiles(target, done.start), ready)
    job.target.drives.now_holds(job.target.facts.identity, f"a bare-metal set of {len(planned.placed)} files", label)
    detail = f"{counted(len(planned.placed), 'file')} of {set_folder.name}, "
    detail += f"{show_bytes(planned.size)}, read back and compared"
    event = CardEvent(at=now(), what="bare-metal set copied", detail=detail)
    _remember(job, event, f"{job.target.facts.name}: bare-metal set copied")
    if own:
        _keep_record(job, set_record(job.target, planned))
    return found, event


def set_record(target: Target, planned: baremetal.Plan) -> CardRecord:
    """What became of a card that was made from a set: every file of it was read back and compared."""
    words = f"{counted(len(planned.placed), 'file')}, read back and the same"
    return CardRecord(
        drive=target.facts.identity, state=CardState.PROVEN, bytes_written=planned.size, at=now(), sentence=words
    )


def _copy_onto(files: FatFiles, ready: Path) -> compare.Comparison:
    """Copy a folder onto a volume and compare what is there now. Raises VerifyError."""
    files.copy_in(ready)
    with scratch.folder("back") as held:
        back = Path(held)
        files.volume.copy_out(back)
        same, differing = compare.compare_folders(ready, back)
    if differing:
        raise VerifyError(
            f"{differing[0].name} on the card {differing[0].kind}.", do="The card is worn. Use another one."
        )
    return compare.Comparison(same, (), ())
