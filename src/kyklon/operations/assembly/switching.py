"""Switched on and off, in time: what the finger does, what each end sees, when the power goes, what the lamp shows.

Three ends must agree: the button, the watcher on the machine that stops the system, and what cuts the power. Power that
goes before the system has stopped can cost the card.
"""

from __future__ import annotations

from dataclasses import dataclass

from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board
from kyklon.model.assembly import AssemblySettings
from kyklon.model.build import Build

MARGIN_S = 3.0  # beyond the usual time to stop: a card that is busy takes longer, CP
_PRESS_AT = 2.0  # s into the drawing


@dataclass(frozen=True)
class Span:
    """A lane's state from one second to another, in words. live: whether there is power, pressure or activity."""

    start: float
    end: float
    state: str
    live: bool


@dataclass(frozen=True)
class Lane:
    name: str
    spans: tuple[Span, ...]


@dataclass(frozen=True)
class Stopping:
    """lanes: finger, line, system, power, lamp. stopped_s: when the system has stopped, None where nobody tells it to.
    cut_s: when the power goes, None where it stays. words: what it comes to; bad: whether the card is at risk."""

    lanes: tuple[Lane, ...]
    stopped_s: float | None
    cut_s: float | None
    words: str
    bad: bool


def watched(build: Build, catalogue: Catalogue) -> bool:
    """Whether the machine has a button on its header and a service that watches it."""
    image = catalogue.find(Image, build.part("image"))
    has_button = any(overlay.partition(":")[0] == "shutdown-button" for overlay in build.boot.overlays)
    return has_button and image is not None and image.watcher_service in build.boot.services


def stopping(build: Build, catalogue: Catalogue) -> Stopping:
    """The way off, second by second, for the switch that the build has."""
    own = build.assembly
    board = catalogue.find(Board, build.part("board"))
    heard = own.switch in ("momentary", "power board", "latching board") and watched(build, catalogue)
    if own.switch == "momentary":
        held = own.press_s
    else:
        held = own.press_s if own.switch == "power board" else 1e9
    tells = heard and held >= own.watcher_s
    told = _PRESS_AT + own.watcher_s if tells else None
    stopped = told + own.stop_s if told is not None else None
    cut = _cut_s(own, stopped)
    bad = cut is not None and (stopped is None or cut < stopped)
    end = max(cut or 0.0, stopped or 0.0, _PRESS_AT + min(held, own.force_s)) + 4.0
    lanes = _lanes(own, board, (told, stopped, cut), end)
    return Stopping(lanes, stopped, cut, _words(own, (told, stopped, cut), heard=heard, board=board), bad)


def _cut_s(own: AssemblySettings, stopped: float | None) -> float | None:
    """When the power goes."""
    if own.switch in ("plug", "in the line"):
        return _PRESS_AT
    if own.switch == "momentary":
        return None
    if own.switch == "power board" and own.press_s >= own.force_s:
        return _PRESS_AT + own.force_s  # held too long: it takes that for an emergency
    if own.board_waits and stopped is not None:
        return stopped + 1.0  # the system's last word
    return _PRESS_AT + own.board_off_s


def _lanes(
    own: AssemblySettings, board: Board | None, times: tuple[float | None, float | None, float | None], end: float
) -> tuple[Lane, ...]:
    told, stopped, cut = times
    latched = own.switch in ("in the line", "latching board", "plug")
    press = min(own.press_s, own.force_s + 1.0)
    if latched:
        finger: tuple[Span, ...] = (Span(0, _PRESS_AT, "on", True), Span(_PRESS_AT, end, "off", False))
    else:
        finger = (
            Span(0, _PRESS_AT, "", False),
            Span(_PRESS_AT, _PRESS_AT + press, f"pressed {press:g} s", True),
            Span(_PRESS_AT + press, end, "", False),
        )
    over = cut if cut is not None else end
    system: tuple[Span, ...]
    if told is None:
        system = (Span(0, over, "runs", True), Span(over, end, "cut off" if cut is not None else "runs", cut is None))
    else:
        assert stopped is not None
        last = min(stopped, over)
        system = (
            Span(0, told, "runs", True),
            Span(told, last, "shutting down", True),
            Span(last, end, "halted" if over >= stopped else "cut off", False),
        )
    power = (Span(0, over, "on", True), *((Span(over, end, "off", False),) if cut is not None else ()))
    lamps = board.lamps if board is not None else None
    idle = lamps.idle if lamps is not None else "dark"
    busy = lamps.reading if lamps is not None else "quick"
    shown = [Span(0, told if told is not None else over, "as in play", True)]
    if told is not None and stopped is not None:
        shown.append(Span(told, min(stopped, over), busy, True))
        if over > stopped:
            shown.append(Span(stopped, over, idle, idle != "dark"))
    if cut is not None:
        shown.append(Span(over, end, "dark", False))
    names = ("Button", "System", "Power", "LED")
    rows = (finger, system, power, tuple(shown))
    return tuple(
        Lane(name, tuple(span for span in spans if span.end > span.start))
        for name, spans in zip(names, rows, strict=True)
    )


def _words(
    own: AssemblySettings,
    times: tuple[float | None, float | None, float | None],
    *,
    heard: bool,
    board: Board | None,
) -> str:
    told, stopped, cut = times
    if own.switch in ("plug", "in the line"):
        return "Power is cut while the system runs: shut down in the menu first, or use a button that does it."
    if not heard:
        return "Nothing listens to the button: it needs the shutdown button's overlay and the watcher service."
    if told is None:
        return f"A press of {own.press_s:g} s is too short: the watcher needs {own.watcher_s:g} s."
    assert stopped is not None
    if cut is None:
        idle = board.lamps.idle if board is not None else "dark"
        return f"Halted {stopped - _PRESS_AT:.0f} s after the press; the LED is then {idle}. Pull the plug after that."
    if cut < stopped:
        return f"Power is cut {stopped - cut:.0f} s before the system has halted: the card is at risk."
    if cut < stopped + MARGIN_S and not own.board_waits:
        return f"Only {cut - stopped:.0f} s between halt and power cut; a busy card takes longer."
    return f"Halted {stopped - _PRESS_AT:.0f} s after the press; power is cut {cut - stopped:.0f} s later."


def least_off_s(build: Build) -> float:
    """Seconds that a power board must wait before it cuts."""
    own = build.assembly
    return own.watcher_s + own.stop_s + MARGIN_S
