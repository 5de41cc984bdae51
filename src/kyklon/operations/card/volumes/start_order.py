"""What a root starts by itself, as its service manager finds it: unit files and targets, or scripts by their numbers.

Sources: systemd.unit(5) (load path, drop-ins, .wants and .requires, masking, default dependencies), systemd.service(5),
bootup(7); for the numbered scripts the Linux Standard Base 5.0, chapter 22, and inittab(5) of System V init.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Callable, Iterable
from dataclasses import replace

from kyklon.model.card import Program, Unit

PATHS = ("/etc/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system")  # the first that has a unit counts
MANAGERS = ("/lib/systemd/systemd", "/usr/lib/systemd/systemd")
FIRST = "/etc/rcS.d"  # what System V init runs before any run level
NUMBERED = (
    "/etc/rc2.d",
    "/etc/rc3.d",
    "/etc/rc5.d",
    "/etc/init.d",
)  # run levels with a network; some have one only
# where a program of no path is searched for (systemd.service(5), COMMAND LINES; systemd-path search-binaries)
FIXED = ("/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin")
SEARCHED = ("/usr/bin", "/bin")  # PATH of an image's own init
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


def own_unit_of(name: str, text: str, program: Callable[[str], Program], there: Callable[[str], bool]) -> Unit:
    """A unit as an image's own init reads it, to the letter: `ExecStart=` and `Type=oneshot` count at a line's
    beginning, of several programs the last; blanks part words, quotes and a carriage return belong to them."""
    lines = text.split("\n")
    told = [line.removeprefix("ExecStart=") for line in lines if line.startswith("ExecStart=")]
    words = re.split(r"[ \t]+", told[-1].strip(" \t")) if told and told[-1].strip(" \t") else []
    oneshot = any(line.startswith("Type=oneshot") for line in lines)
    if words and oneshot:
        words = _shell_words(told[-1]) or words  # it goes through the user's shell
    first = words[0] if words else ""
    if first and "/" not in first:
        first = next((f"{place}/{first}" for place in SEARCHED if there(f"{place}/{first}")), f"{SEARCHED[0]}/{first}")
    plain = unit_of(name, text, program)
    own = program(first) if first else None
    return replace(plain, program=own, foreground=oneshot, kind="simple")


def _shell_words(command: str) -> list[str]:
    """sh(1): quotes are taken off; [] where they do not close."""
    reader = shlex.shlex(command, posix=True)
    reader.whitespace, reader.whitespace_split = " \t\n", True  # a carriage return is a letter to it
    try:
        return list(reader)
    except ValueError:
        return []


def _without_prefix(command: str) -> tuple[str, bool]:
    """A command line's program, and whether its failure counts (systemd.service(5): - @ : + !)."""
    word = re.match(r"""\s*(?:"([^"]*)"|'([^']*)'|(\S*))""", command)
    first = next((group for group in word.groups() if group is not None), "") if word else ""
    prefix = re.match(r"[-@:+!|]*", first)
    marks = prefix[0] if prefix else ""
    return first[len(marks) :], "-" not in marks


def unit_of(name: str, text: str, program: Callable[[str], Program]) -> Unit:
    """A unit from its file. Names of others keep their endings, but for .service."""
    told = unit_words(text)

    def names(*keys: str) -> tuple[str, ...]:
        values = " ".join(value for key in keys for value in told.get(key, ()))
        return tuple(word.removesuffix(".service") for word in values.split()[:_MOST_NAMES])

    commands = [value for value in told.get("ExecStart", ()) if value.strip()]
    kind = (told.get("Type") or ("simple",))[-1]
    path, _counts = _without_prefix(commands[0]) if commands else ("", True)
    trouble = ""
    if len(commands) > 1 and kind != "oneshot":
        trouble = "it has more than one ExecStart=, which only Type=oneshot may have"
    elif path and not path.startswith("/"):
        spots = [f"{folder}/{path}" for folder in FIXED]
        path = next((spot for spot in spots if program(spot).there), f"/usr/bin/{path}")
    for each in told.get("ExecStartPre", ()):
        before, counts = _without_prefix(each)
        if counts and before.startswith("/") and (why := program(before).trouble):
            trouble = trouble or f"what it runs before does not start: {why}"
    plain = (told.get("DefaultDependencies") or ("yes",))[-1].lower() not in ("no", "false", "off", "0")
    started = program(path) if path else None
    if started is not None and re.search(r"\bLD_(?:LIBRARY_PATH|PRELOAD)\b", text):  # it looks elsewhere too
        started = replace(started, lacks="")
    return Unit(
        name,
        started,
        kind == "oneshot",
        names("Requires", "BindsTo", "Requisite"),
        names("After"),
        names("Wants"),
        names("Before"),
        kind,
        plain,
        trouble,
        (told.get("User") or ("",))[-1],
        tuple(value for key in _PATHS_NEEDED for value in told.get(key, ())),
        tuple(f"{key}={value}" for key in _CONDITIONS for value in told.get(key, ())),
        commands[0] if commands else "",
    )


_PATHS_NEEDED = ("WorkingDirectory", "EnvironmentFile")  # systemd.exec(5); a leading - lets them be absent
_ON_ROOT = ("ConditionPathExists", "ConditionPathIsDirectory", "ConditionFileNotEmpty", "AssertPathExists")
_CONDITIONS = (
    *_ON_ROOT,
    "ConditionPathExistsGlob",
    "ConditionKernelCommandLine",
    "ConditionVirtualization",
    "ConditionDirectoryNotEmpty",
    "ConditionSecurity",
    "ConditionCapability",
    "ConditionFirstBoot",
)
_ENDINGS = (".service", ".target", ".socket", ".timer", ".mount", ".path", ".slice", ".automount", ".swap", ".device")


class Systemd:
    """text, names: of the root. link: the name that a link leads to, '' for what is none."""

    def __init__(
        self,
        text: Text,
        names: Names,
        link: Text,
        program: Callable[[str], Program],
        there: Callable[[str], bool] = lambda _path: True,
    ) -> None:
        self.text, self.names, self.link, self.program, self.there = text, names, link, program, there

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
        return {name: self._with_pulled(unit, found) for name, unit in found.items()}

    def _with_pulled(self, unit: Unit, found: dict[str, Unit]) -> Unit:
        """A target comes after what it pulls in, but for what wants no such order, or comes after it by itself
        (systemd.target(5); src/core/unit.c, unit_add_default_target_dependency)."""
        if unit.kind != "target" or not unit.default:
            return unit
        own = unit.name
        pulled = (each for each in (*unit.wants, *unit.requires) if each in found)
        behind = [
            each for each in pulled if found[each].default and own not in found[each].after and each not in unit.before
        ]
        return replace(unit, after=(*unit.after, *behind))

    def _unit(self, name: str) -> Unit:
        full = name if "." in name.rpartition("@")[2] or name.endswith(_ENDINGS) else f"{name}.service"
        text, there, alias = self._text_of(full)
        if alias is not None:
            return alias if alias.name else replace(alias, name=name)
        template = _template_of(full)
        for each in (template, full) if template else (full,):
            for folder in PATHS:
                for part in sorted(self.names(f"{folder}/{each}.d")):
                    text += "\n" + self.text(f"{folder}/{each}.d/{part}") if part.endswith(".conf") else ""
        text = _spelt_out(text, full)
        unit = unit_of(name, text, self.program)
        wants = tuple(each.removesuffix(".service") for path in PATHS for each in self.names(f"{path}/{full}.wants"))
        needs = tuple(each.removesuffix(".service") for path in PATHS for each in self.names(f"{path}/{full}.requires"))
        kind = unit.kind if full.endswith(".service") else full.rpartition(".")[2]
        if not there:  # slices are made where none is described (systemd.slice(5))
            kind = "slice" if full.endswith(".slice") else "missing"
        wants, needs = (*unit.wants, *wants), (*unit.requires, *needs)
        after = unit.after
        if unit.default and full.endswith(".service"):
            after = (*after, "sysinit.target", "basic.target")
        trouble = unit.trouble or self._unmet(unit)
        return replace(unit, name=name, requires=needs, after=after, wants=wants, kind=kind, trouble=trouble)

    def _text_of(self, full: str) -> tuple[str, bool, Unit | None]:
        """A unit's own text, or its template's, and whether there is one; or the unit that it is another name of."""
        template = _template_of(full)
        for each in (full, template) if template else (full,):
            for folder in PATHS:
                target = self.link(f"{folder}/{each}")
                if target == "/dev/null":
                    return "", True, Unit("", None, kind="masked")
                if target.endswith(".target") and target.rpartition("/")[2] != each:  # default.target is one
                    alias = target.rpartition("/")[2]
                    return "", True, Unit("", None, wants=(alias,), after=(alias,), kind="target")
                if text := self.text(f"{folder}/{each}"):
                    return text, True, None
        return "", False, None

    def _unmet(self, unit: Unit) -> str:
        """What keeps a unit from starting that only a look at the root tells."""
        for each in unit.needs:
            if not each.startswith("-") and each.startswith("/") and not self.there(each):
                return f"it needs {each}, which is missing"
        triggers = []
        for condition in unit.conditions:
            key, _, path = condition.partition("=")
            either, path = path.startswith("|"), path.removeprefix("|")
            negated, path = path.startswith("!"), path.removeprefix("!").strip()
            holds = self._holds(key, path)
            if holds is not None and negated:
                holds = not holds
            if either:
                triggers.append(holds)
            elif holds is False:
                return f"{key}={'!' if negated else ''}{path} does not hold"
        if triggers and not any(trigger is not False for trigger in triggers):  # one of them is enough
            return "none of its conditions marked | holds"
        return ""

    def _holds(self, key: str, path: str) -> bool | None:
        """Whether a condition holds; None where only the running system tells."""
        if key not in _ON_ROOT or not path.startswith("/") or "*" in path:
            return None
        if any(path == made or path.startswith(f"{made}/") for made in MADE):
            return None
        if "%v" in path:  # the kernel's release
            releases = [*self.names("/lib/modules"), *self.names("/usr/lib/modules")]
            return any(self.there(path.replace("%v", release)) for release in releases) if releases else None
        return None if "%" in path else self.there(path)


def _template_of(full: str) -> str:
    """The template of an instance, getty@.service of getty@tty1.service; '' for what is none."""
    before, at, after = full.partition("@")
    instance, dot, ending = after.rpartition(".")
    return f"{before}@.{ending}" if at and before and instance and dot else ""


def _spelt_out(text: str, full: str) -> str:
    """A unit's text with its own names in place of the specifiers for them (systemd.unit(5), SPECIFIERS)."""
    plain, _, _ending = full.rpartition(".")
    prefix, _, instance = plain.partition("@")
    known = {"n": full, "N": plain, "p": prefix, "i": instance, "I": instance.replace("-", "/"), "%": "%"}
    known["j"] = prefix.rpartition("-")[2]
    return re.sub(r"%([nNpiIj])", lambda match: known[match[1]], text)


MADE = ("/dev", "/proc", "/sys", "/run", "/tmp", "/boot")  # what is there only once the system runs


def numbered(names: Names, text: Text = lambda _path: "") -> tuple[tuple[str, str], ...]:
    """Names and paths of the scripts that are started, in their order: by number, then by name; those of the run level
    that inittab(5) names, where it names one."""
    first = _scripts(names, FIRST)
    level = re.search(r"^[^#:\n]*:([2-5]):initdefault:", text("/etc/inittab"), re.MULTILINE)
    for folder in (f"/etc/rc{level[1]}.d",) if level else NUMBERED:
        if rows := _scripts(names, folder):
            return (*first, *(row for row in rows if row[0] not in dict(first)))
    return first


def _scripts(names: Names, folder: str) -> tuple[tuple[str, str], ...]:
    rows = sorted((match[1], match[2], each) for each in names(folder) if (match := _SCRIPT.fullmatch(each)))
    return tuple((name, f"{folder}/{each}") for _number, name, each in rows)
