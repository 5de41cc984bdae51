"""A stand-in for the network that a build brings: who answers, and by which name."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from kyklon.base.errors import FormatError, TargetLost
from kyklon.base.reading import bytes_of, json_of
from kyklon.devices.neighbours import SHARE, SSH, Neighbour

FILE = "neighbours.json"
_MOST_BYTES = 1 << 20


@dataclass(frozen=True)
class StandIn:
    """A machine that is not there. host_key: kind and base 64, '' where it has no login. late: seconds until it
    answers."""

    name: str
    address: str
    how: str = "multicast DNS"
    port: int = SSH
    host_key: str = ""
    share: bool = False
    late: float = 0.0

    @property
    def neighbour(self) -> Neighbour:
        return Neighbour(self.name, self.address, self.how, self.port)


class SimulatedNeighbourhood:
    called = "the demo's network"

    def __init__(self, rows: tuple[StandIn, ...]) -> None:
        self._rows = rows

    def find(self, name: str, seconds: float) -> tuple[Neighbour, ...]:
        heard = [row for row in self._rows if row.late <= seconds]
        return tuple(row.neighbour for row in heard if row.how != "neighbour table" or row.name == name)

    def table(self) -> tuple[Neighbour, ...]:
        return tuple(row.neighbour for row in self._rows if row.how == "neighbour table")

    def answers(self, places: Sequence[tuple[str, int]]) -> tuple[bool, ...]:
        open_ = {(row.address, row.port) for row in self._rows if row.host_key}
        open_ |= {(row.address, SHARE) for row in self._rows if row.share}
        return tuple(place in open_ for place in places)

    def host_key(self, address: str, port: int, kind: str = "") -> str:
        found = next((row for row in self._rows if (row.address, row.port) == (address, port) and row.host_key), None)
        if found is None:
            raise TargetLost(f"{address} shows no host key.", do="Is secure copy switched on there?")
        return found.host_key


def save(folder: Path, rows: tuple[StandIn, ...]) -> None:
    """Keep a stand-in in a build's folder of stand-ins."""
    folder.mkdir(parents=True, exist_ok=True)
    data = [row.__dict__ for row in rows]
    (folder / FILE).write_text(json.dumps(data, indent=1) + "\n", encoding="utf-8")


def load(folder: Path) -> SimulatedNeighbourhood:
    """Raises KyklonError."""
    path = folder / FILE
    data = json_of(bytes_of(path, _MOST_BYTES), str(path))
    try:
        return SimulatedNeighbourhood(tuple(StandIn(**row) for row in data))
    except TypeError as bad:
        raise FormatError(str(path), 0, expected="a list of machines", got=str(bad)) from bad
