"""The pin header: which wire of which piece of hardware on which pin, and why it cannot be.

Every wire has the pins it may sit on (its function, the resistor it needs, what stands there while the board starts);
that is a matching. Currents are checked with it. What cannot be solved is shown by the fewest wishes that already
contradict each other.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import TYPE_CHECKING

from kyklon.base.late import late
from kyklon.catalogue.control_records import Header, HeaderPin
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Overlay, PinLine
from kyklon.operations.controls import extras

if TYPE_CHECKING:
    import numpy as np
else:
    np = late("numpy")

_FAR = 1e6  # cost of a pin that will not do
_SPENT = 4.0  # cost of using a pin that can do more than this wire needs, for each function
_MOVED = 1.0  # cost of another pin than the overlay's own, or than the one that it has now


@dataclass(frozen=True)
class Wish:
    """A piece of hardware that wants to sit on the header. fixed: pins that its user insists on, by parameter."""

    overlay: Overlay
    fixed: Mapping[str, int]

    @property
    def lines(self) -> tuple[PinLine, ...]:
        """Its wires; an overlay that names pins and no wires has one for each, which stays there."""
        if self.overlay.lines:
            return self.overlay.lines
        return tuple(PinLine(name=f"pin {number}", parameter="") for number in self.overlay.pins)


@dataclass(frozen=True)
class Conflict:
    """wishes: by name, the fewest that cannot be had together. reason: in words."""

    wishes: tuple[str, ...]
    reason: str


@dataclass(frozen=True)
class Allocation:
    """pins: for each wish and wire its pin. words: the overlay lines for operation 30. ma: drawn from the header."""

    pins: Mapping[tuple[str, str], int]
    words: tuple[str, ...]
    ma: float
    conflict: Conflict | None = None
    notes: tuple[str, ...] = ()

    @property
    def solved(self) -> bool:
        return self.conflict is None


def barred(line: PinLine, pin: HeaderPin, header: Header) -> str:
    """Why a wire may not sit on a pin, '' where it may."""
    if pin.kind != "signal":
        return f"pin {pin.number} is {pin.kind if pin.kind == 'ground' else pin.kind + ' supply'}"
    if line.volts == "5":
        return f"{line.name} carries 5 V and would kill pin {pin.number}, which takes 3.3 V at most"
    if line.function and line.function not in pin.functions:
        return f"pin {pin.number} does not carry {line.function}"
    if line.pull and pin.pull not in (line.pull, "none"):
        return f"pin {pin.number} is pulled {pin.pull} at power-on, {line.name} needs {line.pull}"
    if line.quiet and pin.boot:
        return f"pin {pin.number} is driven while the board boots ({pin.boot}), which {line.name} does not allow"
    if line.ma > header.most_ma[0]:
        return f"{line.name} draws {line.ma:g} mA, a pin gives {header.most_ma[0]:g} mA"
    return ""


def allowed(wish: Wish, line: PinLine, header: Header) -> tuple[int, ...]:
    """The pins on which a wire may sit."""
    only: int | None = wish.fixed.get(line.parameter) if line.parameter else None
    if only is None and not line.parameter and not line.function and line.name.startswith("pin "):
        only = int(line.name.removeprefix("pin "))
    return tuple(
        pin.number for pin in header.pins if (only is None or pin.number == only) and not barred(line, pin, header)
    )


def allocate(wishes: Sequence[Wish], header: Header) -> Allocation:
    """Every wire on a pin of its own; pins with rare functions are kept for those that need them."""
    wishes = _with_buses(wishes)
    if conflict := _conflict(wishes, header):
        return Allocation({}, (), _ma(wishes), conflict)
    rows = [(wish, line) for wish in wishes for line in wish.lines]
    table = _table(rows, header)
    found: dict[tuple[str, str], int] = {}
    if rows:
        from scipy.optimize import linear_sum_assignment  # 100 ms that only an allocation needs

        for row, column in zip(*linear_sum_assignment(table), strict=True):
            wish, line = rows[row]
            found[wish.overlay.id, line.name] = header.pins[column].number
    words = tuple(_word(wish, found) for wish in wishes)
    return Allocation(found, words, _ma(wishes), None, _notes(rows, found, header))


def wishes_of(words: Iterable[str], catalogue: Catalogue) -> tuple[Wish, ...]:
    """What the build's words put on the header, with the buses that those things need; words that mean nothing are
    left out. Every pin that a word names is insisted on."""
    found: dict[str, Wish] = {}
    for extra in extras.read(tuple(words), catalogue):
        if extra.overlay is not None and not extra.trouble:
            lines = {line.parameter for line in extra.overlay.lines}
            found[extra.overlay.id] = Wish(
                extra.overlay, {name: value for name, value in extra.parameters.items() if name in lines or not lines}
            )
    return with_buses(tuple(found.values()), catalogue)


def with_buses(wishes: Sequence[Wish], catalogue: Catalogue) -> tuple[Wish, ...]:
    """The wishes, and before them the buses that they need and do not have."""
    on = {wish.overlay.is_bus for wish in wishes}
    missing = dict.fromkeys(wish.overlay.bus for wish in wishes if wish.overlay.bus and wish.overlay.bus not in on)
    buses = [next((each for each in catalogue.all(Overlay) if each.is_bus == bus), None) for bus in missing]
    return (*(Wish(each, {}) for each in buses if each is not None), *wishes)


def _with_buses(wishes: Sequence[Wish]) -> tuple[Wish, ...]:
    """The wishes, each once."""
    return tuple({wish.overlay.id: wish for wish in wishes}.values())


def _table(rows: Sequence[tuple[Wish, PinLine]], header: Header) -> np.ndarray[tuple[int, int], np.dtype[np.float64]]:
    table = np.full((len(rows), len(header.pins)), _FAR)
    place = {pin.number: column for column, pin in enumerate(header.pins)}
    for row, (wish, line) in enumerate(rows):
        usual = wish.overlay.parameters.get(line.parameter) if line.parameter else None
        for number in allowed(wish, line, header):
            pin = header.pins[place[number]]
            spare = len(pin.functions) - bool(line.function)
            table[row, place[number]] = (
                _SPENT * spare + _MOVED * (usual is not None and usual != number) + number / 1000
            )
    return table


def _fits(wishes: Sequence[Wish], header: Header) -> bool:
    """Whether all wires find a pin (a matching of all of them) and the currents are borne."""
    if _ma(wishes) > header.most_ma[1]:
        return False
    rows = [(wish, line) for wish in wishes for line in wish.lines]
    if len(rows) > len(header.pins):
        return False
    taken: dict[int, int] = {}
    options = [allowed(wish, line, header) for wish, line in rows]

    def placed(row: int, tried: set[int]) -> bool:
        for number in options[row]:
            if number not in tried:
                tried.add(number)
                if number not in taken or placed(taken[number], tried):
                    taken[number] = row
                    return True
        return False

    return all(placed(row, set()) for row in range(len(rows)))


def _conflict(wishes: Sequence[Wish], header: Header) -> Conflict | None:
    """The fewest wishes that cannot be had together, None where all can."""
    if _fits(wishes, header):
        return None
    core = next(
        (
            chosen
            for count in range(1, min(4, len(wishes)) + 1)
            for chosen in combinations(wishes, count)
            if not _fits(chosen, header)
        ),
        None,
    )
    if core is None:  # more than four: leave out one after the other
        kept = list(wishes)
        for wish in tuple(wishes):
            rest = [each for each in kept if each is not wish]
            if not _fits(rest, header):
                kept = rest
        core = tuple(kept)
    return Conflict(tuple(wish.overlay.name for wish in core), _reason(core, header))


def _reason(core: Sequence[Wish], header: Header) -> str:
    """Why these wishes cannot be had together."""
    if (drawn := _ma(core)) > header.most_ma[1]:
        return f"together they draw {drawn:g} mA; the header gives {header.most_ma[1]:g} mA"
    rows = [(wish, line) for wish in core for line in wish.lines]
    for wish, line in rows:
        if not allowed(wish, line, header):
            asked = wish.fixed.get(line.parameter)
            pin = header.pin(asked) if asked is not None else None
            why = barred(line, pin, header) if pin else f"no pin of this header carries {line.function or line.name}"
            return f"{line.name} of {wish.overlay.name}: {why}"
    wanted: dict[tuple[int, ...], list[str]] = {}
    for wish, line in rows:
        wanted.setdefault(allowed(wish, line, header), []).append(f"{line.name} of {wish.overlay.name}")
    for pins in wanted:
        inside = [name for other, more in wanted.items() for name in more if set(other) <= set(pins)]
        if len(inside) > len(pins):
            where = f"pin {pins[0]}" if len(pins) == 1 else f"{len(pins)} pins ({_ranges(pins)})"
            count = f"{len(inside)} wires, among them " if len(inside) > 3 else ""
            return f"{count}{' and '.join(inside[:3] if len(inside) <= 3 else inside[:2])} want {where}"
    free = {number for wish, line in rows for number in allowed(wish, line, header)}
    return f"{len(rows)} wires need {len(free)} suitable pins ({_ranges(sorted(free))})"


def _ranges(pins: Iterable[int]) -> str:
    numbers = sorted(pins)
    shown = ", ".join(map(str, numbers[:8]))
    return shown if len(numbers) <= 8 else f"{shown} …"


def _ma(wishes: Iterable[Wish]) -> float:
    return sum(line.ma for wish in wishes for line in wish.lines)


def _word(wish: Wish, found: Mapping[tuple[str, str], int]) -> str:
    """The overlay's line with the pins that are not its own."""
    own = wish.overlay.parameters
    given = {line.parameter: found[wish.overlay.id, line.name] for line in wish.lines if line.parameter}
    given |= {name: value for name, value in wish.fixed.items() if name in own and name not in given}
    told = ",".join(f"{name}={value}" for name, value in given.items() if own.get(name) != value)
    return f"{wish.overlay.id}:{told}" if told else wish.overlay.id


def _notes(
    rows: Sequence[tuple[Wish, PinLine]], found: Mapping[tuple[str, str], int], header: Header
) -> tuple[str, ...]:
    """What must be added by hand."""
    notes = []
    for wish, line in rows:
        pin = header.pin(found[wish.overlay.id, line.name])
        if pin is not None and line.pull and pin.pull == "none":
            rail = "to 3.3 V" if line.pull == "up" else "to ground"
            notes.append(
                f"{wish.overlay.name}: add 10 kΩ from pin {pin.number} {rail}; the pin has no pull resistor of its own."
            )
    return tuple(notes)
