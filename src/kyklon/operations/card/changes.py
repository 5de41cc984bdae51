"""What somebody changed on a card since it was remembered: boot files and the settings of its root, line by line.

Remembered are the texts of the boot partition and, of an ext4 root, all below FOLDERS: size, rights, owner and sum of
each file, the text of those that everybody may read, and the packages that dpkg's status lists (deb(5), dpkg(1)).
Passwords and keys are in none of it: what not everybody may read is kept as its sum.
"""

from __future__ import annotations

import difflib
import hashlib
import json
import re
import stat
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import asdict, dataclass, field
from pathlib import Path

from pydantic import TypeAdapter, ValidationError

from kyklon.base import durable, reading
from kyklon.base.errors import FormatError, KyklonError, WrongUse
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.reading import json_of
from kyklon.base.shown import visible
from kyklon.operations.card.volumes import contents
from kyklon.operations.card.volumes.ext_inodes import Inode
from kyklon.operations.card.volumes.ext_reader import ExtReader
from kyklon.operations.card.volumes.partitions import read_table
from kyklon.operations.card.volumes.root_facts import Looker
from kyklon.operations.card.volumes.survey import reader

FILE = "machine/remembered.json"
FOLDERS = ("/etc", "/usr/local", "/opt", "/root", "/home", "/var/spool/cron")
PACKAGES = "/var/lib/dpkg/status"
_TEXT = 64 * 1024  # bytes of a text that is kept
_SUMMED = 1 << 20  # bytes of a file that is summed; of a larger one only its size tells
_MOST_FILES = 20_000
_MOST_TEXT = 8 << 20  # bytes of all texts
_LARGEST = 64 << 20  # bytes of what is remembered
_DEEPEST = 12  # folders in each other
_SECRET = re.compile(r"(?im)^([^\n#]*\b\w*(?:psk|passw\w*|passphrase|secret|key)\w*\b[\"']?\s*[=:]\s*)\S[^\n]*$")
# what a system itself writes at every start, hier(7) and the programs' own manuals
_RESTLESS = (
    *("/etc/mtab", "/etc/ld.so.cache", "/etc/resolv.conf", "/etc/adjtime", "/etc/.pwd.lock", "/etc/machine-id"),
    *("/etc/fake-hwclock.data", "/etc/.updated"),
)


@dataclass(frozen=True)
class Held:
    """A file: its sum, or for a large one its size; rights and owner in words; its text where that was kept."""

    sum: str
    rights: str = ""
    text: str | None = None


@dataclass(frozen=True)
class Remembered:
    """files: by path, those of the root from a slash on. packages: versions by name. not_read: what could not be
    looked at, in words. boot_seen, root_seen: whether that partition was looked at."""

    at: str
    files: Mapping[str, Held] = field(default_factory=dict)
    packages: Mapping[str, str] = field(default_factory=dict)
    not_read: tuple[str, ...] = ()
    boot_seen: bool = True
    root_seen: bool = True


@dataclass(frozen=True)
class Change:
    """what: 'boot file', 'file', 'rights', 'package'. change: new, gone, changed. lines: a difference by lines."""

    what: str
    name: str
    change: str
    detail: str = ""
    lines: tuple[str, ...] = ()


def look(path: Path, at: str, watch: Watch = UNWATCHED) -> Remembered:
    """A card, a device or an image, as it is now. at: ISO 8601. Raises KyklonError, Cancelled."""
    found = contents.observe(path)
    if found.table_error:
        raise KyklonError(found.table_error, do="Choose a card that was written.")
    files = {
        name: Held(found.digests.get(name.lower(), f"{size} bytes"), text=_plain(found.texts.get(name.lower())))
        for name, size in found.sizes.items()
    }
    not_read = [found.boot_error] if found.boot_error else []
    packages: Mapping[str, str] = {}
    root_seen = False
    try:
        with reading.opened(path, devices=True) as file:
            read, size = reader(file.fileno()), file.seek(0, 2)
            root = read_table(read, size, strict=False).root()
            if root is None:
                not_read.append("There is no Linux partition.")
            else:
                looker = Looker(ExtReader(read, root.start, min(root.size, size - root.start)))
                files |= dict(_below(looker, watch, not_read))
                packages = _packages(looker)
                not_read += looker.troubles[:5]
                root_seen = True
    except FormatError as bad:
        not_read.append(f"The root partition: {bad.what}")
    except OSError as bad:
        raise KyklonError(f"{path} cannot be read: {bad.strerror}.", do="Put the card in again.") from bad
    return Remembered(at, files, packages, tuple(not_read), boot_seen=not found.boot_error, root_seen=root_seen)


def _below(look: Looker, watch: Watch, not_read: list[str]) -> Iterator[tuple[str, Held]]:
    """Every file and link below FOLDERS; links are not followed."""
    waiting, count, text_left, seen = list(FOLDERS), 0, _MOST_TEXT, set[int]()
    while waiting:
        place = waiting.pop()
        watch.check()
        for name in look.names(place):
            path = f"{place}/{name}"
            found = look.inode(path)
            if found is None or path in _RESTLESS:
                continue
            if found.is_folder:
                if found.number not in seen and path.count("/") <= _DEEPEST:
                    waiting.append(path)
                seen.add(found.number)
                continue
            count += 1
            if count > _MOST_FILES:
                not_read.append(f"There are more than {_MOST_FILES} files; the others were not looked at.")
                return
            held = _held(look, path, found, text_left)
            text_left -= len(held.text or "")
            yield path, held


def _held(look: Looker, path: str, found: Inode, text_left: int) -> Held:
    rights = f"{stat.filemode(found.mode)} {found.uid}:{found.gid}"
    if found.is_link:
        return Held(f"link to {look.reader.target_of(found)}", rights)
    if not found.is_file:
        return Held("no plain file", rights)
    if found.size > _SUMMED:
        return Held(f"{found.size} bytes", rights)
    try:
        data = b"".join(look.reader.pieces(found))
    except FormatError as bad:
        return Held(f"cannot be read: {bad.what}"[:200], rights)
    digest = hashlib.sha256(data).hexdigest()
    public = bool(found.mode & stat.S_IROTH)
    if not public or len(data) > min(_TEXT, text_left) or b"\0" in data:
        return Held(digest, rights)
    return Held(digest, rights, _plain(data.decode("utf-8", "replace")))


def _plain(text: str | None) -> str | None:
    """A text without what follows the words for a password or a key, and without bytes that are no UTF-8."""
    if text is None:
        return None
    return _SECRET.sub(r"\1(hidden)", text.encode("utf-8", "replace").decode("utf-8"))


def _packages(look: Looker) -> dict[str, str]:
    """Versions of the packages that are installed."""
    found = look.found(PACKAGES)
    if found is None or not found.is_file or found.size > _LARGEST:
        return {}
    try:
        text = b"".join(look.reader.pieces(found)).decode("utf-8", "replace")
    except FormatError:
        return {}
    versions = {}
    for block in text.split("\n\n"):
        rows = dict(line.split(": ", 1) for line in block.split("\n") if ": " in line and not line.startswith(" "))
        if rows.get("Status", "").endswith(" installed") and "Package" in rows:
            versions[rows["Package"]] = rows.get("Version", "")
    return versions


# --- kept ----------------------------------------------------------------------------------------------------------


def remember(folder: Path, now: Remembered) -> Path:
    """Keep it in a build's folder, in place of what was kept. Raises KyklonError where it is too large."""
    data = json.dumps(asdict(now), ensure_ascii=True, sort_keys=True).encode()
    if len(data) > _LARGEST:
        raise KyklonError("There is too much on this card to be remembered.", do="Back the card up instead.")
    target = folder / FILE
    target.parent.mkdir(exist_ok=True)
    durable.replace(target, data)
    return target


def remembered(folder: Path) -> Remembered | None:
    """What a build's folder keeps; None for nothing. Raises FormatError for a file that is damaged."""
    path = folder / FILE
    if not path.is_file():
        return None
    row = json_of(reading.bytes_of(path, _LARGEST), FILE)
    try:
        return TypeAdapter(Remembered).validate_python(row)
    except ValidationError as bad:
        first = bad.errors()[0]
        key = ".".join(map(str, first["loc"]))
        raise FormatError(FILE, 0, expected="what a card was remembered as", got=f"{key}: {first['msg']}") from bad


@dataclass(frozen=True)
class Since:
    """before: as it was remembered; now: as it is; changes: what differs."""

    before: Remembered
    now: Remembered
    changes: tuple[Change, ...]

    @property
    def whole(self) -> bool:
        """Whether all that was remembered could be looked at again."""
        lost = (self.before.boot_seen and not self.now.boot_seen) or (self.before.root_seen and not self.now.root_seen)
        return not lost and not (self.now.root_seen and self.now.not_read)


def since(folder: Path, path: Path, at: str, watch: Watch = UNWATCHED) -> Since:
    """What changed on a card. at: the time of now, ISO 8601. Raises WrongUse where nothing is remembered, KyklonError,
    Cancelled."""
    before = remembered(folder)
    if before is None:
        raise WrongUse("This build has not remembered its card yet.", do="Remember it as it is now, while it works.")
    now = look(path, at, watch)
    return Since(before, now, tuple(compare(before, now)))


def compare(before: Remembered, now: Remembered) -> Iterable[Change]:
    """What differs, by name: files with their lines, rights, packages; of partitions that were looked at both times."""
    boot, root = before.boot_seen and now.boot_seen, before.root_seen and now.root_seen
    for name in sorted({*before.files, *now.files}):
        old, new = before.files.get(name), now.files.get(name)
        what = "file" if name.startswith("/") else "boot file"
        if not (root if what == "file" else boot):
            continue
        if old is None or new is None:
            only = old or new
            assert only is not None
            lines = _lines("" if old is None else old.text, "" if new is None else new.text) if only.text else ()
            hidden = new is None and bool(now.not_read) and what == "file"
            detail = "or in a folder that cannot be read" if hidden else ""
            yield Change(what, name, "gone" if new is None else "new", detail, lines)
        elif old.sum != new.sum:
            plain = old.text is not None and new.text is not None
            yield Change(what, name, "changed", "" if plain else _detail(old.sum, new.sum), _lines(old.text, new.text))
        elif old.rights != new.rights:
            yield Change("rights", name, "changed", f"{old.rights} to {new.rights}")
    for name in sorted({*before.packages, *now.packages}) if root else ():
        old_one, new_one = before.packages.get(name), now.packages.get(name)
        if old_one != new_one:
            change = "new" if old_one is None else "gone" if new_one is None else "changed"
            detail = f"{old_one} to {new_one}" if old_one and new_one else new_one or old_one or ""
            yield Change("package", name, change, detail)


def _detail(old: str, new: str) -> str:
    told = [each for each in (old, new) if not (len(each) == 64 and set(each) <= set("0123456789abcdef"))]
    return f"{old} to {new}" if len(told) == 2 else "its text is not kept: not everybody may read it, or it is none"


def _lines(old: str | None, new: str | None) -> tuple[str, ...]:
    """A unified difference without its head; nothing where a text is not known."""
    if old is None or new is None:
        return ()
    return tuple(difflib.unified_diff(old.splitlines(), new.splitlines(), lineterm="", n=1))[2:]


def in_words(changes: Iterable[Change]) -> str:
    """The changes as text, one after another."""
    marks = {"new": "+", "gone": "−", "changed": "≠"}
    told = []
    for each in changes:
        told.append(f"{marks[each.change]} {each.what} {each.name}" + (f": {each.detail}" if each.detail else ""))
        told += [f"    {line}" for line in each.lines]
    return visible("\n".join(told), lines=True)
