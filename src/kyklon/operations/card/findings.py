"""What the image and the card say against the build."""

from __future__ import annotations

from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build, CardState
from kyklon.model.findings import Finding, Severity
from kyklon.model.world import World

OPERATION = 20
MIN_FREE = 1 << 20  # bytes; CP: a boot partition with less has no room for the next kernel


def findings(build: Build, _catalogue: Catalogue, world: World) -> list[Finding]:
    facts, card = world.source, world.card
    found: list[Finding] = []
    if world.source_error:
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
