"""What tests share."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from kyklon.demo import lighthouse
from kyklon.model.build import Build
from kyklon.record import folder as store


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

    def drive(self, name: str) -> Path:
        return self.folder / "drives" / f"{name}.img"
