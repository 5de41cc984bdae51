"""A split archive as one file: name.001 and on, name.part1 and on, or split(1)'s name.aa and on."""

from __future__ import annotations

import bisect
import io
import itertools
import re
from pathlib import Path
from typing import Any, BinaryIO, cast

from kyklon.base import reading
from kyklon.base.errors import SourceError
from kyklon.model.image_file import SourceFacts

_NUMBER = re.compile(r"(.+)\.(\d{2,3})")
_PART = re.compile(r"(.+)\.part(\d+)", re.IGNORECASE)
_LETTERS = re.compile(r"(.+)\.([a-z])([a-z])")


def parts_of(path: Path) -> tuple[str, tuple[Path, ...]]:
    """The whole file's name and its parts in order, from any of them; (name, ()) for a file that is whole.

    Raises SourceError that names a part missing in between or at the beginning.
    """
    if (match := _NUMBER.fullmatch(path.name)) and path.with_name(f"{match[1]}.{1:0{len(match[2])}}").exists():
        width = len(match[2])
        return match[1], _collect(path, lambda n: f"{match[1]}.{n:0{width}}", 1, rf"\.\d{{{width}}}", match[1])
    if match := _PART.fullmatch(path.name):
        word = path.name[len(match[1]) + 1 : -len(match[2])]
        return match[1], _collect(path, lambda n: f"{match[1]}.{word}{n}", 1, rf"\.{word}\d+", match[1])
    if (match := _LETTERS.fullmatch(path.name)) and path.with_name(f"{match[1]}.aa").exists():
        return match[1], _collect(path, lambda n: f"{match[1]}.{_letters(n)}", 0, r"\.[a-z]{2}", match[1])
    if match := _NUMBER.fullmatch(path.name):
        raise SourceError(
            f"{path.name} is a part of {match[1]}, but its first part is not beside it.", do="Download all parts."
        )
    return path.name, ()


def _letters(number: int) -> str:
    return chr(97 + number // 26) + chr(97 + number % 26)


def _collect(path: Path, name: object, first: int, ending: str, stem: str) -> tuple[Path, ...]:
    assert callable(name)
    there = {each.name for each in path.parent.iterdir() if re.fullmatch(re.escape(stem) + ending, each.name)}
    found = []
    for number in itertools.count(first):
        if number >= 26 * 26 or not there:
            break
        each = name(number)
        if each not in there:
            raise SourceError(
                f"{stem} is split in parts, and {each} is missing between them.", do="Download that part too."
            )
        there.discard(each)
        found.append(path.with_name(each))
    return tuple(found)


class Joined(io.RawIOBase):
    """Several files read as one; seekable. Open one of its own per reader."""

    def __init__(self, parts: tuple[Path, ...]) -> None:
        super().__init__()
        self._files = [reading.opened(part, devices=True) for part in parts]
        self._starts = [0, *itertools.accumulate(part.stat().st_size for part in parts)]
        self._at = 0

    def readable(self) -> bool:
        """Override."""
        return True

    def seekable(self) -> bool:
        """Override."""
        return True

    def tell(self) -> int:
        """Override."""
        return self._at

    def seek(self, offset: int, whence: int = 0) -> int:
        """Override."""
        self._at = max(0, offset + (0, self._at, self._starts[-1])[whence])
        return self._at

    def readinto(self, buffer: Any) -> int:
        """Override."""
        view = memoryview(buffer).cast("B")
        index = bisect.bisect_right(self._starts, self._at) - 1
        if index >= len(self._files):
            return 0
        file = self._files[index]
        file.seek(self._at - self._starts[index])
        count = file.readinto(view[: self._starts[index + 1] - self._at])
        self._at += count
        return int(count)

    def close(self) -> None:
        """Override."""
        for file in self._files:
            file.close()
        super().close()


def open_image(facts: SourceFacts) -> BinaryIO:
    """An image file as it is on disk, its parts joined."""
    if not facts.parts:
        return reading.opened(facts.path, devices=True)
    return cast(BinaryIO, io.BufferedReader(Joined(facts.parts), 1 << 20))
