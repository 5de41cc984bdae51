"""Files on a FAT volume, read through mtools. Offsets in bytes."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from kyklon.base import tools
from kyklon.base.errors import ToolError

_MTOOLS = {"MTOOLS_SKIP_CHECK": "1", "MTOOLSRC": "/dev/null", "MTOOLS_NO_VFAT": "0"}
COPY_SECONDS = 3600.0  # a full stick at a few MB/s
TEXT_LIMIT = 64 * 1024  # bytes; boot files are far smaller


@dataclass(frozen=True)
class FatVolume:
    """A FAT file system inside a file or device, from `offset`."""

    path: Path
    offset: int

    @property
    def _image(self) -> str:
        return f"{self.path}@@{self.offset}"

    def mtools(self, program: str, *arguments: str, stdin: bytes = b"") -> bytes:
        """Run one of mtools on the volume; its output. Raises ToolError with its own words."""
        return tools.run(
            [program, "-i", self._image, *arguments], stdin=stdin, environment=_MTOOLS, seconds=COPY_SECONDS
        )

    def copy_out(self, folder: Path) -> None:
        """Every file and folder of the volume into an empty folder."""
        self.mtools("mcopy", "-s", "-n", "-m", "::/", str(folder))

    def free_bytes(self) -> int:
        match = re.search(r"([\d ]+) bytes free", self.mtools("mdir", "::/").decode("cp437"))
        if match is None:
            raise ToolError(f"mdir does not tell the free space of {self.path}.")
        return int(match[1].replace(" ", ""))

    def listing(self) -> str:
        """mdir's own listing of every folder."""
        top = self.mtools("mdir", "-a", "::/").decode("cp437")
        if re.search(r"^No files$", top, re.MULTILINE):  # mdir -/ fails on an empty volume
            return top
        return self.mtools("mdir", "-/", "-a", "::/").decode("cp437")

    def cluster_bytes(self) -> int:
        """Bytes of a cluster: BPB_BytsPerSec x BPB_SecPerClus (Microsoft FAT specification, boot sector at 11, 13)."""
        with self.path.open("rb") as file:
            file.seek(self.offset)
            sector = file.read(16)
        return max(512, int.from_bytes(sector[11:13], "little") * sector[13])

    def read(self, name: str) -> bytes:
        return self.mtools("mcopy", "-n", f"::/{name}", "-")
