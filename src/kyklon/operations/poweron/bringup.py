"""Simulates the first power-on, stage by stage, from the bytes on the card, the build and what is plugged in."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

from kyklon.base.errors import KyklonError
from kyklon.model.build import remedied
from kyklon.operations.boot.acts import plan_boot_files
from kyklon.operations.card.volumes.boot_facts import UNKNOWN_32
from kyklon.operations.card.volumes.contents import with_files
from kyklon.operations.poweron.bench import Bench, lay_out
from kyklon.operations.poweron.events import PUT_ON_CARD, BringUp, Event, Failure, Screen, Step
from kyklon.operations.poweron.sequence import stages_of
from kyklon.operations.poweron.stages import bare_metal, multi_boot
from kyklon.operations.poweron.stages.display import native_assumed, silent
from kyklon.operations.poweron.stages.games import front_end_screen, visible_games


class _Run:
    """Collects events until the first failure that blocks, and failures to the end."""

    def __init__(self, measured: Mapping[str, float]) -> None:
        self.measured = measured
        self.at = 0.0
        self.events: list[Event] = []
        self.failures: list[Failure] = []
        self.reached = ""
        self.blocked = False
        self.again_s = 0.0

    def take(self, stage: str, step: Step) -> None:
        if not self.blocked:
            factor = self._factor(stage, step)
            for moment in step.moments:
                seconds = moment.seconds * (1.0 if moment.once else factor)
                self.events.append(Event(round(self.at, 1), stage, moment.text, moment.lamp))
                self.at += seconds
                self.again_s += 0.0 if moment.once else seconds
        for failure in step.failures:
            if failure.blocks and not self.blocked:
                self.events.append(Event(round(self.at, 1), stage, failure.cause, failure.lamp))
                self.blocked = True
            self.failures.append(failure)
        if not self.blocked and (stage != "games" or not self.failures):
            self.reached = stage

    def _factor(self, stage: str, step: Step) -> float:
        """What makes a stage as long as it was measured on this board; what happens once is not in that."""
        usual = sum(moment.seconds for moment in step.moments if not moment.once)
        return self.measured[stage] / usual if stage in self.measured and usual else 1.0


def measured_times(bench: Bench) -> dict[str, float]:
    """Seconds of the stages that were measured on this build's board."""
    return {each.stage: each.seconds for each in bench.build.measured if each.board == bench.board.id}


def assumed(bench: Bench) -> tuple[str, ...]:
    """What this forecast could not see, and how it took it."""
    root = next(iter(bench.contents.roots.values()), None) if bench.image.has_system else None
    chooser = bench.image.school == "multi-boot"
    bundles = multi_boot.checked(bench) if chooser else None
    large = any(part.sha256 for bundle in (bundles.bundles if bundles else ()) for part in bundle.partitions)
    told = (
        (
            bench.display is not None and bench.identification is None,
            "The display's EDID was not read; the catalogue's limits are used"
            + (", and its native mode." if native_assumed(bench) is not None else "."),
        ),
        (
            (kernel := bench.contents.kernel(bench.kernel_name)) is not None and kernel.instruction_set == UNKNOWN_32,
            f"Which ARM processors {bench.kernel_name} is for could not be read; {bench.board.name} is assumed.",
        ),
        (bench.card is None, "No card is planned; a read speed of 20 MB/s is assumed."),
        (
            bench.initramfs_init and (bench.ramdisk is None or not bench.ramdisk.whole),
            "The initramfs could not be unpacked here; it is assumed to mount the root.",
        ),
        (
            bench.initramfs_init and bench.ramdisk is not None and bench.ramdisk.whole and not bench.ramdisk.maker,
            "The scripts of the initramfs are not simulated; they are assumed to mount the root that is named.",
        ),
        (root is not None and not root.stated, "The image has no checksums; its programs are assumed to be intact."),
        (chooser, "What a selected system does when it starts is not simulated."),
        (chooser and bundles is None, f"The catalogue does not say what {bench.image.name} looks for on its card."),
        (
            bundles is not None and not bundles.bundles,
            "The stick with the bundles is assumed to be connected and intact.",
        ),
        (large, "Archives over 64 KB are not compared with the checksums of their manifests; Card does that."),
        (root is not None and root.more_programs, "Not all programs on the card were checked for what they need."),
        (root is not None and root.more_files, "Only the first 5000 game files on the card were checked."),
        (
            bench.image.has_system and bool(bench.build.picture.systems),
            "Each system's mode is the plan's; the settings files on the machine were not read.",
        ),
        (bench.image.has_system and bench.on_machine is None, "The games on the machine were not checked."),
    )
    return tuple(words for holds, words in told if holds)


def _sound(bench: Bench) -> str:
    """What will be heard once the menu is there."""
    route = (bench.settings.sound if bench.settings else "") or bench.build.boot.sound
    if route == "none":
        return "no sound: switched off"
    if route == "digital":
        why = silent(bench)
        return f"no sound on this link: {why}" if why else "from the display, in games"
    return "from the board's own socket, in games"


def _walked(bench: Bench) -> _Run:
    run = _Run(measured_times(bench))
    for stage in stages_of(bench.image.school):
        outcome = stage.judge(bench)
        run.take(stage.name, outcome)
        if outcome.hides_the_rest:
            break
    return run


def _helps(bench: Bench, failure: Failure, before: tuple[Failure, ...]) -> bool:
    """Whether a remedy does what it is for: foretold with the build as it would be, and with its boot files on the
    card. One that only moves the failure, or stops the machine earlier, is none."""
    remedy = failure.remedy
    if remedy is None or (remedy.label != PUT_ON_CARD.label and not remedy.changes):
        return True  # an act elsewhere: games that are copied, bundles
    if failure.code.startswith("library"):
        return True  # it shows once the library was looked at again
    try:
        build = remedied(bench.build, remedy)
        files = plan_boot_files(build, bench.catalogue, bench.as_read).files
        if not remedy.changes and not files:
            return False  # they are there already
        after = _walked(lay_out(build, bench.catalogue, with_files(bench.as_read, files), bench.world)).failures
    except KyklonError:
        return False
    order = [stage.name for stage in stages_of(bench.image.school)]

    def stop(failures: Iterable[Failure]) -> int:
        return min((order.index(each.stage) for each in failures if each.blocks), default=len(order))

    if any((each.code, each.stage) == (failure.code, failure.stage) for each in after):
        return False
    return stop(after) >= (order.index(failure.stage) if failure.blocks else stop(before))


def bring_up(bench: Bench) -> BringUp:
    """The whole power-on. Later failures are found by assuming that the earlier ones are put right; a stage that
    cannot be judged because an earlier one hides it is passed over. Remedies are foretold too: what would not help is
    not offered."""
    run = _walked(bench)
    stages = stages_of(bench.image.school)
    found = tuple(run.failures)
    run.failures = [each if _helps(bench, each, found) else replace(each, remedy=None) for each in found]
    games = visible_games(bench)
    if run.blocked:
        screen = next(failure.screen for failure in run.failures if failure.blocks)
    else:
        screen = front_end_screen(bench, games)
        if not bench.image.has_system:
            offered = bare_metal.offered if bench.image.school == "bare metal" else multi_boot.offered
            screen = Screen("front end", bench.image.front_end, offered(bench))
    reached = "front end" if run.reached in ("games", stages[-1].name) else run.reached or "nothing"
    again = None if run.blocked else round(run.again_s, 1)
    return BringUp(reached, tuple(run.events), tuple(run.failures), screen, games, assumed(bench), _sound(bench), again)
