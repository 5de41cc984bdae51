"""Where a path leads: to a block device, and to the drive that a file lies on."""

from __future__ import annotations

import os
import stat
from pathlib import Path


def is_block_device(path: Path) -> bool:
    try:
        return stat.S_ISBLK(path.stat().st_mode)
    except OSError:
        return False


def drive_below(path: Path) -> str:
    """The whole drive, as /dev/NAME, that a file lies on; '' where it cannot be told (network, memory)."""
    try:
        device = path.stat().st_dev
        place = Path(f"/sys/dev/block/{os.major(device)}:{os.minor(device)}").resolve(strict=True)
    except OSError:
        return ""
    if (place / "partition").exists():
        place = place.parent
    below = sorted((place / "slaves").iterdir()) if (place / "slaves").is_dir() else []
    if below:  # a mapped volume: the drive it lies on
        place = below[0].resolve()
        place = place.parent if (place / "partition").exists() else place
    return f"/dev/{place.name}"


_LOOK = 1 << 20  # bytes at the beginning, where tables and file systems are


def unknown_contents(path: Path) -> str:
    """'' for a drive that begins with nothing but zeros; words for one whose contents nobody recognises."""
    try:
        with path.open("rb") as drive:
            return "data of an unrecognised kind" if any(drive.read(_LOOK)) else ""
    except OSError:
        return "contents you may not read"
