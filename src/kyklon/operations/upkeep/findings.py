"""What the machine's later life says against the build."""

from __future__ import annotations

from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build
from kyklon.model.findings import Finding, Severity
from kyklon.model.world import World

OPERATION = 95
CAUTIONS = (
    "Back up the saves before you write a card, change an emulator or update.",
    "Do not pull a stick while the LED shows that it is being read or written.",
    "Compare the host key with what the machine shows on its own screen before you accept it.",
    "A change of boot files takes effect at the next start: have the card reader at hand.",
)


def findings(build: Build, _catalogue: Catalogue, _world: World) -> list[Finding]:
    found = []
    if build.upkeep.waited_for:
        found.append(
            Finding(
                code="upkeep.not-back",
                severity=Severity.STOP,
                operation=OPERATION,
                subject="Machine",
                title="The machine did not come back after a change",
                message=f"Changed before: {', '.join(build.upkeep.waited_for)}. Undo the change on the card, or "
                "ask the fault finder in Power-on.",
                why="What was changed last is the first suspect.",
                source="the last restart by this build",
            )
        )
    since = build.unkept_since
    if since:
        found.append(
            Finding(
                code="upkeep.saves",
                severity=Severity.CAUTION,
                operation=OPERATION,
                subject="Saves",
                title="The saves on this card were never backed up"
                if not build.upkeep.saves_at
                else "The saves on this card are not backed up",
                message=f"The card was written on {since[:10]} and has been played on since.",
                why="A card can fail without warning, and the saves are lost with it.",
                source="dates of the card and of the latest archive",
            )
        )
    return found
