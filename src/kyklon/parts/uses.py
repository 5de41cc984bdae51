"""Which builds of this machine use a part of the shelf, and what follows from it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from kyklon.base.errors import WrongUse
from kyklon.catalogue.loader import Catalogue
from kyklon.parts import copies
from kyklon.parts.fields import one
from kyklon.parts.store import Step, Store, id_of, plain_row, today
from kyklon.parts.system import free_id
from kyklon.record import builds


@dataclass(frozen=True)
class Use:
    """A build that uses a part. name: what its owner calls it."""

    folder: Path
    name: str


def uses(place: Path | None = None) -> dict[str, tuple[Use, ...]]:
    """By part id, the builds that name it. Reads every build.json of this machine: not for the window's own thread."""
    found: dict[str, tuple[Use, ...]] = {}
    for folder, data in builds.known(place).items():
        use = Use(folder, str(data.get("name") or folder.name))
        for part_id in ids_of(data):
            found[part_id] = (*found.get(part_id, ()), use)
    return found


def ids_of(data: Mapping[str, Any]) -> set[str]:
    """Ids that a build.json names."""
    return copies.ids_in(data)


def needed_by(kind: str, part_id: str, catalogue: Catalogue) -> tuple[str, ...]:
    """Own parts of the shelf that refer to this one, by name."""
    return tuple(
        catalogue.parts[of][other].name
        for of, other in catalogue.own
        if (kind, part_id) in copies.needs(catalogue.parts[of][other]) and (of, other) != (kind, part_id)
    )


def delete(kind: str, part_id: str, catalogue: Catalogue, store: Store, used: Mapping[str, tuple[Use, ...]]) -> Step:
    """Take a part off the shelf. Raises WrongUse while a build or another part uses it, with their names."""
    names = [use.name for use in used.get(part_id, ())]
    if names:
        raise WrongUse(f"{part_id} is used by {', '.join(names[:5])}.", do="Choose another part there first.")
    needing = needed_by(kind, part_id, catalogue)
    if needing:
        raise WrongUse(
            f"{', '.join(needing[:5])} refer{'s' * (len(needing) == 1)} to this {one(kind)}.", do="Delete that first."
        )
    return store.remove(kind, part_id)


def copied(kind: str, part_id: str, name: str, catalogue: Catalogue, store: Store) -> Step:
    """A part of any origin as a start for one's own, under another name."""
    part = catalogue.parts[kind][part_id]
    taken = set(catalogue.parts[kind])
    row = {**plain_row(part), "id": free_id(id_of(name), taken), "name": name}
    told = {"how": "copied", "at": today(), "by": part.name[:200]}
    known = {field: told for field in row if field not in ("id", "name", "known")}
    row["known"] = {**known, **row.get("known", {}), "name": {"how": "typed", "at": today()}}
    return store.add(kind, row)
