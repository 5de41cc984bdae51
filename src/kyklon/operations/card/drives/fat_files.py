"""Files put on the FAT volume of an open drive, through mtools: a folder of them, or boot files one by one."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from kyklon.base import scratch
from kyklon.base.errors import TargetFull, ToolError, VerifyError
from kyklon.model.card import UNFINISHED, CardContents
from kyklon.operations.card.drives.interlock import OpenTarget, Purpose
from kyklon.operations.card.volumes.fat import FatVolume


class FatFiles:
    """start: where the volume begins on the drive, in bytes."""

    def __init__(self, target: OpenTarget, start: int) -> None:
        target.handle_for(Purpose.EDIT)
        target.begin()
        self.volume = FatVolume(target.path, start)

    def copy_in(self, folder: Path) -> None:
        """Everything in a folder, folders and dates included; files of the same name are replaced.

        Raises ToolError with mtools' words.
        """
        names = sorted(str(path) for path in folder.iterdir())
        if names:
            self.volume.mtools("mcopy", "-s", "-m", "-o", *names, "::/")

    def replace(self, files: Mapping[str, bytes]) -> None:
        """Put files in place of those of the same name, each by way of a second name so that none is half old.

        Raises TargetFull before anything is changed when the volume cannot hold them beside the old ones.
        """
        cluster = self.volume.cluster_bytes()
        need = sum(-(-len(data) // cluster) * cluster for data in files.values())
        free = self.volume.free_bytes()
        if need > free:
            raise TargetFull(
                f"The boot partition has {free} bytes free; the new boot files need {need}.",
                do="Delete files the boot partition does not need.",
            )
        for name, data in files.items():
            self._make_folders(name)
            fresh = f"{name}{UNFINISHED}"
            with scratch.folder("boot") as held:
                (held / "file").write_bytes(data)
                self.volume.mtools("mcopy", "-o", str(held / "file"), f"::/{fresh}")
            if self.volume.read(fresh) != data:
                raise VerifyError(f"{fresh} reads back differently.", do="The card is worn. Use another one.")
            self._take_place(fresh, name)

    def _take_place(self, fresh: str, name: str) -> None:
        """FAT cannot replace in one step: killed between these two, repair() finishes it."""
        if self._exists(name):
            self.volume.mtools("mdel", f"::/{name}")
        self.volume.mtools("mren", f"::/{fresh}", f"::/{name}")

    def repair(self, card: CardContents) -> tuple[str, ...]:
        """Finish exchanges that were cut short: the new file takes its place where the old one is gone already, and is
        taken away where the old one still stands. The names of those finished."""
        there = {name.lower() for name in card.sizes}
        for name in card.half_done:
            self.volume.mtools("mren", f"::/{name}{UNFINISHED}", f"::/{name}")
        for name in card.sizes:
            whole = name.removesuffix(UNFINISHED)
            if name != whole and whole.lower() in there and not set("[]*?") & set(name):
                self.volume.mtools("mdel", f"::/{name}")
        return card.half_done

    def _exists(self, name: str) -> bool:
        try:
            self.volume.mtools("mdir", "-b", f"::/{name}")
        except ToolError:
            return False
        return True

    def _make_folders(self, name: str) -> None:
        parts = name.split("/")[:-1]
        for depth in range(1, len(parts) + 1):
            folder = "/".join(parts[:depth])
            if not self._exists(folder):
                self.volume.mtools("mmd", f"::/{folder}")
