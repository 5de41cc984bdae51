"""The picture: which mode is sent, and whether the display can show it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import PurePosixPath

from kyklon.base.errors import FormatError
from kyklon.base.quantities import show
from kyklon.catalogue.loader import standard_timings
from kyklon.catalogue.records import Adapter, Display
from kyklon.model.build import change_of
from kyklon.model.card import SETUP_SCRIPT
from kyklon.model.display import Edid
from kyklon.model.findings import Remedy
from kyklon.model.kernel_line import last
from kyklon.model.timing import Timing
from kyklon.model.world import World
from kyklon.operations.boot import first_boot
from kyklon.operations.boot.compile import OUTPUT
from kyklon.operations.picture import edid
from kyklon.operations.picture.chain import chain_of
from kyklon.operations.picture.findings import lost_sync, mode_remedy, odd_sync, wake_remedy
from kyklon.operations.picture.ranges import adapters_of, carried, display_ranges, fit
from kyklon.operations.picture.schools import flat_mode
from kyklon.operations.picture.sending import by_firmware, firmware_remedy, takes_timings
from kyklon.operations.picture.signal_path import SignalPath
from kyklon.operations.picture.signals import early_timing
from kyklon.operations.picture.video_word import VideoWord, made_of, modes_offered, parsed, value_for
from kyklon.operations.picture.waking import PROGRAMS
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import PUT_ON_CARD, Failure, Moment, Screen, Step
from kyklon.operations.poweron.stages.fail import dark_screen, fail, or_put
from kyklon.operations.poweron.stages.init import why_not_started
from kyklon.operations.poweron.stages.root import root_of


@dataclass(frozen=True)
class Offered:
    """The identification data that the kernel goes by. origin: in words; note: why it is not what was meant, or ''."""

    data: Edid | None
    origin: str = "the display's EDID"
    note: str = ""


def offered(bench: Bench) -> Offered:
    """The display's own data, or what the kernel line names as firmware in its place (drm_edid_load.c).

    The kernel asks for the file before there is a root, so it must be in the initramfs; without it, or with one that is
    damaged, the display's own counts.
    """
    own = Offered(None if _never_asked(bench) else bench.identification)
    named = last(bench.kernel_line_words, "drm.edid_firmware")
    if not named or "edid firmware" not in bench.board.honours:
        return own
    rows = [row.rpartition(":") for row in named.split(",")]
    path = next((path for output, _, path in rows if output == OUTPUT), "")
    path = path or next((path for output, _, path in rows if not output), "")
    if not path:
        return own
    ramdisk = bench.ramdisk
    data = ramdisk.firmware.get(path) if ramdisk is not None else None
    if data is None:
        where = f"in {ramdisk.name}" if ramdisk else "in an initramfs"
        return replace(own, note=f"The kernel should load {path}, but the file is not {where}.")
    try:
        return Offered(edid.read(data), f"{path}, issued as firmware")
    except FormatError as bad:
        return replace(own, note=f"The kernel rejects {path}: {bad.what}")


def _never_asked(bench: Bench) -> bool:
    """Whether the boot file tells the firmware not to ask the display."""
    told = bench.settings.values.get("boot.ignore_identification") if bench.settings else ""
    return told == "never" and "ignore identification" in bench.board.honours


def native_assumed(bench: Bench) -> Edid | None:
    """What a flat display with a digital socket names that was not asked: its own size at 60 Hz. Every such display
    identifies itself (HDMI 1.4b, 8.4; DisplayPort 1.2, 2.1.4: from memory): a kernel never has to compute it."""
    display = bench.display
    if display is None or display.tube or display.sync != "digital" or _never_asked(bench):
        return None
    if bench.identification is not None or bench.world.identification_error:
        return None
    mode = flat_mode(SignalPath(display, bench.board, dialect=bench.dialect), Fraction(60))
    size = (round(display.width_mm), round(display.height_mm))
    return Edid("KYK", 0, 0, 2026, display.name[:13], (mode.timing,), size) if mode is not None else None


def video_word(bench: Bench) -> VideoWord | None:
    """The word video= that counts for the output here; None without one, or with one that the kernel refuses."""
    if "video=" not in bench.board.honours:
        return None
    return parsed(value_for(bench.words_of("video"), OUTPUT))


def output_timing(bench: Bench) -> tuple[Timing | None, str]:
    """The timing the board will send, and where it comes from; None and why when the output stays off."""
    settings = bench.settings
    if settings and settings.values.get("boot.safe_start") == "on" and "safe start" in bench.board.honours:
        return standard_timings("cta")[1].timing, "its safe boot"
    if settings and settings.timing and "boot file" in bench.board.honours:
        return settings.timing, settings.boot_file
    kernel, word = offered(bench), video_word(bench)
    if kernel.data is None and (native := native_assumed(bench)) is not None:
        kernel = Offered(native, "its native mode", kernel.note)
    if word is not None and word.force == "off":
        return None, "The kernel command line switches the output off (video= with d)."
    if word is not None and word.size is not None:
        wide, high = word.size
        why = f"The kernel makes no usable timing of {wide} × {high} at {word.rate or 60} Hz (VESA GTF)."
        timing = made_of(word, modes_offered(kernel.data))
        return timing, "the kernel line" if timing else why
    if kernel.data is not None and kernel.data.timings:
        return kernel.data.timings[0], kernel.origin
    why = "The display does not identify itself and no mode is set, so the board switches its output off."
    return None, f"{kernel.note} {why}".strip()


def display(bench: Bench) -> Step:
    lamps = bench.board.lamps
    if bench.display is None:
        return Step((Moment("No display is planned.", lamps.reading, 0.0),))
    early, later = _early(bench), _main(bench)
    if early is None:
        return later
    if bench.build.picture.display_on == "once the mode holds":
        words = f"{bench.display.name} is off meanwhile: {early.cause[:1].lower()}{early.cause[1:]}"
        return Step((Moment(words, lamps.reading, 0.0), *later.moments), later.failures)
    return Step(failures=(early, *later.failures))


def _early(bench: Bench) -> Failure | None:
    """What a tube gets before the kernel, where it must not."""
    display, board = bench.display, bench.board
    if display is None or not display.tube:
        return None
    told = bench.settings is not None and bench.settings.timing is not None
    if board.early == "boot file" and told:
        return None  # judged with what it sends later, which is the same
    data = None if _never_asked(bench) else bench.identification
    timing, origin = early_timing(board, None, data)
    if timing is None or fit(timing, display_ranges(display, bench.identification)).holds:
        return None
    line, rate = show(float(timing.horizontal_hz), "Hz", prefix="k"), show(float(timing.vertical_hz), "Hz")
    cause = f"Before the kernel, the firmware sends {line} at {rate} ({origin}). {display.name} does not take that."
    change = change_of("picture.display_on", "once the mode holds", "with the machine", "by hand, once the mode holds")
    remedy = Remedy(label="Switch the display on later, by hand", changes=(change,))
    screen = Screen("out of range", "Rolling, torn picture; switch off at once", (line, rate))
    return Failure("display", "picture.signal:firmware", cause, remedy, screen, board.lamps.reading)


def _chain(bench: Bench) -> Failure | None:
    """Plugs, sync and converters that do not go together: what stops in Picture stops here."""
    world = World(identification=offered(bench).data)
    found = chain_of(bench.build, bench.catalogue, world)
    deaf = next(
        (place.part.name for place in found.places if isinstance(place.part, Adapter) and place.part.needs_hdmi), ""
    )
    if deaf and (why := silent(bench)):
        cause = f"{deaf} wants HDMI, and the link is driven as DVI: {why}."
        return dark_screen("display", "picture.chain-hdmi", cause, None, bench.board.lamps.reading)
    trouble = next((each for each in found.troubles if each.stops and each.code != "hdmi"), None)
    if trouble is None:
        return None
    cause = f"{trouble.title}. {trouble.words} {trouble.do}"
    screen = Screen("out of range", "Rolling picture, or none; switch off at once")
    return Failure("display", f"picture.chain-{trouble.code}", cause, None, screen, bench.board.lamps.reading)


@dataclass(frozen=True)
class _Sent:
    """What goes to the display. origin: where the timing comes from; note: what else is to be said of it."""

    bench: Bench
    display: Display
    timing: Timing
    origin: str
    note: str

    @property
    def rates(self) -> tuple[str, str]:
        """Its line and field rate, with their units."""
        line, rate = float(self.timing.horizontal_hz), float(self.timing.vertical_hz)
        return show(line, "Hz", prefix="k"), show(rate, "Hz")

    @property
    def remedy(self) -> Remedy | None:
        """A mode for the menu that the display holds."""
        ranges = display_ranges(self.display, self.bench.identification)
        return mode_remedy(self.bench.build, self.bench.catalogue, "menu", self.display, self.bench.board, ranges)


def _too_fast(sent: _Sent) -> Failure | None:
    """A pixel clock that something on the way does not carry."""
    bench, timing = sent.bench, sent.timing
    link, adapters = bench.board, adapters_of(bench.build, bench.catalogue)
    through = carried(link, adapters, sent.display)
    if through.holds(timing):
        return None
    what = f"{link.name} cannot send"
    for adapter in adapters:
        if not carried(link, (adapter,)).holds(timing) and carried(link).holds(timing):
            what = (
                f"{adapter.name} cannot convert"
                if timing.size[0] >= adapter.least_width
                else (f"{adapter.name} cannot show: it needs at least {adapter.least_width} pixels per line")
            )
    if sent.display.most_clock_hz and through.most_clock_hz == sent.display.most_clock_hz < timing.clock_hz:
        what = f"{sent.display.name} does not take"
    wide, high = timing.size
    clock = show(timing.clock_hz, "Hz", prefix="M")
    cause = f"{wide} × {high} from {sent.origin} has a pixel clock of {clock}, which {what}."
    right = through.holds(bench.build.picture.menu.timing)
    return dark_screen("display", "picture.clock:menu", cause, or_put(sent.remedy, right), bench.board.lamps.reading)


def _out_of_range(sent: _Sent) -> Failure | None:
    """Rates that the display does not take."""
    bench, (wide, high), (line, rate) = sent.bench, sent.timing.size, sent.rates
    ranges = display_ranges(sent.display, bench.identification)
    where = fit(sent.timing, ranges)
    if where.holds:
        return None
    low, top = where.range.line_khz
    cause = f"{wide} × {high} from {sent.origin}: {line}, {rate}. {sent.display.name} accepts {low:g} to {top:g} kHz."
    remedy, right = sent.remedy, fit(bench.build.picture.menu.timing, ranges).holds
    if not takes_timings(bench.board, bench.dialect):  # putting the same word back changes nothing
        given = by_firmware(bench.build, bench.board, bench.dialect)
        if right:
            remedy = None if given else firmware_remedy(bench.build, bench.board, bench.dialect)
        right = right and given
    what = "Rolling, torn picture; switch off at once" if sent.display.tube else "Signal out of range"
    return Failure(
        "display",
        "picture.out-of-range:menu",
        f"{sent.note} {cause}".strip(),
        or_put(remedy, right),
        Screen("out of range", what, (line, rate)),
        bench.board.lamps.reading,
    )


def _out_of_sync(sent: _Sent) -> Failure | None:
    """A sync that the display loses."""
    lost = lost_sync(sent.timing, sent.display)
    if not lost:
        return None
    wide, high = sent.timing.size
    right = not lost_sync(sent.bench.build.picture.menu.timing, sent.display)
    screen = Screen("out of range", "Rolling, torn picture; switch off at once", sent.rates)
    return Failure(
        "display",
        "picture.sync:menu",
        f"{wide} × {high} from {sent.origin}: {lost}.",
        or_put(sent.remedy, right),
        screen,
        sent.bench.board.lamps.reading,
    )


def _main(bench: Bench) -> Step:
    lamps = bench.board.lamps
    assert bench.display is not None
    timing, origin = output_timing(bench)
    unread = bench.settings.timing_error if bench.settings and "boot file" in bench.board.honours else ""
    unread = f"The mode in {bench.settings.boot_file} cannot be read: {unread}" if unread and bench.settings else ""
    if timing is None:
        origin = f"{unread} {origin}".strip()
        given = by_firmware(bench.build, bench.board, bench.dialect)
        remedy = PUT_ON_CARD if given else firmware_remedy(bench.build, bench.board, bench.dialect)
        return fail(dark_screen("display", "picture.no-output", origin, remedy, lamps.reading))
    note = f"{unread} {offered(bench).note}".strip()
    sent = _Sent(bench, bench.display, timing, origin, note)
    for refused in (_chain(bench), _too_fast(sent), _out_of_range(sent), _out_of_sync(sent)):
        if refused is not None:
            return fail(refused)
    wide, high = timing.size
    line, rate = sent.rates
    sound = ""
    if (bench.settings.sound if bench.settings else "") == "digital" and (why := silent(bench)):
        sound = f" No sound on this link: {why}."
    moments = [Moment(f"{wide} × {high}, {line}, {rate} ({origin}).{sound}", lamps.reading, 0.3)]
    odd = odd_sync(timing, bench.display)
    moments += [Moment(f"{odd}: it may lean, roll or whine; switch off at once.", lamps.reading, 0.0)] if odd else []
    moments += [Moment(note, lamps.reading, 0.0)] if note else []
    return Step(tuple(moments))


def silent(bench: Bench) -> str:
    """Why the link is driven without sound, '' when it is not (HDMI 1.4, 8.3.2)."""
    link = bench.settings.values.get("boot.link", "") if bench.settings and "link kind" in bench.board.honours else ""
    if link == "hdmi":
        return ""
    if link == "dvi":
        return "the boot file drives it as DVI"
    data = offered(bench).data
    return "" if data and data.extension and data.extension.hdmi else "the display does not announce HDMI"


def waking(bench: Bench) -> Step:
    """A display that stays dark until it is spoken to: whether anything does, and over a bus that is there."""
    shown, lamp = bench.display, bench.board.lamps.reading
    if shown is None or shown.waking is None:
        return Step()
    own = shown.waking
    if not any(PurePosixPath(file).stem == own.overlay and bench.contents.has(file) for file in bench.overlays):
        cause = f"{shown.name} is woken over {own.bus}, and the card's boot file does not bring that bus up."
        remedy = or_put(wake_remedy(bench.build, shown), own.overlay in _overlays(bench.build.boot.overlays))
        return fail(dark_screen("waking", "picture.waking-bus", cause, remedy, lamp))
    name, root = bench.image.first_boot_script, root_of(bench)
    text = bench.contents.texts.get((name or SETUP_SCRIPT).lower(), "")
    wanted = "".join(part.text for part in first_boot.wake_parts(shown))
    if wanted not in text:
        cause = f"Nothing on the card wakes {shown.name}: it stays black although the machine runs."
        remedy = PUT_ON_CARD if name or (root is not None and root.can_be_set_up) else None
        return fail(dark_screen("waking", "picture.waking", cause, remedy, bench.board.lamps.idle))
    tried = [root.programs[path] for path in PROGRAMS if path in root.programs] if root else []
    if tried and all(why_not_started(bench, each) for each in tried):
        there = next((each for each in tried if each.there), None)
        why = why_not_started(bench, there) if there else "the image has no i2cset"
        cause = f"Nothing can wake {shown.name}: {why}."
        return fail(dark_screen("waking", "picture.waking-program", cause, None, bench.board.lamps.idle))
    last = f"{own.writes[-1][0]:#04x}"
    words = f"{shown.name} is woken over {own.bus} at {own.address:#04x}; its last register is {last}."
    return Step((Moment(words, lamp, len(own.writes) * own.wait_ms / 1000),))


def _overlays(words: tuple[str, ...]) -> set[str]:
    return {word.partition(":")[0] for word in words}
