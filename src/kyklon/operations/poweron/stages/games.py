"""Controllers, library, front end, and the first game of each system."""

from __future__ import annotations

from pathlib import PurePosixPath

from kyklon.base.quantities import counted
from kyklon.catalogue.system_records import System
from kyklon.model.card import Program, RootFacts
from kyklon.model.controls import DIRECTIONS
from kyklon.model.findings import Remedy
from kyklon.model.kernel_line import given as words_given
from kyklon.model.library import SystemFile
from kyklon.model.timing import Mode
from kyklon.model.world import World
from kyklon.operations.controls.findings import findings as findings_of_controls
from kyklon.operations.controls.findings import fingerprint, quirk_remedy
from kyklon.operations.controls.hookup import Device, hookup_of
from kyklon.operations.controls.quirks import encoder_quirk, quirk_given
from kyklon.operations.library.findings import right_name_remedy
from kyklon.operations.picture.findings import mode_remedy
from kyklon.operations.picture.ranges import adapters_of
from kyklon.operations.picture.schools import in_words, row_in
from kyklon.operations.picture.signal_path import SignalPath, refused
from kyklon.operations.picture.signals import signals
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import Failure, Moment, Screen, Step
from kyklon.operations.poweron.stages.fail import fail, or_put
from kyklon.operations.poweron.stages.init import why_not_started
from kyklon.operations.poweron.stages.mounts import system_settings
from kyklon.operations.poweron.stages.root import root_of
from kyklon.operations.poweron.stages.services import missed

FRONT_END_S = 4.0  # seconds from its start to its menu, CP


def controllers(bench: Bench) -> Step:
    idle, devices = bench.board.lamps.idle, bench.devices
    if not devices:
        return Step((Moment("No encoder is planned; a keyboard is needed.", idle, 0.0),))
    if off := next((each for each in ("nousb", "usbcore.nousb") if _says(bench, each)), ""):
        on_usb = next((device for device in devices if device.encoder.link == "usb"), None)
        if on_usb is not None:
            screen = Screen("front end", bench.image.front_end, ("The menu does not react",))
            cause = f"The kernel command line has {off}, so no USB device is found: {on_usb.title} is missing."
            return fail(Failure("controllers", "boot.no-usb", cause, None, screen, idle))
    for device in devices:
        quirk = encoder_quirk(device.encoder)
        if quirk and not quirk_given(quirk, bench.kernel_line_words):
            planned = quirk_given(quirk, words_given(" ".join(bench.build.boot.kernel_words)))
            screen = Screen("crash", f"{bench.image.front_end} has stopped", ("Back to the text screen",))
            cause = f"{bench.image.front_end} opens {device.title}, gets two players in one device and crashes."
            remedy = or_put(quirk_remedy(bench.build, *(each.encoder for each in devices)), planned)
            return fail(Failure("controllers", "controls.encoder-quirk", cause, remedy, screen, idle))
    told = [_found(bench, device) for device in devices]
    dead, code = _dead(bench)
    if dead:
        screen = Screen("front end", bench.image.front_end, ("The menu does not react",))
        found = findings_of_controls(bench.build, bench.catalogue, World())
        remedy = next((each.remedy for each in found if each.code == code), None)
        planned = code != "controls.wiring" and not any(each.code == code for each in found)
        return fail(Failure("controllers", code, dead, or_put(remedy, planned), screen, idle))
    return Step(tuple(Moment(words, idle, 0.4 / len(told)) for words in told))


def _says(bench: Bench, name: str) -> bool:
    """Whether a word that is on or off is on (kernel/params.c: param_set_bool)."""
    found = [word.partition("=") for word in bench.kernel_line_words if word.partition("=")[0] == name]
    return bool(found) and (not found[-1][1] or found[-1][2][:1].lower() in ("y", "1", "t") or found[-1][2] == "on")


def _found(bench: Bench, device: Device) -> str:
    """A device as it is found, and what is wired to it."""
    encoder, hookup = device.encoder, hookup_of(bench.build, bench.catalogue)
    players = counted(encoder.players, "player")
    words = f"{device.title}: {players} found"
    if _unread(bench, device):
        return f"{device.title}: the overlay for its pins is missing, so none of its switches works."
    if hookup is not None:
        count = sum(1 for own, _terminal in hookup.wired.values() if own.role == device.role)
        words += f", {count} switches wired"
    if encoder.link == "bluetooth":
        words += f", about {encoder.pairing_s:g} s later, once paired"
    return f"{words}."


def _unread(bench: Bench, device: Device) -> bool:
    """Whether the device sits on the header and the card's boot file does not say so."""
    overlay = device.encoder.overlay
    return bool(overlay) and not any(
        PurePosixPath(file).stem == overlay and bench.contents.has(file) for file in bench.overlays
    )


def _dead(bench: Bench) -> tuple[str, str]:
    """Why seat 1 cannot move the menu, and the code of the finding that says so; '' twice where it can. Nothing is said
    of a build whose controls are not wired at all: it has other means."""
    hookup = hookup_of(bench.build, bench.catalogue)
    if hookup is None or not hookup.layout.seats or not hookup.settings.wires:
        return "", ""
    told = hookup.settings.proof
    silent = set(told.silent) if told is not None and told.wiring == fingerprint(hookup) else set()
    unread = {device.role for device in hookup.devices if _unread(bench, device)}
    seat = hookup.layout.seats[0]
    ways = [f"p1.{name}" for name in seat.switches if name in DIRECTIONS]
    buttons = [f"p1.{control.id}" for control in seat.controls if control.kind == "button"]

    def live(switch: str) -> bool:
        return switch in hookup.wired and switch not in silent and hookup.wired[switch][0].role not in unread

    lost = [each for each in ways if not live(each)]
    if not lost and (not buttons or any(map(live, buttons))):
        return "", ""
    asked = lost or buttons
    what = "move in" if lost else "choose in"
    names = " and ".join(each.removeprefix("p1.") for each in asked)
    bank = next(
        (hookup.wired[each][0] for each in asked if each in hookup.wired and hookup.wired[each][0].role in unread), None
    )
    if bank is not None:
        why = f"{bank.title} is on the header, but the card does not load {bank.encoder.overlay}"
        return f"Seat 1 cannot {what} the menu: {why}.", f"controls.overlay:{bank.role}"
    said = "said nothing in the proof" if any(each in silent for each in asked) else "is not wired to a terminal"
    return f"Seat 1 cannot {what} the menu: {names} {said}.", "controls.proof" if "proof" in said else "controls.wiring"


def library(bench: Bench) -> Step:
    games, idle = visible_games(bench), bench.board.lamps.idle
    count = sum(map(len, games.values()))
    if count:
        return Step((Moment(f"{counted(count, 'game')} for {counted(len(games), 'system')} found.", idle, 0.5),))
    ready = len(bench.scan.ready) if bench.scan else 0
    text = "No games are on the machine."
    if ready:
        text += f" {ready} in the library are ready to copy."
    return Step((Moment(text, idle, 0.2),))


def front_end(bench: Bench) -> Step:
    root, front = root_of(bench), bench.image.foreground_service
    unit = root.unit(front) if root else None
    if root is not None and (why := _no_session(bench, root)):
        screen = Screen("text", "Text screen", (f"{_host(bench)} login:",))
        return fail(Failure("front end", "system.front-end", why, None, screen, bench.board.lamps.idle))
    if unit is not None and (why := why_not_started(bench, unit.program) or _barred(bench, unit.program)):
        screen = Screen("text", "Text screen", (f"{front} has ended",))
        cause = f"{bench.image.front_end} does not start: {why}."
        return fail(Failure("front end", "system.front-end", cause, None, screen, bench.board.lamps.idle))
    menu = Moment(f"{bench.image.front_end} shows its menu.", bench.board.lamps.idle, FRONT_END_S)
    session = root.session if root is not None else None
    started = root.programs.get(session.program) if root is not None and session is not None else None
    return Step((*missed(bench.image.front_end, started, bench.board.lamps.idle), menu))


def _host(bench: Bench) -> str:
    return (bench.settings.hostname if bench.settings else "") or "games"


LOGINS = ("getty@tty1", "display-manager", "inittab")  # what logs somebody in, and is no front end itself


def _no_session(bench: Bench, root: RootFacts) -> str:
    """Why the session that a login opens does not show the image's front end, '' where it does or none is opened."""
    image, session = bench.image, root.session
    if image.is_base:
        return f"{image.name} has no front end: it is a base system and stops at a login prompt."
    if image.foreground_service not in LOGINS:
        return ""
    if session is None:
        return f"Nobody is logged in automatically, so {image.front_end} is not started."
    if session.trouble:
        return f"{session.trouble[:1].upper()}{session.trouble[1:]}."
    if not session.program:
        return f"{session.user} is logged in, but nothing in their start-up files starts {image.front_end}."
    way = " → ".join((session.unit, *session.way))
    if session.program != image.front_end_program:
        return f"The login starts {session.program}, not {image.front_end_program} ({way})."
    program = root.programs.get(session.program, Program(session.program, why=f"{session.program} is not there"))
    if why := why_not_started(bench, program):
        return f"{image.front_end} does not start: {why} ({way})."
    user = root.user(session.user)
    barred = program.barred(user.number, user.group) if user else ""
    return f"{session.user} has no permission for {barred} ({way})." if barred else ""


def _barred(bench: Bench, program: Program | None) -> str:
    """Why the user who plays may not start the front end, '' when it may."""
    root, settings = root_of(bench), system_settings(bench)
    name = (settings.user if settings else "") or bench.image.default_user
    user = root.user(name) if root else None
    path = program.barred(user.number, user.group) if program and user else ""
    return f"{name} has no permission for {path}" if path else ""


def games(bench: Bench) -> Step:
    """Systems whose games would start to a black screen."""
    failures = []
    for system_id in visible_games(bench) or _planned(bench):
        system = bench.catalogue.find(System, system_id)
        for wanted in system.system_files if system else ():
            if wanted.required and not _has_system_file(bench, system_id, wanted.name):
                failures.append(_game_failure(bench, system_id, wanted.name))
            elif why := _spoilt(bench, wanted):
                cause = f"{system.name}: {why}; every game stays black." if system else why
                failures.append(
                    Failure(
                        "games",
                        f"library.system-file-damaged:{wanted.name}",
                        cause,
                        None,
                        Screen("black", f"{system.name if system else ''}: black screen"),
                        bench.board.lamps.idle,
                        blocks=False,
                    )
                )
    failures += [
        _bad_games(bench, system_id, told)
        for system_id, told in (bench.on_machine.bad_games if bench.on_machine else {}).items()
        if told
    ]
    shown = [_on_the_glass(bench, game) for game in visible_games(bench)]
    moments = tuple(Moment(words, bench.board.lamps.idle, 0.0) for words, _failure in shown if words)
    return Step(moments, (*failures, *(failure for _words, failure in shown if failure is not None)))


def _bad_games(bench: Bench, system_id: str, told: tuple[str, ...]) -> Failure:
    """Games that the menu lists and that do not start."""
    system = bench.catalogue.find(System, system_id)
    name = system.name if system else system_id
    more = f", and {len(told) - 1} more" if len(told) > 1 else ""
    cause = f"{name}: {told[0]}{more}; the menu lists {'it' if not more else 'them'}, but nothing starts."
    return Failure(
        "games",
        f"library.damaged:{system_id}",
        cause,
        Remedy(label="Copy the games again", changes=()),
        Screen("black", f"{name}: black screen"),
        bench.board.lamps.idle,
        blocks=False,
    )


def _on_the_glass(bench: Bench, system_id: str) -> tuple[str, Failure | None]:
    """How the first game of a system will lie on the glass; the failure where its mode must not be sent."""
    system, display = bench.catalogue.find(System, system_id), bench.display
    if system is None or display is None:
        return "", None
    signal_path = SignalPath(
        display, bench.board, adapters_of(bench.build, bench.catalogue), bench.identification, bench.dialect
    )
    world = World(identification=bench.identification)
    sent = next((signal for signal in signals(bench.build, bench.catalogue, world) if signal.key == system_id), None)
    timing = sent.timing if sent is not None else None
    if timing is None:
        return "", None
    why = refused(timing, signal_path)
    if why:
        cause = f"{system.name} switches to {timing.size[0]} × {timing.size[1]}: {why}."
        screen = Screen(
            "out of range", "Rolling, torn picture; switch off at once" if display.tube else "Signal out of range"
        )
        remedy = mode_remedy(bench.build, bench.catalogue, system_id, display, bench.board, signal_path.ranges)
        return "", Failure(
            "games", f"picture.out-of-range:{system_id}", cause, remedy, screen, bench.board.lamps.idle, blocks=False
        )
    mode = Mode(name="", timing=timing)
    return f"{system.name}: {in_words(row_in(bench.build, system, mode, signal_path))}.", None


def leaving(bench: Bench) -> Step:
    """The ways out: of a game, and of the machine."""
    lamp, controls = bench.board.lamps.idle, bench.build.controls
    leave = next((hotkey for hotkey in controls.hotkeys if hotkey.action == "leave"), None)
    text = (
        f"{controls.hotkey} and {leave.control} together quit a game."
        if leave
        else ("No hotkey quits a game: you would have to pull the plug, which can damage the card.")
    )
    moments = [Moment(f"{text[:1].upper()}{text[1:]}", lamp, 0.0)]
    watcher, root = bench.image.watcher_service, root_of(bench)
    unit = root.unit(watcher) if root and watcher else None
    settings = system_settings(bench)
    names = (settings.services if settings else ()) or bench.image.services
    before = names[: names.index(bench.image.foreground_service)] if bench.image.foreground_service in names else names
    if unit is None or why_not_started(bench, unit.program) or (watcher not in before and root and not root.pulled):
        moments.append(Moment("Shut it down from the menu: no button does it.", lamp, 0.0))
    return Step(tuple(moments))


def _spoilt(bench: Bench, wanted: SystemFile) -> str:
    """Why a system file on the machine is not the one that is wanted, '' when it is, or is not there."""
    return bench.on_machine.bad_files.get(wanted.name, "") if bench.on_machine else ""


def _planned(bench: Bench) -> tuple[str, ...]:
    return tuple(dict.fromkeys(game.system for game in bench.scan.games)) if bench.scan else ()


def _has_system_file(bench: Bench, system_id: str, name: str) -> bool:
    if bench.on_machine and bench.on_machine.games:
        return name in bench.on_machine.system_files
    if bench.scan is None:
        return True
    return any(file.usable for file in bench.scan.system_files if (file.system, file.wanted.name) == (system_id, name))


def _game_failure(bench: Bench, system_id: str, name: str) -> Failure:
    system = bench.catalogue.get(System, system_id)
    found = next(
        (
            each
            for each in (bench.scan.system_files if bench.scan else ())
            if (each.system, each.wanted.name) == (system_id, name)
        ),
        None,
    )
    remedy = None
    code = f"library.system-file-missing:{name}"
    cause = f"{system.name}: its firmware file {name} is not on the machine; every game stays black."
    if found is not None and found.found:
        code = f"library.system-file-name:{system_id}"
        remedy = (
            Remedy(label="Copy the games again", changes=()) if found.usable else right_name_remedy(bench.build, found)
        )
        cause = f"{system.name}: its firmware file has the wrong name; every game stays black."
    return Failure(
        "games",
        code,
        cause,
        remedy,
        Screen("black", f"{system.name}: black screen"),
        bench.board.lamps.idle,
        blocks=False,
    )


def visible_games(bench: Bench) -> dict[str, tuple[str, ...]]:
    """What the front end lists: what is on the machine, by system id."""
    return dict(bench.on_machine.games) if bench.on_machine else {}


def front_end_screen(bench: Bench, games_: dict[str, tuple[str, ...]]) -> Screen:
    lines = []
    for system_id, titles in games_.items():
        lines.append(f"{bench.catalogue.get(System, system_id).name}: {counted(len(titles), 'game')}")
    if not lines:
        lines.append("No games on the machine yet")
        for system_id in bench.build.systems:
            ready = sum(game.ready for game in bench.scan.of(system_id)) if bench.scan else 0
            if ready:
                lines.append(f"{bench.catalogue.get(System, system_id).name}: {ready} games ready to copy")
    return Screen("front end", bench.image.front_end, tuple(lines))
