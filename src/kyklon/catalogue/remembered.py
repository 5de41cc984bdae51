"""What a user's part files held when they were last read, so that thousands of them open at once.

In memory by file and state; on disk as rows, because TOML is slow to read: a file in the user's cache that may be
deleted at any time. A file counts as the same while its inode, size and time of change are.
"""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from kyklon.base import durable
from kyklon.base.places import cache_folder

FEWEST = 50  # files from which on a disk cache is worth its own reading
_FORMAT = 1
Stamp = tuple[int, int, int]
Rows = list[Any]

_in_memory: dict[tuple[str, Stamp], Any] = {}
_rows: dict[str, tuple[Stamp, Rows]] = {}
_loaded = False
_news = 0


def stamp(path: Path) -> Stamp | None:
    try:
        status = path.stat()
    except OSError:
        return None
    return status.st_ino, status.st_size, status.st_mtime_ns


def parts_in(path: Path, read: Callable[[], tuple[Rows, Any]], checked: Callable[[Rows], Any]) -> Any:
    """What `read` makes of a file, or what is remembered of it. read: its rows, and what they come to; checked: the
    same from remembered rows."""
    global _news
    now = stamp(path)
    if now is None:
        return read()[1]
    known = _in_memory.get((str(path), now))
    if known is not None:
        return known
    kept = _rows.get(str(path))
    if kept is not None and kept[0] == now:
        made = checked(kept[1])
    else:
        rows, made = read()
        if stamp(path) == now:  # nobody wrote in between
            _rows[str(path)] = (now, rows)
            _news += 1
    _in_memory[str(path), now] = made
    return made


def load(folder: Path, count: int) -> None:
    """Read the disk's part, once, for a folder of that many files."""
    global _loaded
    if _loaded or count < FEWEST:
        return
    _loaded = True
    with contextlib.suppress(OSError, ValueError, TypeError, KeyError, RecursionError):  # a cache is no loss
        data = json.loads(_file().read_bytes())
        if data["format"] == _FORMAT:
            for path, (mark, rows) in data["rows"].items():
                _rows.setdefault(path, (tuple(mark), rows))


def keep(folder: Path) -> None:
    """Put on disk what was read anew, where it is worth it."""
    global _news
    prefix = str(folder) + os.sep
    rows: Mapping[str, Any] = {path: each for path, each in _rows.items() if path.startswith(prefix)}
    if len(rows) < FEWEST or _news * 20 < len(rows):
        return
    _news = 0
    with contextlib.suppress(OSError, TypeError, ValueError):  # dates and the like are no JSON
        text = json.dumps({"format": _FORMAT, "rows": rows})
        durable.replace_text(_file(), text)


def _file() -> Path:
    return cache_folder() / "own-parts.json"
