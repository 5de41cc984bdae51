"""The acts: what the window's buttons and the commands both do. Each saves the build and writes the logbook."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from kyklon.boot.issue import difference, issue
from kyklon.card import checksums, contents, judgement, source, volumes, writer
from kyklon.card.checksums import Stated
from kyklon.card.filesystems import EDIT, FatVolume
from kyklon.card.interlock import Case, Verdict, grant, judge
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Encoder, Image, Panel
from kyklon.controls import exports as control_exports
from kyklon.devices.linux.drives import FileDrives, LinuxDrives, drive_below, is_block_device, unknown_contents
from kyklon.devices.ports import DriveFacts, Drives
from kyklon.devices.simulated.drives import SimulatedDrives
from kyklon.errors import Cancelled, KyklonError, Refused, TargetError, VerifyError, WrongUse
from kyklon.library import transfer
from kyklon.model.build import Build, CardEvent, CardRecord, CardState, edited, remedied
from kyklon.model.findings import Remedy
from kyklon.observing import drives_of, observe_library, real_drives, resolve, systems_of
from kyklon.picture import edid
from kyklon.picture.exports import modeline
from kyklon.picture.findings import modes_of
from kyklon.plan.connections import cost
from kyklon.progress import CancelToken, Progress, Sink, no_sink
from kyklon.quantities import show_bytes, show_duration
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook, now
from kyklon.tuning.cascade import issue as issue_settings
from kyklon.world import World

if TYPE_CHECKING:
    from kyklon.card import prove


@dataclass(frozen=True)
class Target:
    """A drive with the back end that can open it."""

    drives: Drives
    facts: DriveFacts

    @property
    def path(self) -> Path:
        return self.drives.path(self.facts.identity)


def targets(folder: Path) -> tuple[Target, ...]:
    """The drives to choose from."""
    return _listed(drives_of(folder))


def real_targets() -> tuple[Target, ...]:
    """This machine's drives, whatever the build."""
    return _listed(real_drives())


def _listed(drives: Drives) -> tuple[Target, ...]:
    try:
        return tuple(Target(drives, _looked_at(drives, facts)) for facts in drives.list())
    except TargetError:
        if isinstance(drives, (SimulatedDrives, LinuxDrives)):
            raise
        return _listed(LinuxDrives())  # the drive service went away


def find_target(name: str, folder: Path | None, size: int = 0) -> Target:
    """A simulated drive's name, a block device, or a file (made with `size` bytes when it is not there).

    A partition is found too: the interlock says why it is no target. Raises WrongUse for a name that is none of these.
    """
    if folder is not None:
        for target in targets(folder):
            if name in (target.facts.name, target.facts.identity):
                return target
            if target.facts.simulated and Path(name).exists() and Path(name).resolve() == target.path.resolve():
                return target
    path = Path(name)
    if is_block_device(path):
        return _find_device(path.resolve())
    if path.is_dir() or not path.parent.is_dir():
        raise WrongUse(f"{name} is no drive and no place for a file.", do="See `kyklon drives`.")
    file = FileDrives(path, path.stat().st_size if path.exists() and path.stat().st_size else size)
    return Target(file, file.list()[0])


def as_it_is_now(folder: Path, target: Target) -> Target:
    """The drive that is listed under the same name now, so that one exchanged since it was chosen is told apart."""
    return next((each for each in targets(folder) if each.facts.name == target.facts.name), target)


def _find_device(path: Path) -> Target:
    linux = LinuxDrives()
    # the service leaves some drives out; they must still be found, so that they can be refused with a reason
    for target in (*real_targets(), *_listed(linux)):
        if target.path == path:
            return target
    part = linux.part(path)
    if part is None:
        raise WrongUse(f"{path} is no drive that can be written.", do="Name the whole drive, as lsblk lists it.")
    return Target(linux, _looked_at(linux, part))


def _looked_at(drives: Drives, facts: DriveFacts) -> DriveFacts:
    """Facts with what the drive's own bytes tell, where the system tells nothing of it and they may be read."""
    if facts.simulated or facts.is_file or facts.labels:
        return facts
    path = drives.path(facts.identity)
    try:
        found = volumes.survey(path, deep=False)
    except OSError:
        return facts.model_copy(update={"holds": facts.holds or unknown_contents(str(path))})
    kinds = sorted({volume.kind for volume in found.volumes if volume.kind})
    labels = tuple(volume.label for volume in found.volumes if volume.label)
    holds = ", ".join(kinds) or facts.holds or unknown_contents(str(path))
    return facts.model_copy(update={"labels": labels, "holds": holds, "newest": found.newest})


def case_for(build: Build | None, facts: source.SourceFacts | None, target: Target, chosen: str = "") -> Case:
    """What the interlock is to judge for an image and a drive. chosen: its identity when it was chosen."""
    exact = facts is not None and facts.exact
    unpacked = (facts.unpacked or 0) if facts else 0
    return Case(
        drive=target.facts,
        need=unpacked if exact else 0,
        likely=0 if exact else unpacked,
        source=str(facts.path.resolve()) if facts else "",
        source_drive=drive_below(facts.path) if facts and not target.facts.simulated else "",
        own=is_own(build, target),
        disk=build is not None and build.medium == "disk",
        chosen_identity=chosen,
    )


def is_own(build: Build | None, target: Target) -> bool:
    """Whether this build wrote the card before. A real reader tells its own serial, not the card's: another card in
    it looks the same, so only a simulated drive is ever taken for the build's own."""
    return build is not None and target.facts.simulated and build.card.drive == target.facts.identity


def verdicts(folder: Path, build: Build, facts: source.SourceFacts | None) -> tuple[tuple[Target, Verdict], ...]:
    return tuple((target, judge(case_for(build, facts, target))) for target in targets(folder))


def write(
    target: Target,
    facts: source.SourceFacts,
    build: Build | None,
    *,
    typed: str = "",
    stated: Stated | None = None,
    digest: bool = False,
    sink: Sink = no_sink,
    cancel: CancelToken | None = None,
    chosen: str = "",
    on_written: Callable[[], None] = lambda: None,
) -> writer.WriteReport:
    """Write, read back and compare, after the interlock has agreed. Keeps no record; see write_card."""
    permit = grant(case_for(build, facts, target, chosen), typed=typed)
    report = writer.write_image(
        facts,
        target.drives,
        target.facts,
        permit,
        stated=stated,
        digest=digest,
        sink=sink,
        cancel=cancel,
        on_written=on_written,
    )
    relabel(target, f"the image {facts.name}")
    return report


def relabel(target: Target, holds: str, label: str = "") -> None:
    """A simulated drive says what it holds now; a real one is asked."""
    if isinstance(target.drives, SimulatedDrives):
        labels = (label,) if label else ()
        fresh = target.facts.model_copy(update={"labels": labels, "files": 0, "newest": "", "holds": holds})
        target.drives.replace(target.facts.identity, facts=fresh)


def stated_for(build: Build | None, facts: source.SourceFacts) -> Stated | None:
    """The checksum that must be right: the one pasted into the build, else what a file beside the image states."""
    if build is not None and build.source.sha256:
        return Stated("SHA-256", build.source.sha256)
    return checksums.beside(facts)


class Written(NamedTuple):
    """How a write ended. bad: why it failed; report: of one that went through; event: for the card's history."""

    record: CardRecord
    bad: KyklonError | None
    report: writer.WriteReport | None
    event: CardEvent


def write_card(
    folder: Path,
    build: Build,
    target: Target,
    *,
    typed: str = "",
    sink: Sink = no_sink,
    cancel: CancelToken | None = None,
    chosen: str = "",
    speed_class: str = "",
    image: Path | None = None,
) -> Written:
    """Write the build's card and keep the truth about it: in build.json before, and after however it ends.

    chosen: the drive's identity when it was chosen. speed_class: of the card, as printed on it. image: another file
    than the build's (a backup). A card that reads back other bytes is probed at once, so that it gets its right name.
    Raises Refused when the interlock does not agree; nothing was touched then.
    """
    facts = source.inspect(image or resolve(folder, build.source.path))
    grant(case_for(build, facts, target, chosen), typed=typed)  # refuse before anything is recorded
    phases = [""]
    reached = [0]

    def watch(report: Progress) -> None:
        phases[0], reached[0] = report.phase, report.done
        sink(report)

    record = CardRecord(drive=target.facts.identity, state=CardState.WRITING, at=now())
    _keep_record(folder, record)

    def on_written() -> None:
        _keep_record(folder, record.model_copy(update={"state": CardState.UNPROVEN}))

    try:
        stated = checksums.beside(facts) if image else stated_for(build, facts)
        report = write(target, facts, build, typed=typed, stated=stated, digest=True, sink=watch, cancel=cancel,
                       chosen=chosen, on_written=on_written)  # fmt: skip
    except Refused:
        _keep_record(folder, build.card)  # nothing was touched
        raise
    except KyklonError as bad:
        return _failed(folder, target, record, bad, phases[0], reached[0], sink, cancel)
    return _proven(folder, target, facts, report, speed_class)


def _proven(
    folder: Path, target: Target, facts: source.SourceFacts, report: writer.WriteReport, speed_class: str
) -> Written:
    """Keep what was written, how fast, and what it says of the card."""
    found = judgement.of_report(report, speed_class)
    record = CardRecord(
        drive=target.facts.identity,
        state=CardState.PROVEN,
        image_sha256=report.sha256,
        bytes_written=report.size,
        at=now(),
        verdict=found.name,
        sentence=found.sentence,
    )
    rate = f"{show_bytes(report.target_rate)}/s"
    words = f"{facts.name}, {show_bytes(report.size)} in {show_duration(report.seconds)}, {rate}"
    event = CardEvent(at=now(), what="written and read back", detail=words, verdict=found.name, rate=report.target_rate)
    _keep_record(folder, record, target, event)
    sums = f"SHA-256 {report.sha256}" + (f"\nThe maker's {report.checked} was found right." if report.checked else "")
    lines = [words, sums, found.sentence, found.do, curve_words(report), *report.notes]
    Logbook(folder).add(
        20, f"Card written and read back: {target.facts.name}", "\n".join(line for line in lines if line)
    )
    return Written(record, None, report, event)


def _failed(
    folder: Path, target: Target, record: CardRecord, bad: KyklonError, phase: str, reached: int, sink: Sink,
    cancel: CancelToken | None,
) -> Written:  # fmt: skip
    """Keep how far it came and what it says of the card."""
    state = _state_after(bad, phase)
    name, sentence = "cancelled", ""
    if not isinstance(bad, Cancelled):
        found = judgement.of_error(bad)
        name, sentence = found.name, f"{found.sentence} {found.do}"
    if isinstance(bad, VerifyError):
        proof = _probe_after(target, sink, cancel)
        if proof is not None and not proof.good:
            name, sentence = proof.verdict, proof.sentence
        elif proof is not None:
            name, sentence = "worn", f"{bad.what} Its size is right, so it is worn: use another card."
    record = record.model_copy(
        update={"state": state, "at": now(), "bytes_written": reached, "verdict": name, "sentence": sentence}
    )
    event = CardEvent(at=now(), what=state.value, detail=f"{bad} {sentence}".strip(), verdict=name)
    _keep_record(folder, record, target, event)
    detail = f"{bad}\n{name}: {sentence}" if sentence else str(bad)
    Logbook(folder).add(20, f"Writing {target.facts.name}: {state.value}", detail)
    return Written(record, bad, None, event)


def _probe_after(target: Target, sink: Sink, cancel: CancelToken | None) -> prove.Proof | None:
    """What the card is, after it read back other bytes; its contents were given up for the write already."""
    from kyklon.card import prove  # brings numpy, which the first window can do without

    case = Case(drive=target.facts, need=0, source=prove.SOURCE, own=True, disk=True)
    try:
        return prove.prove(target.drives, target.facts, grant(case), sink=sink, cancel=cancel)
    except KyklonError:
        return None


def curve_words(report: writer.WriteReport) -> str:
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


def _keep_record(
    folder: Path, record: CardRecord, target: Target | None = None, event: CardEvent | None = None
) -> None:
    """Into the build as it is on disk now: an edit made meanwhile is not lost."""

    def change(build: Build) -> Build:
        build = edited(build, "card", record)
        if target is None or event is None:
            return build
        return build.with_event(target.facts.identity, target.facts.size, event)

    store.update(folder, change)


@dataclass(frozen=True)
class Put:
    """Boot files for a card: new text by path, and the difference of each to what is there."""

    files: dict[str, str]
    differences: dict[str, str]


def plan_boot_files(build: Build, catalogue: Catalogue, card: contents.CardContents) -> Put:
    """The files of this build merged into those of the card; only those that differ."""
    files, differences = {}, {}
    for file in issue(build, catalogue, card.texts):
        old = card.texts.get(file.path.lower(), "")
        if old != file.text:
            files[file.path] = file.text
            differences[file.path] = difference(old, file.text, file.path)
    return Put(files, differences)


def put_boot_files(folder: Path | None, build: Build, catalogue: Catalogue, target: Target) -> Put:
    """Put this build's boot files on a card's FAT partition, keep a copy in issued/, and log the difference.

    Raises Refused, TargetError (no boot partition), TargetFull.
    """
    card = contents.observe(target.path)
    boot = card.table.boot() if card.table else None
    if boot is None or card.boot_error:
        raise TargetError(
            f"{target.facts.name} has no boot partition to put files on. {card.table_error or card.boot_error}",
            do="Write the image first.",
        )
    put = plan_boot_files(build, catalogue, card)
    if put.files:
        case = Case(drive=target.facts, need=0, source=EDIT, edit=True)
        data = {name: text.encode() for name, text in put.files.items()}
        FatVolume(target.path, boot.start).replace(data, grant(case), target.facts.identity)
    if folder is not None:
        for name, text in put.files.items():
            _keep_issued(folder / "issued" / "boot", name, text)
        if put.files:
            detail = "\n".join(put.differences.values())
            Logbook(folder).add(30, f"Boot files put on {target.facts.name}", detail)
    return put


def _keep_issued(folder: Path, name: str, text: str) -> None:
    path = folder / name
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text, encoding="utf-8")


def issue_everything(build: Build, catalogue: Catalogue, world: World, to: Path) -> tuple[str, ...]:
    """Every artefact of the build into a folder; returns the paths written, relative to it."""
    on_card = world.card or world.source_contents
    texts = {f"boot/{file.path}": file.text for file in issue(build, catalogue, on_card.texts if on_card else {})}
    texts |= issue_settings(build, catalogue)
    encoder = catalogue.find(Encoder, build.part("encoder"))
    panel = catalogue.find(Panel, build.controls.panel)
    if encoder is not None and panel is not None:
        lines = [
            control_exports.sdl_mapping(panel, build.controls, encoder, player)
            for player in range(1, panel.players + 1)
        ]
        texts["controls/sdl-mapping.txt"] = "".join(f"{line}\n" for line in dict.fromkeys(lines) if line)
        texts[f"controls/70-{encoder.id}.rules"] = control_exports.udev_rule(encoder)
        texts["controls/wiring.csv"] = control_exports.wiring_csv(
            panel, build.controls, encoder, systems_of(build, catalogue)
        )
    lines = [modeline(mode.timing, f"{name} ({mode.name})") for _, name, mode in modes_of(build, catalogue)]
    texts["picture/modelines.conf"] = "\n".join(lines) + "\n"
    rows = cost(build, catalogue)
    texts["plan/parts.csv"] = "part,count,price\n" + "".join(f'"{name}",{n},{price:.2f}\n' for name, n, price in rows)
    try:
        for name, text in texts.items():
            _keep_issued(to, name, text)
        names = list(texts)
        if world.identification is not None:
            (to / "picture" / "display.edid").write_bytes(edid.write(world.identification))
            names.append("picture/display.edid")
    except OSError as bad:
        raise KyklonError(f"{to} cannot be written: {bad.strerror}.", do="Choose another folder.") from bad
    return tuple(names)


def move_games(
    folder: Path,
    build: Build,
    catalogue: Catalogue,
    destination: Path,
    *,
    sink: Sink = no_sink,
    cancel: CancelToken | None = None,
) -> tuple[Build, transfer.TransferReport]:
    """Scan, put what is ready into a destination, and remember where. Raises KyklonError."""
    world = observe_library(build, folder, catalogue, World(), sink, cancel)
    if world.scan is None:
        raise KyklonError(world.scan_error or "The build has no library folder.", do="Choose a library folder.")
    image = catalogue.get(Image, build.part("image"))
    if is_block_device(destination):
        raise WrongUse(f"{destination} is a drive.", do="Name a folder, as the place where the stick is mounted.")
    planned = transfer.plan(world.scan, systems_of(build, catalogue), image)
    report = transfer.carry_out(planned, Path(world.scan.folder), destination, sink, cancel)
    inside = os.path.relpath(destination.resolve(), folder.resolve())
    remembered = inside if not inside.startswith("..") else str(destination.resolve())
    build = edited(build, "library.destination", remembered)
    Logbook(folder).add(
        60,
        f"{report.games} games moved to {destination.name}",
        f"{report.files} files, {show_bytes(report.size)}, {report.already_there} were there already; read back.",
    )
    return build, report


def apply_remedy(folder: Path, build: Build, remedy: Remedy, title: str) -> Build:
    """The build after a remedy, saved and logged."""
    build = remedied(build, remedy)
    store.save(folder, build)
    log_remedy(folder, remedy, title)
    return build


def log_remedy(folder: Path, remedy: Remedy, title: str) -> None:
    """What a remedy changed, into the logbook."""
    detail = "\n".join(f"{change.label}: {change.before} → {change.after}" for change in remedy.changes)
    Logbook(folder).add(0, f"Remedy: {remedy.label}", f"{title}\n{detail}")
