"""A fault that is being looked for: what was answered, tried and found."""

from __future__ import annotations

from kyklon.model.record import Record


class FaultAnswer(Record):
    """what: an observation of the catalogue. seen: whether it is so."""

    what: str
    seen: bool


class FaultCase(Record):
    """answers in order; cannot: observations and causes that the user cannot tell or has no means for. tried: causes
    that were put right and did not help; found: those that did. at: when it was begun, ISO 8601."""

    at: str = ""
    answers: tuple[FaultAnswer, ...] = ()
    cannot: tuple[str, ...] = ()
    tried: tuple[str, ...] = ()
    found: tuple[str, ...] = ()

    @property
    def begun(self) -> bool:
        return bool(self.answers or self.tried or self.found)
