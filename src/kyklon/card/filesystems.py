"""Files on a card's partitions, through mtools (FAT) and e2fsprogs' debugfs (ext4). Offsets in bytes."""

from __future__ import annotations

import re
import tempfile
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from kyklon import tools
from kyklon.card.interlock import Permit
from kyklon.errors import TargetFull, ToolError

_MTOOLS = {"MTOOLS_SKIP_CHECK": "1", "MTOOLSRC": "/dev/null", "MTOOLS_NO_VFAT": "0"}
EDIT = "boot files"  # what a permit to edit a card names as its source
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

    def _mtools(self, program: str, *arguments: str, stdin: bytes = b"") -> bytes:
        return tools.run(
            [program, "-i", self._image, *arguments], stdin=stdin, environment=_MTOOLS, seconds=COPY_SECONDS
        )

    def copy_out(self, folder: Path) -> None:
        """Every file and folder of the volume into an empty folder."""
        self._mtools("mcopy", "-s", "-n", "-m", "::/", str(folder))

    def free_bytes(self) -> int:
        match = re.search(r"([\d ]+) bytes free", self._mtools("mdir", "::/").decode("cp437"))
        if match is None:
            raise ToolError(f"mdir does not tell the free space of {self.path}.")
        return int(match[1].replace(" ", ""))

    def listing(self) -> str:
        """mdir's own listing of every folder."""
        top = self._mtools("mdir", "-a", "::/").decode("cp437")
        if re.search(r"^No files$", top, re.MULTILINE):  # mdir -/ fails on an empty volume
            return top
        return self._mtools("mdir", "-/", "-a", "::/").decode("cp437")

    def copy_in(self, folder: Path, permit: Permit, identity: str) -> None:
        """Everything in a folder onto the volume, folders and dates included; files of the same name are replaced.

        permit: the interlock's, for this drive. Raises ToolError with mtools' words.
        """
        permit.use(identity, EDIT)
        names = sorted(str(each) for each in folder.iterdir())
        if names:
            self._mtools("mcopy", "-s", "-m", "-o", *names, "::/")

    def cluster_bytes(self) -> int:
        """Bytes of a cluster: BPB_BytsPerSec x BPB_SecPerClus (Microsoft FAT specification, boot sector at 11, 13)."""
        with self.path.open("rb") as file:
            file.seek(self.offset)
            sector = file.read(16)
        return max(512, int.from_bytes(sector[11:13], "little") * sector[13])

    def read(self, name: str) -> bytes:
        return self._mtools("mcopy", "-n", f"::/{name}", "-")

    def replace(self, files: Mapping[str, bytes], permit: Permit, identity: str) -> None:
        """Put files in place of those of the same name, each by way of a second name so that none is half old.

        permit: the interlock's, for this drive. Raises TargetFull before anything is changed when the volume
        cannot hold them beside the old ones.
        """
        permit.use(identity, EDIT)
        cluster = self.cluster_bytes()
        need = sum(-(-len(data) // cluster) * cluster for data in files.values())
        free = self.free_bytes()
        if need > free:
            raise TargetFull(
                f"The boot partition has {free} bytes free; the new boot files need {need}.",
                do="Remove what is not needed from the boot partition.",
            )
        for name, data in files.items():
            self._make_folders(name)
            fresh = f"{name}.new"
            with tempfile.NamedTemporaryFile() as held:
                held.write(data)
                held.flush()
                self._mtools("mcopy", "-o", held.name, f"::/{fresh}")
            if self._exists(name):
                self._mtools("mdel", f"::/{name}")
            self._mtools("mren", f"::/{fresh}", f"::/{name}")

    def _exists(self, name: str) -> bool:
        try:
            self._mtools("mdir", "-b", f"::/{name}")
        except ToolError:
            return False
        return True

    def _make_folders(self, name: str) -> None:
        parts = name.split("/")[:-1]
        for depth in range(1, len(parts) + 1):
            folder = "/".join(parts[:depth])
            if not self._exists(folder):
                self._mtools("mmd", f"::/{folder}")


def read_ext_files(path: Path, offset: int, names: tuple[str, ...]) -> dict[str, bytes | None]:
    """Contents of files of an ext file system (None where there is none), in one run of debugfs."""
    with tempfile.TemporaryDirectory() as held:
        commands = "".join(f"dump {name} {held}/{index}\n" for index, name in enumerate(names))
        image = f"{path}?offset={offset}"
        # debugfs answers 0 even when it cannot open the image: `stats` must have succeeded too
        out = tools.run(["debugfs", "-f", "-", image], stdin=(commands + "stats -h\n").encode(), seconds=60)
        if b"Filesystem state" not in out:
            raise ToolError(f"{path} holds no ext file system at byte {offset}.")
        found: dict[str, bytes | None] = {}
        for index, name in enumerate(names):
            file = Path(held) / str(index)
            found[name] = file.read_bytes() if file.exists() else None
    return found


def list_ext_folder(path: Path, offset: int, folder: str) -> tuple[str, ...]:
    """Names in a folder of an ext file system; nothing where it does not exist."""
    out = tools.run(["debugfs", "-R", f"ls -p {folder}", f"{path}?offset={offset}"], seconds=60).decode()
    names = [line.split("/")[5] for line in out.splitlines() if line.startswith("/") and line.count("/") >= 6]
    return tuple(name for name in names if name not in (".", "..", "lost+found"))
