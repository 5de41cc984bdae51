"""Text formats read from files that anybody may have made: whatever is wrong with one is a FormatError, and soon."""

from __future__ import annotations

import errno
import json
import os
import re
import stat
import tomllib
from io import BufferedReader
from pathlib import Path
from typing import Any

from kyklon.base.errors import FormatError, KyklonError

MOST_BYTES = 16 << 20  # bytes of a text file; builds, catalogues and manifests have a thousandth of that
_DEEPEST = 100  # brackets within brackets; both parsers recurse for each


def opened(path: Path, *, devices: bool = False) -> BufferedReader:
    """A file to read from; a pipe, a socket or a terminal, which would be waited for without end, is none.

    devices: a block device is one too. Raises OSError, KyklonError for what is no file, ValueError for a name that
    cannot be one.
    """
    descriptor = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
    mode = os.fstat(descriptor).st_mode
    if not (stat.S_ISREG(mode) or (devices and stat.S_ISBLK(mode))):
        os.close(descriptor)
        if stat.S_ISDIR(mode):
            raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR), str(path))
        raise KyklonError(f"{path} is not a file: it is {_kind(mode)}.", do="Choose a plain file.")
    return os.fdopen(descriptor, "rb")


def _kind(mode: int) -> str:
    for is_one, name in (
        (stat.S_ISFIFO, "a pipe"),
        (stat.S_ISSOCK, "a socket"),
        (stat.S_ISCHR, "a device"),
        (stat.S_ISBLK, "a drive"),
    ):
        if is_one(mode):
            return name
    return "something else"


def bytes_of(path: Path, most: int = MOST_BYTES) -> bytes:
    """A whole file of at most `most` bytes. Raises FormatError for a longer one, KyklonError when it cannot be read."""
    try:
        with opened(path) as file:
            data = file.read(most + 1)
    except (OSError, ValueError) as bad:
        raise KyklonError(f"{path} cannot be read: {getattr(bad, 'strerror', None) or bad}.") from bad
    if len(data) > most:
        raise FormatError(str(path), most, expected=f"at most {most} bytes", got="more")
    return data


def text_of(data: bytes, name: str) -> str:
    """UTF-8, with or without a byte order mark. Raises FormatError."""
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as bad:
        raise FormatError(name, bad.start, expected="UTF-8 text", got=f"byte {data[bad.start]:#04x}") from bad


def json_of(data: bytes, name: str) -> Any:
    """A JSON document. Raises FormatError."""
    text = text_of(data, name)
    not_too_deep(text, name)
    try:
        return json.loads(text)
    except json.JSONDecodeError as bad:
        raise FormatError(name, bad.pos, expected="JSON", got=bad.msg) from bad
    except (ValueError, RecursionError) as bad:  # a number of thousands of digits
        raise FormatError(name, 0, expected="JSON", got=str(bad)) from bad


def toml_of(data: bytes | str, name: str) -> dict[str, Any]:
    """A TOML document. Raises FormatError."""
    text = data if isinstance(data, str) else text_of(data, name)
    not_too_deep(text, name)
    try:
        return tomllib.loads(text)
    except (tomllib.TOMLDecodeError, ValueError, RecursionError, OverflowError) as bad:
        raise FormatError(name, 0, expected="TOML", got=str(bad)) from bad


def not_too_deep(text: str, name: str) -> None:
    """Raise FormatError for brackets nested deeper than any honest document's."""
    if text.count("[") + text.count("{") <= _DEEPEST:
        return
    depth = 0
    for found in re.finditer(r"[\[\]{}]", text):
        if found[0] in "[{":
            depth += 1
            if depth > _DEEPEST:
                raise FormatError(
                    name, found.start(), expected=f"at most {_DEEPEST} brackets in each other", got="more"
                )
        else:
            depth = max(0, depth - 1)
