"""What the settings of memory, clock, link and pin header say against the board, before anything is written."""

from __future__ import annotations

from kyklon.base.quantities import show_share
from kyklon.catalogue.image_records import BareMetal, Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Display, Overlay
from kyklon.catalogue.text_records import Dialect
from kyklon.model.build import BootSettings, Build, change_of
from kyklon.model.fields import describe
from kyklon.model.findings import Finding, Remedy, Severity
from kyklon.model.system import SystemSetup
from kyklon.model.world import World
from kyklon.operations.boot.compile import compiled
from kyklon.operations.boot.dialects.codec import split_lines
from kyklon.operations.boot.dialects.extlinux_file import chosen, parse
from kyklon.operations.controls import extras
from kyklon.operations.picture.sending import takes_firmware, takes_timings

OPERATION = 30
LEAST_KERNEL_MB = 96  # MB that a kernel, its programs and a front end need beside the picture, CP
# what has no effect where board or boot files do not take it, with its value when nothing was decided
DECIDED = tuple(
    f"boot.{name}"
    for name in (
        "mode_as",
        "link",
        "ignore_identification",
        "signal_strength",
        "overscan_percent",
        "inset_left",
        "inset_right",
        "inset_top",
        "inset_bottom",
        "frame_size",
        "turn",
        "safe_start",
        "processor_mhz",
        "overlays",
    )
)

_ALWAYS = ("boot.dialect", "boot.kernel_words")  # whatever board and boot files take
_OF_USERS = ("boot.user", "boot.hostname", "boot.country")  # only where a system runs


def findings(build: Build, catalogue: Catalogue, world: World) -> list[Finding]:
    board, dialect = catalogue.find(Board, build.part("board")), catalogue.find(Dialect, build.boot.dialect)
    if board is None or dialect is None:
        return []
    taken = taken_settings(dialect, board)
    found = _without_effect(build, board, taken)
    found += _memory(build, board) if "boot.video_memory_mb" in taken else []
    found += _clock(build, board) if "boot.processor_mhz" in taken else []
    found += _strength(build, board) if "boot.signal_strength" in taken else []
    found += _link(build) if "boot.link" in taken else []
    found += _safe(build, catalogue) if "boot.safe_start" in taken else []
    found += _machines(build, catalogue)
    found += _header(build, catalogue) if "boot.overlays" in taken else []
    return [*found, *_too_long(build, catalogue, dialect, world)]


def taken_settings(dialect: Dialect, board: Board) -> frozenset[str]:
    """The settings that reach the board by these boot files, by their paths."""
    found = dialect.taken(board)
    edges = ("boot.inset_left", "boot.inset_right", "boot.inset_top", "boot.inset_bottom")
    found |= frozenset(edges) if "boot.overscan_percent" in found else frozenset()
    if any(entry.key == "video" and entry.needs in board.honours for file in dialect.files for entry in file.entries):
        found |= {"boot.force_output"} | ({"boot.turn"} if "turn" in board.honours else set())  # its own letters
    return found


def offered_settings(build: Build, catalogue: Catalogue) -> frozenset[str]:
    """The settings that change something for this build, by their paths: those that board and boot files take, and
    those that its image's system knows."""
    dialect, board = catalogue.find(Dialect, build.boot.dialect), catalogue.find(Board, build.part("board"))
    image = catalogue.find(Image, build.part("image"))
    if dialect is None or board is None:
        return frozenset(_ALWAYS)
    taken = taken_settings(dialect, board) | frozenset(_ALWAYS)
    if not machines_of(build.part("image"), catalogue):
        taken -= {"boot.machine_sound"}
    if takes_timings(board, dialect) or not takes_firmware(board, dialect):
        taken -= {"picture.issue_identification"}
    of_system = frozenset(f"system.{name}" for name in SystemSetup.model_fields)
    if image is not None and image.has_system:
        taken |= of_system
    return taken if image is None or image.has_system else taken - of_system - frozenset(_OF_USERS)


def _value(settings: BootSettings, path: str) -> object:
    return getattr(settings, path.partition(".")[2])


def _without_effect(build: Build, board: Board, taken: frozenset[str]) -> list[Finding]:
    found = []
    for path in DECIDED:
        default = BootSettings.model_fields[path.partition(".")[2]].default
        if path in taken or _value(build.boot, path) == default:
            continue
        field = describe(Build, path)
        plain = list(default) if isinstance(default, tuple) else default
        change = change_of(path, plain, field.words(_value(build.boot, path)), field.words(default) or "none")
        found.append(
            Finding(
                code=f"boot.no-effect:{path}",
                severity=Severity.CAUTION,
                operation=OPERATION,
                subject=field.label,
                title=f"{field.label} has no effect here",
                message=f"{board.name} ignores it in these boot files.",
                why="The machine would use its default instead.",
                source=f"{board.name} in the catalogue",
                remedy=Remedy(label=f"Take {field.label.lower()} back", changes=(change,)),
            )
        )
    return found


def _memory(build: Build, board: Board) -> list[Finding]:
    picture = build.boot.video_memory_mb
    left = board.memory_mb - picture
    if left >= LEAST_KERNEL_MB and picture <= board.memory_mb // 2:
        return []
    half = max(16, min(board.memory_mb // 2, board.memory_mb - LEAST_KERNEL_MB))  # half is the usual split, CP
    change = change_of("boot.video_memory_mb", half, f"{picture} MB", f"{half} MB")
    stop = left < LEAST_KERNEL_MB
    return [
        Finding(
            code="boot.memory",
            severity=Severity.STOP if stop else Severity.CAUTION,
            operation=OPERATION,
            subject="GPU memory",
            title=f"Only {max(0, left)} MB is left for the kernel and games",
            message=f"{board.name} has {board.memory_mb} MB; {picture} MB of that would be GPU memory.",
            why="The kernel does not start." if stop else "Large games run out of memory and stop.",
            source="common practice: half at the most",
            remedy=Remedy(label=f"Use {half} MB", changes=(change,)),
        )
    ]


def _clock(build: Build, board: Board) -> list[Finding]:
    own, most = board.processor_mhz
    asked = build.boot.processor_mhz
    if asked <= own:
        return []
    change = change_of("boot.processor_mhz", 0, f"{asked} MHz", "the board's own")
    hot = f"{show_share(asked / own - 1)} more heat, {board.peak_a * asked / own:.2f} A at the peak."
    return [
        Finding(
            code="boot.clock",
            severity=Severity.STOP if asked > most else Severity.CAUTION,
            operation=OPERATION,
            subject="CPU clock",
            title=f"{asked} MHz is above the board's rated {own} MHz",
            message=hot if asked <= most else f"{board.name} boots with {most} MHz at most.",
            why="It may crash in a game and corrupt the card. Fit a heat sink, airflow and a strong power supply "
            "first; it may void the warranty.",
            source=f"{board.name} in the catalogue; CMOS: power goes with the clock",
            remedy=Remedy(label="Use the board's own", changes=(change,)),
        )
    ]


def _strength(build: Build, board: Board) -> list[Finding]:
    least, most = board.signal_strength
    asked = build.boot.signal_strength
    if asked == BootSettings.model_fields["signal_strength"].default or least <= asked <= most:
        return []
    to = min(max(asked, least), most)
    change = change_of("boot.signal_strength", to, str(asked), str(to))
    return [
        Finding(
            code="boot.signal-strength",
            severity=Severity.STOP,
            operation=OPERATION,
            subject="HDMI drive strength",
            title=f"{board.name} has no HDMI drive strength {asked}",
            message=f"Its steps go from {least} to {most}.",
            why="An unknown value is ignored or taken for another: the picture may sparkle or stay black.",
            source=f"{board.name} in the catalogue",
            remedy=Remedy(label=f"Use {to}", changes=(change,)),
        )
    ]


def _link(build: Build) -> list[Finding]:
    if build.boot.link != "dvi" or build.boot.sound != "digital":
        return []
    change = change_of("boot.link", "hdmi", "DVI", "HDMI")
    return [
        Finding(
            code="boot.link-sound",
            severity=Severity.CAUTION,
            operation=OPERATION,
            subject="Link",
            title="DVI carries no sound",
            message="The audio output is set to the video cable.",
            why="Games would be silent.",
            source="DVI 1.0; HDMI 1.4",
            remedy=Remedy(label="Drive it as HDMI", changes=(change,)),
        )
    ]


def _safe(build: Build, catalogue: Catalogue) -> list[Finding]:
    display = catalogue.find(Display, build.part("display"))
    if not build.boot.safe_start or display is None or not display.tube:
        return []
    change = change_of("boot.safe_start", False, "on", "off")
    return [
        Finding(
            code="boot.safe-start",
            severity=Severity.STOP,
            operation=OPERATION,
            subject="Safe start",
            title="Safe boot is not safe for a tube",
            message="It sends 640 × 480 at 31.5 kHz, whatever is plugged in.",
            why="A wrong horizontal frequency overheats the tube's horizontal output stage and can destroy it.",
            source="CTA-861, code 1",
            remedy=Remedy(label="Start as planned", changes=(change,)),
        )
    ]


def machines_of(image: str | None, catalogue: Catalogue) -> tuple[str, ...]:
    """The machines that an image can be, by their ids; nothing for one that is one machine."""
    return tuple(
        machine.id for layout in catalogue.all(BareMetal) if layout.image == image for machine in layout.machines
    )


def _machines(build: Build, catalogue: Catalogue) -> list[Finding]:
    """Sound routes of machines that the image has not."""
    known = machines_of(build.part("image"), catalogue)
    kept = [machine_sound for machine_sound in build.boot.machine_sound if machine_sound.partition(":")[0] in known]
    if len(kept) == len(build.boot.machine_sound):
        return []
    lost = ", ".join(machine_sound for machine_sound in build.boot.machine_sound if machine_sound not in kept)
    change = change_of("boot.machine_sound", kept, " ".join(build.boot.machine_sound), " ".join(kept) or "none")
    return [
        Finding(
            code="boot.machine-sound",
            severity=Severity.CAUTION,
            operation=OPERATION,
            subject="Sound per machine",
            title=f"{lost} has no effect with this image",
            message=f"The image can be: {', '.join(known)}." if known else "The image is one machine.",
            why="These settings would never reach the machine.",
            source="bare-metal sets in the catalogue",
            remedy=Remedy(label="Take it back", changes=(change,)),
        )
    ]


def _header(build: Build, catalogue: Catalogue) -> list[Finding]:
    told = extras.read(build.boot.overlays, catalogue)
    found = [
        Finding(
            code=f"boot.overlay:{extra.word}",
            severity=Severity.CAUTION,
            operation=OPERATION,
            subject=extra.word,
            title=f"{extra.word} does nothing",
            message=f"{extra.trouble[:1].upper()}{extra.trouble[1:]}.",
            why="The hardware on those pins would not work.",
            source="overlays in the catalogue",
        )
        for extra in told
        if extra.trouble
    ]
    for pin, names in extras.clashes(told).items():
        found.append(
            Finding(
                code=f"boot.pin:{pin}",
                severity=Severity.STOP,
                operation=OPERATION,
                subject=f"Pin {pin}",
                title=f"{' and '.join(names)} clash on pin {pin}",
                message="Give one of them another pin, or leave it out.",
                why="Two outputs on one pin drive against each other and can destroy the board.",
                source="overlays in the catalogue",
            )
        )
    on = {extra.overlay.is_bus for extra in told if extra.overlay}
    for extra in told:
        if extra.overlay is None or not extra.overlay.bus or extra.overlay.bus in on:
            continue
        bus = next((each for each in catalogue.all(Overlay) if each.is_bus == extra.overlay.bus), None)
        after = [*([bus.id] if bus else []), *build.boot.overlays]
        change = change_of("boot.overlays", after, " ".join(build.boot.overlays), " ".join(after))
        found.append(
            Finding(
                code=f"boot.bus:{extra.name}",
                severity=Severity.CAUTION,
                operation=OPERATION,
                subject=extra.overlay.name,
                title=f"{extra.overlay.name} needs {extra.overlay.bus}",
                message=f"{extra.overlay.bus} is off.",
                why="The kernel does not find it.",
                source="overlays in the catalogue",
                remedy=Remedy(label=f"Switch {extra.overlay.bus} on", changes=(change,)) if bus else None,
            )
        )
    return found


def _too_long(build: Build, catalogue: Catalogue, dialect: Dialect, world: World) -> list[Finding]:
    """Lines of these files that the firmware cuts, or a kernel line for which a loader passes the label over."""
    on_card = world.card or world.source_contents
    found = []
    for issued in compiled(build, catalogue, on_card.texts if on_card else {}, on_card):
        file = dialect.file_at(issued.path)
        if file is None:
            continue
        most = dialect.longest_of(file)
        long = [line for line in split_lines(issued.text) if _read_of(line, file.kind) > most]
        if long:
            found.append(
                Finding(
                    code=f"boot.line-too-long:{file.path}",
                    severity=Severity.STOP,
                    operation=OPERATION,
                    subject=file.path,
                    title=f"A line of {file.path} is too long",
                    message=f"It has {_read_of(long[0], file.kind)} characters; {most} are read.",
                    why="The rest is cut off, or the machine does not boot at all.",
                    source=f"the rules of {dialect.name}",
                )
            )
    return found


def kernel_line_of(text: str, kind: str) -> str | None:
    """The kernel line in a boot file of that kind; None where it holds none."""
    if kind == "words":
        return split_lines(text)[0] if text else ""
    if kind != "extlinux":
        return None
    label = chosen(parse(text))
    return label.values.get("APPEND", "") if label else None


def _read_of(line: str, kind: str) -> int:
    """Characters that count: of a label's kernel line, without its word."""
    if kind != "extlinux":
        return len(line)
    word, _, value = line.strip().partition(" ")
    return len(value.strip()) if word.lower() == "append" else 0
