"""The acts: what the window's buttons and the commands both do. Each saves the build and writes the logbook."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

from kyklon.boot.issue import difference, issue
from kyklon.card import checksums, contents, source, writer
from kyklon.card.filesystems import EDIT, FatVolume
from kyklon.card.interlock import Case, Verdict, grant, judge
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Encoder, Image, Panel
from kyklon.controls import exports as control_exports
from kyklon.devices.linux.drives import FileDrives, LinuxDrives, is_block_device
from kyklon.devices.ports import DriveFacts, Drives
from kyklon.devices.simulated.drives import SimulatedDrives
from kyklon.errors import Cancelled, KyklonError, TargetError, WrongUse
from kyklon.library import transfer
from kyklon.model.build import Build, CardRecord, CardState, edited, remedied
from kyklon.model.findings import Remedy
from kyklon.observing import drives_of, observe_library, resolve, systems_of
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
    drives = drives_of(folder)
    return tuple(Target(drives, facts) for facts in drives.list())


def find_target(name: str, folder: Path | None, size: int = 0) -> Target:
    """A simulated drive's name, a block device, or a file (made with `size` bytes when it is not there).

    Raises WrongUse for a name that is none of these.
    """
    if folder is not None:
        for target in targets(folder):
            if name in (target.facts.name, target.facts.identity):
                return target
            if target.facts.simulated and Path(name).exists() and Path(name).resolve() == target.path.resolve():
                return target
    path = Path(name)
    if is_block_device(path):
        linux = LinuxDrives()
        found = next((facts for facts in linux.list() if linux.path(facts.identity) == path.resolve()), None)
        if found is None:
            raise WrongUse(f"{name} is a partition or no whole drive.", do="Name the whole drive, as lsblk lists it.")
        return Target(linux, found)
    if path.is_dir() or not path.parent.is_dir():
        raise WrongUse(f"{name} is no drive and no place for a file.", do="See `kyklon drives FOLDER`.")
    file = FileDrives(path, path.stat().st_size if path.exists() and path.stat().st_size else size)
    return Target(file, file.list()[0])


def case_for(build: Build | None, facts: source.SourceFacts | None, target: Target, chosen: str = "") -> Case:
    """What the interlock is to judge for an image and a drive."""
    # a real reader tells its own serial, not the card's: another card in it looks the same, so only a simulated
    # drive is ever taken for the build's own
    own = build is not None and build.card.drive == target.facts.identity and target.facts.simulated
    return Case(
        drive=target.facts,
        need=(facts.unpacked or 0) if facts else 0,
        source=str(facts.path.resolve()) if facts else "",
        own=own,
        chosen_identity=chosen,
    )


def verdicts(folder: Path, build: Build, facts: source.SourceFacts | None) -> tuple[tuple[Target, Verdict], ...]:
    return tuple((target, judge(case_for(build, facts, target))) for target in targets(folder))


def write(
    target: Target,
    facts: source.SourceFacts,
    build: Build | None,
    *,
    typed: str = "",
    sha256: str | None = None,
    sink: Sink = no_sink,
    cancel: CancelToken | None = None,
) -> writer.WriteReport:
    """Write, read back and compare, after the interlock has agreed. Keeps no record; see write_card."""
    permit = grant(case_for(build, facts, target), typed=typed)
    report = writer.write_image(facts, target.drives, target.facts, permit, sha256=sha256, sink=sink, cancel=cancel)
    if isinstance(target.drives, SimulatedDrives):
        _relabel(target.drives, target, facts)
    return report


def _relabel(drives: SimulatedDrives, target: Target, facts: source.SourceFacts) -> None:
    fresh = target.facts.model_copy(
        update={"labels": (), "files": 0, "newest": "", "holds": f"the image {facts.path.name}"}
    )
    drives.replace(target.facts.identity, facts=fresh)


def write_card(
    folder: Path,
    build: Build,
    target: Target,
    *,
    typed: str = "",
    sink: Sink = no_sink,
    cancel: CancelToken | None = None,
) -> tuple[CardRecord, KyklonError | None, writer.WriteReport | None]:
    """Write the build's card and keep the truth about it: in build.json before, and after however it ends.

    Raises Refused when the interlock does not agree; nothing was touched then.
    """
    facts = source.inspect(resolve(folder, build.source.path))
    grant(case_for(build, facts, target), typed=typed)  # refuse before anything is recorded
    phases = [""]
    reached = [0]

    def watch(report: Progress) -> None:
        phases[0], reached[0] = report.phase, report.done
        sink(report)

    record = CardRecord(drive=target.facts.identity, state=CardState.WRITING, at=now())
    _keep_record(folder, record)
    try:
        known = build.source.sha256 or checksums.beside(facts.path) or None
        report = write(target, facts, build, typed=typed, sha256=known, sink=watch, cancel=cancel)
    except KyklonError as bad:
        state = _state_after(bad, phases[0])
        record = record.model_copy(update={"state": state, "at": now(), "bytes_written": reached[0]})
        _keep_record(folder, record)
        Logbook(folder).add(20, f"Writing {target.facts.name}: {state.value}", str(bad))
        return record, bad, None
    record = CardRecord(
        drive=target.facts.identity,
        state=CardState.PROVEN,
        image_sha256=report.sha256,
        bytes_written=report.size,
        at=now(),
    )
    _keep_record(folder, record)
    rate = show_bytes(report.size / max(report.seconds, 1e-6))
    Logbook(folder).add(
        20,
        f"Card written and read back: {target.facts.name}",
        f"{facts.path.name}, {show_bytes(report.size)} in {show_duration(report.seconds)} ({rate}/s)\n"
        f"SHA-256 {report.sha256}",
    )
    return record, None, report


def _state_after(bad: KyklonError, phase: str) -> CardState:
    if isinstance(bad, Cancelled):
        return CardState.UNPROVEN if phase == "Reading back" else CardState.CANCELLED
    return CardState.FAILED


def _keep_record(folder: Path, record: CardRecord) -> None:
    """Into the build as it is on disk now: an edit made meanwhile is not lost."""
    store.update(folder, lambda build: edited(build, "card", record))


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
