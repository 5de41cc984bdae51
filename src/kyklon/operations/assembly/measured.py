"""What a meter said, kept with what the model said at that moment."""

from __future__ import annotations

from datetime import UTC, datetime

from kyklon.base.errors import WrongUse
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board
from kyklon.model.assembly import Load, Reading
from kyklon.model.build import Build, edited
from kyklon.operations.assembly.heat import plain_c
from kyklon.operations.assembly.tree import feed, way_key

MOST = 60  # readings that are kept


def with_volts(build: Build, catalogue: Catalogue, volts: float, load: Load) -> Build:
    """With volts that were read at the board's socket. Raises WrongUse for what no meter shows there."""
    found = feed(build, catalogue, load, hidden=False)
    if found is None:
        raise WrongUse("The build has no board or no power supply.", do="Choose both in Plan, then measure.")
    if not 0.5 * found.supply.volts <= volts <= 1.1 * found.supply.volts:
        raise WrongUse(
            f"{volts:g} V cannot be: {found.supply.name} gives {found.supply.volts:g} V.",
            do="Measure at the board's power socket or its 5 V pin, with the machine running.",
        )
    return _with(
        build, Reading(what="volts", value=volts, load=load, model=found.board_v, way=way_key(build), at=_now())
    )


def with_celsius(build: Build, catalogue: Catalogue, celsius: float, load: Load, room_c: float) -> Build:
    """With a chip's temperature as the system tells it. Raises WrongUse for one below the room's."""
    board = catalogue.find(Board, build.part("board"))
    if board is None:
        raise WrongUse("The build has no board.", do="Choose one in Plan, then measure.")
    if not room_c < celsius <= 150:
        raise WrongUse(
            f"{celsius:g} °C cannot be in a room of {room_c:g} °C.",
            do="Let it run for a quarter of an hour, read again.",
        )
    model = plain_c(build, board, load, room_c)
    return _with(
        build, Reading(what="celsius", value=celsius, load=load, room_c=room_c, model=model, way=board.id, at=_now())
    )


def _with(build: Build, reading: Reading) -> Build:
    rows = [*(row.model_dump() for row in build.assembly.measured), reading.model_dump()]
    return edited(build, "assembly.measured", rows[-MOST:])


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds")
