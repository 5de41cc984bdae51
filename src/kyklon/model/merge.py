"""Two changed versions of one build made one again, from what they had in common."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from kyklon.model.build import MOST_EVENTS, Build
from kyklon.model.upkeep import HAPPENED

# what tells the entries of a list apart; a list without one is one value
_KEYS = {
    ("parts",): ("role",),
    ("cards",): ("identity",),
    ("ticks",): ("item",),
    ("sign_offs",): ("operation",),
    ("picture", "systems"): ("system",),
    ("controls", "wires"): ("control",),
    ("controls", "hotkeys"): ("action",),
    ("copies",): ("kind", "id"),
}
_GONE = object()
Path = tuple[str, ...]


@dataclass(frozen=True)
class Merged:
    """conflicts: dotted paths that both had changed to different values; mine was kept."""

    build: Build
    conflicts: tuple[str, ...]


def merge(base: Build, mine: Build, theirs: Build) -> Merged:
    """What either changed since `base`. Of what happened to the card, the later counts; events of cards add up."""
    conflicts: list[str] = []
    data = _merged(base.model_dump(), mine.model_dump(), theirs.model_dump(), (), conflicts)
    if base.card not in (mine.card, theirs.card):
        data["card"] = max((theirs.card, mine.card), key=lambda card: card.at).model_dump()
    for name in ("saves_at", "looked_at"):
        data["upkeep"][name] = max(getattr(mine.upkeep, name), getattr(theirs.upkeep, name))
    happened = {f"upkeep.{name}" for name in HAPPENED}
    conflicts = [
        path for path in conflicts if path.split(".")[0] not in ("card", "ticks", "sign_offs") and path not in happened
    ]
    try:
        return Merged(Build.model_validate(data), tuple(conflicts))
    except ValueError:  # two changes that are each right and do not go together
        return Merged(mine, ("the whole build",))


def _merged(base: Any, mine: Any, theirs: Any, path: Path, conflicts: list[str]) -> Any:
    if theirs == base or mine == theirs:
        return mine
    if mine == base:
        return theirs
    if isinstance(mine, dict) and isinstance(theirs, dict):
        return _maps(base if isinstance(base, dict) else {}, mine, theirs, path, conflicts)
    if path[:1] == ("cards",) and path[-1:] == ("events",):
        return _events(mine, theirs)
    key = _KEYS.get(path)
    if key and isinstance(mine, (list, tuple)) and isinstance(theirs, (list, tuple)):
        keyed = [{tuple(row[k] for k in key): row for row in rows} for rows in (base or (), mine, theirs)]
        return list(_maps(keyed[0], keyed[1], keyed[2], path, conflicts).values())
    conflicts.append(".".join(path))
    return theirs if mine is _GONE else mine


def _maps(
    base: dict[Any, Any], mine: dict[Any, Any], theirs: dict[Any, Any], path: Path, conflicts: list[str]
) -> dict[Any, Any]:
    found = {}
    for name in dict.fromkeys((*mine, *theirs)):
        value = _merged(
            base.get(name, _GONE), mine.get(name, _GONE), theirs.get(name, _GONE), (*path, str(name)), conflicts
        )
        if value is not _GONE:
            found[name] = value
    return found


def _events(mine: Any, theirs: Any) -> list[Any]:
    both = {(each["at"], each["what"], each["detail"]): each for each in (*theirs, *mine)}
    return sorted(both.values(), key=lambda each: each["at"])[-MOST_EVENTS:]
