"""What the wiring and the encoders say against the build."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Sequence

from kyklon.base.quantities import counted
from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.control_records import Keyboard
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Encoder, Overlay
from kyklon.catalogue.system_records import System
from kyklon.model.build import Build, change_of
from kyklon.model.findings import Finding, Remedy, Severity
from kyklon.model.kernel_line import MOST_QUIRKS, set_words, word_values, words
from kyklon.model.kernel_line import given as words_given
from kyklon.model.world import World
from kyklon.operations.controls import exports, hotkeys
from kyklon.operations.controls.clearance import checks
from kyklon.operations.controls.hookup import Device, Hookup, hookup_of
from kyklon.operations.controls.mapping import in_words, player_of, unreached, wire_in_order
from kyklon.operations.controls.matrix import cures, ghosts
from kyklon.operations.controls.quirks import encoder_quirk, joined, merged, quirk_alike, quirk_given

OPERATION = 40


def findings(build: Build, catalogue: Catalogue, _world: World) -> list[Finding]:
    hookup = hookup_of(build, catalogue)
    if hookup is None:
        return _ghosts(build, catalogue)
    linux = runs_linux(build, catalogue)  # without it there is neither usbhid nor an emulator to leave
    return [
        *(_quirks(build, hookup) if linux else ()),
        *_generic(hookup),
        *_players(hookup),
        *_links(build, catalogue, hookup),
        *_wiring(hookup),
        *_fights(hookup),
        *_systems(build, catalogue, hookup),
        *_levers(build, catalogue, hookup),
        *(_hotkeys(build, catalogue, hookup) if linux else ()),
        *_panel(hookup),
        *_proof(hookup),
        *_ghosts(build, catalogue),
    ]


def runs_linux(build: Build, catalogue: Catalogue) -> bool:
    """Whether a Linux kernel drives the controllers; taken for granted where no image is chosen."""
    image = catalogue.find(Image, build.part("image"))
    return image is None or image.school != "bare metal"


def quirk_remedy(build: Build, *encoders: Encoder) -> Remedy | None:
    """Write the encoders' quirks onto the kernel line, joined with those already there; None where the kernel would not
    read them all."""
    before = " ".join(build.boot.kernel_words)
    wanted = joined(merged(encoders), word_values(before, "usbhid.quirks"))
    if len(wanted) > MOST_QUIRKS:
        return None
    value = ",".join(wanted)
    kept = [word for word in words(before) if not word.startswith("usbhid.quirks=")]
    after = set_words(" ".join(kept), [f"usbhid.quirks={value}"])
    change = change_of("boot.kernel_words", list(words(after)), before or "none", after)
    names = " and ".join(dict.fromkeys(encoder.name for encoder in encoders if encoder_quirk(encoder)))
    return Remedy(label=f"Add the quirk of {names}", changes=(change,))


def _generic(hookup: Hookup) -> list[Finding]:
    return [
        Finding(
            code=f"controls.generic:{encoder.id}",
            severity=Severity.NOTE,
            operation=OPERATION,
            subject=encoder.name,
            title=f"{encoder.name}: learn your own once it is here",
            message="Its USB ids and what each terminal sends are the usual ones, not your own: plug it in and press "
            "“Learn a part…” on the shelf.",
            why="Steady names, pad maps and axis limits go by the ids; they are left out until then.",
            source="Linux: Documentation/input/gamepad.rst, drivers/hid/hid-input.c",
        )
        for encoder in dict.fromkeys(device.encoder for device in hookup.devices)
        if not encoder.is_known
    ]


def _quirks(build: Build, hookup: Hookup) -> list[Finding]:
    line = words_given(" ".join(build.boot.kernel_words))
    given = word_values(" ".join(build.boot.kernel_words), "usbhid.quirks")
    found = []
    for encoder in dict.fromkeys(device.encoder for device in hookup.devices):
        quirk = encoder_quirk(encoder)
        if quirk and not quirk_given(quirk, line):
            found.append(
                Finding(
                    code="controls.encoder-quirk",
                    severity=Severity.STOP,
                    operation=OPERATION,
                    subject=encoder.name,
                    title=f"{encoder.name}: two players in one device",
                    message=_lacks(quirk, given),
                    why=f"{encoder.quirk_why} The front end crashes when it opens the device.",
                    source="kernel-parameters: usbhid.quirks; linux/hid.h: 0x40 is multi-input",
                    remedy=quirk_remedy(build, *(device.encoder for device in hookup.devices)),
                )
            )
    if len(given) > MOST_QUIRKS:
        found.append(
            Finding(
                code="controls.too-many-quirks",
                severity=Severity.CAUTION,
                operation=OPERATION,
                subject="Kernel command line",
                title=f"{len(given)} USB quirks are too many",
                message=f"The kernel reads at most {MOST_QUIRKS}; the rest are ignored.",
                why="The encoder whose quirk is dropped behaves as if it had none.",
                source="the usbhid driver, from memory",
            )
        )
    return found


def _lacks(quirk: str, given: Sequence[str]) -> str:
    """What is wrong with the quirks that stand on the line."""
    words = f"The kernel command line has no usbhid.quirks={quirk}."
    alike = next((each for each in given if quirk_alike(quirk, each)), "")
    if alike:
        words = f"The kernel rejects {alike} as usbhid.quirks={quirk}: "
        words += "each number must begin with 0x, only four are read, and the later of two for one device counts."
    return words


def _players(hookup: Hookup) -> list[Finding]:
    """Seats that no device serves."""
    seats, served = len(hookup.layout.seats), sum(device.encoder.players for device in hookup.devices)
    found = []
    if served < seats:
        names = " and ".join(device.title for device in hookup.devices)
        found.append(
            Finding(
                code="controls.players",
                severity=Severity.STOP,
                operation=OPERATION,
                subject=names,
                title="The encoders handle too few players",
                message=(
                    f"The panel has {seats} seats; {names} handle{'s' if len(hookup.devices) == 1 else ''} {served}."
                ),
                why="The controls of the remaining seats would not work.",
            )
        )
    crossed = Counter(
        (player_of(control), device.player(terminal))
        for control, (device, terminal) in hookup.wired.items()
        if device.player(terminal) != player_of(control)
    )
    for (seat, player), count in sorted(crossed.items()):
        found.append(
            Finding(
                code=f"controls.other-player:{seat}",
                severity=Severity.CAUTION,
                operation=OPERATION,
                subject=f"Seat {seat}",
                title=f"Seat {seat} plays as player {player}",
                message=f"{count} of its switches are wired to player {player}'s terminals.",
                why="The game takes them for the other player's.",
            )
        )
    return found


def _links(build: Build, catalogue: Catalogue, hookup: Hookup) -> list[Finding]:
    """What a device that is not on USB needs, and what two of a kind do."""
    image = catalogue.find(Image, build.part("image"))
    found = []
    for device in hookup.devices:
        encoder = device.encoder
        if encoder.overlay and encoder.overlay not in {word.partition(":")[0] for word in build.boot.overlays}:
            found.append(_no_overlay(build, catalogue, device))
        if encoder.link == "nine-pin":
            found.append(
                Finding(
                    code=f"controls.nine-pin:{device.role}",
                    severity=Severity.NOTE,
                    operation=OPERATION,
                    subject=device.title,
                    title="Pin 7 of a nine-pin port carries 5 V",
                    message="Measure pin 7 before you plug anything in, and keep it off every 3.3 V pin.",
                    why="5 V on a 3.3 V pin kills the board.",
                    source="Common practice",
                )
            )
        if encoder.link == "bluetooth":
            found.append(_by_radio(device, image))
    return [*found, *_same_kind(hookup)]


def _no_overlay(build: Build, catalogue: Catalogue, device: Device) -> Finding:
    encoder = device.encoder
    overlay = catalogue.find(Overlay, encoder.overlay)
    name = overlay.name if overlay else encoder.overlay
    after = (*build.boot.overlays, encoder.overlay)
    change = change_of("boot.overlays", list(after), ", ".join(build.boot.overlays) or "none", ", ".join(after))
    return Finding(
        code=f"controls.overlay:{device.role}",
        severity=Severity.STOP,
        operation=OPERATION,
        subject=device.title,
        title=f"The overlay for {device.title} is missing",
        message=f"Its switches are on the GPIO header, but the overlay “{name}” is not enabled.",
        why="Without its overlay the pins are not read: no switch works.",
        remedy=Remedy(label=f"Add {name} to the header", changes=(change,)),
    )


def _by_radio(device: Device, image: Image | None) -> Finding:
    """A Bluetooth controller: late at best; without a driver for the radio it never connects."""
    if image is not None and not image.pairs_radio:
        return Finding(
            code=f"controls.no-radio:{device.role}",
            severity=Severity.STOP,
            operation=OPERATION,
            subject=device.title,
            title=f"{device.title} cannot connect",
            message=f"{image.name} runs without an operating system and has no Bluetooth driver.",
            why="Use a wired controller, or an image with a system below it.",
        )
    return Finding(
        code=f"controls.pairing:{device.role}",
        severity=Severity.NOTE,
        operation=OPERATION,
        subject=device.title,
        title=f"{device.title} connects late",
        message=f"It needs about {device.encoder.pairing_s:g} s after boot and must be paired once.",
        why="Until then the menu does not react; keep a wired controller or keyboard at hand.",
    )


def _same_kind(hookup: Hookup) -> list[Finding]:
    found = []
    kinds = Counter(device.encoder.id for device in hookup.devices if device.encoder.link == "usb")
    ports = {place.role: place.port for place in hookup.settings.places}
    for encoder_id, count in kinds.items():
        same = [device for device in hookup.devices if device.encoder.id == encoder_id]
        if count > 1 and (hookup.settings.naming == "order" or not all(ports.get(device.role) for device in same)):
            found.append(
                Finding(
                    code=f"controls.same-kind:{encoder_id}",
                    severity=Severity.CAUTION,
                    operation=OPERATION,
                    subject=same[0].encoder.name,
                    title=f"{count} identical encoders can swap players",
                    message="They share one USB ID. Only the USB socket tells them apart, and none is set.",
                    why="Player 1 is whichever connects first after boot.",
                    source="udev(7): ID_PATH names the socket",
                )
            )
    return found


def _wiring(hookup: Hookup) -> list[Finding]:
    faults = []
    settings = hookup.settings
    wired = Counter(wire.control for wire in settings.wires)
    used = Counter((wire.device, wire.terminal) for wire in settings.wires)
    lost = [wire for wire in settings.wires if wire.control not in hookup.wired]
    unknown = sorted({(hookup.device(wire.device), wire.terminal) for wire in lost}, key=lambda each: each[1])
    missing = [control for control in hookup.switches if control not in wired]
    twice = sorted(terminal for (_device, terminal), count in used.items() if count > 1)
    for device, terminal in unknown:
        faults.append(
            f"{device.title} has no terminal {terminal}." if device else f"Terminal {terminal} has no encoder."
        )
    if missing:
        faults.append(f"Not wired: {in_words(missing)}.")
    if twice:
        faults.append(f"Two switches share terminal {', '.join(twice)}.")
    if not faults:
        return []
    wires = wire_in_order(hookup, printed=settings.wiring == "printed")
    rows = [wire.model_dump() for wire in wires]
    before, after = f"{len(settings.wires)} wires", f"{len(wires)} wires in terminal order"
    change = change_of("controls.wires", rows, before, after)
    return [
        Finding(
            code="controls.wiring",
            severity=Severity.CAUTION,
            operation=OPERATION,
            subject=hookup.devices[0].title,
            title="The wiring is not complete",
            message=" ".join(faults),
            why="A switch without a terminal does nothing; two on one cannot be told apart.",
            remedy=Remedy(label="Wire in terminal order", changes=(change,)),
        )
    ]


def _fights(hookup: Hookup) -> list[Finding]:
    """Seats that SDL cannot tell apart and that are wired in two ways."""
    return [
        Finding(
            code=f"controls.fight:{one}-{other}",
            severity=Severity.CAUTION,
            operation=OPERATION,
            subject="SDL mapping",
            title=f"The button mappings of seats {one} and {other} conflict",
            message="Their encoders have the same USB ID but are wired differently.",
            why="One SDL mapping serves both seats, so the buttons of one are wrong. Wire both seats the same way.",
            source="SDL 2: a mapping belongs to a GUID of bus, vendor, product and version",
        )
        for one, other in exports.fights(hookup)
    ]


def _systems(build: Build, catalogue: Catalogue, hookup: Hookup) -> list[Finding]:
    found = []
    for system_id in build.systems:
        system = catalogue.find(System, system_id)
        if system is None:
            continue
        empty = unreached(hookup, system, player=1)
        if empty:
            found.append(
                Finding(
                    code=f"controls.unreached:{system.id}",
                    severity=Severity.CAUTION,
                    operation=OPERATION,
                    subject=system.name,
                    title=f"{len(empty)} inputs of {system.name} have no button",
                    message=f"No switch for {', '.join(empty)}.",
                    why="If the emulator asks for one of them, hold any other button to skip it.",
                )
            )
    return found


def _levers(build: Build, catalogue: Catalogue, hookup: Hookup) -> list[Finding]:
    """Systems whose games want another lever than the seats have."""
    levers = {control.ways for seat in hookup.layout.seats for control in seat.controls if control.kind == "lever"}
    found = []
    for system in systems_of(build, catalogue):
        if system.ways and levers and system.ways not in levers:
            has = " and ".join(str(lever) for lever in sorted(levers))
            why = "A 4-way joystick cannot reach the diagonals that its games need."
            if system.ways == 4:
                why = "An 8-way joystick sends diagonals that a 4-way game cannot use, so turns are missed."
            found.append(
                Finding(
                    code=f"controls.lever:{system.id}",
                    severity=Severity.CAUTION,
                    operation=OPERATION,
                    subject=system.name,
                    title=f"{system.name} needs a {system.ways}-way joystick",
                    message=f"The joysticks here are {has}-way. Change the restrictor gate.",
                    why=why,
                    source="Common practice",
                )
            )
    return found


def _hotkeys(build: Build, catalogue: Catalogue, hookup: Hookup) -> list[Finding]:
    systems = systems_of(build, catalogue)
    troubles = list(hotkeys.troubles(hookup, systems))
    key, proposal, hold_s = hotkeys.safest(hookup, systems) if troubles else ("", (), 0.0)
    now = build.controls.hotkey, build.controls.hotkeys, build.controls.hold_s
    found = []
    for trouble in troubles:
        remedy = None
        if key and (key, proposal, hold_s) != now:
            words_ = ", ".join(f"{each.action} = {each.control}" for each in proposal)
            remedy = Remedy(
                label=f"Hold {key}{f' for {hold_s:g} s' if hold_s else ''}; {proposal[0].control} quits",
                changes=(
                    change_of("controls.hotkey", key, build.controls.hotkey or "none", key),
                    change_of("controls.hotkeys", [each.model_dump() for each in proposal], "as now", words_),
                    change_of("controls.hold_s", hold_s, f"{build.controls.hold_s:g} s", f"{hold_s:g} s"),
                ),
            )
        found.append(
            Finding(
                code=f"controls.hotkeys:{trouble.code}",
                severity=Severity.STOP if trouble.stop else Severity.CAUTION,
                operation=OPERATION,
                subject="Hotkeys",
                title="A hotkey gets in the way"
                if "accident" in trouble.code
                else "You cannot exit a game"
                if trouble.code in ("no-exit", "exit-lost")
                else "Two hotkeys clash",
                message=trouble.words,
                why=trouble.why,
                remedy=remedy,
            )
        )
    return found


def _panel(hookup: Hookup) -> list[Finding]:
    """What cannot be built, and in one finding what is worse to play. Only a panel of one's own is judged: a part of
    the catalogue is built already."""
    if hookup.settings.layout is None:
        return []
    bad = [check for check in checks(hookup.layout) if not check.ok]
    hard, soft = [each for each in bad if each.hard], [each for each in bad if not each.hard]
    found = []
    for wrong, severity, title in (
        (hard, Severity.CAUTION, "The panel cannot be built like this"),
        (soft, Severity.NOTE, "The panel is uncomfortable"),
    ):
        if wrong:
            told = "; ".join(
                f"seat {each.where[0]}{' ' + ' and '.join(each.where[1]) if each.where[1] else ''}: {each.words}"
                for each in wrong[:3]
            )
            more = f"; and {len(wrong) - 3} more" if len(wrong) > 3 else ""
            found.append(
                Finding(
                    code=f"controls.panel:{severity.value}",
                    severity=severity,
                    operation=OPERATION,
                    subject="Panel",
                    title=title,
                    message=f"{told[:1].upper()}{told[1:]}{more}.",
                    why="Measure before you drill, and try it in cardboard."
                    if severity is Severity.CAUTION
                    else "Wrists and shoulders will ache after a long session.",
                    source="Common practice; DIN 33402-2 for hands, from memory",
                )
            )
    return found


def _proof(hookup: Hookup) -> list[Finding]:
    """What the last guided proof found, while the wiring is still the one that it was of."""
    told = hookup.settings.proof
    if told is None or told.wiring != fingerprint(hookup) or not (told.faults or told.silent):
        return []
    words_ = "; ".join(told.faults[:4]) or f"nothing came from {', '.join(told.silent[:6])}"
    return [
        Finding(
            code="controls.proof",
            severity=Severity.STOP if told.silent else Severity.CAUTION,
            operation=OPERATION,
            subject="Wiring",
            title="The wiring test found faults",
            message=f"{words_[:1].upper()}{words_[1:]}.",
            why="The switches do not do what the build says. Fix the wiring, then run the wiring test again.",
        )
    ]


def _ghosts(build: Build, catalogue: Catalogue) -> list[Finding]:
    """Keys that games hold together and that read as another: once the ribbon has been read."""
    settings = build.controls.keyboard
    own = catalogue.find(Keyboard, settings.layout)
    if own is None or not settings.readings:
        return []
    sets = exports.held_together(build, catalogue)
    lines = exports.lines_of(build, catalogue)
    found = ghosts(lines, [keys for _name, keys in sets], settings.diodes)
    if not found:
        return []
    names = {key.id: key.label for key in own.keys}
    first, needed = found[0], cures(found)
    who = next((name for name, keys in sets if set(first.held) <= set(keys) and name), "Your choice")
    after = (*settings.diodes, *needed)
    keys = " and ".join(names.get(key, key) for key in needed)
    change = change_of("controls.keyboard.diodes", list(after), f"{len(settings.diodes)} keys", f"{len(after)} keys")
    held = " + ".join(names.get(key, key) for key in first.held)
    return [
        Finding(
            code="controls.ghosts",
            severity=Severity.CAUTION,
            operation=OPERATION,
            subject=own.name,
            title=f"{counted(len(found), 'ghost')} on {own.name}",
            message=f"{held} pressed together also trigger {names.get(first.seen, first.seen)}; "
            f"{who} uses that combination.",
            why="Three pressed keys let current reach a fourth; a diode on the middle key blocks it.",
            source="matrix without diodes: a crossing closes through three others, or through five and more",
            remedy=Remedy(label=f"A diode at {keys}", changes=(change,)),
        )
    ]


def fingerprint(hookup: Hookup) -> str:
    """Of the wires and the devices, so that a proof of others is not taken for theirs."""
    told = [(wire.control, wire.device, wire.terminal) for wire in hookup.settings.wires]
    told += [(device.role, device.encoder.id, "") for device in hookup.devices]
    return hashlib.sha256(repr(sorted(told)).encode()).hexdigest()[:16]
