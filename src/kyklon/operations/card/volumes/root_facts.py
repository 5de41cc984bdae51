"""What is on a root partition, as far as a start meets it: init, its programs, services, users, what may be written.

How a kernel starts a program: fs/binfmt_script.c, fs/binfmt_elf.c (6.1), execve(2); ELF: System V ABI, gABI 4.1.
"""

from __future__ import annotations

import contextlib
import hashlib
import re
from collections.abc import Iterable
from dataclasses import dataclass, replace

from kyklon.base.errors import FormatError
from kyklon.base.numbers import whole
from kyklon.model.card import (
    SETUP_DROP_IN,
    SETUP_NUMBERED,
    SETUP_RUNS,
    SETUP_SCRIPT,
    SETUP_SERVICE,
    SETUP_UNIT,
    Program,
    RootFacts,
    Unit,
    User,
)
from kyklon.operations.card.volumes import openrc, sessions
from kyklon.operations.card.volumes.ext_inodes import Inode
from kyklon.operations.card.volumes.ext_reader import ExtReader
from kyklon.operations.card.volumes.ext_volume import RefusedJournal
from kyklon.operations.card.volumes.libraries import INTERPRETER, LOAD, Libraries, elf_of
from kyklon.operations.card.volumes.mounts import read_fstab
from kyklon.operations.card.volumes.partitions import Read
from kyklon.operations.card.volumes.ramdisk_files import RamdiskFiles
from kyklon.operations.card.volumes.root_answers import KINDS as QUESTIONS
from kyklon.operations.card.volumes.root_answers import Answers
from kyklon.operations.card.volumes.script_needs import ScriptNeeds
from kyklon.operations.card.volumes.start_order import MANAGERS, Systemd, numbered, own_unit_of

# what a kernel needs before there is a root, and where its file is below a release's folder (6.1, Makefile of each)
DRIVERS = {
    "ext4": "kernel/fs/ext4/ext4.ko",
    "jbd2": "kernel/fs/jbd2/jbd2.ko",
    "mbcache": "kernel/fs/mbcache.ko",
    "crc16": "kernel/lib/crc16.ko",
    "crc32c_generic": "kernel/crypto/crc32c_generic.ko",
    "mmc_block": "kernel/drivers/mmc/core/mmc_block.ko",
    "usb-storage": "kernel/drivers/usb/storage/usb-storage.ko",
}
_PACKED = ("", ".xz", ".zst", ".gz")  # endings of modules
INITS = ("/sbin/init", "/etc/init", "/bin/init", "/bin/sh")  # init/main.c: tried in this order without init=
CHECKERS = ("/sbin/fsck", "/sbin/fsck.ext4")  # what scripts by their numbers check the root with
NEEDED = ("/dev", "/proc", "/sys")  # where a start mounts what the kernel offers
_HEAD = 256  # bytes of a program that the kernel looks at: BINPRM_BUF_SIZE
_DEEPEST = 5  # scripts that are started by scripts: fs/exec.c
_TEXT = 1 << 20  # bytes of a text file that are read
BOOT = "/boot"  # where images mount their boot partition
_MOST_TEXTS = 100  # files
_MOST_UNITS, _UNIT = 2000, 32 << 10  # services; bytes of a unit file
_MOST_FILES, _DEEPEST_FOLDER, _MOST_PLAYLISTS = 5000, 8, 200  # of games and system files
_MOST_FOLDERS = 1000  # with games
_MOST_ARCHIVES, _TAIL = 2000, 65_557  # archives that are looked at; bytes of their ends (APPNOTE 4.3.16)
_SHEET = 64 << 10  # bytes of a text that names tracks
_SMALL, _MOST_SUMMED = 1 << 20, 16 << 20  # bytes of a file, and of all; system files are hardly larger
_LOOP = re.compile(r"^\s*while\s+(?::|true)\s*(?:;|$)", re.MULTILINE)  # sh(1): a loop without an end of its own
_MOUNTS = re.compile(r"^\s*(?:\S*/)?mount\s+-a\b", re.MULTILINE)  # mount(8)
_LEAVES = re.compile(r"\b(?:break|exit|return|exec|kill)\b")
_HASHED = 64 << 20  # bytes of files that are compared with what the image states
_MACHINES = {40: "ARM 32-bit", 183: "ARM 64-bit", 62: "x86-64", 3: "x86 32-bit"}  # e_machine, elf.h


@dataclass(frozen=True)
class Layout:
    """Where an image keeps what the bring-up asks for. services: the folder of its unit files."""

    release: str = "/etc/image-release"
    expanded: str = "/etc/expanded"
    first_started: str = "/etc/first-boot-done"
    services: str = "/etc/services.d"
    checksums: str = "/etc/checksums"


LAYOUT = Layout()


def observe_root(read: Read, start: int, size: int, programs: Iterable[str] = (), layout: Layout = LAYOUT) -> RootFacts:
    """Read a root partition of `size` bytes that begins at byte `start`. programs: further ones to look at; what ends
    in a slash is a folder whose files are listed, and kind:name is a question of root_answers.KINDS.

    Raises FormatError when no kernel would mount it.
    """
    asked = tuple(programs)
    try:
        reader = ExtReader(read, start, size)
    except RefusedJournal as bad:
        return replace(_observed(ExtReader(read, start, size, journal=False), asked, layout), journal_error=str(bad))
    found = _observed(reader, asked, layout)
    if reader.recovers:
        found = replace(found, unreplayed=_observed(ExtReader(read, start, size, journal=False), asked, layout))
    return found


def _observed(reader: ExtReader, programs: Iterable[str], layout: Layout) -> RootFacts:
    looker = Looker(reader)
    units, pulled, in_order = looker.started(layout.services)
    users = looker.users()
    asked = [each for each in programs if each.partition(":")[0] in QUESTIONS]
    for path in (*INITS, *(each for each in programs if each not in asked)):
        if path.endswith("/"):
            looker.list_below(path)
        else:
            looker.program(path)
    if in_order:
        for path in CHECKERS:
            looker.program(path)
    seen = sessions.Root(looker.text, looker.names, looker.there, users)
    session = sessions.of_systemd(pulled, seen) if pulled else sessions.of_inittab(seen)
    if session is not None and session.program.startswith("/"):
        looker.program(session.program)
    damaged = looker.damaged(layout.checksums)
    inodes = frozenset(inode.number for path in damaged if (inode := looker.found(path)) is not None)
    return RootFacts(
        users=users,
        services=units,
        files=looker.files,
        file_sums=looker.sums,
        playlists=looker.playlists,
        sheets=looker.sheets,
        ends=looker.ends,
        more_files=looker.more,
        more_programs=looker.libraries.more or looker.scripts.more,
        pulled=pulled,
        numbered=in_order,
        numbered_in=looker.numbered_in,
        setup=looker.setup(),
        setup_runs=tuple(looker.names(SETUP_RUNS)),
        modular=looker.modular(),
        session=session,
        programs=dict(looker.programs),
        answers=Answers(looker.there, looker.text, looker.names, looker.scripts).to(asked),
        release=looker.text(layout.release).strip(),
        expanded=looker.there(layout.expanded),
        first_started=looker.there(layout.first_started),
        cautions=(*reader.cautions, *looker.troubles),
        no_write=reader.no_write,
        not_for_writing=reader.not_for_writing,
        features=reader.features,
        recovers=reader.recovers,
        own_boot=looker.texts_in(BOOT),
        mounts=read_fstab(looker.text("/etc/fstab", _UNIT)),
        mounts_all=looker.mounts_all(),
        missing=tuple(path for path in NEEDED if not looker.is_folder(path)),
        free=reader.free_bytes,
        size=reader.block * reader.blocks,
        damaged=damaged,
        damaged_inodes=inodes,
        kinds=reader.kinds,
        uuid=reader.uuid,
        label=reader.label,
        stated=looker.there(layout.checksums),
    )


def _of_env(argument: bytes) -> bytes:
    """The program that env(1) starts for the rest of a script's first line, which the kernel hands over as one word;
    b'' where it is not told."""
    split = re.match(rb"(?:-S|--split-string=?)\s*", argument)
    if split is None:
        return b"" if argument.startswith(b"-") or b"=" in argument else argument
    words = argument[split.end() :].split()
    return next((word for word in words if not word.startswith(b"-") and b"=" not in word), b"")


class Looker:
    """Looks at a root, file by file; damage is told once and counts as nothing there."""

    def __init__(self, reader: ExtReader | RamdiskFiles) -> None:
        self.reader = reader
        self.programs: dict[str, Program] = {}
        self.libraries = Libraries(reader)
        self.scripts = ScriptNeeds(self.there, self.text, self.names)
        self.troubles: list[str] = []
        self.files: dict[str, int] = {}
        self.sums: dict[str, str] = {}
        self.playlists: dict[str, str] = {}
        self.sheets: dict[str, str] = {}
        self.ends: dict[str, tuple[bytes, bytes]] = {}
        self.more = False
        self.numbered_in = ""  # the folder of the last numbered script, once started() was asked
        self.to_sum = _MOST_SUMMED

    def list_below(self, folder: str) -> None:
        """Every file below a folder, without following links; the sums of small ones."""
        waiting, seen = [folder.rstrip("/")], set[int]()  # a folder may hold itself
        while waiting:
            place = waiting.pop()
            for name in self.names(place):
                path = f"{place}/{name}"
                found = self.inode(path)
                if len(self.files) >= _MOST_FILES or path.count("/") > _DEEPEST_FOLDER:
                    self.more = True
                    return
                if found is not None and found.is_folder:
                    if found.number not in seen and len(seen) < _MOST_FOLDERS:
                        waiting.append(path)
                    seen.add(found.number)
                elif found is not None and found.is_file:
                    self._listed(path, found)

    def _listed(self, path: str, found: Inode) -> None:
        inside = path.lstrip("/")
        self.files[inside] = found.size
        if path.lower().endswith(".m3u") and len(self.playlists) < _MOST_PLAYLISTS:
            self.playlists[inside] = self.text(path)
            return
        if path.lower().endswith((".zip", ".7z")) and len(self.ends) < _MOST_ARCHIVES:
            with contextlib.suppress(FormatError):
                self.ends[inside] = self.reader.head(found, 32), self.reader.tail(found, _TAIL)
        elif found.size <= _SHEET and len(self.sheets) < _MOST_PLAYLISTS:
            text = self.text(path)
            if text and "\0" not in text:
                self.sheets[inside] = text
        if found.size <= min(_SMALL, self.to_sum):
            self.to_sum -= found.size
            with contextlib.suppress(FormatError):
                self.sums[inside] = hashlib.sha256(b"".join(self.reader.pieces(found))).hexdigest()

    def inode(self, path: str) -> Inode | None:
        """The inode of a path itself, a link's own where it is one."""
        try:
            return self.reader.find(path, follow=False)
        except FormatError as bad:
            self._told(f"{path} cannot be read: {bad.what}")
            return None

    def found(self, path: str) -> Inode | None:
        """The inode of a path; damage on the way is told once and counts as nothing there."""
        try:
            return self.reader.find(path)
        except FormatError as bad:
            self._told(f"{path} cannot be read: {bad.what}")
            return None

    def _told(self, words: str) -> None:
        if words not in self.troubles:
            self.troubles.append(words)

    def mounts_all(self) -> bool:
        """Whether init is a script that mounts what the table of file systems lists."""
        found = self.found(INITS[0])
        with contextlib.suppress(FormatError):
            if found is not None and found.is_file and self.reader.head(found, 2) == b"#!":
                return bool(_MOUNTS.search(self.text(INITS[0], _UNIT)))
        return False

    def texts_in(self, folder: str) -> dict[str, str]:
        """The small files of a folder, by name in small letters; those that are no text left out."""
        texts = {}
        for name in sorted(self.names(folder))[:_MOST_TEXTS] if self.is_folder(folder) else ():
            found = self.found(f"{folder}/{name}")
            if found is not None and found.is_file and found.size <= _SHEET:
                text = self.text(f"{folder}/{name}")
                if "\0" not in text:
                    texts[name.lower()] = text
        return texts

    def there(self, path: str) -> bool:
        return self.found(path) is not None

    def is_folder(self, path: str) -> bool:
        found = self.found(path)
        return found is not None and found.is_folder

    def text(self, path: str, most: int = _TEXT) -> str:
        found = self.found(path)
        if found is None or not found.is_file:
            return ""
        try:
            return self.reader.head(found, most).decode("utf-8", "surrogateescape")
        except FormatError as bad:
            self._told(f"{path} cannot be read: {bad.what}")
            return ""

    def modular(self) -> dict[str, tuple[str, ...]]:
        """Of each kernel release, the drivers that it has as modules only (modules.builtin: kbuild.rst)."""
        found = {}
        for top in ("/lib/modules", "/usr/lib/modules"):
            for release in self.names(top)[:20]:
                built_in = set(self.text(f"{top}/{release}/modules.builtin", _TEXT).split("\n"))
                found[release] = tuple(
                    name
                    for name, path in DRIVERS.items()
                    if path not in built_in and any(self.there(f"{top}/{release}/{path}{ending}") for ending in _PACKED)
                )
        return found

    # --- programs --------------------------------------------------------------------------------------------------

    def program(self, path: str, depth: int = 0) -> Program:
        known = self.programs.get(path)
        if known is None:
            known = self.programs[path] = Program(path, why=f"{path} starts itself")  # until it is known better
            known = self._program(path, depth)
            own = tuple((way, each.mode, each.uid, each.gid) for way, each in self._on_the_way(path))
            known = self.programs[path] = replace(known, folders=tuple(dict.fromkeys((*own, *known.folders))))
        return known

    def _on_the_way(self, path: str) -> tuple[tuple[str, Inode], ...]:
        with contextlib.suppress(FormatError):
            return self.reader.walk(path)[1]
        return ()

    def _program(self, path: str, depth: int) -> Program:
        try:
            found = self.reader.find(path)
            if found is None:
                return Program(path, why=f"{path} is not there", there=False)
            if not found.is_file:
                return Program(path, why=f"{path} is not a file")
            if not found.mode & 0o111:
                return Program(path, why=f"{path} is not executable")
            head = self.reader.head(found, _HEAD)
            if head[:2] == b"#!":
                return self._script(path, found, head, depth)
            if head[:4] == b"\x7fELF":
                return self._elf(path, found, head)
        except FormatError as bad:
            return Program(path, why=f"{path} cannot be read: {bad.what}")
        return Program(path, why=f"{path} is empty" if not head else f"{path} is neither a script nor a program")

    def _script(self, path: str, found: Inode, head: bytes, depth: int) -> Program:
        line, ended, _rest = head[2:].partition(b"\n")
        words = line.strip(b" \t").replace(b"\t", b" ").split(b" ")
        name = words[0].split(b"\0")[0]
        if not name or (not ended and len(head) == _HEAD and len(words) == 1):
            return Program(path, why=f"{path} names no program in its first line")
        if depth >= _DEEPEST:
            return Program(path, why=f"{path} nests script interpreters too deeply")
        by = name.decode("utf-8", "surrogateescape")
        inner = self.program(by if by.startswith("/") else f"/{by}", depth + 1)
        if inner.why:
            shown = "a carriage return ends its first line, so " if by.endswith("\r") else ""
            return Program(path, inner.machine, f"{path} is a script for {by.strip()}: {shown}{inner.why.strip()}")
        wanted = ""
        if name.endswith(b"/env") and (asked := _of_env(line.strip(b" \t")[len(words[0]) :].strip(b" \t"))):
            wanted = asked.decode("utf-8", "surrogateescape")
            place = wanted if "/" in wanted else self.scripts.where(wanted)
            through = self.program(place, depth + 1) if place else Program(wanted, why=f"{wanted.strip()} is not there")
            if through.why:
                shown = "a carriage return ends its first line, so " if wanted.endswith("\r") else ""
                return Program(path, inner.machine, f"{path} is a script for {wanted.strip()}: {shown}{through.why}")
            both = (*inner.inodes, *through.inodes)
            inner = replace(
                through, inodes=both, rights=(*inner.rights, *through.rights), lacks=inner.lacks or through.lacks
            )
        rights = ((path, found.mode, found.uid, found.gid), *inner.rights)
        body = self.text(path, _UNIT)
        endless = bool(_LOOP.search(body)) and not _LEAVES.search(body)
        own = replace(inner, path=path, inodes=(found.number, *inner.inodes), rights=rights, endless=endless, misses=())
        calls = self.scripts.calls(body, (wanted or by).rpartition("/")[2].strip())
        if depth < _DEEPEST and (last := next((each.name for each in calls.programs if each.last), "")):
            place = self.scripts.where(last, calls.path)
            target = self.program(place, depth + 1) if place and place != path else None
            why = "" if target is None else target.why or ("" if calls.moves else target.lacks)
            own = replace(own, lacks=own.lacks or (why if place else f"{last}, which is not there"))
        return replace(own, misses=self.scripts.misses(path, calls))

    def _elf(self, path: str, found: Inode, head: bytes) -> Program:
        elf = elf_of(head, lambda at, size: self.reader.span(found, at, size))
        machine = _MACHINES.get(elf.machine, "") if elf is not None else ""
        if elf is None or not machine:
            return Program(path, why=f"{path} is a program for another machine")
        if elf.kind not in (2, 3) or (not elf.segments and not elf.whole):
            return Program(path, machine, why=f"{path} has a damaged head")
        if not elf.whole or any(
            each.kind in (LOAD, INTERPRETER) and each.offset + each.size > found.size for each in elf.segments
        ):
            return Program(path, machine, why=f"{path} is cut short")
        inodes, folders, loader = [found.number], list[tuple[str, int, int, int]](), ""
        for each in elf.segments:
            if each.kind == INTERPRETER:
                raw = self.reader.span(found, each.offset, min(each.size, 4096))
                loader = raw.split(b"\0")[0].decode("utf-8", "surrogateescape")
                inner = self.program(loader)
                if inner.why:
                    return Program(path, machine, why=f"{path} needs {loader}: {inner.why}")
                inodes += inner.inodes
                folders += inner.folders
        lacks, libraries = self.libraries.lacking(path, found, loader)
        rights = ((path, found.mode, found.uid, found.gid),)
        numbers = tuple(dict.fromkeys((*inodes, *libraries)))
        return Program(path, machine, inodes=numbers, rights=rights, folders=tuple(folders), lacks=lacks)

    # --- services (systemd.unit(5), systemd.service(5)) ------------------------------------------------------------

    def units(self, folder: str) -> tuple[Unit, ...]:
        """The services of a folder of unit files, each by its own name."""
        names = [name for name in self.names(folder) if name.endswith(".service")][:_MOST_UNITS]
        return tuple(
            own_unit_of(name.removesuffix(".service"), self.unit_text(f"{folder}/{name}"), self.program, self.there)
            for name in names
        )

    def unit_text(self, path: str) -> str:
        return self.text(path, _UNIT)

    def names(self, folder: str) -> list[str]:
        """What is in a folder, sorted; nothing for one that cannot be read."""
        found = self.found(folder)
        if found is None or not found.is_folder:
            return []
        try:
            return sorted(name for name, _inode in self.reader.entries(found) if name not in (".", ".."))
        except FormatError as bad:
            self._told(f"{folder} cannot be read: {bad.what}")
            return []

    def link(self, path: str) -> str:
        """Where a link leads, '' for what is none."""
        try:
            found = self.reader.find(path, follow=False)
            return self.reader.target_of(found) if found is not None and found.is_link else ""
        except FormatError as bad:
            self._told(f"{path} cannot be read: {bad.what}")
            return ""

    def started(self, folder: str) -> tuple[tuple[Unit, ...], dict[str, Unit], tuple[str, ...]]:
        """The services, and what starts them: nothing but the list of the boot partition, systemd, or numbers."""
        if self.there(folder):
            return self.units(folder), {}, ()
        if any(map(self.there, MANAGERS)):
            pulled = Systemd(self.unit_text, self.names, self.link, self.program, self.there).units()
            return tuple(unit for name, unit in pulled.items() if "." not in name), pulled, ()
        if level := openrc.level_of(self.text, self.there, self.link("/sbin/init") or ""):
            rows = openrc.services(level, self.names, self.text)
            self.numbered_in = f"{openrc.RUNLEVELS}/{level}"
        else:
            rows = numbered(self.names, self.text)
            self.numbered_in = rows[-1][1].rpartition("/")[0] if rows else ""
        # init waits for each script before it runs the next (init.d(5), rc): one without an end blocks all behind it
        units = tuple(Unit(name, self.program(path), foreground=True) for name, path in rows)
        return units, {}, tuple(name for name, _path in rows)

    def setup(self) -> dict[str, str]:
        """What Kyklon put there to set the machine up; to be asked after started()."""
        places = [SETUP_SCRIPT, SETUP_UNIT, SETUP_DROP_IN]
        if self.numbered_in.startswith(openrc.RUNLEVELS):
            places += [SETUP_SERVICE, f"{self.numbered_in}/{SETUP_SERVICE.rpartition('/')[2]}"]
        elif self.numbered_in:
            places.append(f"{self.numbered_in}/{SETUP_NUMBERED}")
        return {path: text for path in places if (text := self.text(path))}

    # --- users (passwd(5)) -----------------------------------------------------------------------------------------

    def users(self) -> tuple[User, ...]:
        found = []
        for line in self.text("/etc/passwd").split("\n"):
            fields = line.split(":")
            if len(fields) < 7 or not fields[0] or not fields[2].isascii() or not re.fullmatch(r"\d{1,10}", fields[2]):
                continue
            number, home = int(fields[2]), fields[5]
            found.append(
                User(
                    fields[0],
                    number,
                    home,
                    self.program(fields[6] or "/bin/sh"),
                    self._home(home, number),
                    whole(fields[3]) or 0,
                )
            )
        return tuple(found)

    def _home(self, path: str, number: int) -> str:
        found = self.found(path)
        if found is None or not found.is_folder:
            return f"{path} is not there"
        if found.uid != number and number:
            return f"{path} belongs to another user ({found.uid})"
        return "" if found.mode & 0o300 == 0o300 or not number else f"{path} is not writable"

    # --- what the image states (sha256sum(1)) ----------------------------------------------------------------------

    def damaged(self, path: str) -> tuple[str, ...]:
        """Files whose bytes are not those that the image's own list of checksums states."""
        wrong, done = [], 0
        for line in self.text(path).split("\n"):
            match = re.fullmatch(r"([0-9a-f]{64}) [ *](/.+)", line)
            if not match:
                continue
            found = self.found(match[2])
            done += found.size if found else 0
            if found is None or not found.is_file or done > _HASHED:
                continue
            digest = hashlib.sha256()
            try:
                for piece in self.reader.pieces(found):
                    digest.update(piece)
            except FormatError as bad:
                self._told(f"{match[2]} cannot be read: {bad.what}")
                continue
            if digest.hexdigest() != match[1]:
                wrong.append(match[2])
        return tuple(wrong)
