"""What came from the devices while one control was asked for: the answer to a press."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import NamedTuple

from kyklon.devices.ports import InputEvent

QUIET_S = (
    0.08  # s without a word after the last release until an answer is whole, CP: two reports of the slowest device
)
OPEN_S = 1.5  # s after which a control that is still closed counts as one that does not open, CP
FLOOD = 4000  # events in one answer: nobody presses that fast


class Report(NamedTuple):
    """A terminal's word as the machine hears it: device by role, player within it, event with an axis' sign."""

    role: str
    player: int
    event: str


@dataclass(frozen=True)
class Answer:
    """down: what went active. lost: what had been active and went quiet. left: active at the end and not before.
    bounced: something went active more than once. flooded: more came than a hand can send."""

    down: frozenset[Report] = frozenset()
    lost: frozenset[Report] = frozenset()
    left: frozenset[Report] = frozenset()
    bounced: bool = False
    flooded: bool = False

    @cached_property
    def silent(self) -> bool:
        return not (self.down or self.lost)


@dataclass(frozen=True)
class Listener:
    """What is active now, and what happened since the last question. Frozen: hearing makes a new one."""

    active: frozenset[Report] = frozenset()
    before: frozenset[Report] = frozenset()
    counts: tuple[tuple[Report, int], ...] = ()
    lost: frozenset[Report] = frozenset()
    heard_at: float = 0.0
    began_at: float | None = None
    events: int = field(default=0)

    def heard(self, role: str, event: InputEvent) -> Listener:
        """The listener after an event; axes speak by sign, and resting takes both signs back."""
        signed = event.code.startswith(("ABS_", "REL_"))
        if signed:
            ends = {sign: Report(role, event.player, f"{event.code}{sign}") for sign in "-+"}
            now = set(self.active) - set(ends.values())
            if event.value:
                now.add(ends["+" if event.value > 0 else "-"])
        else:
            own = Report(role, event.player, event.code)
            now = set(self.active) | {own} if event.value else set(self.active) - {own}
        came, went = frozenset(now) - self.active, self.active - frozenset(now)
        counts = dict(self.counts)
        for report in came:
            counts[report] = counts.get(report, 0) + 1
        return replace(
            self,
            active=frozenset(now),
            counts=tuple(counts.items()),
            lost=self.lost | (went & self.before),
            heard_at=event.at,
            began_at=self.began_at if self.began_at is not None else event.at,
            events=self.events + 1,
        )

    def asked(self) -> Listener:
        """Ready for the next question: what is active now counts as before it."""
        return Listener(active=self.active, before=self.active)

    def ready(self, now: float) -> bool:
        """Whether the answer is whole: everything is as before and quiet, or stays closed for long."""
        if self.began_at is None:
            return False
        if self.events >= FLOOD:
            return True
        quiet = now - self.heard_at
        back = self.active == self.before
        return quiet >= QUIET_S if back else quiet >= OPEN_S

    @property
    def answer(self) -> Answer:
        counts = dict(self.counts)
        again = {report for report, times in counts.items() if times > (2 if report in self.lost else 1)}
        return Answer(
            frozenset(counts), self.lost, self.active - self.before, bool(again), flooded=self.events >= FLOOD
        )
