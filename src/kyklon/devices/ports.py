"""What the program asks of a drive, an input device or a display, whichever back end answers."""

from __future__ import annotations

from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol


@dataclass(frozen=True)
class PartFacts:
    """A partition of a drive as the system lists it. Sizes in bytes; used is None where nobody tells."""

    number: int
    size: int
    kind: str = ""
    label: str = ""
    used: int | None = None
    mounts: tuple[str, ...] = ()


@dataclass(frozen=True)
class DriveFacts:
    """What is known of a drive. identity: stays the same while this very drive is plugged in.

    holds: what is on it, in words a beginner understands. labels: names of its volumes. newest: date of the
    newest file, ISO 8601. in_use: it carries the running system. swap: active swap space. member_of: LVM, RAID or
    crypt when an active one uses it, 'mapped' for whatever else the kernel has built on it. part_of: the whole drive's
    name, for a partition. why_read_only: what the system says about it. node: tells this plugging-in, or this very
    file, from any other that comes to have its name; '' when it is not there yet. nodes: all that are the same bytes,
    as devices.linux.layers names them.
    """

    identity: str
    name: str
    size: int
    bus: str
    removable: bool
    model: str = ""
    serial: str = ""
    read_only: bool = False
    why_read_only: str = ""
    in_use: bool = False
    swap: bool = False
    member_of: str = ""
    part_of: str = ""
    mounts: tuple[str, ...] = ()
    labels: tuple[str, ...] = ()
    parts: tuple[PartFacts, ...] = ()
    holds: str = ""
    files: int = 0
    newest: str = ""
    simulated: bool = False
    is_file: bool = False
    node: str = ""
    nodes: tuple[str, ...] = ()

    @property
    def bus_shown(self) -> str:
        """The bus as people write it."""
        return {"usb": "USB", "nvme": "NVMe", "sata": "SATA", "ata": "SATA", "mmc": "MMC", "sdio": "SDIO"}.get(
            self.bus, self.bus
        )


class Handle(Protocol):
    """An open drive. Offsets and lengths in bytes. Raises TargetError or one below it.

    cached: what was written can be read again from memory before it is synced. node: as in DriveFacts, of what is
    open. path: where system tools find the open bytes, whatever its old name leads to by now.
    """

    @property
    def cached(self) -> bool: ...

    @property
    def node(self) -> str: ...

    @property
    def path(self) -> Path: ...

    def write_at(self, data: bytes | memoryview, offset: int) -> None: ...

    def read_at(self, length: int, offset: int) -> bytes: ...

    def zero(self, length: int, offset: int) -> bool:
        """Make a stretch read as zeros without moving its bytes; False when that cannot be had here."""
        ...

    def sync(self) -> None: ...

    def forget_cache(self) -> None:
        """After this, reads come from the medium."""
        ...

    def reread_table(self) -> str:
        """Let the system see the new partitions; what it said against it, '' when it saw them."""
        ...


class Drives(Protocol):
    """A source of drives. called: what the screen calls this source, as 'through UDisks2'."""

    called: str

    def list(self) -> tuple[DriveFacts, ...]: ...

    def open(self, identity: str, *, write: bool) -> AbstractContextManager[Handle]: ...

    def path(self, identity: str) -> Path:
        """Where system tools find its bytes."""
        ...

    def part(self, path: Path) -> DriveFacts | None:
        """A partition as the drive it is not, so that it can be refused with a reason; None for no partition."""
        ...

    def unmount(self, identity: str) -> str:
        """Unmount everything on it; in words, what was done. Raises TargetError or ToolError."""
        ...

    def remove(self, identity: str) -> str:
        """Make it safe to pull out; in words, what was done. Raises TargetError."""
        ...

    def now_holds(self, identity: str, holds: str, label: str = "") -> None:
        """Told what was just put on a drive: a stand-in remembers it, a real drive shows it by itself."""
        ...


@dataclass(frozen=True)
class Target:
    """A drive with the back end that can open it."""

    drives: Drives
    facts: DriveFacts

    @property
    def path(self) -> Path:
        return self.drives.path(self.facts.identity)


@dataclass(frozen=True)
class InputEvent:
    """code: the kernel's name (BTN_*, KEY_*, ABS_*). value: 1 pressed, 0 released, -1/0/1 for axes. at: seconds on the
    device's own clock, 0 where nobody tells. raw: what an axis said itself, None for a button."""

    player: int
    code: str
    value: int
    at: float = 0.0
    raw: int | None = None


@dataclass(frozen=True)
class AxisFacts:
    """code: ABS_X and so on. low, high: its ends."""

    code: str
    low: int
    high: int


@dataclass(frozen=True)
class InputFacts:
    """An input device as the system lists it. identity: what open() takes. bus: usb, bluetooth, '' for another.
    interval_ms: how often the host asks it, None where nobody tells. place: the socket it is in, the same for all nodes
    of one device (evdev's phys)."""

    identity: str
    name: str
    vendor: int
    product: int
    version: int
    bus: str
    buttons: tuple[str, ...]
    axes: tuple[AxisFacts, ...]
    interval_ms: float | None = None
    place: str = ""

    @property
    def is_keyboard(self) -> bool:
        """Whether it speaks as a keyboard: keys and no axes."""
        return not self.axes and any(code.startswith("KEY_") for code in self.buttons)


class InputHandle(Protocol):
    """An open input device."""

    def waiting(self) -> tuple[InputEvent, ...]:
        """What came since the last call; never waits. Raises KyklonError when it went away."""
        ...


class Inputs(Protocol):
    """A source of input devices. called: what the screen calls this source."""

    called: str

    def list(self) -> tuple[InputFacts, ...]: ...

    def barred(self) -> tuple[str, ...]:
        """Devices that are there and that may not be read."""
        ...

    def open(self, identity: str) -> AbstractContextManager[InputHandle]: ...


@dataclass(frozen=True)
class ConnectedDisplay:
    """A display socket of this machine. data: its identification data, b'' where it gives none."""

    socket: str
    data: bytes


class Displays(Protocol):
    """A source of connected displays."""

    called: str

    def list(self) -> tuple[ConnectedDisplay, ...]: ...
