"""The kernel line as words: read, set, asked for their values (kernel-parameters)."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

# words that several settings share as a comma-separated list (kernel-parameters: usbhid.quirks, usb-storage.quirks)
LIST_WORDS = ("usbhid.quirks", "usb-storage.quirks")
QUIRK_WORD = "usbhid.quirks"
MOST_QUIRKS = 4  # drivers/hid/usbhid: MAX_USBHID_BOOT_QUIRKS (mem)
OUTPUT_WORDS = ("video",)  # fb/modedb: one word an output, which its value begins with
REPEATED_WORDS = ("console",)  # kernel-parameters: may be given more than once


BLANKS = " \t\n\v\f\r\xa0"  # what parts words for the kernel, which reads bytes as Latin-1 (lib/ctype.c: isspace)


def words(line: str) -> tuple[str, ...]:
    """The words of a kernel line; a double-quoted part may hold spaces."""
    return tuple(re.findall(r'(?:[^ \t\n\v\f\r\xa0"]|"[^"]*")+', line))


def given(line: str) -> tuple[str, ...]:
    """The words as the kernel takes them in: quotes removed, an open one runs to the end, nothing behind a lone `--`
    (lib/cmdline.c: next_arg; kernel/params.c: parse_args)."""
    found: list[str] = []
    line = line.encode("utf-8", "surrogateescape").decode("latin-1")
    at = 0
    while at < len(line):
        if line[at] in BLANKS:
            at += 1
            continue
        quoted = line[at] == '"'
        at += quoted
        begin, within, equals = at, quoted, 0
        while at < len(line) and (within or line[at] not in BLANKS):
            if line[at] == "=" and not equals:
                equals = at
            within ^= line[at] == '"'
            at += 1
        word = line[begin:at]
        if equals and word[equals - begin + 1 : equals - begin + 2] == '"':
            value = word[equals - begin + 2 :]
            word = word[: equals - begin + 1] + value.removesuffix('"')
        if quoted:
            word = word.removesuffix('"')
        if word == "--":
            break
        found.append(word.encode("latin-1").decode("utf-8", "surrogateescape"))
    return tuple(found)


def last(words_: Sequence[str], name: str) -> str | None:
    """The value that counts of a name that may be given more than once: the last; None without any."""
    values = [word.partition("=")[2] for word in words_ if word.startswith(f"{name}=")]
    return values[-1] if values else None


def storage_quirk_given(wanted: str, kernel_words: Iterable[str]) -> bool:
    """Whether usb-storage.quirks holds 'VID:PID:FLAG'; given twice the last counts (drivers/usb/storage/usb.c)."""
    given = last(tuple(kernel_words), "usb-storage.quirks") or ""
    vendor, product, flag = wanted.split(":")
    for word in given.split(","):
        parts = word.split(":")
        try:
            same = len(parts) == 3 and (int(parts[0], 16), int(parts[1], 16)) == (int(vendor, 16), int(product, 16))
        except ValueError:
            continue
        if same:  # the first entry of a device counts
            return flag in parts[2]
    return False


def _same(old: str, new: str) -> bool:
    """Whether two words set the same thing: one name and, for video=, one output; one that names none is for all."""
    name, _, value = new.partition("=")
    other, _, before = old.partition("=")
    if name != other or name not in OUTPUT_WORDS or ":" not in before:
        return name == other
    return before.partition(":")[0] == value.partition(":")[0]


def set_words(line: str, wanted: Sequence[str], without: Sequence[str] = ()) -> str:
    """One line with the wanted words in it, each once, the old order kept, new ones at the end.

    A word with a value replaces the old value of that name; values of LIST_WORDS are joined with commas. without:
    words that go, each by its name and value up to an open end.
    """
    have = [word for word in words(line) if not any(word.startswith(each) for each in without)]
    to_init = have[have.index("--") :] if "--" in have else []  # what follows is not the kernel's
    del have[len(have) - len(to_init) :]
    for word in wanted:
        name, _, value = word.partition("=")
        places = [index for index, old in enumerate(have) if _same(old, word)]
        if word in have and (name in REPEATED_WORDS or have[places[-1]] == word):
            continue
        if not places or name in REPEATED_WORDS or not value:
            have.append(word)
        elif name in LIST_WORDS:
            old = have[places[-1]].partition("=")[2].split(",")
            mine = [new for new in value.split(",") if new not in old]
            crowded = name == QUIRK_WORD and len(old) + len(mine) > MOST_QUIRKS
            # the kernel reads no more than the first: what the build needs comes before what stood there
            both = (
                [*value.split(","), *(each for each in old if each not in value.split(","))]
                if crowded
                else [*old, *mine]
            )
            have[places[-1]] = f"{name}={','.join(both)}"
        else:
            have[places[-1]] = word
    return " ".join((*have, *to_init))


def word_values(line: str, name: str) -> tuple[str, ...]:
    """All comma-separated values that a line gives a name."""
    return tuple(
        value
        for word in words(line)
        if word.partition("=")[0] == name
        for value in word.partition("=")[2].split(",")
        if value
    )
