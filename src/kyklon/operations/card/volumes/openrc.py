"""What OpenRC starts on a root: the services of its runlevels, each after those that it needs.

Sources: openrc(8), openrc-run(8) (depend), OpenRC's user guide (runlevels); of scripts with the header of the Linux
Standard Base its 5.0, chapter 22. Conditions in depend() are not followed: what stands there counts.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping

RUNLEVELS = "/etc/runlevels"
SCRIPTS = "/etc/init.d"
PROGRAMS = ("/sbin/openrc", "/usr/sbin/openrc", "/bin/openrc", "/usr/bin/openrc")
_LEVELS = ("sysinit", "boot")  # that come before the one the system ends up in
_DEFAULT = "default"
_CALLS = re.compile(r"\bopenrc(?:[ \t]+-[\w-]+)*[ \t]+(\w[\w.-]*)")
_ENDS = ("shutdown", "reboot", "off", "single", "recovery")
_BEGINS = re.compile(r"^[ \t]*depend[ \t]*\(\)\s{0,80}\{", re.MULTILINE)
_ENDS_BODY = re.compile(r"^[ \t]*\}", re.MULTILINE)
_WORDS = ("need", "want", "use", "after", "before", "provide")
_HEADER, _HEADER_END = "### BEGIN INIT INFO\n", "### END INIT INFO"
_STATED = {  # LSB 5.0, 22.3
    "required-start": "use",  # a facility that nothing provides is no obstacle
    "should-start": "use",
    "x-start-before": "before",
    "provides": "provide",
}
_MOST, _MOST_CALLED = 1000, 20  # services; scripts that inittab calls

Text = Callable[[str], str]  # of a file, '' for none
Names = Callable[[str], Iterable[str]]  # in a folder


def level_of(text: Text, there: Callable[[str], bool], init: str = "") -> str:
    """The runlevel that the system ends up in, '' where OpenRC does not start it. init: where /sbin/init leads as a
    link."""
    if not any(map(there, PROGRAMS)):
        return ""
    if init.rpartition("/")[2] == "openrc-init":
        return _DEFAULT
    table = text("/etc/inittab")
    called = list(dict.fromkeys(re.findall(r":(/[\w./-]{1,200})", table)))[:_MOST_CALLED]
    lines = "\n".join((table, *(text(path) for path in called))).split("\n")
    told = "\n".join(line for line in lines if not line.lstrip().startswith("#"))
    levels = [level for level in _CALLS.findall(told) if level not in (*_LEVELS, *_ENDS)]
    return levels[0] if levels else ""


def services(level: str, names: Names, text: Text) -> tuple[tuple[str, str], ...]:
    """Names and paths of the scripts that are started for a runlevel and those before it, in an order that their
    depend() allows; with those that they need and no level lists."""
    scripts = set(names(SCRIPTS))
    told = {name: _depend(text(f"{SCRIPTS}/{name}")) for name in sorted(scripts)[:_MOST]}
    providers: dict[str, list[str]] = {name: [name] for name in told}
    for name, words in told.items():
        for virtual in words["provide"]:
            providers.setdefault(virtual, []).append(name)
    order: dict[str, None] = {}
    for each in (*_LEVELS, level):
        listed = [name for name in sorted(names(f"{RUNLEVELS}/{each}")) if name in told]
        wanted = _with_needed(listed, told, providers)
        last = [name for name in wanted if "*" in told[name]["after"]]
        early = [name for name in wanted if "*" in told[name]["before"]]
        rest = [name for name in wanted if name not in last and name not in early]
        for name in (*early, *rest, *last):
            _visit(name, set(wanted), told, providers, order)
    return tuple((name, f"{SCRIPTS}/{name}") for name in order)


def _depend(script: str) -> dict[str, list[str]]:
    """What a script says in depend(), or in its header, by word."""
    found: dict[str, list[str]] = {word: [] for word in _WORDS}
    _before, header, stated = script.partition(_HEADER)
    if header and _HEADER_END in stated:
        for line in stated.partition(_HEADER_END)[0].split("\n"):
            key, colon, value = line.lstrip("# \t").partition(":")
            if colon and (word := _STATED.get(key.strip().lower())):
                found[word] += ["_all" if name == "$all" else name for name in value.split()]
        found["provide"].append("_all")  # as lsb2rcconf has it: $all is the scripts with such a header
        return found
    for line in re.split(r"[\n;]", _body_of(script).replace("\\\n", " ")):
        words = line.partition("#")[0].split()
        if words and words[0] in found:
            found[words[0]] += [word for word in words[1:] if re.fullmatch(r"[\w.*-]+", word)]
    return found


def _body_of(script: str) -> str:
    """What stands in depend(); '' where there is none."""
    begin = _BEGINS.search(script)
    if begin is None:
        return ""
    end = _ENDS_BODY.search(script, begin.end())
    return script[begin.end() : end.start()] if end is not None else script[begin.end() :]


def _with_needed(
    listed: list[str], told: Mapping[str, dict[str, list[str]]], providers: Mapping[str, list[str]]
) -> list[str]:
    """The services of a level and, before them, those that they need or want."""
    found: dict[str, None] = {}
    waiting = list(reversed(listed))
    while waiting:
        name = waiting.pop()
        if name in found:
            continue
        found[name] = None
        for wanted in (*told[name]["need"], *told[name]["want"]):
            own = providers.get(wanted, [])
            if own and not any(each in found or each in listed for each in own):
                waiting.append(own[0])
    return list(found)


def _visit(
    first: str,
    wanted: set[str],
    told: Mapping[str, dict[str, list[str]]],
    providers: Mapping[str, list[str]],
    order: dict[str, None],
) -> None:
    """Put a service into the order, after what it comes after; a ring is cut where it closes."""
    begun: set[str] = set()
    waiting = [(first, False)]
    while waiting:
        name, done = waiting.pop()
        if name in order:
            continue
        if done:
            order[name] = None
            continue
        if name in begun:
            continue
        begun.add(name)
        waiting.append((name, True))
        words = told[name]
        before = [each for word in ("need", "want", "use", "after") for each in words[word]]
        named = {name, *words["provide"]}
        sooner = [own for each in before for own in providers.get(each, ())]
        sooner += [other for other in wanted if named & set(told[other]["before"])]
        waiting += [(each, False) for each in sorted(set(sooner), reverse=True) if each in wanted and each != name]
