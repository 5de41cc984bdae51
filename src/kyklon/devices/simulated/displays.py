"""Stand-ins for connected displays: files `<socket>.edid` in a folder; an empty one is a display that gives no data."""

from __future__ import annotations

from pathlib import Path

from kyklon.base.reading import bytes_of
from kyklon.devices.ports import ConnectedDisplay

ENDING = ".edid"
_MOST = 32_768  # bytes: 256 blocks (VESA E-EDID)


class SimulatedDisplays:
    called = "stand-ins"

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def list(self) -> tuple[ConnectedDisplay, ...]:
        """Override."""
        if not self._folder.is_dir():
            return ()
        paths = sorted(path for path in self._folder.iterdir() if path.name.endswith(ENDING))
        return tuple(ConnectedDisplay(path.name.removesuffix(ENDING), bytes_of(path, _MOST)) for path in paths)
