"""What a root's table of file systems asks for (fstab(5))."""

from __future__ import annotations

import re

from kyklon.base.numbers import whole
from kyklon.model.card import Mount

_OCTAL = re.compile(r"\\([0-7]{3})")
_MOST = 200  # lines that are read


def read_fstab(text: str) -> tuple[Mount, ...]:
    """Its lines in order. Those short of a third field name nothing that is mounted; getmntent(3) passes over them."""
    found = []
    for line in text.split("\n")[:_MOST]:
        fields = line.split()
        if len(fields) < 3 or fields[0].startswith("#"):
            continue
        source, where, kind = (_plain(field) for field in fields[:3])
        options = _plain(fields[3]) if len(fields) > 3 else "defaults"
        checked = len(fields) > 5 and (whole(fields[5]) or 0) > 0
        found.append(Mount(source.strip('"'), where, kind, tuple(options.split(",")), checked))
    return tuple(found)


def _plain(field: str) -> str:
    """Octal escapes taken out: \\040 for a blank."""
    return _OCTAL.sub(lambda match: chr(int(match[1], 8) & 0xFF), field)
