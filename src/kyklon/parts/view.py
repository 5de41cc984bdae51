"""A build with its own parts: the catalogue as it sees it, its findings, its copies kept."""

from __future__ import annotations

from kyklon.catalogue.loader import Catalogue, with_copies
from kyklon.model.build import Build, PartCopy
from kyklon.model.findings import Finding
from kyklon.model.world import World
from kyklon.operations import inspection
from kyklon.parts import copies, repository, trust


def catalogue_for(build: Build, shelf: Catalogue) -> Catalogue:
    """The shelf with the build's own parts over it; text that nobody here has seen writes nothing."""
    made = with_copies(shelf, build.copies)
    waiting = trust.unseen(build.copies, shelf)
    return trust.without(made, waiting) if waiting else made


def waiting_for(build: Build, shelf: Catalogue) -> tuple[PartCopy, ...]:
    """Copies with text that is to be looked at before it is used."""
    return trust.unseen(build.copies, shelf)


def inspect(
    build: Build, catalogue: Catalogue, world: World, waiting: tuple[PartCopy, ...] = ()
) -> tuple[Finding, ...]:
    """All findings of the operations, with those about the parts themselves. catalogue: as the build sees it."""
    own = (*trust.finding(build, waiting), *copies.findings(build, catalogue, world), *repository.findings(build))
    return inspection.inspect(build, catalogue, world, own)


def kept(build: Build, catalogue: Catalogue) -> Build:
    """The build with a copy of each of the user's own parts that it uses."""
    return copies.kept(build, catalogue)
