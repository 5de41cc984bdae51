"""What is at a path: a block device, nothing but zeros, or something."""

from __future__ import annotations

import errno
import os
import stat
from pathlib import Path


def is_block_device(path: Path) -> bool:
    try:
        return stat.S_ISBLK(path.stat().st_mode)
    except OSError:
        return False


_LOOK = 1 << 20  # bytes at the beginning, where tables and file systems are


def unknown_contents(path: Path) -> str:
    """'' for a drive that begins with nothing but zeros; words for one whose contents nobody recognises."""
    try:
        with path.open("rb") as drive:
            head = drive.read(_LOOK)
            return "" if head == bytes(len(head)) else "data of an unrecognised kind"
    except OSError:
        return "contents you may not read"


_READ_THROUGH = 64 << 20  # bytes of written stretches looked through; a file with more holds something
_PIECE = 1 << 20  # bytes


def holds_anything(path: Path) -> bool:
    """Whether a file has any byte that is not zero. Stretches that were never written are passed over (lseek(2))."""
    try:
        with path.open("rb") as file:
            return _any_byte(file.fileno(), os.fstat(file.fileno()).st_size)
    except OSError:
        return True


def _any_byte(descriptor: int, size: int) -> bool:
    at = read = 0
    while at < size:
        try:
            at = os.lseek(descriptor, at, os.SEEK_DATA)
            end = os.lseek(descriptor, at, os.SEEK_HOLE)
        except OSError as bad:
            if bad.errno == errno.ENXIO:  # nothing but a hole from here
                return False
            raise
        while at < end:
            piece = os.pread(descriptor, min(_PIECE, end - at), at)
            if not piece:
                return False
            read += len(piece)
            if read > _READ_THROUGH or piece != bytes(len(piece)):
                return True
            at += len(piece)
    return False
