"""An ext2, ext3 or ext4 file system read as strictly as a Linux kernel reads it, within bounds whatever its bytes are.

Sources: the kernel's Documentation/filesystems/ext4, and what fs/ext4/super.c, inode.c, dir.c and extents.c of 6.1
refuse. A kernel mounts the root read-only first, so what it lets pass then is told as a caution.
"""

from __future__ import annotations

from collections.abc import Iterator
from uuid import UUID

from kyklon.base.errors import FormatError
from kyklon.operations.card.volumes.ext_inodes import (
    EXTENTS_FLAG,
    INDEX_FLAG,
    INLINE_FLAG,
    ROOT_INODE,
    ExtInodes,
    Inode,
)
from kyklon.operations.card.volumes.ext_sums import crc32c
from kyklon.operations.card.volumes.ext_volume import JOURNAL, RECOVER
from kyklon.operations.card.volumes.partitions import Read

_64BIT = 0x80
_DEEPEST_LINK = 40  # fs/namei.c: MAXSYMLINKS
_MOST_FOLDERS = 64  # kept
_MOST_DIRECTORY = 4 << 20  # bytes of a folder that are looked through


class ExtReader(ExtInodes):
    """The files of a volume; as for ExtInodes."""

    def __init__(self, read: Read, start: int, size: int, *, journal: bool = True) -> None:
        self._folders: dict[int, dict[str, int]] = {}
        super().__init__(read, start, size, journal=journal)

    # --- folders (Documentation/filesystems/ext4/directory.rst) -------------------------------------------------------

    def _folder_blocks(self, folder: Inode) -> Iterator[tuple[int, bytes]]:
        data = self.head(folder, _MOST_DIRECTORY)
        if folder.flags & INLINE_FLAG:
            dots = (2).to_bytes(4, "little")
            yield 0, dots + data[4:60]
            if len(data) > 60:
                yield 1, data[60:]
            return
        for at in range(0, len(data), self.block):
            block = data[at : at + self.block]
            if self._csum:
                self._check_folder_block(folder, block, at)
            yield at // self.block, block

    def _check_folder_block(self, folder: Inode, block: bytes, at: int) -> None:
        rec = int.from_bytes(block[4:6], "little")
        dot_dot = int.from_bytes(block[16:18], "little")
        if folder.flags & INDEX_FLAG and (rec == self.block or (at == 0 and rec == 12 and dot_dot == self.block - 12)):
            return  # a node of the index: its checksum is its own affair, and a linear search goes past it
        tail = block[-12:]
        if tail[:8] != b"\0\0\0\0\x0c\0\0\xde":
            raise FormatError(f"folder, inode {folder.number}", at + self.block - 12, expected="a checksum", got="none")
        stated = int.from_bytes(tail[8:], "little")
        if crc32c(block[:-12], folder.seed) != stated:
            raise FormatError(
                f"folder, inode {folder.number}",
                at + self.block - 4,
                expected="its own checksum",
                got=f"{stated:#010x}",
            )

    def entries(self, folder: Inode) -> Iterator[tuple[str, int]]:
        """Names and inode numbers, without . and .. ; a damaged entry ends its block as it does for the kernel."""
        if not folder.is_folder:
            raise FormatError(f"inode {folder.number}", 0, expected="a folder", got=f"mode {folder.mode:o}")
        for number, block in self._folder_blocks(folder):
            at = 0
            while at + 8 <= len(block):
                inode = int.from_bytes(block[at : at + 4], "little")
                length = int.from_bytes(block[at + 4 : at + 6], "little")
                if folder.flags & INLINE_FLAG and number == 0 and at == 0:
                    at += 4
                    continue
                if length < 8 or length % 4 or at + length > len(block):
                    raise FormatError(
                        f"folder, inode {folder.number}",
                        number * self.block + at + 4,
                        expected="an entry within its block",
                        got=f"{length} bytes",
                    )
                name_length = block[at + 6]
                name = block[at + 8 : at + 8 + name_length]
                if inode and name not in (b".", b".."):
                    if inode > self._n(0) or name_length + 8 > length:
                        raise FormatError(
                            f"folder, inode {folder.number}",
                            number * self.block + at,
                            expected="an entry of the volume",
                            got=str(inode),
                        )
                    yield name.decode("utf-8", "surrogateescape"), inode
                at += length

    def find(self, path: str, *, follow: bool = True) -> Inode | None:
        """The inode of an absolute path, links followed; None when there is none. Raises FormatError for damage on the
        way, a circle of links included."""
        return self.walk(path, follow=follow)[0]

    def real(self, path: str) -> str:
        """The path that a path leads to with all links followed, '' when there is nothing. Raises as find()."""
        found, _folders, place = self.walk(path)
        return place if found is not None else ""

    def walk(self, path: str, *, follow: bool = True) -> tuple[Inode | None, tuple[tuple[str, Inode], ...], str]:
        """The same with every folder that was looked into on the way, each with its path, those behind links too: who
        comes that way must have the right to search them (path_resolution(7)); and the path itself without links."""
        passed: dict[int, tuple[str, Inode]] = {}
        followed = 0
        steps: list[str] = []
        names = [name for name in reversed(path.split("/")) if name not in ("", ".")]
        walked = [self._inode(ROOT_INODE)]
        while names:
            name = names.pop()
            if walked[-1].is_folder:
                passed.setdefault(walked[-1].number, ("/" + "/".join(steps), walked[-1]))
            if name == "..":
                if len(walked) > 1:
                    walked.pop()
                    steps.pop()
                continue
            if not walked[-1].is_folder:
                return None, tuple(passed.values()), ""
            number = self._names(walked[-1]).get(name)
            if number is None:
                return None, tuple(passed.values()), ""
            inode = self._inode(number)
            if inode.is_link and (follow or names):
                followed += 1
                if followed > _DEEPEST_LINK:
                    raise FormatError(path, 0, expected="a link that ends", got="a circle of links")
                target = self.target_of(inode)
                if target.startswith("/"):
                    walked, steps = walked[:1], []
                names += [word for word in reversed(target.split("/")) if word not in ("", ".")]
                continue
            walked.append(inode)
            steps.append(name)
        return walked[-1], tuple(passed.values()), "/" + "/".join(steps)

    def _names(self, folder: Inode) -> dict[str, int]:
        """A folder's entries, kept: a start looks into the same few folders over and over."""
        kept = self._folders.get(folder.number)
        if kept is None:
            kept = dict(self.entries(folder))
            if len(self._folders) < _MOST_FOLDERS:
                self._folders[folder.number] = kept
        return kept

    def target_of(self, link: Inode) -> str:
        """Where a link leads."""
        fast = link.size < 60 and not link.flags & (EXTENTS_FLAG | INLINE_FLAG)
        raw = link.map[: link.size] if fast else self.head(link, 4096)
        return raw.decode("utf-8", "surrogateescape")

    @property
    def uuid(self) -> str:
        """The volume's own id, as blkid(8) writes it."""
        return str(UUID(bytes=self._super[104:120]))

    @property
    def label(self) -> str:
        return self._super[120:136].split(b"\0")[0].decode("utf-8", "replace")

    @property
    def kinds(self) -> tuple[str, ...]:
        """The names under which a kernel mounts it: ext2 and ext3 only without what came later."""
        found = ["ext4"]
        plain = not self._incompatible & ~0x16 and not self._read_only & ~0x7
        if plain and self._compatible & JOURNAL:
            found.append("ext3")
        if plain and not self._incompatible & RECOVER:
            found.append("ext2")
        return tuple(found)

    @property
    def free_bytes(self) -> int:
        """What the superblock states."""
        free = self._n(12) | (self._n(0x158) << 32 if self._incompatible & _64BIT else 0)
        return min(free, self.blocks) * self.block
