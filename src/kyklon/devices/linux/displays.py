"""Displays that are connected to this machine, as the kernel's display drivers list them in sysfs."""

from __future__ import annotations

import contextlib
from pathlib import Path

from kyklon.devices.ports import ConnectedDisplay

_MOST = 32_768  # bytes: 256 blocks (VESA E-EDID)


class LinuxDisplays:
    called = "this machine"

    def __init__(self, sysfs: Path = Path("/sys/class/drm")) -> None:
        self._sysfs = sysfs

    def list(self) -> tuple[ConnectedDisplay, ...]:
        """Every socket with something in it; data is empty where the kernel got none."""
        found = []
        for place in sorted(self._sysfs.glob("card*-*")):
            with contextlib.suppress(OSError):
                if (place / "status").read_text().strip() != "connected":
                    continue
                data = b""
                with contextlib.suppress(OSError), (place / "edid").open("rb") as file:
                    data = file.read(_MOST)
                found.append(ConnectedDisplay(place.name.partition("-")[2], data))
        return tuple(found)
