"""extlinux.conf (U-Boot distro boot; the Boot Loader Specification's older sibling)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from kyklon.catalogue.records import DialectFile
from kyklon.model.kernel_line import set_words
from kyklon.operations.boot.dialects.codec import Wanted, split_lines
from kyklon.operations.boot.dialects.words_file import LINE


class Extlinux:
    def compile(self, old: str, wanted: Wanted) -> str:
        """Override."""
        return set_entry(old, wanted.values, wanted.words)

    def read(self, text: str, board: str) -> dict[str, str]:
        """Override: the keywords of the entry that would be started, in capitals."""
        entry = default_entry(text)
        if entry is None:
            return {}
        return {**entry.values, LINE: entry.values.get("APPEND", "")}

    def explain(self, line: str, wanted: Wanted) -> str:
        """Override."""
        keyword, value = _told(line)
        if keyword == "APPEND":
            return "boot.kernel_words"
        return wanted.settings.get(keyword, "") if wanted.values.get(keyword) == value else ""


@dataclass(frozen=True)
class Entry:
    """The label that would be started, with its LINUX, FDT, APPEND and other values by upper-case keyword."""

    label: str
    values: Mapping[str, str]


def default_entry(text: str) -> Entry | None:
    """The entry DEFAULT names, or the first."""
    entries: list[tuple[str, dict[str, str]]] = []
    default = ""
    for line in split_lines(text):
        keyword, value = _told(line)
        if not keyword or keyword.startswith("#"):
            continue
        if keyword == "DEFAULT":
            default = value
        elif keyword == "LABEL":
            entries.append((value, {}))
        elif entries:
            entries[-1][1][keyword] = value
    chosen = next((entry for entry in entries if entry[0] == default), entries[0] if entries else None)
    return None if chosen is None else Entry(*chosen)


def _told(line: str) -> tuple[str, str]:
    """A line's keyword in capitals, and what follows it."""
    keyword, value = (line.strip().split(None, 1) + ["", ""])[:2]
    return keyword.upper(), value


def set_entry(text: str, values: Mapping[str, str], wanted_words: Sequence[str]) -> str:
    """Set keywords and APPEND words of the default entry; made anew where there is none."""
    entry = default_entry(text)
    if entry is None:
        text = text.rstrip("\n") + ("\n" if text.strip() else "") + "DEFAULT games\nLABEL games\n"
        entry = Entry("games", {})
    wanted = {**values, "APPEND": set_words(entry.values.get("APPEND", ""), wanted_words)}
    lines, inside, end = [], False, 0
    for line in split_lines(text):
        keyword, value = _told(line)
        if keyword == "LABEL":
            inside = value == entry.label
        elif inside and keyword in wanted:
            new = wanted.pop(keyword)
            if new != value:
                indent = line[: len(line) - len(line.lstrip())]
                ending = "\r" if line.endswith("\r") else ""
                line = f"{indent}{line.split()[0]} {new}{ending}"
        lines.append(line)
        if inside and line.strip():
            end = len(lines)
    lines[end:end] = [f"  {keyword} {value}" for keyword, value in wanted.items() if value]
    return "\n".join(lines) + "\n"


def codec(_file: DialectFile) -> Extlinux:
    """For kinds.codec_of."""
    return Extlinux()
