"""The kernel line as words: read, set, asked for their values (kernel-parameters)."""

from __future__ import annotations

import re
from collections.abc import Sequence

# words that several settings share as a comma-separated list (kernel-parameters: usbhid.quirks, usb-storage.quirks)
LIST_WORDS = ("usbhid.quirks", "usb-storage.quirks")
MOST_QUIRKS = 4  # drivers/hid/usbhid: MAX_USBHID_BOOT_QUIRKS (mem)
REPEATED_WORDS = ("console",)  # kernel-parameters: may be given more than once


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
