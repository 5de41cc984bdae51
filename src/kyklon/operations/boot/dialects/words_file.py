"""The kernel line in a file of its own: one line of words."""

from __future__ import annotations

from dataclasses import replace

from kyklon.catalogue.text_records import DialectFile
from kyklon.model.kernel_line import set_words, words
from kyklon.operations.boot.dialects.codec import FaultWords, Wanted, Works, split_lines

LAST_COUNTS = ("root", "init", "rootfstype", "rootflags", "panic", "loglevel")  # kernel-parameters: the last one counts
LINE = "kernel line"  # the key under which a kernel line is read back, whatever the kind of file


class WordsFile:
    def compile(self, old: str, wanted: Wanted) -> str:
        """Override."""
        return set_words(old.replace("\n", " "), wanted.words, wanted.without) + "\n"

    def read(self, text: str, board: str, works: Works | None = None) -> dict[str, str]:
        """Override: as it stands, line breaks included; the kernel's reader tells what becomes of them."""
        return {LINE: text}

    def told(self, text: str, board: str) -> list[FaultWords]:
        """Override: a row a word."""
        lines = split_lines(text)
        found = [FaultWords(1, *_parted(word)) for word in words(lines[0])] if lines else []
        for number, line in enumerate(lines[1:], 2):
            found += [
                FaultWords(number, *_parted(word), odd="ignored: only the first line is read") for word in words(line)
            ]
        last = {each.key: index for index, each in enumerate(found)}
        return [
            replace(each, odd="has no effect: it is given again")
            if not each.odd and each.key in LAST_COUNTS and last[each.key] != index
            else each
            for index, each in enumerate(found)
        ]

    def explain(self, line: str, wanted: Wanted) -> str:
        """Override."""
        return "boot.kernel_words" if wanted.words else ""


def _parted(word: str) -> tuple[str, str]:
    name, _, value = word.partition("=")
    return name, value


def codec(_file: DialectFile) -> WordsFile:
    """For kinds.codec_of."""
    return WordsFile()
