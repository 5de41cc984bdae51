"""A handle on a file or a block device, with the operating system's errors told in our words."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import mmap
import os
import stat
import struct
from collections.abc import Iterator
from pathlib import Path

from kyklon.base.errors import BadBlock, TargetAsleep, TargetError, TargetFull, TargetLocked, TargetLost
from kyklon.base.inside import open_file
from kyklon.devices.layers import held_node

BLKRRPART, BLKFLSBUF, BLKZEROOUT = 0x125F, 0x1261, 0x127F  # linux/fs.h
_ALIGN = 4096  # bytes: O_DIRECT wants whole blocks, and no drive has larger ones (open(2))
FALLOC_PUNCH_HOLE, FALLOC_KEEP_SIZE = 2, 1  # linux/falloc.h

_MEANING: dict[int, tuple[type[TargetError], str, str]] = {
    errno.ENOSPC: (TargetFull, "is full", "Use a larger one."),
    errno.EFBIG: (TargetFull, "cannot hold a file of this size", "Use another file system."),
    errno.ENODEV: (TargetLost, "was disconnected", "Plug it in again and start over."),
    errno.ENXIO: (TargetLost, "was disconnected", "Plug it in again and start over."),
    errno.ENOMEDIUM: (TargetLost, "no longer has a card in it", "Put the card in again and start over."),
    errno.ENOENT: (TargetLost, "is not there", "Plug it in and choose it again."),
    errno.ETIMEDOUT: (TargetAsleep, "gave no answer", "Plug the reader into the computer itself, not into a hub."),
    errno.EROFS: (TargetLocked, "is read-only", "Move the slider on the card or its adapter."),
    errno.EACCES: (TargetError, "is not writable by you", "Ask for permission to write to drives."),
    errno.EPERM: (TargetError, "is not writable by you", "Ask for permission to write to drives."),
    errno.EBUSY: (TargetError, "is in use", "Unmount it first."),
    errno.ELOOP: (TargetLost, "is a link by now", "Name the drive or file itself."),
    errno.ENOTDIR: (TargetLost, "is not there", "Choose it again."),
}


@contextlib.contextmanager
def told_of(path: Path, offset: int = 0) -> Iterator[None]:
    """Translate OSError into the error tree, once, at the border."""
    try:
        yield
    except OSError as bad:
        if bad.errno == errno.EIO:
            raise BadBlock(
                f"{path} reported a fault at byte {offset}.", offset, do="Try another reader; the card may be worn."
            ) from bad
        kind, words, remedy = _MEANING.get(bad.errno or 0, (TargetError, f"failed: {bad.strerror}", ""))
        raise kind(f"{path} {words} at byte {offset}.", do=remedy) from bad


class FileHandle:
    """Positioned reads and writes on a file descriptor; limit: the size in bytes it pretends to have.

    Block devices are written past the cache (O_DIRECT), so that the speed shown is the card's own.
    """

    def __init__(self, descriptor: int, path: Path, limit: int | None = None) -> None:
        self._descriptor, self._path, self._limit = descriptor, path, limit
        self._block = stat.S_ISBLK(os.fstat(descriptor).st_mode)
        self.cached = not self._block
        self._buffer: mmap.mmap | None = None
        self._direct = self._block and self._set_direct(on=True)

    @contextlib.contextmanager
    def _told(self, offset: int = 0) -> Iterator[None]:
        """As told_of. A drive that was pulled out has no size any more, and the kernel calls it full or faulty."""
        try:
            with told_of(self._path, offset):
                yield
        except TargetError as bad:
            if self._gone():
                raise self._lost(offset) from bad
            raise

    def _lost(self, offset: int) -> TargetLost:
        return TargetLost(f"{self._path} was disconnected at byte {offset}.", do="Plug it in again and start over.")

    def _gone(self) -> bool:
        if not self._block:
            return False
        device = os.fstat(self._descriptor).st_rdev
        if not Path(f"/sys/dev/block/{os.major(device)}:{os.minor(device)}").exists():
            return True
        try:
            return os.lseek(self._descriptor, 0, os.SEEK_END) == 0
        except OSError:
            return True

    @property
    def node(self) -> str:
        return held_node(self._descriptor)

    @property
    def path(self) -> Path:
        """Override: the descriptor itself, so that a name that leads elsewhere by now does no harm."""
        return Path(f"/proc/{os.getpid()}/fd/{self._descriptor}")

    def _set_direct(self, *, on: bool) -> bool:
        flags = fcntl.fcntl(self._descriptor, fcntl.F_GETFL)
        try:
            fcntl.fcntl(self._descriptor, fcntl.F_SETFL, flags | os.O_DIRECT if on else flags & ~os.O_DIRECT)
        except OSError:  # a file system without it
            return False
        return on

    def _aligned(self, length: int) -> memoryview:
        """Page-aligned memory, kept for the next time."""
        if self._buffer is None or len(self._buffer) < length:
            self._buffer = mmap.mmap(-1, -(-length // _ALIGN) * _ALIGN)
        return memoryview(self._buffer)[:length]

    def write_at(self, data: bytes | memoryview, offset: int) -> None:
        if self._limit is not None and offset + len(data) > self._limit:
            raise TargetFull(f"{self._path} ends at byte {self._limit}.", do="Use a larger one.")
        view = memoryview(data)
        with self._told(offset):
            if self._direct and (offset % _ALIGN or len(view) % _ALIGN):
                self._direct = self._set_direct(on=False)
            if self._direct:
                held = self._aligned(len(view))
                held[:] = view
                view = held
            while view:
                try:
                    done = os.pwrite(self._descriptor, view, offset)
                except OSError as bad:
                    if bad.errno != errno.EINVAL or not self._direct:
                        raise
                    self._direct = self._set_direct(on=False)
                    continue
                view, offset = view[done:], offset + done

    def read_at(self, length: int, offset: int) -> bytes:
        with self._told(offset):
            found = self._read_direct(length, offset) if self._direct else self._read_plain(length, offset)
        if len(found) < length and self._gone():
            raise self._lost(offset + len(found))
        return found

    def _read_plain(self, length: int, offset: int) -> bytes:
        parts: list[bytes] = []
        while length:
            part = os.pread(self._descriptor, length, offset)
            if not part:
                break
            parts.append(part)
            length, offset = length - len(part), offset + len(part)
        return parts[0] if len(parts) == 1 else b"".join(parts)

    def _read_direct(self, length: int, offset: int) -> bytes:
        start = offset // _ALIGN * _ALIGN
        held = self._aligned(-(-(offset + length - start) // _ALIGN) * _ALIGN)
        filled = 0
        while filled < len(held):
            try:
                count = os.preadv(self._descriptor, [held[filled:]], start + filled)
            except OSError as bad:
                if bad.errno != errno.EINVAL:
                    raise
                self._direct = self._set_direct(on=False)
                continue
            if not count:
                break
            filled += count
            if count % _ALIGN:  # the end
                break
        return bytes(held[offset - start : min(filled, offset - start + length)])

    def zero(self, length: int, offset: int) -> bool:
        """Override: a hole in a file, the kernel's own zeroing on a device."""
        if self._limit is not None and offset + length > self._limit:
            raise TargetFull(f"{self._path} ends at byte {self._limit}.", do="Use a larger one.")
        try:
            if self._block:
                return False if not _zeroes_quickly(self._descriptor) else self._zero_device(length, offset)
            end = os.fstat(self._descriptor).st_size
            if offset + length > end:
                os.ftruncate(self._descriptor, offset + length)
            if offset < end:
                _punch(self._descriptor, offset, min(length, end - offset))
        except OSError:  # a file system without holes: the zeros are written instead
            return False
        return True

    def _zero_device(self, length: int, offset: int) -> bool:
        fcntl.ioctl(self._descriptor, BLKZEROOUT, struct.pack("=QQ", offset, length))
        return True

    def sync(self) -> None:
        with self._told():
            os.fsync(self._descriptor)

    def forget_cache(self) -> None:
        with self._told():
            os.posix_fadvise(self._descriptor, 0, 0, os.POSIX_FADV_DONTNEED)
        if self._block:
            with contextlib.suppress(OSError):  # root only; O_DIRECT reads past the cache anyway
                fcntl.ioctl(self._descriptor, BLKFLSBUF)
            self._direct = self._set_direct(on=True)
        self.cached = False

    def reread_table(self) -> str:
        """Override: ask the kernel to read the table again."""
        if not self._block:
            return ""
        try:
            fcntl.ioctl(self._descriptor, BLKRRPART)
        except OSError as bad:
            return "" if bad.errno == errno.EINVAL else f"The new partitions are not seen yet: {bad.strerror}."
        return ""


def _zeroes_quickly(descriptor: int) -> bool:
    """Whether the device can make zeros without being sent them (queue/write_zeroes_max_bytes, sysfs-block)."""
    device = os.fstat(descriptor).st_rdev
    place = Path(f"/sys/dev/block/{os.major(device)}:{os.minor(device)}/queue/write_zeroes_max_bytes")
    try:
        return int(place.read_text(encoding="ascii")) > 0
    except (OSError, ValueError):
        return False


def _punch(descriptor: int, offset: int, length: int) -> None:
    """fallocate(2) with a hole; the standard library has only the plain one."""
    import ctypes

    libc = ctypes.CDLL(None, use_errno=True)
    kinds = ctypes.c_int(FALLOC_PUNCH_HOLE | FALLOC_KEEP_SIZE)
    if libc.fallocate(descriptor, kinds, ctypes.c_longlong(offset), ctypes.c_longlong(length)):
        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))


@contextlib.contextmanager
def open_path(path: Path, *, write: bool, limit: int | None = None) -> Iterator[FileHandle]:
    """Open a device or a file that is there, without following a link. Raises TargetError.

    A device is opened with O_EXCL for writing: one that is mounted is refused, and while it is open it can neither be
    mounted nor given to another user that asks the same (open(2)).
    """
    with told_of(path), open_file(path, os.O_RDWR if write else os.O_RDONLY, exclusive_device=write) as descriptor:
        kind = os.fstat(descriptor).st_mode
        if not stat.S_ISBLK(kind) and not stat.S_ISREG(kind):
            raise TargetError(f"{path} is neither a drive nor a file.", do="Choose another.")
        if write:
            hold(descriptor, path)
        yield FileHandle(descriptor, path, limit)


def hold(descriptor: int, path: Path) -> None:
    """Keep an open target for this writer alone, until it is closed. Raises TargetError where another has it.

    The lock is of the open file (F_OFD_SETLK, fcntl(2)): another thread's opening counts as another writer, and the
    tools that are handed the descriptor, some of which lock with flock(2), are not in each other's way.
    """
    whole = struct.pack("@hhqqi4x", fcntl.F_WRLCK, os.SEEK_SET, 0, 0, 0)
    try:
        fcntl.fcntl(descriptor, fcntl.F_OFD_SETLK, whole)
    except (BlockingIOError, PermissionError) as bad:
        raise TargetError(
            f"{path} is being written by another program or window.", do="Wait until that is done, then start over."
        ) from bad
    except OSError:  # a file system without locks
        return
