"""Runs every operation's findings: the one list that the window, the commands and the tests share."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum

import kyklon.assembly.findings
import kyklon.boot.disk
import kyklon.boot.findings
import kyklon.card.findings
import kyklon.controls.findings
import kyklon.library.findings
import kyklon.picture.findings
import kyklon.plan.findings
import kyklon.tuning.findings
from kyklon.catalogue.loader import Catalogue
from kyklon.errors import WrongUse
from kyklon.model.build import Build
from kyklon.model.findings import Finding, Severity
from kyklon.world import World


@dataclass(frozen=True)
class Operation:
    """A line of the route card. depends: the fields of the build it is about."""

    number: int
    name: str
    depends: tuple[str, ...]


OPERATIONS = (
    Operation(10, "Plan", ("parts", "links", "systems")),
    Operation(20, "Card", ("source", "card", "medium", "sets")),
    Operation(30, "Boot", ("boot", "picture")),
    Operation(40, "Controls", ("controls",)),
    Operation(50, "Picture", ("picture",)),
    Operation(60, "Library", ("library",)),
    Operation(70, "Tuning", ("tuning",)),
    Operation(80, "Assembly", ("parts", "links")),
    Operation(90, "Power-on", ("boot", "picture", "card", "ticks")),
)

_ORDER = {Severity.STOP: 0, Severity.CAUTION: 1, Severity.NOTE: 2}


class State(StrEnum):
    """An operation's lamp."""

    STOP = "stop"
    CAUTION = "caution"
    CLEAR = "clear"
    STALE = "stale"
    NOT_STARTED = "not started"


def inspect(build: Build, catalogue: Catalogue, world: World) -> tuple[Finding, ...]:
    """All findings, by operation and then by severity."""
    runs: tuple[Callable[[], list[Finding]], ...] = (
        lambda: kyklon.plan.findings.findings(build, catalogue),
        lambda: kyklon.card.findings.findings(
            build, world.source, world.source_error, world.card, world.source_stated, writing=world.writing
        ),
        lambda: kyklon.boot.disk.findings(build, catalogue),
        lambda: kyklon.boot.findings.findings(build, catalogue, world.source_contents, world.card),
        lambda: kyklon.controls.findings.findings(build, catalogue),
        lambda: kyklon.picture.findings.findings(build, catalogue, world.identification, world.identification_error),
        lambda: kyklon.library.findings.findings(build, catalogue, world.scan, world.scan_error),
        lambda: kyklon.tuning.findings.findings(build, catalogue),
        lambda: kyklon.assembly.findings.findings(build, catalogue),
    )
    found = [finding for run in runs for finding in run()]
    return tuple(sorted(found, key=lambda finding: (finding.operation, _ORDER[finding.severity])))


def find(findings: tuple[Finding, ...], code: str) -> Finding:
    """The finding with that code, or the only one whose code begins with it. Raises WrongUse."""
    exact = [finding for finding in findings if finding.code == code]
    near = exact or [finding for finding in findings if finding.code.startswith(code)]
    if len(near) != 1:
        known = ", ".join(finding.code for finding in findings) or "none"
        what = "no finding" if not near else "more than one finding"
        raise WrongUse(f"There is {what} {code!r}.", do=f"The findings are: {known}.")
    return near[0]


def fingerprint(build: Build, operation: Operation) -> str:
    """Changes when what the operation depends on changes: makes a sign-off stale."""
    data = build.model_dump_json(include=set(operation.depends))
    return hashlib.sha256(data.encode()).hexdigest()[:16]


def state(build: Build, operation: Operation, findings: tuple[Finding, ...]) -> State:
    """The lamp: findings first, then whether the sign-off still holds."""
    own = {finding.severity for finding in findings if finding.operation == operation.number}
    if Severity.STOP in own:
        return State.STOP
    if Severity.CAUTION in own:
        return State.CAUTION
    signed = next((sign for sign in build.sign_offs if sign.operation == operation.number), None)
    if signed is None:
        return State.NOT_STARTED
    return State.CLEAR if signed.inputs == fingerprint(build, operation) else State.STALE
