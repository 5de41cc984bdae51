"""What tests share."""

from __future__ import annotations

import contextlib
import signal
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from kyklon.base.progress import UNWATCHED, Watch
from kyklon.demo import lighthouse
from kyklon.devices.ports import DriveFacts, Target
from kyklon.devices.simulated.drives import Faults, SimulatedDrive, SimulatedDrives
from kyklon.model.build import Build
from kyklon.model.image_file import SourceFacts
from kyklon.operations.card.acts import CardJob, Written, stated_for, write_card
from kyklon.operations.card.drives import looking
from kyklon.operations.card.drives.interlock import Consent, Purpose, Request, opened
from kyklon.operations.card.drives.writer import PLAINLY, Order, WriteReport, write_image
from kyklon.operations.card.sources import source
from kyklon.record import folder as store

MIB = 1 << 20
ENDS_S = 300  # seconds after which something is taken to have no end, however busy the machine is


@contextlib.contextmanager
def that_ends() -> Iterator[None]:
    """What is done inside comes to an end: how soon is for the benchmarks to say, never for a test."""

    def endless(_signal: int, _frame: object) -> None:
        raise AssertionError(f"no end after {ENDS_S} s")

    before = signal.signal(signal.SIGALRM, endless)
    signal.alarm(ENDS_S)
    try:
        yield
    finally:
        signal.alarm(0)
        signal.signal(signal.SIGALRM, before)


@dataclass(frozen=True)
class Demo:
    """A demo build of a test's own."""

    folder: Path

    @property
    def build(self) -> Build:
        return store.load(self.folder).build

    @property
    def image(self) -> Path:
        return self.folder / lighthouse.IMAGE

    @property
    def drives(self) -> SimulatedDrives:
        return SimulatedDrives(self.folder / "drives")

    def drive(self, name: str) -> Path:
        return self.folder / "drives" / f"{name}.standin"

    def target(self, name: str = "blank-card") -> Target:
        return looking.find(name, self.folder)

    def job(self, name: str = "blank-card", typed: str = "", build: Build | None = None) -> CardJob:
        """An act on one of the demo's drives."""
        target = self.target(name)
        consent = Consent(typed, target.facts.identity)
        return CardJob(target, consent, build or self.build, self.folder)

    def write(
        self, name: str = "blank-card", image: Path | None = None, typed: str = "", watch: Watch = UNWATCHED
    ) -> Written:
        """Write the build's own image, or another, as a user would."""
        facts = source.inspect(image or self.image)
        stated = stated_for(None if image else self.build, facts)
        return write_card(self.job(name, typed), facts, stated=stated, watch=watch)


def write(
    target: Target, image: Path | SourceFacts, order: Order = PLAINLY, watch: Watch = UNWATCHED, typed: str = ""
) -> WriteReport:
    """An image onto a drive outside any build."""
    facts = source.inspect(image) if isinstance(image, Path) else image
    with opened(Request(target, Purpose.WRITE, facts, Consent(typed))) as target_open:
        return write_image(target_open, facts, order, watch)


def simulated(folder: Path, size: int = 64 * MIB, **faults: int) -> Target:
    """One simulated drive with faults."""
    facts = DriveFacts(identity="sim:x", name="x", size=size, bus="usb", removable=True, simulated=True)
    drives = SimulatedDrives(folder / "drives")
    drives.save((SimulatedDrive(facts=facts, backing="x.standin", faults=Faults(**faults)),))
    return Target(drives, facts)
