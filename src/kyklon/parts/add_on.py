"""Learning an add-on: a script, or a folder as it would lie on the machine, with what its text says that it needs."""

from __future__ import annotations

import os
import stat
from pathlib import Path

from kyklon.base.errors import FormatError, KyklonError
from kyklon.base.reading import bytes_of
from kyklon.catalogue.add_on_records import MOST_TEXT
from kyklon.operations.card.volumes.script_calls import Calls, calls_of
from kyklon.parts.draft import Draft

ASKED = (
    *("programs", "modules", "libraries", "drivers", "packages", "command", "starts", "user", "groups", "network"),
    *("restarts", "minutes", "origin"),
)
_MOST_FILES = 20
_TOPS = ("usr", "etc", "opt", "home", "var", "srv")
# what every system has that a kernel starts: POSIX.1-2017, XCU 4, as far as BusyBox' default configuration has it
_SMALL = (
    "sh cat sleep date grep sed awk cut tr head tail sort uniq wc ls cp mv rm ln mkdir rmdir chmod chown touch tee "
    "find xargs basename dirname expr id uname ps df du mount umount sync env dd stat mktemp"
)
EVERYWHERE = frozenset(_SMALL.split())


def learn(path: Path) -> Draft:
    """A draft from a script or a folder. Raises KyklonError for what is none, is too large or no text."""
    files = _files(path)
    rows, programs, modules, hidden = [], dict[str, None](), dict[str, None](), list[str]()
    own = {place.rpartition("/")[2] for place, _text, _mode in files}
    first = ""
    for place, text, mode in files:
        rows.append({"path": place, "text": text, "mode": mode})
        calls = calls_of(text, _interpreter(text))
        if text.startswith("#!"):
            first = first or f"/{place}"
            programs[_interpreter(text)] = None
        modules.update(dict.fromkeys(each for each in calls.modules if each not in own and f"{each}.py" not in own))
        named = [each.name.rpartition("/")[2] for each in calls.programs]
        programs.update(dict.fromkeys(each for each in named if each not in own))
        hidden += _hidden(calls, own)
    needed = tuple(each for each in programs if each and each not in EVERYWHERE)
    draft = Draft("add_ons", asked=ASKED).with_read(path.name, files=rows)
    draft = draft.with_read(path.name, name=path.stem.replace("-", " ").replace("_", " ").capitalize()[:120])
    if needed:
        draft = draft.offer("its text calls them", programs=needed)
    if third := tuple(each for each in modules if not _standard(each)):
        draft = draft.offer("its text imports them", modules=third)
    if first:
        draft = draft.offer("it is the first that can be started", command=first)
    if hidden:
        draft = draft.tell(
            f"It sends what {', '.join(hidden[:5])} says to /dev/null: where that is missing, nothing tells you."
        )
    draft = draft.tell("It runs on the machine with the rights that you give it: read it before you use it.")
    about = tuple(("Files", f"/{place}") for place, _text, _mode in files)
    return Draft(**{**draft.__dict__, "about": about})


def _hidden(calls: Calls, own: set[str]) -> list[str]:
    return [each.name for each in calls.programs if each.hidden and each.name.rpartition("/")[2] not in own]


def _interpreter(text: str) -> str:
    words = text[2:].split("\n", 1)[0].split() if text.startswith("#!") else []
    if words and words[0].endswith("/env"):
        words = [each for each in words[1:] if not each.startswith("-") and "=" not in each]
    return words[0].rpartition("/")[2] if words else ""


def _standard(name: str) -> bool:
    import sys

    return name in sys.stdlib_module_names


def _files(path: Path) -> list[tuple[str, str, str]]:
    """Path on the machine, text and mode of each file."""
    if path.is_file():
        return [(f"usr/local/bin/{path.name}", _text(path), _mode(path))]
    found = []
    for folder, below, names in os.walk(path):
        below.sort()
        for name in sorted(names):
            place = Path(folder) / name
            if place.is_symlink() or not place.is_file():
                raise KyklonError(
                    f"{place} is a link or no plain file.", do="Put plain files into the folder; links are not carried."
                )
            inside = place.relative_to(path).as_posix()
            if inside.partition("/")[0] not in _TOPS:
                inside = f"opt/{path.name}/{inside}"
            found.append((inside, _text(place), _mode(place)))
            if len(found) > _MOST_FILES:
                raise KyklonError(
                    f"{path} has more than {_MOST_FILES} files.",
                    do="An add-on is small: choose the folder with it alone.",
                )
    if not found:
        raise KyklonError(f"{path} is empty.", do="Choose a script, or a folder as it would lie on the machine.")
    return found


def _text(path: Path) -> str:
    data = bytes_of(path, MOST_TEXT)
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError as bad:
        raise _no_text(path, bad.start, f"{data[bad.start]:02x}") from bad
    if "\0" in text:
        raise _no_text(path, text.index("\0"), "00")
    return text


def _no_text(path: Path, at: int, got: str) -> FormatError:
    return FormatError(path.name, at, expected="a text: an add-on brings scripts, a package brings programs", got=got)


def _mode(path: Path) -> str:
    """Its own rights, without what a drive of FAT makes of them: a script is to be started."""
    started = path.stat().st_mode & stat.S_IXUSR or _text(path).startswith("#!")
    return "0755" if started else "0644"
