"""What the program asks of a drive or an encoder, whichever back end answers."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Protocol

from kyklon.model.record import Record


class DriveFacts(Record):
    """What is known of a drive. identity: stays the same while this very drive is plugged in.

    holds: what is on it, in words a beginner understands. labels: names of its volumes. newest: date of the
    newest file, ISO 8601. A drive in_use carries the running system, swap or an active member of an array.
    """

    identity: str
    name: str
    size: int
    bus: str
    model: str = ""
    serial: str = ""
    removable: bool
    read_only: bool = False
    in_use: bool = False
    mounts: tuple[str, ...] = ()
    labels: tuple[str, ...] = ()
    holds: str = ""
    files: int = 0
    newest: str = ""
    simulated: bool = False
    is_file: bool = False


class Handle(Protocol):
    """An open drive. Offsets and lengths in bytes. Raises TargetLost, TargetFull or TargetError."""

    def write_at(self, data: bytes | memoryview, offset: int) -> None: ...

    def read_at(self, length: int, offset: int) -> bytes: ...

    def sync(self) -> None: ...

    def forget_cache(self) -> None: ...


class Drives(Protocol):
    """A source of drives."""

    def list(self) -> tuple[DriveFacts, ...]: ...

    def open(self, identity: str, *, write: bool) -> AbstractContextManager[Handle]: ...

    def path(self, identity: str) -> Path:
        """Where system tools find its bytes."""
        ...


class InputEvent(Record):
    """code: the kernel's name (BTN_*, KEY_*, ABS_*). value: 1 pressed, 0 released, -1/0/1 for axes."""

    player: int
    code: str
    value: int


class Encoders(Protocol):
    def events(self) -> Iterator[InputEvent]: ...
