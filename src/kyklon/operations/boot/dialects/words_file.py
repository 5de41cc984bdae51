"""The kernel line in a file of its own: one line of words."""

from __future__ import annotations

from kyklon.catalogue.records import DialectFile
from kyklon.model.kernel_line import set_words
from kyklon.operations.boot.dialects.codec import Wanted, Works

LINE = "kernel line"  # the key under which a kernel line is read back, whatever the kind of file


class WordsFile:
    def compile(self, old: str, wanted: Wanted) -> str:
        """Override."""
        return set_words(old.replace("\n", " "), wanted.words) + "\n"

    def read(self, text: str, board: str, works: Works | None = None) -> dict[str, str]:
        """Override: as it stands, line breaks included; the kernel's reader tells what becomes of them."""
        return {LINE: text}

    def explain(self, line: str, wanted: Wanted) -> str:
        """Override."""
        return "boot.kernel_words" if wanted.words else ""


def codec(_file: DialectFile) -> WordsFile:
    """For kinds.codec_of."""
    return WordsFile()
