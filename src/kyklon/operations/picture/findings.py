"""Whether the display can hold what it will be sent."""

from __future__ import annotations

from kyklon.base.quantities import show
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue, standard_timings
from kyklon.catalogue.records import Board, Display, Range
from kyklon.catalogue.system_records import System
from kyklon.catalogue.text_records import Dialect
from kyklon.model.build import Build, SystemMode, change_of
from kyklon.model.display import Edid
from kyklon.model.findings import Change, Finding, Remedy, Severity
from kyklon.model.timing import Mode, Timing
from kyklon.model.world import World
from kyklon.operations.picture.chain import VIDEO_SIGNALS, Trouble, chain_of
from kyklon.operations.picture.ranges import (
    Carried,
    adapters_of,
    carried,
    contradicts,
    display_ranges,
    fit,
    plain,
    propose,
)
from kyklon.operations.picture.sending import by_firmware, by_word, firmware_remedy, sent_by_word, unfit
from kyklon.operations.picture.signal_path import stood
from kyklon.operations.picture.signals import signals

OPERATION = 50
MENU = "menu"


def findings(build: Build, catalogue: Catalogue, world: World) -> list[Finding]:
    display = catalogue.find(Display, build.part("display"))
    board = catalogue.find(Board, build.part("board"))
    found = _identification(world.identification_error)
    if display is None or board is None:
        return found
    ranges = display_ranges(display, world.identification)
    found += _contradicted(display, world.identification)
    found += _video_only(
        build, display, board, catalogue.find(Dialect, build.boot.dialect), world.identification, ranges
    )
    found += _chain(build, catalogue, world)
    found += _waking(build, catalogue, display, world)
    found += _signals(build, catalogue, world, display)
    for key, name, mode in modes_of(build, catalogue):
        if not fit(mode.timing, ranges).holds:
            found.append(_outside(build, catalogue, key, name, mode, display, board, ranges))
        found += _clock(catalogue, build, (key, name, mode.timing), board, ranges)
        found += _sync(key, name, mode.timing, display)
    return found


def modes_of(build: Build, catalogue: Catalogue) -> list[tuple[str, str, Mode]]:
    """Key, name and mode of the menu and of every system of the build that has one of its own."""
    rows = [(MENU, "The menu", build.picture.menu)]
    for choice in build.picture.systems:
        system = catalogue.find(System, choice.system)
        rows.append((choice.system, system.name if system else choice.system, choice.mode))
    return rows


def menu_mode(display: Display, link: Carried, ranges: tuple[Range, ...]) -> Mode | None:
    """A mode for the menu that the display holds: the CTA codes a television knows first, then the DMT table."""
    rows = [(f"CTA {code}", standard_timings("cta")[code].timing) for code in (16, 4, 3, 8, 23)]
    rows += [(f"DMT {row.id:#04x}", row.timing) for row in standard_timings("dmt").values()]
    for name, timing in rows:
        within = link.holds(timing)
        native = display.native is None or timing.size == display.native
        if within and native and fit(timing, ranges).holds:
            return Mode(name=name, timing=timing)
    made = plain(display, link, ranges) if display.tube else None
    return Mode(name="made for the menu", timing=made) if made is not None else None


def mode_remedy(
    build: Build, catalogue: Catalogue, key: str, display: Display, board: Board, ranges: tuple[Range, ...]
) -> Remedy | None:
    """Give the menu or a system a mode that the display holds."""
    system = catalogue.find(System, key)
    link = carried(board, adapters_of(build, catalogue), display)
    better = propose(stood(system, build.picture), display, link, ranges) if system else None
    better = better or menu_mode(display, link, ranges)
    if better is None:
        return None
    before = build.picture.menu if key == MENU else build.system_mode(key)
    words = (_in_words(before), _in_words(better))
    if key == MENU:
        change = change_of("picture.menu", better.model_dump(), *words)
    else:
        rows = [
            SystemMode(system=row.system, mode=better if row.system == key else row.mode).model_dump()
            for row in build.picture.systems
        ]
        change = Change(path="picture.systems", value=rows, label="Mode", before=words[0], after=words[1])
    return Remedy(label=f"Use {_in_words(better)}", changes=(change,))


def _in_words(mode: Mode) -> str:
    wide, high = mode.timing.size
    return f"{wide} × {high} at {show(float(mode.timing.vertical_hz), 'Hz', prefix='')}"


def _outside(
    build: Build,
    catalogue: Catalogue,
    key: str,
    name: str,
    mode: Mode,
    display: Display,
    board: Board,
    ranges: tuple[Range, ...],
) -> Finding:
    where = fit(mode.timing, ranges)
    line = show(float(mode.timing.horizontal_hz), "Hz", prefix="k")
    low, high = where.range.line_khz
    if where.off_khz:
        title = f"{line} is {'more' if where.off_khz > 0 else 'less'} than this display can take"
        message = f"{name} is set to {_in_words(mode)}; {display.name} accepts {low:g} to {high:g} kHz."
    else:
        rate = show(float(mode.timing.vertical_hz), "Hz")
        title = f"{rate} is outside what this display can take"
        message = f"{name} is set to {_in_words(mode)}; {display.name} accepts {where.range.field_hz[0]:g} to "
        message += f"{where.range.field_hz[1]:g} Hz."
    hurt = "A wrong horizontal frequency overheats the tube's horizontal output stage and can destroy it."
    return Finding(
        code=f"picture.out-of-range:{key}",
        severity=Severity.STOP,
        operation=OPERATION,
        subject=name,
        title=title,
        message=message,
        why=hurt if display.tube else "A flat panel shows an error message or nothing.",
        source=f"ranges of {display.name} in the catalogue, and its EDID where that is narrower",
        remedy=mode_remedy(build, catalogue, key, display, board, ranges),
    )


def _video_only(
    build: Build, display: Display, board: Board, dialect: Dialect | None, data: Edid | None, ranges: tuple[Range, ...]
) -> list[Finding]:
    """A board that cannot be given a whole timing sends one of the kernel's own making."""
    remedy = firmware_remedy(build, board, dialect) if fit(build.picture.menu.timing, ranges).holds else None
    if by_firmware(build, board, dialect):
        why = unfit(build, display)
        return [_unsendable(board, f"An EDID cannot hold it: {why}", None)] if why else []
    if not by_word(board, dialect):
        return []
    sent = sent_by_word(build.picture.menu.timing, data)
    if sent is None:
        return [_unsendable(board, "It can make no timing of this size and rate.", remedy)]
    if fit(sent, ranges).holds:
        return []
    line, field = show(float(sent.horizontal_hz), "Hz", prefix="k"), show(float(sent.vertical_hz), "Hz")
    return [_unsendable(board, f"It would send {line} at {field}, which {display.name} does not take.", remedy)]


def _unsendable(board: Board, message: str, remedy: Remedy | None) -> Finding:
    other = (
        "An EDID file handed to the kernel sets the full timing."
        if remedy
        else ("Choose a board that takes full timings, or a display that accepts what this one sends.")
    )
    return Finding(
        code="picture.video-only",
        severity=Severity.STOP,
        operation=OPERATION,
        subject=board.name,
        title=f"{board.name} cannot be given this timing",
        message=f"It takes a size and a refresh rate (video=) and calculates the rest. {message}",
        why=f"The picture rolls or stays black, and a tube can be damaged. {other}",
        source="kernel: fb/modedb, drm.edid_firmware; VESA CVT 1.2",
        remedy=remedy,
    )


def _clock(
    catalogue: Catalogue, build: Build, sent: tuple[str, str, Timing], board: Board, ranges: tuple[Range, ...]
) -> list[Finding]:
    key, name, timing = sent
    display = catalogue.find(Display, build.part("display"))
    link = carried(board, adapters_of(build, catalogue), display)
    if link.holds(timing):
        return []
    most = link.most_clock_hz
    least, top = show(link.least_clock_hz, "Hz", 0, prefix="M"), show(most, "Hz", 0, prefix="M")
    by = f", the most that {display.name} takes" if display is not None and most == display.most_clock_hz else ""
    by += f", {link.least_width} pixels across or more" if link.least_width else ""
    remedy = mode_remedy(build, catalogue, key, display, board, ranges) if display is not None else None
    return [
        Finding(
            code=f"picture.clock:{key}",
            severity=Severity.STOP,
            operation=OPERATION,
            subject=name,
            title=f"A pixel clock of {show(timing.clock_hz, 'Hz', prefix='M')} cannot be sent",
            message=f"The link carries {least} to {top}{by}.",
            why="Slow modes need more pixels per line: a wide mode, or repeated pixels.",
            source="HDMI 1.4",
            remedy=remedy,
        )
    ]


SYNC_S = (3.5e-6, 6.0e-6)  # seconds: 4.7 µs ± what tubes bear (ITU-R BT.470: 4.7 ± 0.2 µs; the rest common practice)
SYNC_LINES = (2, 10)  # lines: 2.5 and 3 are usual (ITU-R BT.470)


LOCKED_S = (2.0e-6, 10.0e-6)  # seconds: about half and twice of 4.7 µs; beyond that no tube locks, CP


def lost_sync(timing: Timing, display: Display) -> str:
    """Why a 15 kHz tube cannot lock to a timing at all, '' where it may."""
    if not display.tube or float(timing.horizontal_hz) > 17_000:
        return ""
    across = timing.horizontal.sync / timing.clock_hz
    if not LOCKED_S[0] <= across <= LOCKED_S[1]:
        return f"the horizontal sync pulse is {across * 1e6:.1f} µs, and no tube locks to that"
    return ""


def odd_sync(timing: Timing, display: Display) -> str:
    """What of the sync pulses a 15 kHz tube may not lock to, '' for nothing."""
    if not display.tube or float(timing.horizontal_hz) > 17_000:
        return ""
    across = timing.horizontal.sync / timing.clock_hz
    wrong = []
    if not SYNC_S[0] <= across <= SYNC_S[1]:
        wrong.append(
            f"the horizontal sync pulse is {across * 1e6:.1f} µs; "
            f"{SYNC_S[0] * 1e6:.1f} to {SYNC_S[1] * 1e6:.1f} µs is usual"
        )
    if not SYNC_LINES[0] <= timing.vertical.sync <= SYNC_LINES[1]:
        wrong.append(
            f"the vertical sync pulse is {timing.vertical.sync} lines; {SYNC_LINES[0]} to {SYNC_LINES[1]} is usual"
        )
    told = "; ".join(wrong)
    return f"{told[:1].upper()}{told[1:]}"


def _sync(key: str, name: str, timing: Timing, display: Display) -> list[Finding]:
    """Sync pulses that a 15 kHz tube may not lock to."""
    told, lost = odd_sync(timing, display), lost_sync(timing, display)
    if not told:
        return []
    return [
        Finding(
            code=f"picture.sync:{key}",
            severity=Severity.STOP if lost else Severity.CAUTION,
            operation=OPERATION,
            subject=name,
            title="The sync pulses are unusual for a tube",
            message=f"{told}.",
            why="The picture may lean, roll or whine: switch off at once when it does.",
            source="ITU-R BT.470; the bounds are common practice",
        )
    ]


def _chain(build: Build, catalogue: Catalogue, world: World) -> list[Finding]:
    return [
        Finding(
            code=f"picture.chain-{trouble.code}:{trouble.place}",
            severity=Severity.STOP if trouble.stops else Severity.CAUTION,
            operation=OPERATION,
            subject=trouble.place,
            title=trouble.title,
            message=trouble.words,
            why=trouble.do,
            source="ports of the parts; EN 50049-1, HDMI 1.4",
            remedy=_replugged(build, catalogue, trouble),
        )
        for trouble in chain_of(build, catalogue, world).troubles
    ]


def _replugged(build: Build, catalogue: Catalogue, trouble: Trouble) -> Remedy | None:
    """Into the first socket, where the display sits in another."""
    board = catalogue.find(Board, build.part("board"))
    if trouble.code != "output" or board is None:
        return None
    sockets = [port for port in board.ports if port.direction == "out" and port.signal in VIDEO_SIGNALS]
    taken = {link.start for link in build.links}
    if f"board.{sockets[0].id}" in taken:
        return None
    names = {f"board.{port.id}" for port in sockets}
    links = [
        link.model_dump() | ({"start": f"board.{sockets[0].id}"} if link.start in names else {}) for link in build.links
    ]
    change = Change(path="links", value=links, label="Cables", before="in another socket", after=sockets[0].label)
    return Remedy(label=f"Plug it into {sockets[0].label}", changes=(change,))


def wake_remedy(build: Build, display: Display) -> Remedy | None:
    """The bus over which a display is woken, among those that are brought up."""
    if display.waking is None:
        return None
    after = (*build.boot.overlays, display.waking.overlay)
    change = change_of("boot.overlays", list(after), " ".join(build.boot.overlays) or "none", " ".join(after))
    return Remedy(label=f"Bring the {display.waking.bus} bus up", changes=(change,))


def _waking(build: Build, catalogue: Catalogue, display: Display, world: World) -> list[Finding]:
    """A display that nothing wakes."""
    own, image = display.waking, catalogue.find(Image, build.part("image"))
    if own is None:
        return []
    found = []
    if own.overlay not in {word.partition(":")[0] for word in build.boot.overlays}:
        found.append(
            Finding(
                code="picture.waking-bus",
                severity=Severity.STOP,
                operation=OPERATION,
                subject=display.name,
                title=f"{display.name} is woken over a bus that is off",
                message=f"It listens at {own.address:#04x} on {own.bus}; the boot file does not bring that bus up.",
                why="It stays black although the machine runs.",
                source=f"{display.name} in the catalogue",
                remedy=wake_remedy(build, display),
            )
        )
    root = world.card.root if world.card is not None else None
    if image is not None and not image.first_boot_script and (root is None or not root.can_be_set_up):
        found.append(
            Finding(
                code="picture.waking",
                severity=Severity.STOP,
                operation=OPERATION,
                subject=display.name,
                title=f"Nothing can wake {display.name}",
                message=f"{image.name} runs no script at first boot, so the one that wakes it cannot be put there.",
                why="It stays black although the machine runs. Choose an image that runs one, or wake it by hand.",
                source=f"{image.name} in the catalogue",
            )
        )
    return found


def _signals(build: Build, catalogue: Catalogue, world: World, display: Display) -> list[Finding]:
    """A wrong signal before the menu, however right the menu is."""
    early = [signal for signal in signals(build, catalogue, world) if signal.key in ("firmware", "kernel")]
    menu_wrong = any(signal.wrong for signal in signals(build, catalogue, world) if signal.key == "menu")
    wrong = next((each for each in early if each.harms), None)
    if wrong is None or menu_wrong:
        return []
    change = change_of("picture.display_on", "once the mode holds", "with the machine", "by hand, once the mode holds")
    return [
        Finding(
            code=f"picture.signal:{wrong.key}",
            severity=Severity.STOP if display.tube else Severity.NOTE,
            operation=OPERATION,
            subject=wrong.title,
            title=f"{wrong.title} sends a signal outside the range of {display.name}",
            message=f"Before the menu's mode holds, {wrong.origin} is sent: {wrong.wrong}.",
            why="One wrong moment is enough to harm a tube. Switch it on when the menu's mode holds, and off before "
            "the machine."
            if display.tube
            else "The screen stays black until then.",
            source="what the board's firmware and kernel go by",
            remedy=Remedy(label="Switch the display on later, by hand", changes=(change,)) if display.tube else None,
        )
    ]


def _contradicted(display: Display, data: Edid | None) -> list[Finding]:
    """Identification data of some other display."""
    if data is None or data.ranges is None or not contradicts(display, data):
        return []
    (low, high), (slow, fast) = data.ranges.line_khz, data.ranges.field_hz
    own = " or ".join(
        f"{band.line_khz[0]:g} to {band.line_khz[1]:g} kHz at {band.field_hz[0]:g} to {band.field_hz[1]:g} Hz"
        for band in display.ranges
    )
    return [
        Finding(
            code="picture.identification-other",
            severity=Severity.STOP,
            operation=OPERATION,
            subject=display.name,
            title="The EDID is that of another display",
            message=f"It says {low} to {high} kHz at {slow} to {fast} Hz; {display.name} accepts {own}.",
            why="An adapter or a switch box may pass on another display's EDID, and the board uses it. "
            "{'A tube can be destroyed by such a signal. ' if display.tube else ''}The ranges of "
            "{display.name} are used here. Choose the display that is really connected in Plan, or read "
            "this one's EDID.",
            source="VESA EDID 1.4, display range limits",
        )
    ]


def _identification(error: str) -> list[Finding]:
    if not error:
        return []
    return [
        Finding(
            code="picture.identification",
            severity=Severity.CAUTION,
            operation=OPERATION,
            subject="EDID",
            title="The display's EDID is damaged",
            message=error,
            why="The board would ignore it and choose a mode by itself; the catalogue's ranges are used here.",
            source="VESA EDID 1.4",
        )
    ]
