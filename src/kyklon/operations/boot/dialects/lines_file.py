"""A plain list, a name a line: the services in their order."""

from __future__ import annotations

import re
from collections.abc import Iterator

from kyklon.catalogue.text_records import DialectFile
from kyklon.operations.boot.dialects.codec import FaultWords, Wanted, Works

SERVICES = "services"  # the key under which the list is read back


class LinesFile:
    def compile(self, old: str, wanted: Wanted) -> str:
        """Override: the list is the build's alone."""
        return "".join(f"{name}\n" for name in wanted.services)

    def read(self, text: str, board: str, works: Works | None = None) -> dict[str, str]:
        """Override: names with line feeds between them."""
        return {SERVICES: "\n".join(name for _number, name in _names(text))}

    def told(self, text: str, board: str) -> list[FaultWords]:
        """Override."""
        found: list[FaultWords] = []
        seen: set[str] = set()
        for number, name in _names(text):
            found.append(FaultWords(number, name, "", "is in the list already" if name in seen else ""))
            seen.add(name)
        return found

    def explain(self, line: str, wanted: Wanted) -> str:
        """Override."""
        return "boot.services"


def _names(text: str) -> Iterator[tuple[int, str]]:
    """Line and name, as a shell reads them: blanks part names, a remark is a line, no carriage return counts."""
    for number, line in enumerate(text.replace("\r", "").split("\n"), 1):
        if not re.match(" *#", line):
            for name in re.split(r"[ \t]+", line.strip(" \t")):
                if name:
                    yield number, name


def codec(_file: DialectFile) -> LinesFile:
    """For kinds.codec_of."""
    return LinesFile()
