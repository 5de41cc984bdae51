"""What the wiring and the encoder say against the build."""

from __future__ import annotations

from collections import Counter

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Encoder, Panel, System
from kyklon.model.build import Build, ControlSettings, change_of
from kyklon.model.findings import Finding, Remedy, Severity
from kyklon.model.kernel_line import MOST_QUIRKS, set_words, word_values, words
from kyklon.model.world import World
from kyklon.operations.controls.mapping import all_controls, unreached, wire_in_order
from kyklon.operations.controls.quirks import encoder_quirk, quirk_given

OPERATION = 40


def findings(build: Build, catalogue: Catalogue, _world: World) -> list[Finding]:
    encoder = catalogue.find(Encoder, build.part("encoder"))
    panel = catalogue.find(Panel, build.controls.panel)
    if encoder is None or panel is None:
        return []
    return [
        *_quirk(build, encoder),
        *_players(panel, encoder),
        *_wiring(build.controls, panel, encoder),
        *_systems(build, catalogue, panel, encoder),
        *_hotkeys(build.controls),
    ]


def quirk_remedy(build: Build, encoder: Encoder) -> Remedy:
    """Write the encoder's quirk onto the kernel line, joined with those already there."""
    before = " ".join(build.boot.kernel_words)
    after = set_words(before, [f"usbhid.quirks={encoder_quirk(encoder)}"])
    change = change_of("boot.kernel_words", list(words(after)), before or "none", after)
    return Remedy(label=f"Add the quirk of {encoder.name}", changes=(change,))


def _quirk(build: Build, encoder: Encoder) -> list[Finding]:
    quirk = encoder_quirk(encoder)
    given = word_values(" ".join(build.boot.kernel_words), "usbhid.quirks")
    found = []
    if quirk and not quirk_given(quirk, given):
        found.append(
            Finding(
                code="controls.encoder-quirk",
                severity=Severity.STOP,
                operation=OPERATION,
                subject=encoder.name,
                title=f"{encoder.name}: two players in one device",
                message=f"The kernel line lacks usbhid.quirks={quirk}.",
                why=f"{encoder.quirk_why} The front end stops when it opens the device.",
                source="kernel-parameters: usbhid.quirks; linux/hid.h: 0x40 is multi-input",
                remedy=quirk_remedy(build, encoder),
            )
        )
    if len(given) > MOST_QUIRKS:
        found.append(
            Finding(
                code="controls.too-many-quirks", severity=Severity.CAUTION, operation=OPERATION, subject="Kernel line",
                title=f"{len(given)} USB quirks are too many",
                message=f"The kernel reads at most {MOST_QUIRKS}; the rest are ignored.",
                why="The encoder whose quirk is dropped behaves as if it had none.", source="usbhid driver (mem)",
            )
        )  # fmt: skip
    return found


def _players(panel: Panel, encoder: Encoder) -> list[Finding]:
    if encoder.players >= panel.players:
        return []
    return [
        Finding(
            code="controls.players", severity=Severity.STOP, operation=OPERATION, subject=encoder.name,
            title="The encoder handles too few players",
            message=f"{panel.name} has {panel.players} seats; {encoder.name} handles {encoder.players}.",
            why="The other seat's controls would not work.",
        )
    ]  # fmt: skip


def _wiring(settings: ControlSettings, panel: Panel, encoder: Encoder) -> list[Finding]:
    faults = []
    wired = Counter(wire.control for wire in settings.wires)
    used = Counter(wire.terminal for wire in settings.wires)
    unknown = sorted({wire.terminal for wire in settings.wires if encoder.terminal(wire.terminal) is None})
    missing = [control for control in all_controls(panel) if control not in wired]
    twice = sorted(terminal for terminal, count in used.items() if count > 1)
    if unknown:
        faults.append(f"{encoder.name} has no terminal {', '.join(unknown)}.")
    if missing:
        faults.append(f"Not wired: {', '.join(missing)}.")
    if twice:
        faults.append(f"Two switches share terminal {', '.join(twice)}.")
    if not faults:
        return []
    wires = wire_in_order(panel, encoder)
    rows = [wire.model_dump() for wire in wires]
    before, after = f"{len(settings.wires)} wires", f"{len(wires)} wires in terminal order"
    change = change_of("controls.wires", rows, before, after)
    return [
        Finding(
            code="controls.wiring", severity=Severity.CAUTION, operation=OPERATION, subject=encoder.name,
            title="The wiring is not complete", message=" ".join(faults),
            why="A switch without a terminal does nothing; two on one cannot be told apart.",
            remedy=Remedy(label="Wire in terminal order", changes=(change,)),
        )
    ]  # fmt: skip


def _systems(build: Build, catalogue: Catalogue, panel: Panel, encoder: Encoder) -> list[Finding]:
    found = []
    for system_id in build.systems:
        system = catalogue.find(System, system_id)
        if system is None:
            continue
        empty = unreached(panel, build.controls, encoder, system, player=1)
        if empty:
            found.append(
                Finding(
                    code=f"controls.unreached:{system.id}", severity=Severity.CAUTION, operation=OPERATION,
                    subject=system.name, title=f"{len(empty)} inputs of {system.name} have no button",
                    message=f"No switch for {', '.join(empty)}.",
                    why="If the emulator asks for one of them, hold any other button to skip it.",
                )
            )  # fmt: skip
    return found


def _hotkeys(settings: ControlSettings) -> list[Finding]:
    doubled = [c for c, count in Counter(key.control for key in settings.hotkeys).items() if count > 1]
    clash = [key.action for key in settings.hotkeys if key.control == settings.hotkey]
    if not doubled and not clash:
        return []
    words_ = [f"{control} does two things." for control in doubled]
    words_ += [f"“{action}” uses the hotkey itself." for action in clash]
    return [
        Finding(
            code="controls.hotkeys", severity=Severity.CAUTION, operation=OPERATION, subject="Hotkeys",
            title="Two hotkeys clash", message=" ".join(words_),
            why="One of the two actions will never happen, or both at once.",
        )
    ]  # fmt: skip
