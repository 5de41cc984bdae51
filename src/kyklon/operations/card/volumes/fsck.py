"""What e2fsck would complain of on a card's root, asked of the program itself while the card is being read."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from kyklon.base import reading, tools
from kyklon.base.errors import FormatError, ToolError
from kyklon.operations.card.volumes.partitions import read_table
from kyklon.operations.card.volumes.survey import reader

SECONDS = 2.0  # for e2fsck; a large card takes longer, and is then judged without it
MOST = 6  # complaints that are told
LONGEST = 400  # characters of a line that are looked at
_NO = "? no"  # what e2fsck -n answers itself
_OPEN = 12  # e2fsck(8): 4 errors left, 8 operational error; with -n both may be set


@dataclass
class Complaints:
    """told: in e2fsck's words. asked: it gave an answer."""

    told: tuple[str, ...] = ()
    asked: bool = False


@contextlib.contextmanager
def asked(path: Path | None) -> Iterator[Complaints]:
    """Complaints about a card's root, whole when the block ends; e2fsck runs beside it. Nothing is changed (-n)."""
    found = Complaints()
    start = _root_start(path) if path is not None else None
    if path is None or start is None:
        yield found
        return
    thread = threading.Thread(target=_ask, args=(path, start, found), daemon=True)
    thread.start()
    try:
        yield found
    finally:
        thread.join()


def _root_start(path: Path) -> int | None:
    try:
        with reading.opened(path, devices=True) as file:
            root = read_table(reader(file.fileno()), file.seek(0, 2), strict=False).root()
    except (OSError, FormatError):
        return None
    return root.start if root else None


def _ask(path: Path, start: int, found: Complaints) -> None:
    try:
        with tools.plain_name(path) as name:
            words = tools.run(
                ["e2fsck", "-fn", f"{name}?offset={start}"],
                seconds=SECONDS,
                passes=range(_OPEN + 1),
                bounds=tools.Bounds(),
            )
    except (ToolError, OSError):
        return  # without it, or without the right to read the device, the reader's own cautions stand
    found.told = complaints(words)
    found.asked = True


def complaints(words: bytes, most: int | None = MOST) -> tuple[str, ...]:
    """What e2fsck would have asked about, each once, without its questions: they end a line, or stand on one alone.
    most: None for all of them."""
    found: dict[str, None] = {}
    before = ""
    for raw in words.split(b"\n"):
        line = raw[-LONGEST:].strip().decode(errors="replace")
        if line.endswith(_NO):
            told = line.removesuffix(_NO).rpartition("  ")[0].strip() or before
            found.setdefault(told.rstrip("."))
        before = line or before
    return tuple(each for each in found if each)[:most]
