"""Looking after cards: prove, back up, compare, prepare."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Annotated

from kyklon.base.errors import WrongUse
from kyklon.base.quantities import counted, show_bytes, show_duration
from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import (
    OK,
    STOPS,
    CardName,
    Folder,
    InFolder,
    Json,
    Lose,
    TargetName,
    Yes,
    agree,
    open_folder,
    out,
    tell,
    watching,
)
from kyklon.commands.targets import card_job, written_card
from kyklon.operations.card.volumes import compare


def prove(
    target: TargetName,
    full: Annotated[bool, Option("--full", help="Test every byte, not just a few dozen blocks.")] = False,
    yes: Yes = False,
    lose: Lose = "",
    folder: InFolder = None,
    as_json: Json = False,
) -> int:
    """Check that a card has its stated capacity and keeps what is written to it.

    Writes over it. Exit 1 when it is bad.
    """
    from kyklon.operations.card.acts import prove_card
    from kyklon.operations.card.drives.interlock import Purpose

    job = card_job(target, folder, lose)
    what = "every byte of" if full else "some places of"
    agree(job.verdict(Purpose.PROVE), f"Overwrite {what} {job.target.facts.name}?", yes=yes)
    with watching() as watch:
        proof = prove_card(job, full=full, watch=watch).proof
    data = {key: value for key, value in asdict(proof).items() if key != "rates"}
    out(data, as_json, lambda: [f"{proof.drive}: {proof.verdict}. {proof.sentence}"])
    return OK if proof.good else STOPS


def backup(
    target: TargetName,
    file: Annotated[Path, Argument(help="Where it goes: .img.zst, .img.xz, .img.gz or .img.")],
    folder: InFolder = None,
    as_json: Json = False,
) -> int:
    """Save a card as a compressed image; unused blocks are left out.

    Its checksum goes beside it.
    """
    from kyklon.operations.card.acts import backup_card

    job = card_job(target, folder)
    if not job.target.path.exists():
        raise WrongUse(f"{target} is missing or was never written.", do="Choose a written card.")
    with watching() as watch:
        report, _event = backup_card(job, file, watch)
    data = {**asdict(report), "path": str(report.path)}
    out(
        data,
        as_json,
        lambda: [
            f"{report.path}: {show_bytes(report.read)} of {show_bytes(report.size)} in use, "
            f"{show_bytes(report.packed)} packed, {show_duration(report.seconds)}.",
            f"SHA-256 {report.sha256}",
            *report.notes,
        ],
    )
    return OK


def compare_two(
    first: Annotated[str, Argument(help="A simulated drive's name, a drive, or an image file.")],
    second: Annotated[str, Argument(help="The other one.")],
    folder: InFolder = None,
    as_json: Json = False,
) -> int:
    """Compare two cards or images.

    Boot files one by one, the rest by what is in use. Exit 1 when they differ.
    """
    from kyklon.operations.card.acts import compare_cards

    sides = [
        compare.side(name, Path(name).absolute() if Path(name).is_file() else written_card(name, folder).path)
        for name in (first, second)
    ]
    with watching() as watch:
        found = compare_cards(sides[0], sides[1], folder, watch)
    words = "The two are the same." if found.same else "The two differ."
    out({"same": found.same, **asdict(found)}, as_json, lambda: [compare.in_words(found), words])
    return OK if found.same else STOPS


def prepare(
    target: TargetName,
    label: Annotated[str, Option("--label", help="Name of the volume, up to 11 letters.")] = "CARD",
    kind: Annotated[str, Option("--kind", help="FAT, exFAT or ext4.")] = "FAT",
    yes: Yes = False,
    lose: Lose = "",
    folder: InFolder = None,
    as_json: Json = False,
) -> int:
    """Format a card or a stick and clear everything old on it.

    Every old table and signature is cleared; it gets one partition, the right clusters and a label.
    """
    from kyklon.operations.card.acts import prepare_card
    from kyklon.operations.card.drives.interlock import Purpose
    from kyklon.operations.card.drives.prepare import KINDS

    wanted = next((each for each in KINDS if each.lower() == kind.lower()), None)
    if wanted is None:
        raise WrongUse(f"There is no kind {kind!r}.", do=f"There are: {', '.join(KINDS)}.")
    job = card_job(target, folder, lose)
    name = job.target.facts.name
    agree(job.verdict(Purpose.PREPARE), f"Format {name} as {wanted}?", yes=yes)
    with watching() as watch:
        done, _event = prepare_card(job, label, watch, wanted)
    out(
        asdict(done),
        as_json,
        lambda: [
            f"{name} formatted as {done.kind}, label “{done.label}”, {show_bytes(done.size)}, clusters of "
            f"{done.cluster} bytes."
        ],
    )
    return OK


def remember(folder: Folder, card: CardName) -> int:
    """Remember a card that works as it is now, to see later what somebody changed on it."""
    from kyklon.operations.card import changes
    from kyklon.record.logbook import Logbook, now

    open_folder(folder)
    with watching() as watch:
        found = changes.look(written_card(card, folder).path, now(), watch)
    changes.remember(folder, found)
    count = f"{counted(len(found.files), 'file')}, {counted(len(found.packages), 'package')}"
    Logbook(folder).add(
        20,
        f"{card} remembered as it is",
        count,
    )
    for words in found.not_read:
        tell(words)
    print(f"{card} is remembered as it is: {count}.")
    return OK


def changed(folder: Folder, card: CardName, as_json: Json = False) -> int:
    """Show what somebody changed on a card since it was remembered, line by line; exit 1 when something did."""
    from kyklon.operations.card import changes
    from kyklon.record.logbook import now

    open_folder(folder)
    with watching() as watch:
        told = changes.since(folder, written_card(card, folder).path, now(), watch)
    found = told.changes
    for words in told.now.not_read:
        tell(words)
    data = {"since": told.before.at, "changes": [asdict(each) for each in found], "not_read": list(told.now.not_read)}
    seen = "" if told.whole else "that can be read "
    nothing = f"Nothing {seen}has changed since {told.before.at[:10]}."
    out(data, as_json, lambda: [changes.in_words(found) if found else nothing])
    return OK if told.whole and not found else STOPS
