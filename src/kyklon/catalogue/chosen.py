"""Parts of the catalogue that a build has chosen."""

from __future__ import annotations

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.system_records import System
from kyklon.model.build import Build


def systems_of(build: Build, catalogue: Catalogue) -> tuple[System, ...]:
    """The systems of a build, in its order. Raises CatalogueError for one that is not there."""
    return tuple(catalogue.get(System, system) for system in build.systems)


def known_systems(build: Build, catalogue: Catalogue) -> tuple[System, ...]:
    """The systems of a build that are in the catalogue, in its order."""
    found = (catalogue.find(System, system) for system in build.systems)
    return tuple(each for each in found if each is not None)
