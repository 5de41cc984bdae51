"""A plain list, a name a line: the services in their order."""

from __future__ import annotations

from kyklon.catalogue.records import DialectFile
from kyklon.operations.boot.dialects.codec import Told, Wanted, Works, split_lines

SERVICES = "services"  # the key under which the list is read back


class LinesFile:
    def compile(self, old: str, wanted: Wanted) -> str:
        """Override: the list is the build's alone."""
        return "".join(f"{name}\n" for name in wanted.services)

    def read(self, text: str, board: str, works: Works | None = None) -> dict[str, str]:
        """Override: names with line feeds between them."""
        names = (line.strip() for line in split_lines(text))
        return {SERVICES: "\n".join(name for name in names if name and not name.startswith("#"))}

    def told(self, text: str, board: str) -> list[Told]:
        """Override."""
        found: list[Told] = []
        seen: set[str] = set()
        for number, line in enumerate(split_lines(text), 1):
            name = line.strip()
            if name and not name.startswith("#"):
                found.append(Told(number, name, "", "is in the list already" if name in seen else ""))
                seen.add(name)
        return found

    def explain(self, line: str, wanted: Wanted) -> str:
        """Override."""
        return "boot.services"


def codec(_file: DialectFile) -> LinesFile:
    """For kinds.codec_of."""
    return LinesFile()
