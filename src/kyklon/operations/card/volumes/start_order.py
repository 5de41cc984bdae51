"""What a root starts by itself, as its service manager finds it: unit files and targets, or scripts by their numbers.

Sources: systemd.unit(5) (load path, drop-ins, .wants and .requires, masking, default dependencies), systemd.service(5),
bootup(7); for the numbered scripts the Linux Standard Base 5.0, chapter 22, and inittab(5) of System V init.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable

from kyklon.model.card import Program, Unit

PATHS = ("/etc/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system")  # the first that has a unit counts
MANAGERS = ("/lib/systemd/systemd", "/usr/lib/systemd/systemd")
NUMBERED = (
    "/etc/rc2.d",
    "/etc/rc3.d",
    "/etc/rc5.d",
    "/etc/init.d",
)  # run levels with a network; some have one only
DEFAULT = "default.target"
_MOST, _MOST_NAMES = 2000, 500  # units; names that one gives for one word
_SCRIPT = re.compile(r"S(\d\d)(.+)")

Text = Callable[[str], str]  # of a file, '' for none
Names = Callable[[str], Iterable[str]]  # in a folder


def unit_words(text: str) -> dict[str, list[str]]:
    """A unit file's values by word, sections left aside; an empty value takes back those before it."""
    found: dict[str, list[str]] = {}
    for line in text.replace("\\\n", " ").split("\n"):
        line = line.strip()
        if not line or line[0] in "#;[":
            continue
        key, separator, value = line.partition("=")
        if not separator:
            continue
        values = found.setdefault(key.strip(), [])
        if value.strip():
            values.append(value.strip())
        else:
            values.clear()
    return found


def unit_of(name: str, text: str, program: Callable[[str], Program]) -> Unit:
    """A unit from its file. Names of others keep their endings, but for .service."""
    told = unit_words(text)

    def names(*keys: str) -> tuple[str, ...]:
        values = " ".join(value for key in keys for value in told.get(key, ()))
        return tuple(each.removesuffix(".service") for each in values.split()[:_MOST_NAMES])

    command = next((value for value in told.get("ExecStart", ()) if value.strip()), "").lstrip("@-:+!").split()
    kind = (told.get("Type") or ("simple",))[-1]
    plain = (told.get("DefaultDependencies") or ("yes",))[-1].lower() not in ("no", "false", "off", "0")
    return Unit(
        name, program(command[0]) if command else None, kind == "oneshot", names("Requires", "BindsTo", "Requisite"),
        names("After"), names("Wants"), names("Before"), kind, plain,
    )  # fmt: skip


class Systemd:
    """text, names: of the root. link: the name that a link leads to, '' for what is none."""

    def __init__(self, text: Text, names: Names, link: Text, program: Callable[[str], Program]) -> None:
        self.text, self.names, self.link, self.program = text, names, link, program

    def units(self) -> dict[str, Unit]:
        """Every unit that the default target pulls in, by its name; an empty Unit is one that is not there."""
        found: dict[str, Unit] = {}
        waiting = [DEFAULT]
        while waiting and len(found) < _MOST:
            name = waiting.pop()
            if name in found:
                continue
            unit = found[name] = self._unit(name)
            waiting += [*unit.requires, *unit.wants]
        return found

    def _unit(self, name: str) -> Unit:
        full = name if "." in name else f"{name}.service"
        target, text, there = "", "", False
        for folder in PATHS:
            target = self.link(f"{folder}/{full}")
            if target == "/dev/null":
                return Unit(name, None, kind="masked")
            if target.endswith(".target") and target.rpartition("/")[2] != full:  # an alias: default.target is one
                alias = target.rpartition("/")[2]
                return Unit(name, None, wants=(alias,), after=(alias,), kind="target")
            text = self.text(f"{folder}/{full}")
            if text:
                there = True
                break
        for folder in PATHS:
            for part in sorted(self.names(f"{folder}/{full}.d")):
                text += "\n" + self.text(f"{folder}/{full}.d/{part}") if part.endswith(".conf") else ""
        unit = unit_of(name, text, self.program)
        wants = tuple(each.removesuffix(".service") for path in PATHS for each in self.names(f"{path}/{full}.wants"))
        needs = tuple(each.removesuffix(".service") for path in PATHS for each in self.names(f"{path}/{full}.requires"))
        kind = unit.kind if full.endswith(".service") else full.rpartition(".")[2]
        if not there:
            kind = "missing"
        wants, needs = (*unit.wants, *wants), (*unit.requires, *needs)
        after = unit.after
        if kind == "target" and unit.default:
            after = (*after, *wants, *needs)
        elif unit.default and full.endswith(".service"):
            after = (*after, "sysinit.target", "basic.target")
        return Unit(name, unit.program, unit.foreground, needs, after, wants, unit.before, kind, unit.default)


def numbered(names: Names) -> tuple[tuple[str, str], ...]:
    """Names and paths of the scripts that are started, in their order: by number, then by name."""
    for folder in NUMBERED:
        rows = sorted((match[1], match[2], each) for each in names(folder) if (match := _SCRIPT.fullmatch(each)))
        if rows:
            return tuple((name, f"{folder}/{each}") for _number, name, each in rows)
    return ()
