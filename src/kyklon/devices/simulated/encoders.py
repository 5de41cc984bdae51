"""A simulated encoder: switches pressed by the program come out as the events the real one would send."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator

from kyklon.base.errors import WrongUse
from kyklon.catalogue.records import Encoder
from kyklon.devices.ports import InputEvent


class SimulatedEncoder:
    """press and release take terminal ids. swapped: the multi-input quirk is missing, and the second
    player's terminals speak as the first's."""

    def __init__(self, encoder: Encoder, *, confused: bool = False) -> None:
        self._encoder, self._confused = encoder, confused
        self._waiting: deque[InputEvent] = deque()

    def press(self, terminal_id: str) -> None:
        self._put(terminal_id, pressed=True)

    def release(self, terminal_id: str) -> None:
        self._put(terminal_id, pressed=False)

    def _put(self, terminal_id: str, *, pressed: bool) -> None:
        terminal = self._encoder.terminal(terminal_id)
        if terminal is None:
            raise WrongUse(f"{self._encoder.name} has no terminal {terminal_id!r}.")
        code, sign = terminal.event, 1
        if code[-1] in "+-":
            code, sign = code[:-1], 1 if code[-1] == "+" else -1
        player = 1 if self._confused else terminal.player
        self._waiting.append(InputEvent(player=player, code=code, value=sign if pressed else 0))

    def events(self) -> Iterator[InputEvent]:
        while self._waiting:
            yield self._waiting.popleft()
