"""The boot files on a partition of ext4, as a boot loader sees them: a partition of their own, or /boot of a root.

U-Boot 2023.01: fs/ext4 follows links; boot/pxe_utils.c, the words of a label that name files.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator

from kyklon.base.errors import FormatError
from kyklon.operations.card.volumes.ext_inodes import Inode
from kyklon.operations.card.volumes.ext_reader import ExtReader
from kyklon.operations.card.volumes.fat_reader import FatFile
from kyklon.operations.card.volumes.partitions import Read

_TOPS = ("boot", "extlinux")  # where a loader looks on a partition that is a root as well
_MOST, _DEEPEST = 5000, 8  # files and folders; as deep as folders are followed
_NAMED = re.compile(
    r"^\s*(?:linux|kernel|initrd|fdt|devicetree|fdtdir|devicetreedir)\s+(/\S+)", re.MULTILINE | re.IGNORECASE
)


class ExtFiles:
    """Files by their paths from the partition's top, without a leading slash."""

    def __init__(self, read: Read, start: int, size: int) -> None:
        """Raises FormatError for what no loader reads as ext4."""
        self.reader = ExtReader(read, start, size, journal=False)
        self._seen: set[str] = set()

    @property
    def is_root(self) -> bool:
        """Whether a system lies on it too; then only what is for the start is looked at."""
        return any(self._at(path) is not None for path in ("sbin", "etc"))

    def everything(self, lost: list[str]) -> Iterator[FatFile]:
        """Every file for the start. lost: takes what is wrong with a folder."""
        yield from self._below("", lost, _TOPS if self.is_root else None)

    def named_in(self, text: str, lost: list[str]) -> Iterator[FatFile]:
        """The files that a boot file names and that lie elsewhere; of a folder of device trees all of them."""
        for path in dict.fromkeys(each.strip("/") for each in _NAMED.findall(text)):
            found = self._at(path)
            if found is not None and found.is_folder:
                yield from self._below(path, lost, None)
            elif found is not None and found.is_file and path not in self._seen:
                self._seen.add(path)
                yield FatFile(path, found.size, found.number)

    def read(self, file: FatFile, most: int) -> bytes:
        """The first bytes of a file. Raises FormatError."""
        found = self.reader.find(f"/{file.path}")
        return self.reader.head(found, most)[:most] if found is not None else b""

    def free_bytes(self) -> int:
        return self.reader.free_bytes

    def _at(self, path: str) -> Inode | None:
        with contextlib.suppress(FormatError):
            return self.reader.find(f"/{path}")
        return None

    def _below(self, top: str, lost: list[str], only: tuple[str, ...] | None) -> Iterator[FatFile]:
        waiting = [(top, 0)]
        entered = set[int]()
        while waiting:
            folder, depth = waiting.pop()
            try:
                inode = self.reader.find(f"/{folder}")
                if inode is None or inode.number in entered or depth > _DEEPEST:
                    continue
                entered.add(inode.number)
                for name, _number in self.reader.entries(inode):
                    path = f"{folder}/{name}" if folder else name
                    if name in (".", "..", "lost+found") or (not folder and only is not None and name not in only):
                        continue
                    found = self._at(path)
                    if found is None or path in self._seen:
                        continue
                    if found.is_folder:
                        waiting.append((path, depth + 1))
                    elif found.is_file and len(self._seen) < _MOST:
                        self._seen.add(path)
                        yield FatFile(path, found.size, found.number)
            except FormatError as bad:
                lost.append(f"{folder or 'the top folder'} cannot be read: {bad.what}")
