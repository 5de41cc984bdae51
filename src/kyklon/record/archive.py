"""A build as one file: a plain tar that is the same, byte for byte, whoever makes it from the same folder.

Names in order, times and owners left out, databases as sorted JSON lines. The first member lists the SHA-256 of every
other. Image files stay outside unless they are wanted: they are named by checksum.
"""

from __future__ import annotations

import base64
import contextlib
import hashlib
import io
import json
import os
import re
import sqlite3
import stat
import tarfile
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any, NoReturn

from kyklon.base import durable, own_file
from kyklon.base.errors import BuildFolderError, FormatError, KyklonError, WrongUse
from kyklon.base.inside import inside
from kyklon.base.meter import Meter
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.reading import text_of
from kyklon.base.shown import visible
from kyklon.model.build import Build, CardRecord, edited
from kyklon.model.fault import FaultCase
from kyklon.model.upkeep import UpkeepSettings
from kyklon.record import answers, folder, logbook, revisions, texts

ENDING = ".tar"
SUMS, IMAGES = "SHA256SUMS", "images.sums"
SAVES = "saves"  # archives of saves: part of the build
_DATABASES = {  # file, its tables, and what is not carried along
    logbook.FILE: ("entry", "attached", "head", "object", "newest"),
    answers.FILE: ("answers",),
    texts.FILE: ("texts",),
}
_IMAGE = re.compile(r"(?i)\.(img|iso|raw|bin|wic)(\.(xz|gz|zst|bz2|zip|7z))?$|\.(xz|zst|7z)$")
MOST_FILES, MOST_BYTES = 50_000, 64 << 30
_BLOCK = 1 << 20
_MOST_SUMS = 16 << 20
_MOST_LINE = 64 << 20  # of a database's row


@dataclass(frozen=True)
class Packed:
    """files: how many. size: bytes of the archive. images: names that stayed outside, each with its SHA-256. private:
    whether the build has keys or a login, so that the archive is not for publishing."""

    files: int
    size: int
    digest: str
    images: tuple[tuple[str, str], ...]
    private: bool = False


def make(place: Path, to: Path, *, images: bool = False, watch: Watch = UNWATCHED) -> Packed:
    """Write the archive of a build folder. images: also the image files in it. Raises KyklonError, Cancelled."""
    build = folder.load(place).build  # says what is wrong with a folder that is none
    if to.suffix != ENDING:
        raise WrongUse(f"An archive's name ends in {ENDING}, not {to.suffix or 'nothing'}.", do="Name it NAME.tar.")
    outside: dict[str, str] = {}
    members: list[tuple[str, Path | bytes]] = []
    with contextlib.suppress(OSError, KyklonError):
        text = text_of((place / IMAGES).read_bytes(), IMAGES)
        outside = {name: digest for digest, name in (line.split("  ", 1) for line in text.splitlines() if "  " in line)}
    for name, path in _files(place):
        if _IMAGE.search(name) and not name.startswith(f"{SAVES}/"):
            outside.pop(name, None)
            if not images:
                outside[name] = _sum(path)
                continue
        members.append((name, path))
    for name in _DATABASES:
        if (place / name).exists():
            members.append((f"{name}.jsonl", _dump(place / name)))
    if outside:
        listed = "".join(f"{digest}  {name}\n" for name, digest in sorted(outside.items()))
        members.append((IMAGES, listed.encode("utf-8", "surrogateescape")))
    members.sort(key=lambda row: row[0].encode("utf-8", "surrogateescape"))
    sums = b"".join(f"{_digest(data)}  {name}\n".encode("utf-8", "surrogateescape") for name, data in members)
    total = sum(data.stat().st_size if isinstance(data, Path) else len(data) for _name, data in members)
    meter = Meter("Writing the archive", total, watch)
    held = to.with_name(f".{to.name}{durable.UNFINISHED}")
    try:
        with open(held, "wb") as file:
            with tarfile.open(fileobj=file, mode="w", format=tarfile.PAX_FORMAT) as tar:
                done = 0
                for name, data in [(SUMS, sums), *members]:
                    watch.check()
                    done += _add(tar, name, data)
                    meter.report(min(done, total))
            file.flush()
            os.fsync(file.fileno())
        held.replace(to)
    except OSError as bad:
        do = "Free some space, or name another place."
        raise KyklonError(f"{to} cannot be written: {bad.strerror}.", do=do) from bad
    finally:
        held.unlink(missing_ok=True)
    return Packed(len(members), to.stat().st_size, _sum(to), tuple(sorted(outside.items())), _private(build))


def _private(build: Build) -> bool:
    system = build.system
    return bool(system.wireless_key or system.password_hash or system.remote_key or build.library.host)


def _files(place: Path) -> Iterator[tuple[str, Path]]:
    for name, _status in revisions.tracked(place):
        yield name, place / name
    for top in (revisions.NOT, SAVES):
        if not (place / top).is_symlink() and (place / top).is_dir():
            for each in sorted((place / top).rglob("*")):
                status = each.lstat()
                if stat.S_ISREG(status.st_mode) and not each.name.startswith("."):
                    yield each.relative_to(place).as_posix(), each


def _add(tar: tarfile.TarFile, name: str, data: Path | bytes) -> int:
    info = tarfile.TarInfo(name)
    info.mode, info.mtime, info.uid, info.gid = 0o644, 0, 0, 0
    if isinstance(data, bytes):
        info.size = len(data)
        tar.addfile(info, io.BytesIO(data))
    else:
        with open(data, "rb") as file:
            info.size = os.fstat(file.fileno()).st_size
            tar.addfile(info, file)
    return info.size


def _digest(data: Path | bytes) -> str:
    return _sum(data) if isinstance(data, Path) else hashlib.sha256(data).hexdigest()


def _sum(path: Path) -> str:
    with open(path, "rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _dump(path: Path) -> bytes:
    """The rows of a database in order, a JSON line each. Raises BuildFolderError."""
    lines = []
    try:
        with contextlib.closing(own_file.database(path, 10)) as database:
            for table in _DATABASES[path.name]:
                if not database.execute("SELECT 1 FROM sqlite_master WHERE name = ?", (table,)).fetchone():
                    continue
                columns = [str(row[1]) for row in database.execute(f"PRAGMA table_info({table})")]
                lines.append(json.dumps({"table": table, "columns": columns}))
                rows = database.execute(f"SELECT {_named(columns)} FROM {table}").fetchall()
                lines += sorted(json.dumps([_plain(cell) for cell in row]) for row in rows)
    except (sqlite3.Error, ValueError) as bad:
        raise BuildFolderError(f"{path} cannot be read: {bad}.", do="Move it away, and try again.") from bad
    return ("\n".join(lines) + "\n").encode("ascii")


def _named(columns: list[str]) -> str:
    """Columns of a database that somebody else may have made."""
    return ", ".join('"' + name.replace('"', '""') + '"' for name in columns)


def _plain(cell: Any) -> Any:
    return {"bytes": base64.b64encode(cell).decode()} if isinstance(cell, bytes) else cell


# --- opened --------------------------------------------------------------------------------------------------------


def check(path: Path, watch: Watch = UNWATCHED) -> tuple[str, ...]:
    """What is wrong with an archive, by the member; nothing where it is as it was made. Raises FormatError for none."""
    wrong: list[str] = []
    try:
        with open(path, "rb") as file, tarfile.open(fileobj=file, mode="r:") as tar:
            sums, seen = _sums(tar, path.name), set[str]()
            for info in tar:
                watch.check()
                if info.name == SUMS:
                    continue
                trouble = _trouble(info, sums, seen)
                if trouble:
                    wrong.append(trouble)
                    continue
                seen.add(info.name)
                source = tar.extractfile(info)
                assert source is not None
                if hashlib.file_digest(source, "sha256").hexdigest() != sums[info.name]:  # type: ignore[arg-type] # is read
                    wrong.append(f"{visible(info.name)} was changed.")
            wrong += [f"{visible(name)} is missing." for name in sums if name not in seen]
    except (tarfile.TarError, OSError, EOFError, ValueError) as bad:
        if isinstance(bad, KyklonError):
            raise
        wrong.append(f"The archive ends early or is damaged: {str(bad).rstrip('.')}.")
    return tuple(wrong)


def _sums(tar: tarfile.TarFile, name: str) -> dict[str, str]:
    first = tar.next()
    if first is None or first.name != SUMS or not first.isreg() or first.size > _MOST_SUMS:
        raise FormatError(name, 0, expected="an archive of a build", got="something else", do="Choose another file.")
    source = tar.extractfile(first)
    assert source is not None
    found = {}
    for line in source.read().decode("utf-8", "surrogateescape").split("\n"):
        digest, mark, path = line.partition("  ")
        if mark and re.fullmatch(r"[0-9a-f]{64}", digest):
            found[path] = digest
    if len(found) > MOST_FILES:
        raise FormatError(name, 0, expected=f"at most {MOST_FILES} files", got=f"{len(found)}")
    return found


def _trouble(info: tarfile.TarInfo, sums: dict[str, str], seen: set[str]) -> str:
    name = visible(info.name)
    if not info.isreg():
        return f"{name} is no plain file."
    if info.name not in sums:
        return f"{name} is not in its list."
    if info.name in seen:
        return f"{name} is in it twice."
    parts = info.name.split("/")
    if info.name.startswith("/") or {"", ".", ".."} & set(parts) or "\\" in info.name or "\0" in info.name:
        return f"{name} leads out of the folder."
    known = {*(f"{each}.jsonl" for each in _DATABASES), *revisions.FILES, IMAGES}
    return "" if info.name in known or parts[0] in (*revisions.FOLDERS, SAVES) else f"{name} is no file of a build."


def open_into(path: Path, place: Path, watch: Watch = UNWATCHED) -> Build:
    """The build folder of an archive, in a folder that is empty or not there yet. Nothing is left of one that is not as
    it was made. Raises KyklonError, Cancelled."""
    if place.is_symlink() or (place.exists() and (not place.is_dir() or any(place.iterdir()))):
        raise WrongUse(f"{place} is not empty.", do="Name a new folder.")
    wrong = check(path, watch)
    if wrong:
        _refuse(path.name, f"{wrong[0]}{f' {len(wrong) - 1} more like it.' if len(wrong) > 1 else ''}")
    with _beside(place) as held:
        made = Path(held) / "build"
        made.mkdir()
        try:
            _unpack(path, made, watch)
        except (tarfile.TarError, EOFError) as bad:
            _refuse(path.name, str(bad))
        except OSError as bad:
            raise KyklonError(f"{place} cannot be made: {bad.strerror}.", do="Free some space.") from bad
        build = folder.load(made).build
        if place.exists():
            place.rmdir()
        made.rename(place)
    return build


@contextlib.contextmanager
def _beside(place: Path) -> Iterator[str]:
    """A folder that goes away again, on the same file system. Raises KyklonError where none can be made."""
    try:
        place.parent.mkdir(parents=True, exist_ok=True)
        held = tempfile.TemporaryDirectory(dir=place.parent, prefix=f".{place.name}-")
    except OSError as bad:
        raise KyklonError(
            f"{place} cannot be made: {bad.strerror}.", do="Unpack it elsewhere: kyklon archive open FILE FOLDER."
        ) from bad
    with held as name:
        yield name


def _refuse(name: str, why: str) -> NoReturn:
    raise FormatError(name, 0, expected="an archive as it was made", got=why.rstrip("."), do="Take another copy.")


def _unpack(path: Path, place: Path, watch: Watch) -> None:
    total = 0
    with open(path, "rb") as file, tarfile.open(fileobj=file, mode="r:") as tar:
        sums = _sums(tar, path.name)
        for info in tar:
            watch.check()
            total += info.size
            source = tar.extractfile(info) if info.isreg() else None
            if total > MOST_BYTES or source is None or (info.name != SUMS and info.name not in sums):
                _refuse(path.name, visible(info.name))  # it was another file when it was checked
            if info.name == SUMS:
                continue
            name = info.name.removesuffix(".jsonl")
            if name in _DATABASES:
                _rebuilt(place / name, source)
                continue
            target, told = inside(place, info.name), hashlib.sha256()
            target.parent.mkdir(parents=True, exist_ok=True)
            with open(target, "xb") as out:
                while block := source.read(_BLOCK):
                    told.update(block)
                    out.write(block)
            if told.hexdigest() != sums[info.name]:
                _refuse(path.name, f"{visible(info.name)} was changed.")


def _rebuilt(path: Path, source: IO[bytes]) -> None:
    """A database from its rows. Raises FormatError."""
    if path.name == logbook.FILE:
        logbook.Logbook(path.parent).count()  # makes its tables
    elif path.name == answers.FILE:
        answers.Answers(path.parent).put()
    else:
        texts.Texts(path.parent).put({})
    allowed, table, columns = _DATABASES[path.name], "", list[str]()
    try:
        with contextlib.closing(own_file.database(path, 10)) as database, database:
            for each in allowed:
                database.execute(f"DELETE FROM {each}")
            while line := source.readline(_MOST_LINE):
                row = json.loads(line)
                if isinstance(row, dict):
                    table, columns = str(row["table"]), [str(name) for name in row["columns"]]
                    rows = database.execute(f"PRAGMA table_info({table})") if table in allowed else ()
                    known = {each[1] for each in rows}
                    if table not in allowed or not set(columns) <= known:
                        raise FormatError(path.name, 0, expected="a known table", got=visible(table))
                    continue
                cells = [base64.b64decode(cell["bytes"]) if isinstance(cell, dict) else cell for cell in row]
                marks = ", ".join("?" * len(columns))
                database.execute(f"INSERT INTO {table} ({_named(columns)}) VALUES ({marks})", cells)
    except (sqlite3.Error, ValueError, TypeError, KeyError) as bad:
        if isinstance(bad, KyklonError):
            raise
        raise FormatError(path.name, 0, expected="rows of a database", got=str(bad)[:100]) from bad


def begun_anew(place: Path, name: str) -> Build:
    """Make a folder that was opened the start of another machine: its decisions stay, what happened to the first one
    does not come along. Raises KyklonError."""
    first = folder.load(place).build

    def anew(build: Build) -> Build:
        fresh = build.model_copy(
            update={
                "card": CardRecord(),
                "cards": (),
                "ticks": (),
                "sign_offs": (),
                "fault": FaultCase(),
                "upkeep": build.upkeep.with_what_happened(UpkeepSettings()),
            }
        )
        return edited(edited(fresh, "library.host_key", ""), "name", name)

    build = folder.update(place, anew)
    for ending in ("", "-wal", "-shm"):
        (place / f"{logbook.FILE}{ending}").unlink(missing_ok=True)
    logbook.Logbook(place).add(0, f"Begun from {first.name}", "Decisions and parts; not its cards, checks or log.")
    return build
