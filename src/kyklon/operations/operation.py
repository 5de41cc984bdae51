"""What an operation is made of: how it looks at the world, what it finds, what it issues."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path

from kyklon.base.progress import Watch
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build
from kyklon.model.findings import Finding
from kyklon.model.world import World

FindingsOf = Callable[[Build, Catalogue, World], list[Finding]]
LookAt = Callable[[Build, Path, Catalogue, World, Watch], World]
Issue = Callable[[Build, Catalogue, World], Mapping[str, str | bytes]]


@dataclass(frozen=True)
class Look:
    """One look at the world. title: what the bottom bar says meanwhile; fields: of the World, that it fills; inputs: of
    the build, as in Operation, whose change makes an answer one to another question."""

    key: str
    title: str
    look: LookAt
    fields: tuple[str, ...]
    cancellable: bool = False
    inputs: tuple[str, ...] = ()


@dataclass(frozen=True)
class Operation:
    """A line of the route card.

    inputs: what of the build its findings and files depend on, dotted paths of fields, or parts:role; when one changes,
    its sign-off goes stale. issue: the files it makes,
    by path below the folder they go to. page: module below app.pages, and class.
    """

    number: int
    name: str
    inputs: tuple[str, ...]
    page: tuple[str, str]
    findings: tuple[FindingsOf, ...]
    looks: tuple[Look, ...] = ()
    issue: Issue | None = None
