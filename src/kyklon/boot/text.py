"""Boot files as text: key=value files with sections, the kernel line, extlinux.conf. Edits keep all they do not
concern: comments, order, unknown keys."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

_KEY = re.compile(r"\s*([A-Za-z][\w.\-]*)\s*=\s*(.*?)\s*$")
_SECTION = re.compile(r"\s*\[([^\]]*)\]\s*$")

# words that several settings share as a comma-separated list (kernel-parameters: usbhid.quirks, usb-storage.quirks)
LIST_WORDS = ("usbhid.quirks", "usb-storage.quirks")
MOST_QUIRKS = 4  # drivers/hid/usbhid: MAX_USBHID_BOOT_QUIRKS (mem)
REPEATED_WORDS = ("console",)  # kernel-parameters: may be given more than once


@dataclass(frozen=True)
class KeyLine:
    number: int
    section: str
    key: str
    value: str


def key_lines(text: str) -> tuple[KeyLine, ...]:
    """The assignments of a key=value file. Lines before any [section] belong to 'all'."""
    section, found = "all", []
    for number, line in enumerate(text.splitlines(), 1):
        if line.lstrip().startswith("#"):
            continue
        if match := _SECTION.match(line):
            section = match[1].strip().lower()
        elif match := _KEY.match(line):
            found.append(KeyLine(number, section, match[1], match[2]))
    return tuple(found)


def effective(text: str, board: str) -> dict[str, str]:
    """What a board makes of the file: sections 'all' and its own, the last value of a key wins."""
    return {line.key: line.value for line in key_lines(text) if line.section in ("all", board)}


def set_keys(text: str, values: Mapping[str, str], board: str) -> str:
    """Set keys ('' removes one) where they are; new ones at the end, under [all].

    A key that stands several times keeps its last place that counts for the board; earlier ones are left.
    """
    lines = text.splitlines()
    counting = [line for line in key_lines(text) if line.section in ("all", board)]
    last = {line.key: line.number for line in counting}
    for key, value in values.items():
        if key in last:
            lines[last[key] - 1] = f"{key}={value}" if value else "\0"
    lines = [line for line in lines if line != "\0"]
    fresh = [f"{key}={value}" for key, value in values.items() if value and key not in last]
    if fresh:
        ending = next((m[1].strip().lower() for line in reversed(lines) if (m := _SECTION.match(line))), "all")
        lines += ["[all]"] if ending != "all" else []
        lines += fresh
    return "\n".join(lines) + "\n"


# --- the kernel line ---------------------------------------------------------------------------------------


def words(line: str) -> tuple[str, ...]:
    """The words of a kernel line; a double-quoted part may hold spaces."""
    return tuple(re.findall(r'(?:[^\s"]|"[^"]*")+', line))


def set_words(line: str, wanted: Sequence[str]) -> str:
    """One line with the wanted words in it, each once, the old order kept, new ones at the end.

    A word with a value replaces the old value of that name; values of LIST_WORDS are joined with commas.
    """
    have = list(words(line))
    for word in wanted:
        name, _, value = word.partition("=")
        places = [index for index, old in enumerate(have) if old.partition("=")[0] == name]
        if word in have:
            continue
        if not places or name in REPEATED_WORDS or not value:
            have.append(word)
        elif name in LIST_WORDS:
            old = have[places[-1]].partition("=")[2].split(",")
            have[places[-1]] = f"{name}={','.join([*old, *(new for new in value.split(',') if new not in old)])}"
        else:
            have[places[-1]] = word
    return " ".join(have)


def word_values(line: str, name: str) -> tuple[str, ...]:
    """All comma-separated values that a line gives a name."""
    return tuple(
        value
        for word in words(line)
        if word.partition("=")[0] == name
        for value in word.partition("=")[2].split(",")
        if value
    )


# --- extlinux.conf (Boot Loader Specification's older sibling; U-Boot distro boot) ----------------------------


@dataclass(frozen=True)
class Entry:
    """The label that would be started, with its LINUX, FDT, APPEND and other values by upper-case keyword."""

    label: str
    values: Mapping[str, str]


def default_entry(text: str) -> Entry | None:
    """The entry DEFAULT names, or the first."""
    entries: list[tuple[str, dict[str, str]]] = []
    default = ""
    for line in text.splitlines():
        keyword, _, value = line.strip().partition(" ")
        keyword, value = keyword.upper(), value.strip()
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


def set_entry(text: str, values: Mapping[str, str], wanted_words: Sequence[str]) -> str:
    """Set keywords and APPEND words of the default entry; made anew where there is none."""
    entry = default_entry(text)
    if entry is None:
        text = text.rstrip("\n") + ("\n" if text.strip() else "") + "DEFAULT games\nLABEL games\n"
        entry = Entry("games", {})
    wanted = {**values, "APPEND": set_words(entry.values.get("APPEND", ""), wanted_words)}
    lines, inside, end = [], False, 0
    for line in text.splitlines():
        keyword = line.strip().partition(" ")[0].upper()
        if keyword == "LABEL":
            inside = line.strip().partition(" ")[2].strip() == entry.label
        elif inside and keyword in wanted:
            indent = line[: len(line) - len(line.lstrip())]
            line = f"{indent}{keyword} {wanted.pop(keyword)}"
        lines.append(line)
        if inside and line.strip():
            end = len(lines)
    lines[end:end] = [f"  {keyword} {value}" for keyword, value in wanted.items() if value]
    return "\n".join(lines) + "\n"
