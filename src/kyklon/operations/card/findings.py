"""What the image and the card say against the build."""

from __future__ import annotations

from collections import Counter

from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build, CardState
from kyklon.model.findings import Finding, Severity
from kyklon.model.sets import SetStop
from kyklon.model.world import World
from kyklon.operations.card.sets.tried import problems_of

OPERATION = 20
MIN_FREE = 1 << 20  # bytes; CP: a boot partition with less has no room for the next kernel


def findings(build: Build, catalogue: Catalogue, world: World) -> list[Finding]:
    facts, card = world.source, world.card
    image = catalogue.find(Image, build.part("image"))
    found: list[Finding] = []
    found += _sets(build, world)
    if image is not None and image.school == "bare metal":
        found += _no_set(build)
    elif world.source_error:
        found.append(
            _finding(
                "source",
                Severity.STOP,
                "Image file",
                "The image cannot be used",
                world.source_error,
                "A damaged image makes a damaged card.",
                "the file's own bytes",
            )
        )
    elif facts is None:
        found.append(
            _finding(
                "no-source",
                Severity.NOTE,
                "Image file",
                "No image is chosen",
                "Choose the image file to write.",
                "The card is made from it.",
            )
        )
    elif build.source.sha256 is None and world.source_stated is None:
        found.append(
            _finding(
                "no-checksum",
                Severity.NOTE,
                facts.path.name,
                "The image's checksum is not known",
                "Paste the SHA-256 published with it.",
                "Only a checksum tells a complete download from a bad one.",
            )
        )
    found += _state(build, world.writing, table=card is not None and card.table is not None)
    if card is not None and build.card.bootable and not card.boot_error and card.table and card.boot_free < MIN_FREE:
        found.append(
            _finding(
                "boot-full",
                Severity.CAUTION,
                "Boot partition",
                "The boot partition is nearly full",
                f"{card.boot_free} bytes are free.",
                "Boot files may not fit.",
                "the bytes on the card",
            )
        )
    return found


def _sets(build: Build, world: World) -> list[Finding]:
    """What keeps the set or the bundles off the card; and what was seen of a chooser's systems on the machine."""
    where = "Set" if build.sets.bare_metal else "Bundles"
    if world.sets_error:
        why = "Without it there is nothing to make the card from."
        return [_finding("set", Severity.STOP, where, "The set cannot be used", world.sets_error, why)]
    if world.sets is None:
        return []
    rows: dict[str, SetStop] = {}
    for stop in world.sets.stops:
        rows.setdefault(stop.of, stop)
    counts = Counter(stop.of for stop in world.sets.stops)
    found = []
    for of, stop in rows.items():
        more = f" There {'is' if counts[of] == 2 else 'are'} {counts[of] - 1} more." if counts[of] > 1 else ""
        title = f"{of} is not ready for the card"
        found.append(
            _finding(f"set:{of}", Severity.STOP, of, title, f"{stop.sentence}{more}", stop.why, "the files there")
        )
    tried = problems_of(world.sets.systems, build.sets.tried)
    names = {system.folder: system.name for system in world.sets.systems}
    for each in tried:
        name = names[each.bundle]
        told = (name, f"{name} {_TRIED[each.code]}", each.sentence, each.why)
        found.append(_finding(f"system-{each.code}:{each.bundle}", each.severity, *told))
    return found


_TRIED = {
    "updated": "has a newer release",
    "not-started": "needs a second try",
    "no-return": "has no way back",
}


def _no_set(build: Build) -> list[Finding]:
    """A bare-metal card is made from an unpacked set; an image file is not asked for."""
    if build.sets.bare_metal:
        return []
    told = "Choose the folder of the unpacked set."
    return [_finding("no-set", Severity.NOTE, "Bare-metal set", "No set is chosen", told, "The card is made from it.")]


_WORDS = {
    CardState.CANCELLED: "was cancelled half-way",
    CardState.FAILED: "failed half-way",
    CardState.WRITING: "was interrupted",
}


def _state(build: Build, writing: bool, *, table: bool) -> list[Finding]:
    """table: whether a partition table is on the card now."""
    card = build.card
    name = card.drive.removeprefix("sim:").split("|")[0] or "Card"
    if card.state is CardState.WRITING and writing:
        return [
            _finding(
                "being-written",
                Severity.NOTE,
                name,
                "The card is being written",
                "It can boot once it is written and read back.",
                "Until then it has no partition table.",
            )
        ]
    if card.state in _WORDS:
        what = "part of the image may be missing" if table else "it has no partition table"
        bad = card.verdict in ("worn", "counterfeit", "locked")
        told = f" {card.sentence}" if bad else ""
        do = "Use another card." if bad else "Write it again."
        return [
            _finding(
                "not-bootable",
                Severity.STOP,
                name,
                f"The card is {card.verdict}" if bad else "The card is not bootable",
                f"Its last write {_WORDS[card.state]}; {what}.{told}",
                f"The machine finds nothing to boot from. {do}",
                "logbook",
            )
        ]
    if card.state is CardState.PROVEN and card.verdict in ("worn", "slow"):
        return [
            _finding(
                card.verdict,
                Severity.CAUTION,
                name,
                f"The card is {card.verdict}",
                card.sentence,
                "It holds the image now; it may not last.",
                "measured at its last write",
            )
        ]
    if card.state is CardState.UNPROVEN:
        return [
            _finding(
                "unproven",
                Severity.CAUTION,
                name,
                "The card was not read back",
                "Reading back was cancelled.",
                "A worn card does not keep what was written to it.",
                "logbook",
            )
        ]
    return []


def _finding(
    code: str, severity: Severity, subject: str, title: str, message: str, why: str, source: str = "Common practice"
) -> Finding:
    return Finding(
        code=f"card.{code}",
        severity=severity,
        operation=OPERATION,
        subject=subject,
        title=title,
        message=message,
        why=why,
        source=source,
    )
