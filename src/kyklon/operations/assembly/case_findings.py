"""What openings, panel sockets and connectors say against the build."""

from __future__ import annotations

from collections.abc import Iterable

from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build
from kyklon.model.fields import describe
from kyklon.model.findings import Change, Finding, Remedy, Severity
from kyklon.operations.assembly.connectors import connectors, faults
from kyklon.operations.assembly.holding import sockets
from kyklon.operations.assembly.reach import card_reach, with_opening
from kyklon.operations.assembly.templates import SOCKET_MM, too_small

OPERATION = 80
_MOST = 8  # faults of connectors that are told at once


def case_findings(build: Build, catalogue: Catalogue) -> list[Finding]:
    """Findings of the case as it is cut and wired."""
    return [*_card(build, catalogue), *_openings(build), *_sockets(build, catalogue), *_wires(build, catalogue)]


def _card(build: Build, catalogue: Catalogue) -> Iterable[Finding]:
    found = card_reach(build, catalogue)
    if found.reached is not False:
        return
    remedy = None
    if found.opening is not None:
        made = with_opening(build, found.opening)
        rows = [opening.model_dump() for opening in made.assembly.openings]
        label = f"A slot of {found.opening.wide:g} × {found.opening.high:g} mm in the {found.opening.wall} wall"
        field = describe(Build, "assembly.openings")
        change = Change(path="assembly.openings", value=rows, label=field.label, before="none there", after=label)
        remedy = Remedy(label=label, changes=(change,))
    yield Finding(
        code="assembly.card-reach",
        severity=Severity.CAUTION,
        operation=OPERATION,
        subject="Card",
        title="The card cannot be reached with the case closed",
        message=found.words + ("" if found.opening else " Move the board to that wall, or use a card extension lead."),
        why="The card is what you will change most often; updates and repairs need it.",
        source="board's socket positions in the case's own millimetres",
        remedy=remedy,
    )


def _openings(build: Build) -> Iterable[Finding]:
    for opening in build.assembly.openings:
        if too_small(opening):
            yield Finding(
                code=f"assembly.opening-small:{opening.id}",
                severity=Severity.CAUTION,
                operation=OPERATION,
                subject=opening.name,
                title=f"{opening.name}: the old opening is too small for a panel socket",
                message=f"It is {opening.wide:g} × {opening.tall:g} mm; a panel socket needs {SOCKET_MM:g} mm.",
                why="The wall behind the plate has to be cut as well: an old case cannot be bought again.",
                source="size of a round panel socket, common practice",
            )


def _sockets(build: Build, catalogue: Catalogue) -> Iterable[Finding]:
    held = [row for row in sockets(build, catalogue) if not row.grip.holds]
    if not held:
        return
    worst = max(held, key=lambda row: row.grip.short_n)
    field = describe(Build, "assembly.sockets_held")
    change = Change(
        path="assembly.sockets_held",
        value="screws",
        label=field.label,
        before=field.words(build.assembly.sockets_held),
        after=field.words("screws"),
    )
    screwed = build.model_copy(update={"assembly": build.assembly.model_copy(update={"sockets_held": "screws"})})
    cures = all(row.grip.holds for row in sockets(screwed, catalogue))
    names = ", ".join(row.name for row in held)
    yield Finding(
        code="assembly.socket-grip",
        severity=Severity.CAUTION,
        operation=OPERATION,
        subject="Panel sockets",
        title="Panel sockets will work loose" if len(held) > 1 else f"Panel socket {worst.name} will work loose",
        message=f"{names}: somebody who leans on the plug pulls with {worst.grip.pull_n:.0f} N, and it holds "
        f"{worst.grip.bears_n:.0f} N. A brace behind it has to take {worst.grip.short_n:.0f} N.",
        why="Every plug is pushed and pulled for years; the socket moves, then its wires break.",
        source="statics: force times lever arm; strengths are common practice",
        remedy=Remedy(label="Hold them with two screws", changes=(change,)) if cures else None,
    )


def _wires(build: Build, catalogue: Catalogue) -> Iterable[Finding]:
    own = {connector.id: connector for connector in connectors(build, catalogue)}
    for fault in faults(tuple(own.values()))[:_MOST]:
        connector = own[fault.connector]
        yield Finding(
            code=f"assembly.wires:{fault.connector}/{fault.contact}"[:120].replace(" ", "-"),
            severity=Severity.STOP if fault.stop else Severity.CAUTION,
            operation=OPERATION,
            subject=connector.name,
            title=f"{connector.name}: {'do not power this' if fault.stop else 'check this'}",
            message=f"{fault.words[0].upper()}{fault.words[1:]}.",
            why="A wrong contact kills a board in the first second."
            if fault.stop
            else "A wire that is taken for another is found again only with a meter.",
            source="connector table, contact by contact",
        )
