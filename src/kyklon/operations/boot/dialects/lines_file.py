"""A plain list, a name a line: the services in their order."""

from __future__ import annotations

from kyklon.catalogue.records import DialectFile
from kyklon.operations.boot.dialects.codec import Wanted, Works, split_lines

SERVICES = "services"  # the key under which the list is read back


class LinesFile:
    def compile(self, old: str, wanted: Wanted) -> str:
        """Override: the list is the build's alone."""
        return "".join(f"{name}\n" for name in wanted.services)

    def read(self, text: str, board: str, works: Works | None = None) -> dict[str, str]:
        """Override: names with line feeds between them."""
        names = (line.strip() for line in split_lines(text))
        return {SERVICES: "\n".join(name for name in names if name and not name.startswith("#"))}

    def explain(self, line: str, wanted: Wanted) -> str:
        """Override."""
        return "boot.services"


def codec(_file: DialectFile) -> LinesFile:
    """For kinds.codec_of."""
    return LinesFile()
