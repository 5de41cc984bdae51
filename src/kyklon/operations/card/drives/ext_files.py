"""Files put on an ext2, ext3 or ext4 volume of an open drive, all of them or none.

Nothing but blocks that were worked out and checked beside the drive is written to it: its metadata are copied
(e2image), the copy is edited (debugfs) and checked whole (e2fsck), and what differs goes onto the drive as a kernel
would write it: contents first, where nothing was; then the metadata as one transaction of the volume's own journal;
then, once that stands, to their places. Cut short anywhere, the next mount finds the old files or the new ones.

Sources: e2image(8), debugfs(8), e2fsck(8) of e2fsprogs; the kernel's Documentation/filesystems/ext4, journal.rst.
"""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from kyklon.base import scratch, tools
from kyklon.base.errors import FormatError, TargetError, TargetFull, ToolError, VerifyError
from kyklon.operations.card.drives.interlock import OpenTarget, Purpose
from kyklon.operations.card.volumes.ext_inodes import Inode
from kyklon.operations.card.volumes.ext_reader import ExtReader
from kyklon.operations.card.volumes.ext_volume import RefusedJournal
from kyklon.operations.card.volumes.fsck import MOST, complaints
from kyklon.operations.card.volumes.partitions import Read, reader

SECONDS = 900.0  # for one of e2fsprogs: a card of 512 GB at a few MB/s of metadata
_MOST = 600  # blocks of metadata in a transaction: debugfs reads lines of 8 KiB
_PLAIN = re.compile(r"/[\w.@+:,=~/-]+")  # names that debugfs takes as they are
# what e2fsck finds where files were deleted while they were open, or a machine was switched off (e2fsck/problem.c)
_OF_A_CUT = re.compile(
    r"Deleted inode \d+ has zero dtime|Inodes that were part of a corrupted orphan|Free (?:blocks|inodes) count wrong|"
    r"(?:Block|Inode) bitmap differences: |Inode \d+ ref count is|Directories count wrong"
)
_CHUNK = 1 << 20  # bytes compared at once
_NEW = "{folder}/.{name}.new"  # under which a file is made before it takes its place; never seen on the drive


@dataclass(frozen=True)
class NewFile:
    """path: absolute on the volume. data: its bytes, or where it leads, for a link. mode: its rights; None keeps those
    of the file that was there, 0644 for a new one. A new file and its folders are root's."""

    path: str
    data: bytes
    mode: int | None = None
    link: bool = False


class ExtFiles:
    """start, size: where the volume lies on the drive, in bytes."""

    def __init__(self, target: OpenTarget, start: int, size: int) -> None:
        self._handle = target.handle_for(Purpose.EDIT)
        target.begin()
        self._target, self._start, self._size = target, start, size

    def replace(self, files: Sequence[NewFile]) -> tuple[str, ...]:
        """Put files on the volume, links followed; the paths that they were written to. What holds the same already is
        left alone.

        Raises TargetError for a volume that cannot be written (unclean, damaged, of unknown features) and for a name
        that cannot be put there, TargetFull, ToolError with e2fsprogs' words, VerifyError when the drive keeps other
        bytes. Nothing was changed then, but by the last.
        """
        volume = self._volume()
        if volume.recovers:
            self._recover(volume)
            volume = self._volume()
        wanted = [place for file in files if (place := _placed(volume, file)) is not None]
        if not wanted:
            return ()
        need = sum(len(place.file.data) + 2 * volume.block for place in wanted)
        if need > volume.free_bytes:
            raise TargetFull(
                f"The root of {self._target.facts.name} has {volume.free_bytes} bytes free; {need} are needed.",
                do="Delete files the machine does not need.",
            )
        with scratch.folder("root") as held:
            change = _Change(held, volume)
            self._copy_to(change.before)
            change.make(wanted)
            self._write(change)
        self._check(wanted)
        return tuple(place.path for place in wanted)

    def _volume(self) -> ExtReader:
        name = self._target.facts.name
        try:
            volume = ExtReader(self._read, self._start, self._size)
        except RefusedJournal as bad:
            raise TargetError(f"The journal of {name}'s root is damaged: {bad}.", do=_SEND_TO_E2FSCK) from bad
        except FormatError as bad:
            raise TargetError(f"The partition of {name} is no ext4 file system that is whole: {bad}.") from bad
        if volume.recovers and volume.fast_commits:
            raise TargetError(
                f"{name} was not shut down cleanly, and its journal holds fast commits, which Kyklon does not read.",
                do="Start the machine once and shut it down from its menu, then try again.",
            )
        if volume.no_write:
            raise TargetError(f"The root of {name} cannot be written: {volume.no_write}.", do=_SEND_TO_E2FSCK)
        return volume

    def _recover(self, volume: ExtReader) -> None:
        """Replay the journal of a volume that was not shut down cleanly, as its next mount would."""
        with scratch.folder("root") as held:
            change = _Change(held, volume)
            self._copy_to(change.before)
            change.replay()
            self._write(change)

    def _read(self, offset: int, length: int) -> bytes:
        end = self._start + self._size
        return self._handle.read_at(min(length, end - offset), offset) if 0 <= offset < end and length > 0 else b""

    def _copy_to(self, place: Path) -> None:
        with tools.plain_name(self._target.path) as name:
            command = ["e2image", "-r", "-o", str(self._start), name, str(place)]
            tools.run(command, seconds=SECONDS, bounds=_bounds(self._size))

    # --- writing -------------------------------------------------------------------------------------------------

    def _write(self, change: _Change) -> None:
        """What a kernel would write, in its order; `_handle.sync` parts what must not be mixed."""
        self._put(change.contents)
        for stage in (*change.logged, change.metadata, *change.settled):
            self._put(stage)
        self._handle.forget_cache()
        for stage in (change.contents, change.metadata, *change.settled):
            for block, data in stage.items():
                if self._read(self._place(block, len(data)), len(data)) != data:
                    raise VerifyError(
                        f"Block {block} of {self._target.facts.name}'s root reads back differently.",
                        do="The card is worn. Use another one.",
                    )

    def _put(self, blocks: Mapping[int, bytes]) -> None:
        for block in sorted(blocks):
            self._handle.write_at(blocks[block], self._place(block, len(blocks[block])))
        self._handle.sync()

    def _place(self, block: int, size: int) -> int:
        return self._start + block * size

    def _check(self, wanted: Sequence[_Place]) -> None:
        """The files as the drive holds them now."""
        volume = ExtReader(self._read, self._start, self._size)
        for each in wanted:
            if not each.is_in(volume):
                raise VerifyError(f"{each.path} reads back differently.", do="The card is worn. Use another one.")


_SEND_TO_E2FSCK = "Repair it first: `e2fsck -f` on its partition, as root, or write the image again."


@dataclass(frozen=True)
class _Place:
    """A file and what it takes the place of. path: without links. old: what is there."""

    path: str
    file: NewFile
    old: Inode | None

    @property
    def mode(self) -> int:
        if self.file.mode is not None:
            return self.file.mode
        return stat.S_IMODE(self.old.mode) if self.old is not None else 0o644

    def is_in(self, volume: ExtReader) -> bool:
        """Whether a volume holds it as it is wanted."""
        found = volume.find(self.path, follow=False)
        if found is None or found.is_link != self.file.link or not (found.is_link or found.is_file):
            return False
        same = stat.S_IMODE(found.mode) == self.mode or self.file.link
        if found.is_link and found.size < 60:
            return found.map[: found.size] == self.file.data
        return same and found.size == len(self.file.data) and b"".join(volume.pieces(found)) == self.file.data


def _placed(volume: ExtReader, file: NewFile) -> _Place | None:
    """Where a file goes; None when it is there already. Raises TargetError."""
    folder, name = str(PurePosixPath(file.path).parent), PurePosixPath(file.path).name
    try:
        if not file.link and (real := volume.real(file.path)):
            path = real
        elif volume.find(file.path, follow=False) is not None and not file.link:
            raise TargetError(f"{file.path} is a link that leads nowhere.", do="Remove it on the running machine.")
        else:
            path = f"{_real_folder(volume, folder).rstrip('/')}/{name}"
        old = volume.find(path, follow=False)
    except FormatError as bad:
        raise TargetError(f"{file.path} cannot be reached: {bad}.", do=_SEND_TO_E2FSCK) from bad
    if not _PLAIN.fullmatch(path) or name in ("", ".", ".."):
        raise TargetError(f"{path} cannot be written: only letters, digits and . _ @ + : , = ~ - in its name.")
    if old is not None and not (old.is_link if file.link else old.is_file):
        raise TargetError(f"{path} is there already and is no {'link' if file.link else 'plain file'}.")
    place = _Place(path, file, old)
    return None if place.is_in(volume) else place


def _real_folder(volume: ExtReader, folder: str) -> str:
    """A folder without links; of one that is not there the part that is, and the rest. Raises TargetError."""
    found = volume.find(folder)
    if found is not None:
        if not found.is_folder:
            raise TargetError(f"{folder} is no folder on the card.")
        return volume.real(folder) or "/"
    if volume.find(folder, follow=False) is not None:
        raise TargetError(f"{folder} is a link that leads nowhere.", do="Remove it on the running machine.")
    above = PurePosixPath(folder)
    return f"{_real_folder(volume, str(above.parent)).rstrip('/')}/{above.name}"


# --- what is to be written, worked out beside the drive --------------------------------------------------------------


class _Change:
    """The copies of a volume's metadata in a folder, and the blocks in which they differ. By number of the block:
    contents: of the new files, where nothing was. logged: of the journal, in the order in which they must come to be
    there. metadata: in their places. settled: what ends it, in order."""

    def __init__(self, held: Path, volume: ExtReader) -> None:
        self._held, self._volume, self.block = held, volume, volume.block
        self.before, self._after, self._log = held / "before", held / "after", held / "log"
        self.contents: dict[int, bytes] = {}
        self.metadata: dict[int, bytes] = {}
        self.logged: tuple[dict[int, bytes], ...] = ()
        self.settled: tuple[dict[int, bytes], ...] = ()

    def replay(self) -> None:
        """What the journal holds to its places: two readers of it must agree. Raises ToolError."""
        volume, head, first = self._volume, self._volume.super_block, self._volume.journal_start
        tools.run(["cp", "--sparse=always", "--", str(self.before), str(self._after)], seconds=SECONDS)
        self._debugfs(self._after, ["journal_run"])
        self.metadata = {block: volume.block_at(block) for block in volume.replayed if block not in (head, first)}
        others = set(self._differing(self.before, self._after)) - {*self.metadata, head, first}
        if others or any(self._block(self._after, block) != data for block, data in self.metadata.items()):
            raise ToolError("debugfs and Kyklon do not read the journal alike, so it is not replayed.")
        if self._reader(self._after).recovers:
            raise ToolError("debugfs did not replay the journal.")
        self.settled = ({first: self._block(self._after, first)}, {head: self._block(self._after, head)})

    def make(self, wanted: Sequence[_Place]) -> None:
        """Edit the copy, check it, and take what differs. Raises ToolError, TargetError."""
        self._edit(wanted)
        edited = self._reader(self._after)
        for each in wanted:
            if not each.is_in(edited):
                raise ToolError(f"debugfs did not write {each.path} as it should be.")
        if told := self._complaints(self._after):
            words = f"e2fsck says: {'; '.join(told[:MOST])}."
            raise ToolError(f"The files would not come out whole, so nothing is written. {words}")
        own = {block for each in wanted for block in self._blocks_of(edited, each)}
        found = {
            **self._differing(self.before, self._after),
            **{block: self._block(self._after, block) for block in own},
        }
        head = self._volume.super_block
        super_block = found.pop(head, b"")
        self.contents = {block: found.pop(block) for block in own}
        self.metadata = found
        if self._volume.has_journal:
            self._through_journal(head, super_block)
        else:
            self._unclean(head, super_block)

    def _reader(self, path: Path) -> ExtReader:
        return ExtReader(_file_reader(path), 0, path.stat().st_size)

    def _blocks_of(self, volume: ExtReader, place: _Place) -> Iterator[int]:
        inode = volume.find(place.path, follow=False)
        if inode is None or (inode.is_link and inode.size < 60):
            return
        for _logical, first, count in volume.places(inode):
            yield from range(first, first + count) if first else ()

    # --- editing ---

    def _edit(self, wanted: Sequence[_Place]) -> None:
        tools.run(["cp", "--sparse=always", "--", str(self.before), str(self._after)], seconds=SECONDS)
        if told := self._complaints(self.before):
            self._preen(told)
        lines: list[str] = []
        exchanges: list[str] = []  # all of them last, so that nothing new lies in the blocks of what was there
        made: set[str] = set()
        for number, each in enumerate(wanted):
            path = PurePosixPath(each.path)
            for above in reversed(path.parents):
                folder = str(above)
                if folder not in made and self._volume.find(folder, follow=False) is None:
                    lines += [f"mkdir {folder}", f"sif {folder} mode 040755", *_owner(folder, 0, 0)]
                    made.add(folder)
            source = self._held / f"file-{number}"
            source.write_bytes(each.file.data)
            fresh = each.path
            if each.old is not None:
                self._without_attributes(each.path)
                fresh = _NEW.format(folder=str(path.parent).rstrip("/"), name=path.name)
                if self._volume.find(fresh, follow=False) is not None:
                    raise TargetError(f"{fresh} is there already.", do="Remove it on the running machine.")
                exchanges += [f"rm {each.path}", f"ln {fresh} {each.path}", f"unlink {fresh}"]
            if each.file.link:
                lines.append(f"symlink {fresh} {each.file.data.decode()}")
            else:
                owner = (each.old.uid, each.old.gid) if each.old is not None else (0, 0)
                lines += [f'write "{source}" {fresh}', f"sif {fresh} mode 0{stat.S_IFREG | each.mode:o}"]
                lines += _owner(fresh, *owner)
        self._debugfs(self._after, [*lines, *exchanges])

    def _preen(self, told: tuple[str, ...]) -> None:
        """What a power cut leaves and every start mends by itself: files that were deleted while open, counts."""
        try:
            if not all(map(_OF_A_CUT.match, told)):
                raise ToolError("e2fsck would change more than that.")
            tools.run(["e2fsck", "-fp", str(self._after)], seconds=SECONDS, passes=(0, 1))
        except ToolError as bad:
            raise TargetError(
                f"The root has errors, so nothing is written to it. e2fsck says: {'; '.join(told[:MOST])}.",
                do=_SEND_TO_E2FSCK,
            ) from bad

    def _without_attributes(self, path: str) -> None:
        """Raises TargetError for a file whose further attributes would be lost."""
        told = self._debugfs(self.before, [f"ea_list {path}"], write=False)
        names = re.findall(r"^\s+([\w.]+) \(\d+\)", told, re.MULTILINE)
        if names and names != ["system.data"]:  # data inside the inode
            raise TargetError(
                f"{path} has attributes that would be lost ({', '.join(names)}).",
                do="Change it on the running machine.",
            )

    def _debugfs(self, image: Path, lines: Sequence[str], *, write: bool = True) -> str:
        commands = self._held / "commands"
        commands.write_text("\n".join(lines) + "\n")
        arguments = ["debugfs", *(["-w"] if write else []), "-f", str(commands), str(image)]
        return tools.run(arguments, seconds=SECONDS, bounds=_bounds(image.stat().st_size)).decode(errors="replace")

    def _complaints(self, image: Path) -> tuple[str, ...]:
        """What e2fsck would mend. Raises ToolError where it does not get to the end."""
        words = tools.run(
            ["e2fsck", "-fn", str(image)], seconds=SECONDS, passes=(0, 4), bounds=_bounds(image.stat().st_size)
        )
        found = complaints(words, None)  # every one counts: what is mended by itself is chosen by them
        return found or (("the file system has errors",) if b"still has errors" in words else ())

    # --- comparing ---

    def _differing(self, one: Path, other: Path) -> dict[int, bytes]:
        """The blocks of `other` that are not as in `one`."""
        found: dict[int, bytes] = {}
        with one.open("rb") as first, other.open("rb") as second:
            for begin, end in _data(second.fileno()):
                begin -= begin % self.block
                for at in range(begin, end, _CHUNK):
                    length = min(_CHUNK, -(-(end - at) // self.block) * self.block)
                    before = os.pread(first.fileno(), length, at).ljust(length, b"\0")
                    after = os.pread(second.fileno(), length, at).ljust(length, b"\0")
                    if before == after:
                        continue
                    for offset in range(0, length, self.block):
                        data = after[offset : offset + self.block]
                        if data != before[offset : offset + self.block]:
                            found[(at + offset) // self.block] = data
        return found

    def _block(self, image: Path, block: int) -> bytes:
        with image.open("rb") as file:
            return os.pread(file.fileno(), self.block, block * self.block).ljust(self.block, b"\0")

    # --- in which order ---

    def _through_journal(self, head: int, super_block: bytes) -> None:
        """The metadata as a transaction; what the journal is once it was replayed."""
        blocks = sorted(self.metadata)
        if len(blocks) > _MOST:
            raise TargetError(f"That changes {len(blocks)} blocks of the root at once; {_MOST} is the most.")
        tools.run(["cp", "--sparse=always", "--", str(self.before), str(self._log)], seconds=SECONDS)
        source = self._held / "blocks"
        source.write_bytes(b"".join(self.metadata[block] for block in blocks))
        numbers = ",".join(map(str, blocks))
        self._debugfs(self._log, ["journal_open", f'journal_write -b {numbers} "{source}"', "journal_close"])
        log = self._differing(self.before, self._log)
        first = self._volume.journal_start
        marked, opened = log.pop(head, b""), log.pop(first, b"")
        if not marked or not opened or not log:
            raise ToolError("debugfs wrote no transaction.")
        if self._reader(self._log).find("/") is None or not self._holds(self._log, self.metadata):
            raise ToolError("The transaction of debugfs does not hold what it should.")
        self.logged = (log, {head: marked}, {first: opened})
        self._debugfs(self._log, ["journal_run"])
        if any(self._block(self._log, block) != data for block, data in self.metadata.items()):
            raise ToolError("debugfs does not replay the transaction as it was written.")
        self.settled = ({first: self._block(self._log, first)}, {head: super_block or self._block(self.before, head)})

    def _holds(self, image: Path, blocks: Mapping[int, bytes]) -> bool:
        """Whether our own reader of journals sees these blocks in one that waits to be replayed."""
        volume = self._reader(image)
        return volume.recovers and all(volume.block_at(block) == data for block, data in blocks.items())

    def _unclean(self, head: int, super_block: bytes) -> None:
        """Without a journal: marked as in use meanwhile, so that a cut is found and repaired at the next start."""
        tools.run(["cp", "--sparse=always", "--", str(self.before), str(self._log)], seconds=SECONDS)
        self._debugfs(self._log, ["set_super_value state 0"])
        marked = self._differing(self.before, self._log)
        self.logged = ({head: marked[head]},) if head in marked else ()
        self.settled = ({head: super_block or self._block(self.before, head)},)


def _owner(path: str, uid: int, gid: int) -> list[str]:
    values = {"uid": uid & 0xFFFF, "uid_high": uid >> 16, "gid": gid & 0xFFFF, "gid_high": gid >> 16}
    return [f"sif {path} {name} {value}" for name, value in values.items()]


def _bounds(size: int) -> tools.Bounds:
    return tools.Bounds(memory=2 << 30, file=size + (1 << 24))


def _file_reader(path: Path) -> Read:
    def read(offset: int, length: int) -> bytes:
        with path.open("rb") as file:
            return reader(file.fileno())(offset, length)

    return read


def _data(descriptor: int) -> Iterator[tuple[int, int]]:
    """Where a sparse file has bytes (lseek(2): SEEK_DATA)."""
    at = 0
    while True:
        try:
            begin = os.lseek(descriptor, at, os.SEEK_DATA)
        except OSError:  # ENXIO: no more
            return
        at = os.lseek(descriptor, begin, os.SEEK_HOLE)
        yield begin, at
