"""A card exchanged before it dies: for a copy of itself, for one that is written anew, or for a disk.

What is done is told by what happened since the exchange was begun: saves kept, cards backed up and written, boot files
put. What no file shows (games copied, parts put in, started) is ticked by hand.
"""

from __future__ import annotations

from dataclasses import dataclass

from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build, edited
from kyklon.model.findings import Severity
from kyklon.model.world import World
from kyklon.operations.card import disk


@dataclass(frozen=True)
class Step:
    """operation: where it is done. ticked: it is ticked by hand, under `name`. machine: done at the machine itself."""

    name: str
    title: str
    why: str
    operation: int
    done: bool = False
    ticked: bool = False
    machine: bool = False


def begun(build: Build, when: str) -> Build:
    """A build whose exchange begins now. when: ISO 8601."""
    kept = {"exchange_since": when, "exchange_from": build.card.drive, "exchange_ticks": ()}
    return edited(build, "upkeep", build.upkeep.model_copy(update=kept))


def ended(build: Build) -> Build:
    """A build without an exchange under way."""
    kept = {"exchange_since": "", "exchange_from": "", "exchange_ticks": ()}
    return edited(build, "upkeep", build.upkeep.model_copy(update=kept))


def with_tick(build: Build, name: str, *, on: bool) -> Build:
    """A build in which a step is ticked, or is not. Raises ValueError for one that is not ticked by hand."""
    if name not in _BY_HAND:
        raise ValueError(f"{name} is not ticked by hand; these are: {', '.join(_BY_HAND)}")
    rest = tuple(each for each in build.upkeep.exchange_ticks if each != name)
    return edited(build, "upkeep.exchange_ticks", (*rest, name) if on else rest)


_BY_HAND = ("games", "parts", "start", "restore", "keep-old")


def steps(build: Build, catalogue: Catalogue, world: World) -> tuple[Step, ...]:
    """The steps of the exchange that is under way, or of the one that would be; in their order."""
    work = _Work(build, catalogue, world)
    middle = {"copy": work.copy, "fresh": work.fresh, "disk": work.on_disk}[build.upkeep.exchange_by]
    return (work.saves(), work.backup(), *middle(), *work.after())


class _Work:
    def __init__(self, build: Build, catalogue: Catalogue, world: World) -> None:
        self.build, self.catalogue, self.world = build, catalogue, world
        self.since, self.old = build.upkeep.exchange_since, build.upkeep.exchange_from
        self.way = build.upkeep.exchange_by

    def _later(self, when: str) -> bool:
        return bool(self.since) and when >= self.since

    def _new(self) -> bool:
        """Whether another drive than the old one was written whole since."""
        card = self.build.card
        return self._later(card.at) and card.bootable and card.drive != self.old

    def _by_hand(self, name: str, title: str, why: str, operation: int, *, machine: bool = False) -> Step:
        done = name in self.build.upkeep.exchange_ticks
        return Step(name, title, why, operation, done, ticked=True, machine=machine)

    def saves(self) -> Step:
        why = "They change every day, and a worn card may not give them back tomorrow."
        return Step("saves", "Back up the saves", why, 95, self._later(self.build.upkeep.saves_at))

    def backup(self) -> Step:
        why = "The way back, and what a copy is made from." if self.way == "copy" else "The way back."
        known = self.build.known_card(self.old) if self.old else None
        done = any(event.what == "backed up" and self._later(event.at) for event in known.events) if known else False
        return Step("backup", "Back up the old card", why, 20, done)

    def copy(self) -> tuple[Step, ...]:
        why = "Everything goes along: settings, games, saves. The new card must hold as many bytes."
        return (Step("write", "Write the backup to the new card", why, 20, self._new()),)

    def fresh(self) -> tuple[Step, ...]:
        why = "Nothing of the old card's damage goes along."
        return (Step("write", "Write the image to the new card", why, 20, self._new()), *self._filled())

    def on_disk(self) -> tuple[Step, ...]:
        build = self.build
        chosen = bool(build.part("disk") and build.part("bridge"))
        troubles = [
            each for each in disk.findings(build, self.catalogue, self.world) if each.severity is not Severity.NOTE
        ]
        ready = build.medium == "disk" and chosen
        why = troubles[0].title + "." if ready and troubles else "Current, quirks of the bridge and the root's name."
        return (
            Step("choose", "Choose the disk and its bridge", "Speed and current depend on them.", 20, chosen),
            Step("medium", "Let the build start from the disk", "The boot files then name it.", 20, ready),
            Step("clear", "Clear what speaks against the disk", why, 20, ready and not troubles),
            Step("write", "Write the image to the disk", "It takes the card's place.", 20, self._new()),
            *self._filled(),
            self._by_hand("parts", "Put the disk and its bridge in place", "Power off first.", 80, machine=True),
        )

    def _filled(self) -> tuple[Step, ...]:
        put = self._new() and self.build.card.boot_files_at >= self.build.card.at
        return (
            Step("boot", "Copy this build's boot files", "Without them it starts with the image's defaults.", 30, put),
            self._by_hand("games", "Copy the games", "A copy of the folder, not of the card.", 60),
        )

    def after(self) -> tuple[Step, ...]:
        words = "Take the old card out, put the new one in, and start"
        if self.way == "disk":
            words = "Take the card out and start from the disk"
        found = [self._by_hand("start", words, "Power off and unplug before you touch the slot.", 90, machine=True)]
        if self.way != "copy":
            why = "Newer ones on the machine are not replaced."
            found.append(self._by_hand("restore", "Restore the saves", why, 95, machine=True))
        why = "For a month: it is the only thing that is known to start."
        return (*found, self._by_hand("keep-old", "Label the old card and put it away", why, 95))
