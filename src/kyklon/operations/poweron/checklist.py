"""The first power-on, step by step: what to do, what to see and when, and what to do when it is not so."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import RHYTHM_WORDS, Board, Display
from kyklon.model.build import Build
from kyklon.model.kernel_line import given as words_given
from kyklon.operations.controls.hookup import ROLE, devices_of
from kyklon.operations.controls.quirks import encoder_quirk, quirk_given
from kyklon.operations.poweron.events import BringUp

_CLOCK_FROM = "power"  # the step at which the clock begins
_LONGEST_S = 4 * 3600.0  # what was ticked later than that was not waited for


@dataclass(frozen=True)
class Item:
    """key is stable. look: what to do, or to see. otherwise: what to do when it is not so. expected_s: seconds after
    the switch when it is to be seen, None where no time is foretold. caution: what can hurt or be lost."""

    key: str
    look: str
    otherwise: str
    expected_s: float | None = None
    caution: str = ""


def items(build: Build, catalogue: Catalogue, run: BringUp | None = None) -> tuple[Item, ...]:
    """The steps for this build, in the order in which they are done. run: a forecast, for the times."""
    image = catalogue.find(Image, build.part("image"))
    bare = image is not None and not image.has_system
    steps = [*_before(build, catalogue), *_starting(build, catalogue, run), *_running(build, catalogue, image)]
    return tuple(steps if bare else [*steps, *_setting_up(build, catalogue, image), *_leaving(build, image)])


def at_s(run: BringUp | None, stage: str) -> float | None:
    """When a stage is foretold to begin, seconds after the switch."""
    return next((event.at_s for event in run.events if event.stage == stage), None) if run else None


def _before(build: Build, catalogue: Catalogue) -> Iterator[Item]:
    """Before the power."""
    words = " ".join(build.boot.kernel_words)
    display = catalogue.find(Display, build.part("display"))
    if display is not None:
        tube = "The tube is switched on last, once the mode is stable." if display.tube else ""
        yield Item(
            "plugged",
            f"{display.name} and everything else is connected before power-on.",
            "Switch off, plug it in, start again.",
            caution=tube,
        )
    given = words_given(words)
    for device in devices_of(build, catalogue):
        quirk = encoder_quirk(device.encoder)
        if quirk and not quirk_given(quirk, given):
            name = "encoder-out" if device.role == ROLE else f"{device.role}-out"
            yield Item(
                name,
                f"{device.title} stays unplugged for the first boot.",
                "Its USB quirk is missing from the kernel command line: add it in Boot, then plug the encoder in.",
            )
    yield Item("keyboard", "A keyboard is plugged in: the first run may ask.", "Plug one in before switching on.")


def _starting(build: Build, catalogue: Catalogue, run: BringUp | None) -> Iterator[Item]:
    """From the switch to the menu."""
    board = catalogue.find(Board, build.part("board"))
    display = catalogue.find(Display, build.part("display"))
    image = catalogue.find(Image, build.part("image"))
    lamp = f": the lamp of {board.name} is {RHYTHM_WORDS[board.lamps.powered]} at first" if board else ""
    yield Item(
        "power",
        f"Switch on{lamp}.",
        "Lamp dark: check the power supply. Blinking in pairs: measure the voltage at the board.",
        0.0,
    )
    if display is not None:
        if build.picture.display_on == "once the mode holds":
            yield Item(
                "display-off",
                f"{display.name} stays off until the menu's mode holds; then switch it on.",
                "On too early: off at once, and look for a whine or a smell.",
                at_s(run, "display"),
                "What is sent before the menu may harm it.",
            )
        held = "a steady picture, no rolling, no whine" if display.tube else "a picture in its native size"
        yield Item(
            "picture",
            f"{display.name} shows {held}.",
            "Switch off at once and see Picture.",
            at_s(run, "display"),
            "A picture that rolls or a tube that whines: switch off at once.",
        )
    if image is None or image.grows:
        yield Item(
            "expansion",
            "The first boot ends with a restart: the card grows.",
            "Wait.",
            at_s(run, "root expansion"),
            "Do not pull the plug meanwhile.",
        )
    if image is not None and image.installer_service:
        low, high = image.unattended_min
        yield Item(
            "installer",
            f"{image.front_end} is fetched: leave it alone for {low} to {high} minutes.",
            "Check the network and the free space, then start it again.",
            low * 60.0,
        )
    if image is not None and image.school == "multi-boot":
        yield Item("bundles", f"{image.front_end} lists every selected system.", "See Card, multi-boot.")


def _running(build: Build, catalogue: Catalogue, image: Image | None) -> Iterator[Item]:
    """What is to be seen and heard."""
    if image is not None:
        yield Item("games", f"{image.front_end} lists the systems.", "Restart it; then see Library.")
    for device in devices_of(build, catalogue):
        name = "controls" if device.role == ROLE else f"controls-{device.role}"
        yield Item(name, f"{device.title}: every seat moves the menu.", "See Controls, live test.")
    yield Item("sound", "You can hear a game.", "See Boot, audio output.")


def _setting_up(build: Build, catalogue: Catalogue, image: Image | None) -> Iterator[Item]:
    """What the first start leaves to do."""
    if not build.boot.country:
        yield Item("country", "The Wi-Fi country is set, if the machine uses Wi-Fi.", "Set it in Boot.")
    password = f"The password of {build.boot.user} is changed."
    yield Item("password", password, "Change it now; everybody knows the default.")
    if devices_of(build, catalogue):
        yield Item(
            "map", "The front end uses the issued controller mapping, or has learnt the buttons.", "See Controls."
        )
    if build.system.remote_key:
        yield Item(
            "remote", "You can log in from another computer with your key, and not without it.", "See Boot, System."
        )


def _leaving(build: Build, image: Image | None) -> Iterator[Item]:
    """That it can be left, and comes again."""
    leave = next((hotkey.control for hotkey in build.controls.hotkeys if hotkey.action == "leave"), "start")
    yield Item("exit", f"Holding {build.controls.hotkey}, {leave} quits a game.", "See Controls, hotkeys.")
    yield Item("restart", "After a restart from the menu it comes back by itself.", "Run the bring-up again.")
    yield Item(
        "shutdown",
        "Shutting down from the menu turns the lamp off.",
        "See Boot, services.",
        caution="Never pull the plug on a running system.",
    )


def measured_s(build: Build, key: str) -> float | None:
    """Seconds from the switch to a tick; None where one of them is missing or nobody waited."""
    ticks = {tick.item: tick.at for tick in build.ticks}
    if key not in ticks or _CLOCK_FROM not in ticks or key == _CLOCK_FROM:
        return None
    try:
        begun, seen = (datetime.fromisoformat(ticks[each]) for each in (_CLOCK_FROM, key))
        seconds = (seen - begun).total_seconds()
    except (ValueError, TypeError):
        return None
    return seconds if 0 <= seconds <= _LONGEST_S else None
