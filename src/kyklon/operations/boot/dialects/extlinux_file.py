"""extlinux.conf as U-Boot's distro boot reads it (U-Boot: doc/README.pxe, boot/pxe_utils.c, 2023.01).

Its reader goes by words, not by lines: a value is the rest of a line, a missing value makes the whole file void, and a
word that it does not know ends the label. A label that cannot be started makes it try the others, in their order.
"""

from __future__ import annotations

import posixpath
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from kyklon.catalogue.text_records import DialectFile
from kyklon.model.kernel_line import set_words
from kyklon.operations.boot.dialects.codec import VOID, WAITS, FaultWords, Wanted, Works, split_lines
from kyklon.operations.boot.dialects.words_file import LINE

# words within a label -> the name under which they are kept; of those in _ONCE a second one ends the label
_OF_LABEL = {
    "kernel": "LINUX",
    "linux": "LINUX",
    "append": "APPEND",
    "initrd": "INITRD",
    "fdt": "FDT",
    "devicetree": "FDT",
    "fdtdir": "FDTDIR",
    "devicetreedir": "FDTDIR",
    "fdtoverlays": "FDTOVERLAYS",
    "devicetree-overlay": "FDTOVERLAYS",
}
_ONCE = ("INITRD", "FDT", "FDTDIR", "FDTOVERLAYS")
_NUMBERED = ("localboot", "ipappend")
_PREFIX = "/extlinux"  # where a name without a leading slash is looked for: beside the file itself
_TENTHS = 20  # tenths of a second that a menu waits, where it would wait for ever
_SPACE = " \t\v\f\r"


@dataclass
class Label:
    """values: by LINUX, APPEND and so on. lines: the number, from 0, of the line that holds each. end: the number of
    the line behind the label's last one."""

    name: str
    first: int
    end: int
    values: dict[str, str] = field(default_factory=dict)
    lines: dict[str, int] = field(default_factory=dict)


@dataclass
class Menu:
    """error: why the loader takes nothing from the file, '' when it does. notes: line number from 1 and what the loader
    passes over there. waits: it shows a menu and waits for a key that nobody presses."""

    labels: list[Label] = field(default_factory=list)
    default: str | None = None
    error: str = ""
    notes: list[tuple[int, str]] = field(default_factory=list)
    waits: bool = False

    def attempts(self) -> tuple[Label, ...]:
        """The labels in the order in which they are tried."""
        if self.error:
            return ()
        chosen = next((label for label in reversed(self.labels) if label.name == self.default), None)
        if chosen is None:
            return tuple(self.labels)
        if "LOCALBOOT" in chosen.values:  # taken for done, whatever comes of it
            return (chosen,)
        return (chosen, *(label for label in self.labels if label is not chosen))


class _Void(Exception):
    """The loader gives the file up."""


def parse(text: str) -> Menu:
    """What the loader makes of a file; whatever it holds, there is an answer."""
    menu = Menu()
    label: Label | None = None
    timeout, prompt = 0, False
    try:
        for number, line in enumerate(text.partition("\0")[0].split("\n")):
            word, value = _told(line)
            if not word:
                continue
            if label is not None:
                if _within(label, word, value, number, menu):
                    continue
                label = None
                if word in _OF_LABEL and _OF_LABEL[word] in _ONCE:  # the second value is taken for a word
                    menu.notes.append((number + 1, f"a second {word}: the label ends here"))
                    continue
            if word == "label":
                if not value:
                    raise _Void(f"line {number + 1}: a label without a name")
                label = Label(value, number, number + 1)
                menu.labels.append(label)
            elif word in ("default", "ontimeout", "background"):
                if not value:
                    raise _Void(f"line {number + 1}: {word} without a value")
                menu.default = menu.default if word == "background" else value
            elif word == "timeout":
                if not value:
                    raise _Void(f"line {number + 1}: timeout without a value")
                timeout = _number(value)
            elif word == "menu":
                prompt = True
                _top_menu(value, number)
            elif word == "include":
                menu.notes.append((number + 1, "includes another file, which Kyklon does not read"))
            elif word != "prompt":
                menu.notes.append((number + 1, f"“{word}” is skipped"))
    except _Void as void:
        menu.error = str(void)
    menu.waits = prompt and not timeout and not menu.error
    return menu


def _top_menu(value: str, number: int) -> None:
    word, rest = _told(value)
    if word in ("title", "background", "include") and not rest:
        raise _Void(f"line {number + 1}: menu {word} without a value")


def _within(label: Label, word: str, value: str, number: int, menu: Menu) -> bool:
    """Take a word as one of a label; False for one that ends it."""
    if word in _OF_LABEL:
        name = _OF_LABEL[word]
        if name in _ONCE and name in label.values:
            return False
        if not value:
            raise _Void(f"line {number + 1}: {word} without a value")
        label.values[name], label.lines[name] = value, number
        if name == "APPEND" and "INITRD" not in label.values and "initrd=" in value:
            initrd, space, _rest = value.partition("initrd=")[2].partition(" ")
            if not space:  # it looks for the blank behind it, and runs into nothing
                raise _Void(f"line {number + 1}: initrd= is the last word, which stops the boot loader")
            label.values["INITRD"] = initrd
    elif word in _NUMBERED:
        if not value:
            raise _Void(f"line {number + 1}: {word} without a value")
        label.values[word.upper()] = value
    elif word == "menu":
        kind, rest = _told(value)
        if kind == "default":
            menu.default = label.name if menu.default is None else menu.default
        elif kind == "label" and not rest:
            raise _Void(f"line {number + 1}: menu label without a value")
    elif word != "kaslrseed":
        return False
    label.end = number + 1
    return True


def _number(value: str) -> int:
    digits = value[: len(value) - len(value.lstrip("0123456789"))]
    return int(digits[:9] or 0)


def _told(line: str) -> tuple[str, str]:
    """A line's first word in small letters, and its value to the end as it stands; nothing of a remark."""
    line = line.lstrip(" \t")
    if not line or line[0] == "#":
        return "", ""
    end = next((at for at, letter in enumerate(line) if letter in _SPACE), len(line))
    value = line[end:].lstrip(" \t")
    return line[:end].lower(), "" if value.startswith("#") else value


def unfolded(line: str) -> str:
    """What the loader hands to the kernel: its own quotes, escapes and ${names} taken out
    (cli_simple_process_macros)."""
    out: list[str] = []
    state, before, at = 0, "", 0
    while at < len(line):
        letter = line[at]
        at += 1
        if state != 3 and letter == "\\" and before != "\\":
            if at == len(line):
                break
            before, letter = letter, line[at]
            at += 1
        if state == 0:
            if letter == "'" and before != "\\":
                state = 3
            elif letter == "$" and before != "\\":
                state = 1
            else:
                out.append(letter)
        elif state == 1:
            state = 2 if letter in "({" else 0
            if not state:
                out.append("$" + letter)
        elif state == 2:  # a name of the loader's own; what it stands for is not known here
            state = 0 if letter in ")}" else 2
        elif letter == "'" and before != "\\":
            state = 0
        else:
            out.append(letter)
        before = letter
    return "".join(out)


def resolved(path: str) -> str:
    """Where a file that a label names is on its partition, without a leading slash."""
    return posixpath.normpath(posixpath.join(_PREFIX, path)).lstrip("/")


def values_of(label: Label) -> dict[str, str]:
    """A label's values, with paths as they are on the boot partition and the kernel line as the kernel gets it."""
    found = {
        name: resolved(value) if name in ("LINUX", "FDT", "INITRD", "FDTDIR") and value != "-" else value
        for name, value in label.values.items()
    }
    return {**found, LINE: unfolded(label.values.get("APPEND", ""))}


def chosen(menu: Menu, works: Works | None = None) -> Label | None:
    """The label that is started: the first that can be; the one tried first where none can."""
    attempts = menu.attempts()
    if works is not None:
        for label in attempts:
            if works(values_of(label)):
                return label
    return attempts[0] if attempts else None


class Extlinux:
    def compile(self, old: str, wanted: Wanted) -> str:
        """Override."""
        return set_entry(old, wanted.values, wanted.words, wanted.without)

    def read(self, text: str, board: str, works: Works | None = None) -> dict[str, str]:
        """Override: the values of the label that is started, by LINUX, FDT and so on."""
        menu = parse(text)
        label = chosen(menu, works)
        if label is None:
            return {VOID: menu.error or "it has no label"}
        if "LOCALBOOT" in label.values:
            return {VOID: f"label {label.name} hands booting back to the firmware (LOCALBOOT)"}
        return {**values_of(label), **({WAITS: "yes"} if menu.waits else {})}

    def told(self, text: str, board: str) -> list[FaultWords]:
        """Override."""
        menu = parse(text)
        notes = dict(reversed(menu.notes))
        label = chosen(menu)
        found = []
        for number, line in enumerate(text.partition("\0")[0].split("\n"), 1):
            word, value = _told(line)
            if not word:
                continue
            odd = notes.get(number, "")
            if line.endswith("\r"):
                odd = "ends in a carriage return, which the boot loader reads as part of the value"
            elif not odd and word in _OF_LABEL and label is not None and not label.first < number <= label.end:
                odd = "belongs to a label other than the first one tried"
            found.append(FaultWords(number, _OF_LABEL.get(word, word.upper()), value.rstrip("\r"), odd))
        if menu.error:
            found.append(FaultWords(0, "", "", f"the boot loader rejects the file: {menu.error}"))
        return found

    def explain(self, line: str, wanted: Wanted) -> str:
        """Override."""
        word, value = _told(line)
        name = _OF_LABEL.get(word, "")
        if name == "APPEND":
            return "boot.kernel_words"
        return wanted.settings.get(name, "") if name and wanted.values.get(name) == value else ""


def set_entry(text: str, values: Mapping[str, str], wanted_words: Sequence[str], without: Sequence[str] = ()) -> str:
    """Set values and kernel words of the label that is tried first; made anew where there is none.

    Lines that are not changed stay as they are, but for carriage returns: the loader takes them for part of a name.
    """
    lines = [line.removesuffix("\r") for line in split_lines(text.replace("\0", " "))]  # it ends at a zero
    menu = parse("\n".join(lines))
    label = chosen(menu)
    if menu.error:  # the loader reads nothing of it: keep it as remarks
        lines = [line if not line.strip() or line.lstrip().startswith("#") else f"# {line}" for line in lines]
    if label is None:
        lines += ["DEFAULT games", "LABEL games"]
        label = Label("games", len(lines) - 1, len(lines))
    wanted = {**values, "APPEND": set_words(label.values.get("APPEND", ""), wanted_words, without)}
    if label.values.get("INITRD") and "INITRD" not in label.lines:
        wanted.pop("INITRD", None)
    fresh = []
    for name, value in wanted.items():
        at = label.lines.get(name)
        if at is None:
            if value:
                fresh.append(f"  {name} {value}")
        elif label.values[name] != value:
            line = lines[at]
            indent = line[: len(line) - len(line.lstrip())]
            lines[at] = f"{indent}{line.split()[0]} {value}" if value else ""
    if "LOCALBOOT" in label.values:  # with it, the label starts nothing
        for at in range(label.first, label.end):
            if _told(lines[at])[0] == "localboot":
                lines[at] = f"  # {lines[at].strip()}"
    lines[label.end : label.end] = fresh
    if menu.waits:  # for a key that nobody presses
        lines.insert(0, f"TIMEOUT {_TENTHS}")
    return "\n".join(lines) + "\n"


def codec(_file: DialectFile) -> Extlinux:
    """For kinds.codec_of."""
    return Extlinux()
