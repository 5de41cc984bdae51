"""Any boot file read line by line: what it sets, what is kept as found, and what is odd about it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from kyklon.catalogue.records import Board
from kyklon.catalogue.text_records import Dialect
from kyklon.operations.boot.dialects.codec import split_lines
from kyklon.operations.boot.dialects.kinds import codec_of


@dataclass(frozen=True)
class FoundLine:
    """setting: the decision of a build that it is, '' for what is kept as found. odd: as in codec.Told."""

    file: str
    number: int
    key: str
    value: str
    setting: str = ""
    odd: str = ""


def as_found(dialect: Dialect, board: Board, texts: Mapping[str, str]) -> tuple[FoundLine, ...]:
    """Every line of the dialect's files that says something. texts: by lower-case path."""
    found: list[FoundLine] = []
    for file in dialect.files:
        path = dialect.where(file, texts)
        text = texts.get(path.lower())
        if text is None:
            continue
        settings = {entry.key: entry.setting for entry in file.entries if entry.place == "file"}
        settings |= {"APPEND": "boot.kernel_words"} if file.kind == "extlinux" else {}
        for told in codec_of(file).told(text, board.id):
            setting = {"words": "boot.kernel_words", "lines": "boot.services"}.get(
                file.kind, settings.get(told.key, "")
            )
            found.append(FoundLine(path, told.number, told.key, told.value, setting, told.odd))
        if file.kind != "extlinux":
            cut = f"is longer than {dialect.longest_of(file)} characters and is cut off there"
            found += [
                FoundLine(path, number, "", line[:40], odd=cut)
                for number, line in enumerate(split_lines(text), 1)
                if len(line) > dialect.longest_of(file)
            ]
        if text.startswith("\ufeff"):
            found.append(
                FoundLine(path, 1, "", "", odd="begins with a byte order mark, which the firmware reads as text")
            )
    return tuple(found)
