"""Two bring-ups side by side: before and after an edit, or two cards; where they first part."""

from __future__ import annotations

from dataclasses import dataclass
from difflib import SequenceMatcher

from kyklon.operations.poweron.events import BringUp, Event


@dataclass(frozen=True)
class Row:
    """An event of one side and the one beside it; None where the other has none."""

    left: Event | None
    right: Event | None

    @property
    def same(self) -> bool:
        """Alike but for the seconds."""
        return self.left is not None and self.right is not None and _key(self.left) == _key(self.right)

    @property
    def stage(self) -> str:
        event = self.left or self.right
        return event.stage if event else ""


def _key(event: Event) -> tuple[str, str, str]:
    return event.stage, event.text, event.lamp


def compare(left: BringUp, right: BringUp) -> tuple[Row, ...]:
    """Row by row, what is alike side by side; in order of time."""
    a, b = [_key(event) for event in left.events], [_key(event) for event in right.events]
    rows: list[Row] = []
    for tag, i, j, m, n in SequenceMatcher(None, a, b, autojunk=False).get_opcodes():
        ours, theirs = left.events[i:j], right.events[m:n]
        if tag == "equal":
            rows += [Row(one, other) for one, other in zip(ours, theirs, strict=True)]
            continue
        rows += _parted(list(ours), list(theirs))
    return tuple(rows)


def _parted(ours: list[Event], theirs: list[Event]) -> list[Row]:
    """What differs: events of one stage beside one another, the rest alone."""
    rows = []
    while ours or theirs:
        if ours and theirs and ours[0].stage == theirs[0].stage:
            rows.append(Row(ours.pop(0), theirs.pop(0)))
        elif ours and (not theirs or ours[0].stage not in {event.stage for event in theirs}):
            rows.append(Row(ours.pop(0), None))
        else:
            rows.append(Row(None, theirs.pop(0)))
    return rows


def first_difference(rows: tuple[Row, ...]) -> Row | None:
    return next((row for row in rows if not row.same), None)
