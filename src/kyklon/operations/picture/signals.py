"""What the display is sent from the switch to the game and back, in order of time; one wrong moment is one too many.

A tube follows what arrives, from the first pulse: that its menu is right does not help it through a start on 31 kHz.
"""

from __future__ import annotations

from dataclasses import dataclass

from kyklon.catalogue.chosen import known_systems
from kyklon.catalogue.loader import Catalogue, standard_timings
from kyklon.catalogue.records import Board
from kyklon.model.build import Build
from kyklon.model.display import Edid
from kyklon.model.timing import Timing
from kyklon.model.world import World
from kyklon.operations.picture.sending import by_firmware, by_word, sent_by_word, takes_timings
from kyklon.operations.picture.signal_path import SignalPath, refused, signal_path_of
from kyklon.operations.picture.video_word import modes_offered

KERNEL_S, MENU_S = 6.0, 14.0  # seconds that they are on the screen, CP
OFF = "no signal"


@dataclass(frozen=True)
class Signal:
    """key: 'firmware', 'kernel', 'menu', a system's id, 'leaving' or 'off'. timing: None for no signal. seconds: about
    as long as it lasts, 0 for as long as the user likes. wrong: why the display must not get it, ''. guarded: the
    display is off meanwhile."""

    key: str
    title: str
    timing: Timing | None
    origin: str
    seconds: float = 0.0
    wrong: str = ""
    guarded: bool = False

    @property
    def harms(self) -> bool:
        return bool(self.wrong) and not self.guarded


def early_timing(
    board: Board, told: Timing | None, data: Edid | None, *, safe: bool = False
) -> tuple[Timing | None, str]:
    """What the firmware sends before there is a kernel, and where it takes that from. told: by its boot file, None
    where that tells it nothing."""
    vga = standard_timings("cta")[1].timing
    if board.early == "dark":
        return None, "the firmware shows nothing"
    if board.early == "boot file" and safe:
        return vga, "its safe boot"
    if board.early == "boot file" and told is not None:
        return told, "the boot file"
    if data is not None and data.timings:
        return data.timings[0], "the first mode the display lists"
    if board.early == "boot file":
        return None, "with no mode set and no EDID, the firmware switches its output off"
    return vga, "640 × 480, because the display lists no modes"


def signals(build: Build, catalogue: Catalogue, world: World) -> tuple[Signal, ...]:
    """Every signal of a build in order of time; none without display and board."""
    signal_path = signal_path_of(build, catalogue, world)
    if signal_path is None:
        return ()
    menu, board = build.picture.menu.timing, signal_path.board
    by_hand = build.picture.display_on == "once the mode holds"
    asked = None if build.boot.ignore_identification and "ignore identification" in board.honours else signal_path.data
    safe = build.boot.safe_start and "safe start" in board.honours
    told = menu if takes_timings(board, signal_path.dialect) else None
    early, origin = early_timing(board, told, asked, safe=safe)
    kernel, by = _kernel(build, signal_path, asked, early)
    found = [
        Signal("firmware", "Firmware", early, origin, board.firmware_s, guarded=by_hand),
        Signal("kernel", "Kernel", kernel, by, KERNEL_S, guarded=by_hand),
        Signal("menu", "Menu", kernel, by, MENU_S),
    ]
    known = set(modes_offered(asked)) if not takes_timings(board, signal_path.dialect) else None
    if by_firmware(build, board, signal_path.dialect):
        known = None  # it names them all
    for system in known_systems(build, catalogue):
        timing = build.system_mode(system.id).timing
        if timing == menu:
            found.append(Signal(system.id, system.name, kernel, "the menu's mode stays"))
        elif known is not None and timing not in known:
            found.append(Signal(system.id, system.name, kernel, "its own mode is not offered: the menu's stays"))
        else:
            found.append(Signal(system.id, system.name, timing, "its own mode"))
    found += [
        Signal("leaving", "Back in the menu", kernel, "the menu's mode"),
        Signal("off", "Shutdown", None, "the output is switched off", 2.0),
    ]
    return tuple(
        Signal(**{**each.__dict__, "wrong": refused(each.timing, signal_path) if each.timing else ""}) for each in found
    )


def _kernel(
    build: Build, signal_path: SignalPath, asked: Edid | None, early: Timing | None
) -> tuple[Timing | None, str]:
    """What the kernel goes over to."""
    board, menu = signal_path.board, build.picture.menu.timing
    if takes_timings(board, signal_path.dialect):
        return early, "as the firmware set it"
    if by_firmware(build, board, signal_path.dialect):
        return menu, "the EDID that was issued"
    if by_word(board, signal_path.dialect):
        sent = sent_by_word(menu, asked)
        return sent, "the size in video=, timed by the kernel" if sent else "no timing can be made of video="
    if asked is not None and asked.timings:
        return asked.timings[0], "the first mode the display lists"
    return None, "the display lists no modes, and none is set"
