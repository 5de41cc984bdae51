"""What all operations say of a build: their findings, their lamps, what they issue, what they look at."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable
from enum import StrEnum
from pathlib import Path
from typing import Any

from kyklon.base import durable
from kyklon.base.errors import CatalogueError, WrongUse
from kyklon.base.inside import inside
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build
from kyklon.model.findings import Finding, Severity
from kyklon.model.world import World
from kyklon.operations.operation import Operation
from kyklon.operations.registry import LOOKS, OPERATIONS

_ORDER = {Severity.STOP: 0, Severity.CAUTION: 1, Severity.NOTE: 2}


class State(StrEnum):
    """An operation's lamp."""

    STOP = "stop"
    CAUTION = "caution"
    CLEAR = "clear"
    STALE = "stale"
    NOT_STARTED = "not started"


def observe(build: Build, folder: Path, catalogue: Catalogue, watch: Watch = UNWATCHED) -> World:
    """Look at everything that any operation looks at. Slow."""
    world = World()
    for look in LOOKS.values():
        world = look.look(build, folder, catalogue, world, watch)
    return world


def inspect(build: Build, catalogue: Catalogue, world: World, further: tuple[Finding, ...] = ()) -> tuple[Finding, ...]:
    """All findings, by operation and then by severity. further: those that no operation makes."""
    found = list(further)
    found += [
        finding
        for operation in OPERATIONS
        for findings in operation.findings
        for finding in _found(findings, operation.number, build, catalogue, world)
    ]
    return _unique(sorted(found, key=lambda finding: (finding.operation, _ORDER[finding.severity])))


def _unique(found: list[Finding]) -> tuple[Finding, ...]:
    """The findings with a code each: a second one of a code gets a number, so that its remedy can be asked for."""
    seen: dict[str, list[Finding]] = {}
    told = []
    for finding in found:
        alike = seen.setdefault(finding.code, [])
        if finding in alike:  # what two lists say in the same words is said once
            continue
        alike.append(finding)
        again = len(alike)
        told.append(finding if again == 1 else finding.model_copy(update={"code": f"{finding.code}#{again}"}))
    return tuple(told)


def _found(
    findings: Callable[[Build, Catalogue, World], Iterable[Finding]],
    operation: int,
    build: Build,
    catalogue: Catalogue,
    world: World,
) -> tuple[Finding, ...]:
    """One operation's findings; a catalogue of the user's own that cannot be used is one."""
    try:
        return tuple(findings(build, catalogue, world))
    except CatalogueError as bad:
        return (
            Finding(
                code=f"{operation}.catalogue",
                severity=Severity.STOP,
                operation=operation,
                subject="Catalogue",
                title="A part of the catalogue cannot be used",
                message=bad.what,
                why=bad.do or "Correct it in your catalogue folder.",
                source="your catalogue",
            ),
        )


def issue(build: Build, catalogue: Catalogue, world: World, to: Path) -> tuple[str, ...]:
    """Every file of the build into a folder; the paths written, relative to it. Raises KyklonError."""
    names = []
    for operation in OPERATIONS:
        for name, data in (operation.issue(build, catalogue, world) if operation.issue else {}).items():
            durable.keep(inside(to, name), data.encode("utf-8", "surrogateescape") if isinstance(data, str) else data)
            names.append(name)
    return tuple(names)


def find(findings: tuple[Finding, ...], code: str) -> Finding:
    """The finding with that code, or the only one whose code begins with it. Raises WrongUse."""
    exact = [finding for finding in findings if finding.code == code]
    near = exact or [finding for finding in findings if finding.code.startswith(code)]
    if len(near) != 1:
        known = ", ".join(finding.code for finding in findings) or "none"
        what = "no finding" if not near else "more than one finding"
        raise WrongUse(f"There is {what} {code!r}.", do=f"The findings are: {known}.")
    return near[0]


def input_of(build: Build, path: str) -> object:
    """What an input of an operation is now: a field at a dotted path, or the part in a role."""
    if path.startswith("parts:"):
        return build.part(path.removeprefix("parts:"))
    value: Any = build
    for name in path.split("."):
        value = getattr(value, name)
    return value


def fingerprint(build: Build, operation: Operation) -> str:
    """Changes when what the operation depends on changes: makes a sign-off stale."""
    text = repr([(path, input_of(build, path)) for path in operation.inputs])
    own = [copy.row for copy in build.copies if f"'{copy.id}'" in text]  # a part that was changed is another one
    text += repr(own) if own else ""
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:16]


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
