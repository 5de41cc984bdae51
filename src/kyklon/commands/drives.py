"""Drives: what there is, what the interlock says, and writing."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

from kyklon.base.quantities import show_bytes, show_duration
from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import OK, STOPS, InFolder, Json, Lose, TargetName, Yes, agree, out, watching

if TYPE_CHECKING:
    from kyklon.model.image_file import SourceFacts
    from kyklon.operations.card.drives.interlock import Request, Verdict
    from kyklon.operations.card.drives.writer import WriteReport

Sha256 = Annotated[str | None, Option("--sha256", help="Checksum published with the image.")]


def drives(
    folder: Annotated[Path | None, Argument(help="A build folder, for its drives and image.")] = None,
    as_json: Json = False,
) -> int:
    """List the drives and what the interlock says about each."""
    from kyklon.operations.card.acts import CardJob
    from kyklon.operations.card.drives.interlock import Purpose
    from kyklon.operations.card.drives.looking import targets

    build, image = _build_and_image(folder)
    rows = []
    for target in targets(folder):
        verdict = CardJob(target, build=build).verdict(Purpose.WRITE, image)
        rows.append({**asdict(target.facts), **_told(verdict), "volumes": _volumes(target.path)})

    def lines() -> list[str]:
        told = []
        for row in rows:
            verdict = "refused: " + " ".join(row["refusals"]) if row["refusals"] else row["loss"] or "free to write"
            told.append(f"{row['name']:14} {show_bytes(row['size']):>9}  {row['bus']:5} {verdict}")
        return told or ["No drive connected."]

    out({"drives": rows}, as_json, lines)
    return OK


def _build_and_image(folder: Path | None) -> tuple[Any, SourceFacts | None]:
    if folder is None:
        return None, None
    from kyklon.base.errors import KyklonError
    from kyklon.operations.card.sources.source import inspect
    from kyklon.record import folder as store

    build = store.load(folder).build
    try:
        return build, inspect(store.resolve(folder, build.source.path)) if build.source.path else None
    except KyklonError:
        return build, None


def _volumes(path: Path) -> list[dict[str, Any]] | None:
    """What is on a drive, None where it may not be read."""
    from kyklon.operations.card.volumes.survey import survey

    try:
        return [asdict(volume) for volume in survey(path).volumes]
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
    """Ask the interlock about writing an image to a drive.

    Exit 1 when it may not be written.
    """
    from kyklon.operations.card.drives.interlock import RULES, judge

    request = _request(image, target, folder, "")
    verdict = judge(request.case)
    data = {"drive": request.target.facts.name, **_told(verdict), "rules": [rule.code for rule in RULES]}
    words = " ".join((*verdict.refusals, *verdict.warnings)) or verdict.loss or "Free to write: nothing is lost."
    out(data, as_json, lambda: [words])
    return OK if verdict.allowed else STOPS


def _request(image: Path, name: str, folder: Path | None, lose: str) -> Request:
    """What the interlock is asked, without more of the build than it needs."""
    from kyklon.operations.card.drives.interlock import Consent, Purpose, Request
    from kyklon.operations.card.drives.looking import find
    from kyklon.operations.card.sources.source import inspect

    facts = inspect(image)
    target = find(name, folder, (facts.unpacked or 0) if facts.exact else 0)
    request = Request(target, Purpose.WRITE, facts, Consent(typed=lose))
    if folder is None:
        return request
    from kyklon.operations.card.acts import CardJob
    from kyklon.record import folder as store

    return CardJob(target, request.consent, store.load(folder).build).request(Purpose.WRITE, facts)


def write(
    image: Annotated[Path, Argument(help="The image file.")],
    target: TargetName,
    sha256: Sha256 = None,
    yes: Yes = False,
    lose: Lose = "",
    folder: InFolder = None,
    as_json: Json = False,
) -> int:
    """Write an image to a drive, read it back and compare.

    With --json its SHA-256 is waited for.
    """
    from kyklon.operations.card.drives.interlock import judge

    owner = folder or _owner()
    request = _request(image, target, owner, lose)
    agree(judge(request.case), f"Write {request.image.name} to {request.target.facts.name}?", yes=yes)  # type: ignore[union-attr] # made with one
    recorded = owner is not None and request.target.facts.simulated
    report = _write_recorded(request, owner, sha256) if recorded and owner else _write(request, sha256, digest=as_json)
    data = {
        "bytes": report.size,
        "seconds": round(report.seconds, 3),
        "sha256": report.sha256,
        "verified": report.verified,
        "bytes_per_second": round(report.target_rate),
        "retried": list(report.retried),
        "checked": report.checked or None,
    }
    name = request.target.facts.name
    out(
        data,
        as_json,
        lambda: [
            f"{show_bytes(report.size)} written to {name} and read back in {show_duration(report.seconds)}.",
            f"SHA-256 {report.sha256}"
            if report.sha256
            else "No SHA-256 yet: the target was faster. --json waits for it.",
        ],
    )
    return OK


def _write(request: Request, sha256: str | None, *, digest: bool) -> WriteReport:
    """Outside a build: nothing is recorded."""
    from kyklon.operations import checksums
    from kyklon.operations.card.drives.interlock import opened
    from kyklon.operations.card.drives.writer import Order, write_image

    assert request.image is not None
    stated = checksums.from_text(sha256) if sha256 else checksums.beside(request.image)
    with watching() as watch, opened(request) as target:
        report = write_image(target, request.image, Order(stated, digest), watch)
    request.target.drives.now_holds(request.target.facts.identity, f"the image {request.image.name}")
    return report


def _write_recorded(request: Request, folder: Path, sha256: str | None) -> WriteReport:
    """Onto a drive of a build: what became of it is kept in the build."""
    from kyklon.catalogue.records import Card
    from kyklon.commands.shared import catalogue
    from kyklon.operations import checksums
    from kyklon.operations.card.acts import CardJob, stated_for, write_card
    from kyklon.record import folder as store

    assert request.image is not None
    build = store.load(folder).build
    own = bool(build.source.path) and str(store.resolve(folder, build.source.path).resolve()) == request.image.place
    stated = checksums.from_text(sha256) if sha256 else stated_for(build if own else None, request.image)
    card = catalogue().find(Card, build.part("card"))
    job = CardJob(request.target, request.consent, build, folder)
    with watching() as watch:
        ended = write_card(job, request.image, stated=stated, speed_class=card.speed_class if card else "", watch=watch)
    if ended.bad is not None:
        raise ended.bad
    assert ended.report is not None
    return ended.report


def _owner() -> Path | None:
    """The build folder that the present folder is, or lies in: where an image comes from says nothing of it."""
    here = Path.cwd()
    return next((place for place in (here, *here.parents) if (place / "build.json").exists()), None)


def restore(
    file: Annotated[Path, Argument(help="A backup, or any image.")],
    target: TargetName,
    yes: Yes = False,
    lose: Lose = "",
    folder: InFolder = None,
    as_json: Json = False,
) -> int:
    """Write a backup to a card, read it back and compare.

    The checksum beside it must be right.
    """
    return write(file, target, None, yes, lose, folder, as_json)
