"""The copies that a build keeps of its user's own parts, so that it opens the same where the shelf is empty."""

from __future__ import annotations

import functools
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from kyklon.catalogue import image_records, loader, records, system_records
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import CataloguePart
from kyklon.model.build import Build, PartCopy, change_of, edited
from kyklon.model.findings import Finding, Remedy, Severity
from kyklon.model.record import Record
from kyklon.model.world import World
from kyklon.parts.fields import label_of, one, value_words
from kyklon.parts.store import plain_row

Place = tuple[str, str]  # kind and id
ROLES = {
    "board": "boards",
    "supply": "supplies",
    "card": "cards",
    "display": "displays",
    "adapter": "adapters",
    "encoder": "encoders",
    "image": "images",
    "disk": "disks",
    "bridge": "bridges",
    "keyboard": "keyboards",
}


def used_by(build: Build, catalogue: Catalogue) -> tuple[Place, ...]:
    """Every part that a build uses, with what those need in turn; kinds and ids, whether or not they are known."""
    found: dict[Place, None] = {}
    waiting: list[Place] = []
    for part in build.parts:
        kind = ROLES.get(part.role) or _kind_of(part.part, catalogue)
        waiting += [(kind, part.part)] if kind else []
    waiting += [("cables", piece) for link in build.links for piece in link.pieces]
    waiting += [("systems", system) for system in build.systems]
    waiting += [("dialects", build.boot.dialect), ("panels", build.controls.panel)]
    waiting += [("keyboards", build.controls.keyboard.layout)]
    waiting += [("add_ons", each) for each in build.system.add_ons]
    waiting += [("overlays", overlay.partition(":")[0]) for overlay in build.boot.overlays]
    while waiting:
        place = waiting.pop()
        if place in found or not place[1]:
            continue
        found[place] = None
        known = catalogue.parts.get(place[0], {}).get(place[1])
        waiting += needs(known) if known is not None else []
    return tuple(found)


def chosen_by(build: Build, catalogue: Catalogue) -> frozenset[Place]:
    """The parts that a build has chosen itself, without those that they need."""
    found = [(ROLES.get(part.role) or _kind_of(part.part, catalogue), part.part) for part in build.parts]
    found += [("cables", piece) for link in build.links for piece in link.pieces] + [
        ("systems", system) for system in build.systems
    ]
    found += [("dialects", build.boot.dialect), ("panels", build.controls.panel)]
    found += [("templates", each) for each in build.library.lists_made]
    found += [("add_ons", each) for each in build.system.add_ons]
    return frozenset(found)


def _kind_of(part_id: str, catalogue: Catalogue) -> str:
    return next((kind for kind in ROLES.values() if part_id in catalogue.parts.get(kind, {})), "")


def needs(part: CataloguePart) -> list[Place]:
    """What a part refers to: kinds and ids."""
    return [place for place in _names(part) if place[1]]


def _names(part: CataloguePart) -> list[Place]:
    if isinstance(part, records.Board):
        return [*(("dialects", dialect) for dialect in part.dialects), ("headers", part.header)]
    if isinstance(part, image_records.Image):
        return [("boards", board) for board in part.boards]
    if isinstance(part, system_records.System):
        return [
            ("emulators", part.emulator),
            ("keyboards", part.keyboard),
            *(("emulators", each) for each in part.also),
        ]
    if isinstance(part, system_records.Emulator):
        return [("templates", part.template), ("templates", part.map_template)]
    if isinstance(part, records.Encoder):
        return [("overlays", part.overlay)]
    return []


def ids_in(data: Mapping[str, Any]) -> set[str]:
    """Ids of the parts that a build.json names, without reading it as a build."""
    found: set[str] = set()
    rows = data.get("parts") or ()
    found.update(str(row.get("part")) for row in rows if isinstance(row, Mapping))
    found.update(str(each.get("cable")) for each in data.get("links") or () if isinstance(each, Mapping))
    found.update(map(str, data.get("systems") or ()))
    found.update(str(each.get("id")) for each in data.get("copies") or () if isinstance(each, Mapping))
    library = data.get("library")
    found.update(map(str, (library.get("lists_made") or ()) if isinstance(library, Mapping) else ()))
    system = data.get("system")
    found.update(map(str, (system.get("add_ons") or ()) if isinstance(system, Mapping) else ()))
    for key, inner in (("boot", "dialect"), ("controls", "panel")):
        block = data.get(key)
        if isinstance(block, Mapping):
            found.add(str(block.get(inner)))
    return found


@functools.lru_cache(maxsize=512)
def _row_text(part: CataloguePart) -> dict[str, Any]:
    return plain_row(part)


def kept(build: Build, catalogue: Catalogue) -> Build:
    """The build with a copy of every part of the user's own that it uses, and none of those that it uses no more.

    catalogue: as the build sees it. A copy that is there stays as it is.
    """
    have = {(copy.kind, copy.id): copy for copy in build.copies}
    if not have and not catalogue.own:
        return build
    copies: list[PartCopy] = []
    for kind, part_id in used_by(build, catalogue):
        known = have.get((kind, part_id))
        if known is not None:
            copies.append(known)
        elif (kind, part_id) in catalogue.own:
            copies.append(PartCopy(kind=kind, id=part_id, row=plain_row(catalogue.parts[kind][part_id])))
    copies.sort(key=lambda each: each.key)
    if tuple(copies) == build.copies:
        return build
    return edited(build, "copies", copies)


@dataclass(frozen=True)
class Difference:
    """A fact that two parts do not share. name: of the field."""

    name: str
    label: str
    before: str
    after: str


def differences(one_part: CataloguePart, other: CataloguePart, kind: str) -> tuple[Difference, ...]:
    """The facts in which two parts of a kind differ; where they come from is left aside."""
    found = []
    for name in type(one_part).model_fields:
        if name == "known":
            continue
        before, after = getattr(one_part, name), getattr(other, name)
        if before != after:
            words = value_words(kind, name, before), value_words(kind, name, after)
            if words[0] == words[1]:
                words = _deeper(before, after)
            found.append(Difference(name, label_of(kind, name), *words))
    return tuple(found)


def _deeper(before: Any, after: Any) -> tuple[str, str]:
    """What differs within two values that are called the same."""
    sides: tuple[list[str], list[str]] = ([], [])
    rows = zip(before, after, strict=False) if isinstance(before, tuple) else ((before, after),)
    for one_row, other in rows:
        if one_row == other or not isinstance(one_row, Record):
            continue
        for name in type(one_row).model_fields:
            values = getattr(one_row, name), getattr(other, name)
            if values[0] != values[1]:
                called = getattr(one_row, "label", "") or getattr(one_row, "id", "")
                for side, value in zip(sides, values, strict=True):
                    side.append(f"{called} {name.replace('_', ' ')} {value}".strip())
    return ", ".join(sides[0]) or str(before), ", ".join(sides[1]) or str(after)


def newer(build: Build, catalogue: Catalogue) -> tuple[tuple[PartCopy, CataloguePart, tuple[Difference, ...]], ...]:
    """The build's copies that differ from the shelf's part of that id, with how. Those that the shelf lacks are
    none."""
    found = []
    for copy in build.copies:
        there = catalogue.shelf.get((copy.kind, copy.id))
        mine = catalogue.parts.get(copy.kind, {}).get(copy.id)
        if there is None or mine is None or mine == there:
            continue
        told = differences(mine, there, copy.kind)
        if told:
            found.append((copy, there, told))
    return tuple(found)


def findings(build: Build, catalogue: Catalogue, _world: World) -> list[Finding]:
    """Copies that the shelf has another version of, and parts that a build brings and that cannot be used."""
    found = []
    for copy, there, told in newer(build, catalogue):
        fresh = [
            PartCopy(kind=each.kind, id=each.id, row=plain_row(there)) if each == copy else each
            for each in build.copies
        ]
        lines = "; ".join(f"{each.label}: {each.before} here, {each.after} on the shelf" for each in told[:6])
        change = change_of("copies", [each.model_dump() for each in fresh], _short(told, 0), _short(told, 1))
        found.append(
            Finding(
                code=f"plan.newer-copy:{copy.key}",
                severity=Severity.NOTE,
                operation=10,
                subject=there.name,
                title=f"{there.name} is different on the shelf",
                message=f"{lines}.",
                why="This build keeps its own copy until you switch to the one on the shelf.",
                remedy=Remedy(label=f"Use the shelf's {there.name}", changes=(change,)),
            )
        )
    for each in catalogue.broken:
        if any(each.path.as_posix() == f"{copy.kind}/{copy.id}.toml" for copy in build.copies):
            found.append(
                Finding(
                    code=f"plan.copy-broken:{each.path.as_posix()}",
                    severity=Severity.STOP,
                    operation=10,
                    subject=each.path.stem,
                    title=f"A part of this build cannot be used: {each.path.stem}",
                    message=str(each.error),
                    why="The build contains this part itself, and it has errors.",
                )
            )
    return found


def _short(told: tuple[Difference, ...], side: int) -> str:
    return ", ".join(f"{difference.label} {(difference.before, difference.after)[side]}" for difference in told[:3])


def brings(build: Build) -> Iterable[str]:
    """What the copies are, in words."""
    return (f"{one(copy.kind)} {copy.row.get('name', copy.id)}" for copy in build.copies if copy.kind in loader.KINDS)
