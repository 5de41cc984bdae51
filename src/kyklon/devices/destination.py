"""Where games go: a folder of this computer (a stick, a share, a card), or a machine reached by secure copy.

Paths are relative to the destination, with forward slashes. Whatever goes wrong is a KyklonError: TargetFull,
TargetLost or TargetError below it.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import BinaryIO, Protocol

FAT_LARGEST = (1 << 32) - 1  # bytes (Microsoft FAT specification, 3.2)
_BARRED = '<>:"\\|?*'  # in FAT names (the same, 7); / parts the path
_FOLDED = ("vfat", "msdos", "exfat", "ntfs", "ntfs3", "fuseblk", "cifs", "smb3")


@dataclass(frozen=True)
class Limits:
    """What a file system keeps. kind: as the kernel names it, '' where nobody tells. largest: bytes of one file, 0 for
    no bound. folds: two names that differ in case are one. barred: characters that a name may not have. cluster: bytes.
    owned: files have owners and modes. longest: bytes or, where it folds, UTF-16 units of a name. text: names
    must be UTF-8."""

    kind: str = ""
    largest: int = 0
    folds: bool = False
    barred: str = ""
    cluster: int = 4096
    owned: bool = True
    longest: int = 255
    text: bool = False

    def trouble(self, path: str, size: int) -> str:
        """Why a file cannot be kept there under its name, '' when it can."""
        if self.largest and size > self.largest:
            return f"it has {size} bytes; {self.kind} stores at most {self.largest}"
        for name in path.split("/"):
            bad = next((letter for letter in name if letter in self.barred or (self.folds and ord(letter) < 32)), "")
            if bad:
                return f"{self.kind} allows no name with {bad!r}"
            if "\\" in name:
                return "a backslash in its name separates folders on some systems"
            if self.folds and name != name.rstrip(". "):
                return f"{self.kind} drops dots and spaces at the end of a name"
            if (self.folds or self.text) and any(0xDC80 <= ord(letter) <= 0xDCFF for letter in name):
                return "its name is not valid UTF-8"
            long = (
                len(name.encode("utf-16-le", "surrogatepass")) // 2
                if self.folds
                else len(name.encode("utf-8", "surrogateescape"))
            )
            if long > self.longest:
                return f"its name is longer than {self.longest}"
        return ""


def limits_of(kind: str, cluster: int) -> Limits:
    """kind: of a file system, as the kernel names it."""
    if kind in ("vfat", "msdos"):
        return Limits("FAT", FAT_LARGEST, True, _BARRED, cluster, False)
    if kind in _FOLDED:
        return Limits({"fuseblk": "this stick"}.get(kind, kind), 0, True, _BARRED, cluster, False)
    return Limits(kind, 0, False, "", cluster, True)


class Destination(Protocol):
    """name: for people. limits: of its file system."""

    @property
    def name(self) -> str: ...

    @property
    def limits(self) -> Limits: ...

    def free(self) -> int | None:
        """Bytes that are free, None where nobody tells."""

    def size_of(self, path: str) -> int | None:
        """Bytes of a file, None where there is none."""

    def stamp_of(self, path: str) -> str:
        """What changes when a file is written anew; '' where there is none."""

    def files(self, top: str) -> Iterator[tuple[str, int, int]]:
        """Every file below a folder: path, bytes, mode. None where the folder is not there."""

    def read(self, path: str) -> AbstractContextManager[BinaryIO]:
        """A file, from what is really stored."""

    def write(self, path: str, at: int) -> AbstractContextManager[BinaryIO]:
        """A file to write from a place on, cut off there; folders on the way are made. settle() stores it."""

    def rename(self, old: str, new: str) -> None:
        """Give a file or a folder another name, in place of a file that has it; folders on the way are made."""

    def remove(self, path: str) -> None:
        """Take a file away; one that is not there is no error."""

    def remove_folder(self, path: str) -> None:
        """Take an empty folder away; one that is not empty, or not there, stays as it is."""

    def settle(self) -> None:
        """Store what was written and renamed since, so that it outlasts a pulled plug."""

    def close(self) -> None:
        """End whatever was begun for it."""
