"""The stages of a power-on. Each looks at the bytes it would meet and says what happens, or what goes wrong."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import TYPE_CHECKING

from kyklon.boot.findings import kernel_remedy, kernel_sets
from kyklon.boot.issue import encoder_quirk
from kyklon.boot.services import WATCHER, track
from kyklon.catalogue.records import System
from kyklon.controls.findings import quirk_remedy
from kyklon.library.findings import right_name_remedy
from kyklon.model.findings import Change, Remedy
from kyklon.model.timing import Timing
from kyklon.picture.findings import mode_remedy
from kyklon.picture.formulas import cvt
from kyklon.picture.ranges import display_ranges, fit
from kyklon.poweron.events import PUT_ON_CARD, Failure, Screen
from kyklon.quantities import show, show_bytes

if TYPE_CHECKING:
    from kyklon.poweron.bringup import Bench

BLACK = Screen("black", "Black screen", ("No signal",))
_VIDEO = re.compile(r"(?:[\w-]+:)?(\d+)x(\d+)(?:@(\d+))?(i?)")
KERNEL_S = 1.8  # seconds from the kernel's first line to the root partition, CP
EXPANSION_B_S = 2e9  # bytes of card a first boot enlarges the root by per second, CP
SERVICE_S = 0.7  # seconds a service takes to start, CP
FRONT_END_S = 4.0  # seconds from its start to its menu, CP


@dataclass(frozen=True)
class Step:
    """events: text, lamp, seconds it takes. hides_the_rest: what comes after cannot be judged."""

    events: tuple[tuple[str, str, float], ...] = ()
    failures: tuple[Failure, ...] = ()
    hides_the_rest: bool = False


def _fail(stage: str, code: str, cause: str, remedy: Remedy | None = None, screen: Screen = BLACK,
          lamp: str = "still", *, hides: bool = False) -> Step:  # fmt: skip
    return Step(failures=(Failure(stage, code, cause, remedy, screen, lamp),), hides_the_rest=hides)


def _or_put(remedy: Remedy | None, build_is_right: bool) -> Remedy | None:
    """A decision that is right already only has to reach the card."""
    return PUT_ON_CARD if build_is_right else remedy


def card(bench: Bench) -> Step:
    return Step(events=(("The firmware looks for a card.", "one short blink", bench.board.firmware_s),))


def partition_table(bench: Bench) -> Step:
    contents = bench.contents
    if contents.table is None:
        cause = f"The card has no partition table: {contents.table_error}"
        return _fail("partition table", "card.not-bootable", cause, lamp="four blinks, over and over", hides=True)
    parts = ", ".join(f"{part.word} {show_bytes(part.size)}" for part in contents.table.partitions)
    return Step(events=((f"{parts}.", "flickers", 0.1),))


def boot_partition(bench: Bench) -> Step:
    if bench.contents.boot_error:
        return _fail("boot partition", "card.no-boot-partition", bench.contents.boot_error,
                     lamp="four blinks, over and over", hides=True)  # fmt: skip
    return Step(events=((f"{len(bench.contents.sizes)} files.", "flickers", 0.2),))


def boot_file(bench: Bench) -> Step:
    wanted = bench.dialect.files[0].path
    if bench.settings is None:
        return _fail("boot file", "boot.missing-file", f"{wanted} is not on the boot partition.", PUT_ON_CARD,
                     lamp="two blinks, over and over", hides=True)  # fmt: skip
    long = [
        line for line in bench.contents.texts[wanted.lower()].splitlines() if len(line) > bench.dialect.longest_line
    ]
    events = [(f"{wanted} is read.", "flickers", 0.1)]
    if long:
        events.append(
            (f"{len(long)} lines are longer than {bench.dialect.longest_line} letters and are cut.", "flickers", 0.0)
        )
    return Step(events=tuple(events))


def kernel(bench: Bench) -> Step:
    name = bench.kernel_name
    found = bench.contents.kernel(name)
    sets = kernel_sets(bench.image, bench.contents)
    remedy = _or_put(
        kernel_remedy(bench.build, bench.board, sets), sets.get(bench.build.boot.kernel) in bench.board.runs
    )
    if found is None:
        return _fail("kernel", "boot.kernel-set", f"{name} is not on the boot partition.", remedy,
                     lamp="seven blinks, over and over")  # fmt: skip
    if found.instruction_set not in bench.board.runs:
        cause = (
            f"{name} is a kernel for {found.instruction_set}; {bench.board.name} runs {' and '.join(bench.board.runs)}."
        )
        return _fail("kernel", "boot.kernel-set", cause, remedy, lamp="on, never blinks again")
    tree = bench.settings.tree if bench.settings else ""
    if tree and tree.lower() not in {each.lower() for each in bench.contents.sizes}:
        return _fail("kernel", "boot.device-tree", f"The device tree {tree} is not on the boot partition.",
                     _or_put(None, bench.build.boot.device_tree == bench.board.device_tree))  # fmt: skip
    if tree and tree != bench.board.device_tree:
        change = Change(path="boot.device_tree", value=bench.board.device_tree, label="Device tree",
                        before=tree, after=bench.board.device_tree)  # fmt: skip
        remedy = Remedy(label=f"Use {bench.board.device_tree}", changes=(change,))
        return _fail("kernel", "boot.device-tree", f"{tree} describes another board.",
                     _or_put(remedy, bench.build.boot.device_tree == bench.board.device_tree))  # fmt: skip
    seconds = found.size / bench.read_bytes_s + 0.4
    return Step(
        events=((f"{name} ({found.instruction_set}) with {tree or 'its own tree'}.", "flickers fast", seconds),)
    )


def output_timing(bench: Bench) -> tuple[Timing | None, str]:
    """The timing the board will send, and where it comes from; None when the output stays off."""
    settings = bench.settings
    if settings and settings.timing and "boot file" in bench.board.honours:
        return settings.timing, settings.boot_file
    if "video=" in bench.board.honours:
        for value in bench.word_values("video"):
            if match := _VIDEO.match(value):
                rate = int(match[3] or 60)
                return cvt(int(match[1]), int(match[2]), rate, interlaced=bool(match[4])), "the kernel line"
    if bench.identification is not None and bench.identification.timings:
        return bench.identification.timings[0], "the display's identification data"
    return None, ""


def display(bench: Bench) -> Step:
    if bench.display is None:
        return Step(events=(("No display is planned.", "flickers", 0.0),))
    timing, origin = output_timing(bench)
    if timing is None:
        return _fail(
            "display",
            "picture.no-output",
            "The display does not say what it is, and no mode is set: the board switches its output off.",
            lamp="flickers, as if all were well",
        )
    ranges = display_ranges(bench.display, bench.identification)
    where = fit(timing, ranges)
    wide, high = timing.size
    line, rate = show(float(timing.horizontal_hz), "Hz", prefix="k"), show(float(timing.vertical_hz), "Hz")
    if not where.holds:
        low, top = where.range.line_khz
        cause = f"{wide} × {high} from {origin}: {line}, {rate}. {bench.display.name} holds {low:g} to {top:g} kHz."
        remedy = mode_remedy(bench.build, bench.catalogue, "menu", bench.display, bench.board, ranges)
        right = fit(bench.build.picture.menu.timing, ranges).holds
        what = "Rolling, torn picture; switch off at once" if bench.display.tube else "Signal out of range"
        return _fail("display", "picture.out-of-range:menu", cause, _or_put(remedy, right),
                     Screen("out of range", what, (line, rate)), "flickers, as if all were well")  # fmt: skip
    sound = ""
    if bench.build.boot.sound == "digital" and not _announces_hdmi(bench):
        sound = " No sound on this link: the display does not announce HDMI."
    return Step(events=((f"{wide} × {high}, {line}, {rate} ({origin}).{sound}", "flickers fast", 0.3),))


def _announces_hdmi(bench: Bench) -> bool:
    data = bench.identification
    return bool(data and data.extension and data.extension.hdmi)


def kernel_line(bench: Bench) -> Step:
    given = bench.kernel_line_words
    if not any(word.startswith("root=") for word in given):
        return _fail("kernel line", "boot.no-root", "The kernel line names no root partition (root=).",
                     screen=Screen("text", "Kernel panic", ("VFS: Unable to mount root fs",)))  # fmt: skip
    events = [(f"{len(given)} words.", "flickers fast", KERNEL_S)]
    if bench.settings and bench.settings.line_breaks:
        events.append(("The kernel line is broken: only its first line is read.", "flickers fast", 0.0))
    return Step(events=tuple(events))


def root_partition(bench: Bench) -> Step:
    if bench.contents.root is None:
        return _fail("root partition", "card.no-root-partition", bench.contents.root_error,
                     screen=Screen("text", "Kernel panic", ("VFS: Unable to mount root fs",)), hides=True)  # fmt: skip
    return Step(events=((f"{bench.contents.root.release or 'Linux'}.", "flickers fast", 0.5),))


def root_expansion(bench: Bench) -> Step:
    root, table = bench.contents.root, bench.contents.table
    part = table.root() if table else None
    if root is None or part is None or root.expanded or bench.card is None:
        return Step()
    room = bench.card.capacity_bytes - part.start
    text = f"Grows from {show_bytes(part.size)} to {show_bytes(room)}, restarts."
    return Step(events=((text, "flickers slowly", room / EXPANSION_B_S),))


def services(bench: Bench) -> Step:
    root = bench.contents.root
    if root is None:
        return Step()
    names = (bench.settings.services if bench.settings else ()) or root.services
    steps = track(names, bench.image.foreground_service)
    if bench.image.foreground_service not in names:
        return _fail("services", "boot.no-front-end", f"{bench.image.front_end} is not among the services.",
                     _or_put(None, bench.image.foreground_service in bench.build.boot.services),
                     Screen("text", "Login prompt", (f"{bench.build.boot.hostname} login:",)), "dark")  # fmt: skip
    events = []
    for step in steps:
        if step.name not in root.services:
            events.append((f"{step.name}: the image has no such service; passed over.", "flickers", 0.1))
        elif not step.starts:
            danger = " The shutdown button will do nothing." if step.name == WATCHER else ""
            events.append(
                (
                    f"{step.name} never starts: {bench.image.foreground_service} does not return.{danger}",
                    "flickers",
                    0.0,
                )
            )
        else:
            events.append((f"{step.name} starts.", "flickers", SERVICE_S))
    return Step(events=tuple(events))


def login(bench: Bench) -> Step:
    root = bench.contents.root
    user = (bench.settings.user if bench.settings else "") or bench.image.default_user
    if root is None or user in root.users:
        return Step(events=((f"{user} is logged in.", "flickers", 0.3),))
    change = Change(path="boot.user", value=bench.image.default_user, label="User", before=user,
                    after=bench.image.default_user)  # fmt: skip
    remedy = Remedy(label=f"Log in as {bench.image.default_user}", changes=(change,))
    return _fail(
        "login",
        "boot.user",
        f"The image has no user {user}.",
        _or_put(remedy, bench.build.boot.user in root.users),
        Screen("text", "Login prompt", ("Login incorrect",)),
        "dark",
    )


def controllers(bench: Bench) -> Step:
    encoder = bench.encoder
    if encoder is None:
        return Step(events=(("No encoder is planned; a keyboard is needed.", "dark", 0.0),))
    quirk = encoder_quirk(encoder)
    if quirk and quirk not in bench.word_values("usbhid.quirks"):
        planned = " ".join(bench.build.boot.kernel_words)
        cause = f"{bench.image.front_end} opens {encoder.name}, gets two players in one device, and stops."
        return _fail(
            "controllers",
            "controls.encoder-quirk",
            cause,
            _or_put(quirk_remedy(bench.build, encoder), quirk in planned),
            Screen("crash", f"{bench.image.front_end} has stopped", ("Back to the text screen",)),
            "dark",
        )
    return Step(
        events=((f"{encoder.name}: {encoder.players} player{'s' if encoder.players > 1 else ''} found.", "dark", 0.4),)
    )


def library(bench: Bench) -> Step:
    games = visible_games(bench)
    count = sum(map(len, games.values()))
    if count:
        return Step(events=((f"{count} games of {len(games)} systems are found.", "dark", 0.5),))
    ready = len(bench.scan.ready) if bench.scan else 0
    text = "No games are on the machine."
    if ready:
        text += f" {ready} in the library are ready to be moved."
    return Step(events=((text, "dark", 0.2),))


def front_end(bench: Bench) -> Step:
    return Step(events=((f"{bench.image.front_end} shows its menu.", "dark", FRONT_END_S),))


def games(bench: Bench) -> Step:
    """Systems whose games would start to a black screen."""
    failures = []
    for system_id in visible_games(bench) or _planned(bench):
        system = bench.catalogue.find(System, system_id)
        for wanted in system.system_files if system else ():
            if wanted.required and not _has_system_file(bench, system_id, wanted.name):
                failures.append(_game_failure(bench, system_id, wanted.name))
    return Step(failures=tuple(failures))


def _planned(bench: Bench) -> tuple[str, ...]:
    return tuple(dict.fromkeys(game.system for game in bench.scan.games)) if bench.scan else ()


def _has_system_file(bench: Bench, system_id: str, name: str) -> bool:
    if bench.on_machine and bench.on_machine.games:
        return name in bench.on_machine.system_files
    if bench.scan is None:
        return True
    return any(each.usable for each in bench.scan.system_files if (each.system, each.wanted.name) == (system_id, name))


def _game_failure(bench: Bench, system_id: str, name: str) -> Failure:
    system = bench.catalogue.get(System, system_id)
    found = next(
        (each for each in (bench.scan.system_files if bench.scan else ())
         if (each.system, each.wanted.name) == (system_id, name)), None,
    )  # fmt: skip
    remedy = None
    code = f"library.system-file-missing:{name}"
    cause = f"{system.name}: its system file {name} is not on the machine; every game starts to a black screen."
    if found is not None and found.found:
        code = f"library.system-file-name:{system_id}"
        remedy = (
            Remedy(label="Move the games again", changes=()) if found.usable else right_name_remedy(bench.build, found)
        )
        cause = f"{system.name}: its system file has the wrong name; every game starts to a black screen."
    return Failure("games", code, cause, remedy, Screen("black", f"{system.name}: black screen"), "dark", blocks=False)


def visible_games(bench: Bench) -> dict[str, tuple[str, ...]]:
    """What the front end lists: what is on the machine, by system id."""
    return dict(bench.on_machine.games) if bench.on_machine else {}


def front_end_screen(bench: Bench, games_: dict[str, tuple[str, ...]]) -> Screen:
    lines = []
    for system_id, titles in games_.items():
        lines.append(f"{bench.catalogue.get(System, system_id).name}: {len(titles)} games")
    if not lines:
        lines.append("No games on the machine yet")
        for system_id in bench.build.systems:
            ready = sum(game.ready for game in bench.scan.of(system_id)) if bench.scan else 0
            if ready:
                lines.append(f"{bench.catalogue.get(System, system_id).name}: {ready} games ready to be moved")
    return Screen("front end", bench.image.front_end, tuple(lines))
