"""A system learnt from a folder of its games: endings, archives, sheets and sizes; what it draws is asked."""

from __future__ import annotations

import contextlib
import hashlib
import re
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from kyklon.base import reading
from kyklon.base.archives import ArchiveDamage, open_zip
from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.inside import files_below
from kyklon.base.quantities import counted, show_bytes
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.system_records import Emulator
from kyklon.parts.draft import Draft
from kyklon.parts.store import id_of

ASKED = (
    "width",
    "height",
    "refresh",
    "aspect",
    "vertical",
    "folder",
    "extensions",
    "archives",
    "multi_disc",
    "emulator",
    "lag_frames",
    "buttons",
)
ARCHIVES = ("zip", "7z")
SHEETS = ("cue", "m3u", "gdi", "ccd")
# CP: what lies beside games and is none
_BESIDE = (
    "txt",
    "nfo",
    "xml",
    "dat",
    "jpg",
    "jpeg",
    "png",
    "gif",
    "mp4",
    "pdf",
    "srm",
    "sav",
    "state",
    "cfg",
    "ini",
    "htm",
    "html",
    "db",
    "md",
    "log",
    "bak",
)
_TRACKS = ("bin", "iso", "img", "raw", "wav", "sub")
_OPENED = 40  # archives that are looked into
_DISC = re.compile(r"[(\[ _-](disc|disk|cd)[ _-]?[1-9]", re.I)
_RARE = 0.02  # of all files: an ending that is rarer is an accident


@dataclass(frozen=True)
class Lines:
    """What sets of a kind draw: a hint where nobody knows better. Source: ITU-R BT.1700 (525 and 625 lines), VESA
    DMT."""

    name: str
    height: int
    refresh: str


HINTS = (
    Lines("525-line television, one field: 240 lines near 60 Hz", 240, "59.94"),
    Lines("625-line television, one field: 288 lines near 50 Hz", 288, "50"),
    Lines("525-line television, both fields: 480 lines", 480, "59.94"),
    Lines("31 kHz monitor: 480 lines at 60 Hz", 480, "60"),
)


def learn(folder: Path, catalogue: Catalogue) -> Draft:
    """A draft from a folder of games. Raises KyklonError for one that cannot be read or holds no files."""
    try:
        files = [(path, status.st_size) for path, status in files_below(folder)]
    except OSError as bad:
        raise KyklonError(f"{folder} cannot be read: {bad.strerror}.", do="Choose the folder again.") from bad
    games = [(path, size) for path, size in files if _ending(path) not in _BESIDE and _ending(path)]
    if not games:
        raise KyklonError(f"{folder} holds no games.", do="Choose the folder that holds the games of one system.")
    by = f"{counted(len(games), 'file')} in {folder.name}"
    draft = Draft("systems", asked=ASKED)
    name = re.sub(r"[-_]+", " ", folder.name).strip().capitalize()[:120] or "System"
    draft = draft.with_read(by, name=name, folder=re.sub(r"[^\w.+-]+", "-", folder.name)[:60] or "games")
    counts = Counter(_ending(path) for path, _size in games)
    packed = sum(counts[archive] for archive in ARCHIVES)
    inner, broken = _inside(folder, [path for path, _size in games if _ending(path) == "zip"])
    plain = {ending: count for ending, count in counts.items() if ending not in ARCHIVES}
    endings = _endings(plain, inner, packed)
    draft = draft.with_read(by, extensions=list(endings), archives=bool(packed))
    by_size = sorted(size for _path, size in games)
    draft = draft.with_read(by, typical_bytes=max(1, by_size[len(by_size) // 2]))
    discs = any(_ending(path) == "m3u" or _DISC.search(path) for path, _size in games)
    draft = draft.with_read(by, multi_disc=discs)
    if broken:
        draft = draft.tell(f"{counted(len(broken), 'archive')} cannot be opened: {', '.join(broken[:3])}.")
    emulators = catalogue.all(Emulator)
    if emulators:
        draft = draft.offer("the first of the shelf; choose its own", emulator=emulators[0].id)
    draft = draft.offer("directions and two buttons are the least", buttons=2)
    sizes = by_size
    rows = (
        ("Files", f"{len(games)}, {show_bytes(sum(sizes))}"),
        ("Largest", show_bytes(sizes[-1])),
        ("Usual", show_bytes(sizes[len(sizes) // 2])),
        ("Endings", ", ".join(f"{ending} {count}" for ending, count in counts.most_common(8))),
        ("In archives", ", ".join(f"{ending} {count}" for ending, count in inner.most_common(5)) or "none looked into"),
    )
    return replace(draft, about=rows)


def _ending(path: str) -> str:
    name = path.rpartition("/")[2]
    return name.rpartition(".")[2].lower() if "." in name.lstrip(".") else ""


def _inside(folder: Path, archives: list[str]) -> tuple[Counter[str], list[str]]:
    """Endings within some of the archives, and those that cannot be opened."""
    found: Counter[str] = Counter()
    broken = []
    step = max(1, len(archives) // _OPENED)
    for name in archives[::step][:_OPENED]:
        try:
            with reading.opened(folder / name) as file, open_zip(file) as archive:
                endings = {_ending(info.filename) for info in archive.infolist() if not info.is_dir()}
        except (ArchiveDamage, OSError, ValueError, RuntimeError, KyklonError):
            broken.append(name)
            continue
        except Exception:  # whatever else a damaged archive makes the library say
            broken.append(name)
            continue
        found.update(ending for ending in endings if ending and ending not in _BESIDE)
    return found, broken


def _endings(plain: dict[str, int], inner: Counter[str], packed: int) -> tuple[str, ...]:
    """The endings of games: sheets stand for the tracks that they name; archives of parts are games themselves."""
    total = sum(plain.values()) or 1
    usual = [each for each, count in sorted(plain.items(), key=lambda row: -row[1]) if count >= total * _RARE]
    if any(each in SHEETS for each in usual):
        usual = [each for each in usual if each not in _TRACKS]
    known = set(usual)
    single = [each for each, _count in inner.most_common(3)] if len(inner) <= 4 else []
    usual += [each for each in single if each not in known]
    return tuple(usual or (["zip"] if packed else []))


def free_id(name: str, taken: Iterable[str]) -> str:
    """A short name that none has."""
    base, known = id_of(name), set(taken)
    return (
        base
        if base not in known
        else next(f"{base[:60]}-{n}" for n in range(2, 10_000) if f"{base[:60]}-{n}" not in known)
    )


def hinted(draft: Draft, hint: Lines) -> Draft:
    """With the lines of a kind of set as suggestions."""
    with contextlib.suppress(ValueError):
        draft = draft.offer(hint.name, height=hint.height, refresh=hint.refresh)
    return draft


_MOST_FIRMWARE = 64 << 20  # bytes; what is larger is a game or an image


def firmware_row(path: Path, region: str = "", *, required: bool = True) -> dict[str, object]:
    """What a system asks of its firmware file, taken from a good one: name, size and SHA-256. Raises KyklonError for a
    file that cannot be read, is empty or too large."""
    try:
        with reading.opened(path) as file:
            size = path.stat().st_size
            if not 0 < size <= _MOST_FIRMWARE:
                raise KyklonError(
                    f"{path.name} has {show_bytes(size)}: that is no firmware file.",
                    do="Choose the file as it was read from the machine.",
                )
            digest = hashlib.file_digest(file, "sha256").hexdigest()
    except OSError as bad:
        raise KyklonError(f"{path} cannot be read: {bad.strerror}.", do="Choose the file again.") from bad
    return {"name": path.name, "size": size, "sha256": digest, "region": region, "required": required}


def with_firmware(rows: Iterable[object], new: Mapping[str, object]) -> list[object]:
    """The rows with another one; one of the same name gives way."""
    kept = [row for row in rows if not (isinstance(row, Mapping) and row.get("name") == new["name"])]
    return [*kept, dict(new)]


def with_revision(rows: Iterable[dict[str, Any]], name: str, new: Mapping[str, object], note: str) -> list[object]:
    """The rows, with another revision behind those that the file of that name has. Raises WrongUse for no such file, or
    a revision that it has."""
    made: list[object] = []
    found = False
    for row in rows:
        if row["name"] == name:
            found = True
            others = list(row.get("revisions", ()))
            if new["sha256"] in (row["sha256"], *(each["sha256"] for each in others)):
                raise WrongUse(f"{name} has this revision already.", do="Choose another file.")
            others.append({"size": new["size"], "sha256": new["sha256"], "note": note[:200]})
            row = {**row, "revisions": others}
        made.append(row)
    if not found:
        raise WrongUse(f"The system asks for no {name}.", do="Add it first, without --revision-of.")
    return made


def draft_with_firmware(draft: Draft, path: Path) -> Draft:
    """A draft that asks for this firmware file too. Raises KyklonError."""
    rows = with_firmware(draft.row.get("system_files", ()), firmware_row(path))
    return draft.with_read(f"the file {path.name}", system_files=rows)
