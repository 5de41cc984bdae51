"""The card's commands: sources and their shelf, drives, the interlock, writing, proving, keeping."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any

import typer

from kyklon import keeping, observing, workshop
from kyklon.card import checksums, compare, contents, source, volumes
from kyklon.card.interlock import RULES, Verdict, judge
from kyklon.catalogue.loader import load
from kyklon.catalogue.records import Card
from kyklon.cli_tools import OK, STOPS, InFolder, Json, Lose, Meter, TargetName, Yes, cancelling, out
from kyklon.errors import Cancelled, Refused, WrongUse
from kyklon.model.build import Build
from kyklon.places import catalogue_folder, demo_folder, shelf_file
from kyklon.quantities import show_bytes, show_duration
from kyklon.record import folder as store
from kyklon.record.shelf import Shelf, shelf_entry
from kyklon.world import World

Sha256 = Annotated[str | None, typer.Option("--sha256", help="The checksum the image's maker states.")]
Place = Annotated[Path | None, typer.Option("--shelf", help="Another shelf than your own.")]


def register(app: typer.Typer, source_app: typer.Typer) -> None:
    for name, command in (("inspect", inspect), ("shelf", shelf), ("keep", keep), ("forget", forget)):
        source_app.command(name)(command)
    for each in (drives, interlock, write, prove, backup, restore, prepare):
        app.command(each.__name__)(each)
    app.command("compare")(compare_two)


# --- sources -------------------------------------------------------------------------------------------------


def inspect(file: Path, as_json: Json = False) -> int:
    """What an image file is, without unpacking it to disk."""
    facts = source.inspect(file)
    inside = contents.observe_source(facts)
    stated = checksums.beside(facts)
    table = inside.table
    told: dict[str, Any] = {
        "kind": facts.kind,
        "parts": [part.name for part in facts.parts] or None,
        "packed": facts.packed,
        "unpacked": facts.unpacked,
        "exact": facts.exact,
        "stated": asdict(stated) if stated else None,
        "scheme": table.scheme if table else None,
        "partitions": [
            {"number": part.number, "type": part.word, "start": part.start, "size": part.size}
            for part in (table.partitions if table else ())
        ],
        "volumes": [asdict(volume) for volume in inside.volumes],
        "boot_free": inside.boot_free,
        "kernels": [{"file": kernel.name, "instruction_set": kernel.instruction_set} for kernel in inside.kernels],
        "boards": list(observing.boards_served(inside, load(catalogue_folder()))),
        "boot_files": sorted(inside.texts),
        "problem": inside.table_error or inside.boot_error or None,
    }

    def lines() -> list[str]:
        text = [f"{facts.name}: {facts.kind}, {show_bytes(facts.packed)} packed, {facts.size_words} unpacked"]
        if facts.parts:
            text.append(f"  joined from {len(facts.parts)} parts")
        if stated:
            text.append(f"  {stated.algorithm} beside it: {stated.digest}")
        text += [
            f"  {volume.number} {volume.words}, from byte {volume.start}" for volume in inside.volumes if volume.number
        ]
        text += [f"  kernel {row['file']} for {row['instruction_set']}" for row in told["kernels"]]
        if told["boards"]:
            text.append(f"  starts on {', '.join(told['boards'])}")
        return [*text, f"  {told['problem']}"] if told["problem"] else text

    out(told, as_json, lines)
    return OK


def shelf(place: Place = None, as_json: Json = False) -> int:
    """The images on the source shelf."""
    images = Shelf(place or shelf_file()).images()
    out(
        {"images": [each.model_dump(mode="json") for each in images]},
        as_json,
        lambda: (
            [
                f"{each.name or Path(each.path).name}: {show_bytes(each.packed)}, {each.school or 'school not known'}, "
                f"{each.released or 'no date'}, {each.checksum or 'no checksum'}\n  {each.path}"
                for each in images
            ]
            or ["The shelf is empty. Put an image on it: kyklon source keep FILE"]
        ),
    )
    return OK


def keep(file: Path, place: Place = None) -> int:
    """Put an image on the source shelf."""
    facts = source.inspect(file)
    catalogue = load(catalogue_folder())
    boards = observing.boards_served(contents.observe_source(facts), catalogue)
    entry = shelf_entry(facts, catalogue, boards)
    Shelf(place or shelf_file()).put(entry)
    print(f"{entry.name or facts.name} is on the shelf.")
    return OK


def forget(file: str, place: Place = None) -> int:
    """Take an image off the source shelf; the file stays."""
    shelf_ = Shelf(place or shelf_file())
    known = [each for each in shelf_.images() if file in (each.path, each.name, Path(each.path).name)]
    if not known:
        raise WrongUse(f"{file} is not on the shelf.", do="See `kyklon source shelf`.")
    for each in known:
        shelf_.remove(each.path)
        print(f"{each.path} is off the shelf.")
    return OK


# --- drives and the interlock --------------------------------------------------------------------------------


def drives(
    folder: Annotated[Path | None, typer.Argument(help="A build folder, for its drives and image.")] = None,
    as_json: Json = False,
) -> int:
    """The drives there are, and what the interlock says of each."""
    if folder is not None:
        build: Build | None = store.load(folder).build
        assert build is not None
        facts = observing.observe_source(build, folder, World()).source
        found = workshop.verdicts(folder, build, facts)
    else:
        places = workshop.real_targets()
        found = tuple((each, judge(workshop.case_for(None, None, each))) for each in places)
    rows = [
        {**target.facts.model_dump(), **_told(verdict), "volumes": _volumes(target.path)} for target, verdict in found
    ]

    def lines() -> list[str]:
        told = []
        for row in rows:
            verdict = "refused: " + " ".join(row["refusals"]) if row["refusals"] else row["loss"] or "free to write"
            told.append(f"{row['name']:14} {show_bytes(row['size']):>9}  {row['bus']:5} {verdict}")
        return told or ["No drive is plugged in."]

    out({"drives": rows}, as_json, lines)
    return OK


def _volumes(path: Path) -> list[dict[str, Any]] | None:
    """What is on a drive, None where it may not be read."""
    try:
        return [asdict(volume) for volume in volumes.survey(path).volumes]
    except OSError:
        return None


def _told(verdict: Verdict) -> dict[str, Any]:
    return {
        "allowed": verdict.allowed,
        "refusals": verdict.refusals,
        "warnings": verdict.warnings,
        "lose": verdict.lose or None,
        "loss": verdict.loss or None,
    }


def interlock(image: Path, target: TargetName, folder: InFolder = None, as_json: Json = False) -> int:
    """What the interlock says of writing an image to a drive. Exit 0 when it may be written, 1 when not."""
    facts = source.inspect(image)
    place = workshop.find_target(target, folder, facts.unpacked or 0)
    build = store.load(folder).build if folder else None
    verdict = judge(workshop.case_for(build, facts, place))
    data = {"drive": place.facts.name, **_told(verdict), "rules": [rule.code for rule in RULES]}
    words = " ".join((*verdict.refusals, *verdict.warnings)) or verdict.loss or "Free to write: nothing is lost."
    out(data, as_json, lambda: [words])
    return OK if verdict.allowed else STOPS


def _agreed(verdict: Verdict, question: str, *, yes: bool) -> None:
    """Refused with all reasons, or asked when nothing is lost; what is lost must be named with --lose."""
    if verdict.refusals:
        raise Refused(verdict.refusals, do="Choose another drive.")
    if not verdict.lose and not yes and not typer.confirm(question, err=True):
        raise Cancelled


# --- writing -------------------------------------------------------------------------------------------------


def write(
    image: Annotated[Path, typer.Argument(help="The image file.")],
    target: TargetName,
    sha256: Sha256 = None,
    yes: Yes = False,
    lose: Lose = "",
    folder: InFolder = None,
    as_json: Json = False,
) -> int:
    """Write an image to a drive, read it back and compare. With --json its SHA-256 is waited for."""
    owner = folder or _owner_of(image)
    facts = source.inspect(image)
    place = workshop.find_target(target, owner, facts.unpacked or 0)
    build = store.load(owner).build if owner else None
    _agreed(judge(workshop.case_for(build, facts, place)), f"Write {facts.name} to {place.facts.name}?", yes=yes)
    meter = Meter()
    with cancelling() as cancel:
        if owner and build and place.facts.simulated and _is_the_builds(image, owner, build):
            known = sha256 or build.source.sha256
            fresh = build.model_copy(update={"source": build.source.model_copy(update={"sha256": known})})
            ended = workshop.write_card(
                owner, fresh, place, typed=lose, sink=meter, cancel=cancel, speed_class=_speed_class(build)
            )
            if ended.bad is not None:
                raise ended.bad
            assert ended.report is not None
            report = ended.report
        else:
            stated = checksums.from_text(sha256) if sha256 else checksums.beside(facts)
            report = workshop.write(
                place, facts, build, typed=lose, stated=stated, digest=as_json, sink=meter, cancel=cancel
            )
    meter.done()
    data = {
        "bytes": report.size,
        "seconds": round(report.seconds, 3),
        "sha256": report.sha256,
        "verified": report.verified,
        "bytes_per_second": round(report.target_rate),
        "retried": list(report.retried),
        "checked": report.checked or None,
    }
    out(data, as_json, lambda: [
        f"{show_bytes(report.size)} written to {place.facts.name} and read back in {show_duration(report.seconds)}.",
        f"SHA-256 {report.sha256}" if report.sha256 else "Its SHA-256 was not waited for: the target was faster.",
    ])  # fmt: skip
    return OK


def _speed_class(build: Build) -> str:
    card = load(catalogue_folder()).find(Card, build.part("card"))
    return card.speed_class if card else ""


def _owner_of(image: Path) -> Path | None:
    """The build folder an image lies in, the present folder when it is one, or the demo's."""
    for place in (*image.resolve().parents, Path.cwd(), demo_folder("lighthouse-cafe-table")):
        if (place / store.CURRENT).exists():
            return place
    return None


def _is_the_builds(image: Path, folder: Path, build: Build) -> bool:
    return bool(build.source.path) and observing.resolve(folder, build.source.path).resolve() == image.resolve()


# --- looking after cards -------------------------------------------------------------------------------------


def _place(name: str, folder: Path | None) -> tuple[workshop.Target, Build | None]:
    return workshop.find_target(name, folder), store.load(folder).build if folder else None


def prove(
    target: TargetName,
    full: Annotated[bool, typer.Option("--full", help="Every byte, not only some dozen places.")] = False,
    yes: Yes = False,
    lose: Lose = "",
    folder: InFolder = None,
    as_json: Json = False,
) -> int:
    """Is a card as large as it says, and does it keep what it is given? Writes over it. Exit 1 when it is not good."""
    place, build = _place(target, folder)
    what = "every byte of" if full else "some places of"
    _agreed(keeping.whole_verdict(build, place), f"Write over {what} {place.facts.name}?", yes=yes)
    meter = Meter()
    with cancelling() as cancel:
        done = keeping.prove_card(place, build, folder, full=full, typed=lose, sink=meter, cancel=cancel)
    meter.done()
    proof = done.proof
    data = {key: value for key, value in asdict(proof).items() if key != "rates"}
    out(data, as_json, lambda: [f"{proof.drive}: {proof.verdict}. {proof.sentence}"])
    return OK if proof.good else STOPS


def backup(
    target: TargetName,
    file: Annotated[Path, typer.Argument(help="Where it goes: .img.zst, .img.xz, .img.gz or .img.")],
    folder: InFolder = None,
    as_json: Json = False,
) -> int:
    """A card into a compressed image with its checksum beside it; unused blocks are left out."""
    place, _build = _place(target, folder)
    if not place.path.exists():
        raise WrongUse(f"{target} is not there or was never written.", do="Choose a written card.")
    meter = Meter()
    with cancelling() as cancel:
        report, _event = keeping.backup_card(place, folder, file, sink=meter, cancel=cancel)
    meter.done()
    data = {**asdict(report), "path": str(report.path)}
    out(data, as_json, lambda: [
        f"{report.path}: {show_bytes(report.read)} of {show_bytes(report.size)} in use, "
        f"{show_bytes(report.packed)} packed, {show_duration(report.seconds)}.", f"SHA-256 {report.sha256}",
        *report.notes,
    ])  # fmt: skip
    return OK


def restore(
    file: Annotated[Path, typer.Argument(help="A backup, or any image.")],
    target: TargetName,
    yes: Yes = False,
    lose: Lose = "",
    folder: InFolder = None,
    as_json: Json = False,
) -> int:
    """Write a backup to a card, read it back and compare; its checksum beside it must be right."""
    return write(file, target, None, yes, lose, folder, as_json)


def compare_two(
    first: Annotated[str, typer.Argument(help="A simulated drive's name, a drive, or an image file.")],
    second: Annotated[str, typer.Argument(help="The other one.")],
    folder: InFolder = None,
    as_json: Json = False,
) -> int:
    """Two cards or images: boot files one by one, other partitions by what is in use. Exit 1 when they differ."""
    sides = []
    for name in (first, second):
        path = Path(name) if Path(name).is_file() else workshop.find_target(name, folder).path
        if not path.exists():
            raise WrongUse(f"{name} is not there or was never written.", do="Choose a written card.")
        sides.append(compare.side(name, path))
    meter = Meter()
    with cancelling() as cancel:
        found = keeping.compare_cards(sides[0], sides[1], folder, sink=meter, cancel=cancel)
    meter.done()
    words = "The two are the same." if found.same else "The two differ."
    out({"same": found.same, **asdict(found)}, as_json, lambda: [keeping.compare_words(found), words])
    return OK if found.same else STOPS


def prepare(
    target: TargetName,
    label: Annotated[str, typer.Option("--label", help="Name of the volume, up to 11 letters.")] = "CARD",
    yes: Yes = False,
    lose: Lose = "",
    folder: InFolder = None,
    as_json: Json = False,
) -> int:
    """A plain FAT card: every old table and signature cleared, one partition, the right clusters, a label."""
    place, build = _place(target, folder)
    _agreed(keeping.whole_verdict(build, place), f"Make a plain FAT card of {place.facts.name}?", yes=yes)
    meter = Meter()
    with cancelling() as cancel:
        done, _event = keeping.prepare_card(place, build, folder, label, typed=lose, sink=meter, cancel=cancel)
    meter.done()
    out(asdict(done), as_json, lambda: [
        f"{place.facts.name} is a plain {done.kind} card “{done.label}”, {show_bytes(done.size)}, "
        f"clusters of {done.cluster} bytes."
    ])  # fmt: skip
    return OK
