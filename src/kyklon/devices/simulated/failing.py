"""A destination that fails on purpose: full, gone or cut off after so many bytes, or one that keeps wrong bytes."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from contextlib import AbstractContextManager
from typing import Any, BinaryIO, Literal

from kyklon.base.errors import TargetFull, TargetLost
from kyklon.devices.destination import Destination, Limits


class Failing:
    """inner: where the bytes really go. after: bytes and steps that go well. how: it fails then; 'rot' flips a bit of
    what was written."""

    def __init__(self, inner: Destination, after: int, how: Literal["lost", "full", "rot"] = "lost") -> None:
        self._inner, self._left, self._how = inner, after, how
        self.written = 0

    @property
    def name(self) -> str:
        return self._inner.name

    @property
    def limits(self) -> Limits:
        return self._inner.limits

    def _spend(self, count: int) -> int:
        """How many of so many bytes still go well; raises once none does."""
        if self._left <= 0 and self._how != "rot":
            raise (
                TargetFull(f"{self.name} is full.")
                if self._how == "full"
                else TargetLost(f"{self.name} was disconnected.")
            )
        good = min(count, self._left)
        self._left -= count
        return count if self._how == "rot" else good

    def free(self) -> int | None:
        return self._inner.free()

    def size_of(self, path: str) -> int | None:
        self._spend(1)
        return self._inner.size_of(path)

    def stamp_of(self, path: str) -> str:
        self._spend(1)
        return self._inner.stamp_of(path)

    def files(self, top: str) -> Iterator[tuple[str, int, int]]:
        return self._inner.files(top)

    def read(self, path: str) -> AbstractContextManager[BinaryIO]:
        self._spend(1)
        return self._inner.read(path)

    @contextlib.contextmanager
    def write(self, path: str, at: int) -> Iterator[BinaryIO]:
        self._spend(1)
        with self._inner.write(path, at) as file:
            yield _Writer(self, file)  # type: ignore[misc] # writes as a binary file does
        self._spend(1)

    def rename(self, old: str, new: str) -> None:
        self._spend(1)
        self._inner.rename(old, new)
        self._spend(1)

    def remove(self, path: str) -> None:
        self._spend(1)
        self._inner.remove(path)

    def remove_folder(self, path: str) -> None:
        self._inner.remove_folder(path)

    def settle(self) -> None:
        self._inner.settle()

    def close(self) -> None:
        self._inner.close()


class _Writer:
    def __init__(self, place: Failing, file: BinaryIO) -> None:
        self._place, self._file = place, file

    def write(self, data: bytes) -> Any:
        rot = self._place._how == "rot" and self._place._left <= 0
        good = self._place._spend(len(data))
        kept = data[:good]
        self._file.write(bytes([kept[0] ^ 1]) + kept[1:] if rot and kept else kept)
        self._place.written += len(kept)
        if good < len(data):
            self._place._spend(1)
        return len(data)
