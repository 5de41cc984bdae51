"""Two bring-ups side by side."""

from __future__ import annotations

from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from kyklon.operations.poweron.comparison import compare, first_difference
from kyklon.operations.poweron.events import BLACK, BringUp, Event

STAGES = ("supply", "card", "kernel", "display", "init")
EVENTS = st.lists(st.tuples(st.integers(0, 4), st.sampled_from("ab")), max_size=12).map(
    lambda rows: tuple(Event(float(at), STAGES[stage], text, "steady") for at, (stage, text) in enumerate(sorted(rows)))
)


def run(events: tuple[Event, ...]) -> BringUp:
    return BringUp("", events, (), BLACK)


@given(EVENTS, EVENTS)
def test_every_event_of_both_stands_once_and_in_its_order(left: tuple[Event, ...], right: tuple[Event, ...]) -> None:
    rows = compare(run(left), run(right))
    assert tuple(row.left for row in rows if row.left) == left
    assert tuple(row.right for row in rows if row.right) == right
    same = [(e.stage, e.text) for e in left] == [(e.stage, e.text) for e in right]
    assert (first_difference(rows) is None) == same


@given(EVENTS)
def test_other_seconds_are_no_difference(events: tuple[Event, ...]) -> None:
    later = tuple(replace(event, at_s=event.at_s + 3) for event in events)
    assert first_difference(compare(run(events), run(later))) is None


def test_what_differs_in_one_stage_stands_side_by_side() -> None:
    left = run((Event(0, "supply", "5 V", "steady"), Event(1, "display", "dark", "steady")))
    right = run(
        (Event(0, "supply", "5 V", "steady"), Event(1, "display", "1920", "steady"), Event(2, "init", "x", "dark"))
    )
    rows = compare(left, right)
    assert [(row.stage, row.same) for row in rows] == [("supply", True), ("display", False), ("init", False)]
    assert rows[1].left is not None
    assert rows[1].right is not None
