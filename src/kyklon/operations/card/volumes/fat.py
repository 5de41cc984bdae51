"""Files on a FAT volume, read through mtools. Offsets in bytes."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from kyklon.base import reading, tools
from kyklon.operations.card.volumes.fat_reader import FatReader
from kyklon.operations.card.volumes.partitions import reader

_MTOOLS = {"MTOOLS_SKIP_CHECK": "1", "MTOOLSRC": "/dev/null", "MTOOLS_NO_VFAT": "0"}
COPY_SECONDS = 3600.0  # a full stick at a few MB/s


@dataclass(frozen=True)
class FatVolume:
    """A FAT file system inside a file or device, from `offset`."""

    path: Path
    offset: int

    def mtools(self, program: str, *arguments: str, stdin: bytes = b"") -> bytes:
        """Run one of mtools on the volume; its output. Raises ToolError with its own words."""
        with tools.plain_name(self.path) as name:
            return tools.run(
                [program, "-i", f"{name}@@{self.offset}", *arguments],
                stdin=stdin,
                environment=_MTOOLS,
                seconds=COPY_SECONDS,
            )

    def copy_out(self, folder: Path) -> None:
        """Every file and folder of the volume into an empty folder."""
        self.mtools("mcopy", "-s", "-n", "-m", "::/", str(folder))

    def free_bytes(self) -> int:
        """Raises FormatError, OSError."""
        with reading.opened(self.path, devices=True) as file:
            return FatReader(reader(file.fileno()), self.offset).free_bytes()

    def cluster_bytes(self) -> int:
        """Bytes of a cluster: BPB_BytsPerSec x BPB_SecPerClus (Microsoft FAT specification, boot sector at 11, 13)."""
        with reading.opened(self.path, devices=True) as file:
            file.seek(self.offset)
            sector = file.read(16)
        return max(512, int.from_bytes(sector[11:13], "little") * sector[13])

    def read(self, name: str) -> bytes:
        return self.mtools("mcopy", "-n", f"::/{name}", "-")
