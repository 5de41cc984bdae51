"""What a script calls that its root does not have."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable
from importlib.util import find_spec

from kyklon.operations.card.volumes.script_calls import Calls, calls_of
from kyklon.operations.card.volumes.start_order import FIXED, MADE

_MOST_SOURCED = 5  # files that are read in
_MOST_READ = 2 << 20  # letters of all scripts of a root


class ScriptNeeds:
    """there, text, names: of the root: whether a path is, a file's text, what is in a folder."""

    def __init__(
        self, there: Callable[[str], bool], text: Callable[[str], str], names: Callable[[str], Iterable[str]]
    ) -> None:
        self._there, self._text, self._names = there, text, names
        self._read = 0

    def calls(self, text: str, interpreter: str) -> Calls:
        """As calls_of(), while there is not too much."""
        self._read += len(text)
        return Calls(unsure=True) if self.more else calls_of(text, interpreter)

    @property
    def more(self) -> bool:
        """Whether there was more than is read."""
        return self._read > _MOST_READ

    def where(self, name: str, further: Iterable[str] = ()) -> str:
        """Where a program is found by its name, '' for nowhere; further: folders of PATH beside the usual ones."""
        if "/" in name:
            return name if self._there(name) else ""
        return next((place for folder in (*FIXED, *further) if self._there(place := f"{folder}/{name}")), "")

    def misses(self, path: str, calls: Calls) -> tuple[str, ...]:
        """What a script calls that is not there, in words."""
        known, unsure, waiting = set(calls.defined), calls.unsure, list(dict.fromkeys(calls.sourced))
        for number, source in enumerate(waiting):  # it grows
            if number >= _MOST_SOURCED:
                unsure = True
                break
            text = self._text(source) if source.startswith("/") else ""
            inner = self.calls(text, "sh")
            known |= inner.defined
            waiting += [each for each in inner.sourced if each not in waiting]
            unsure = unsure or not text or inner.unsure
        found = {}
        for call in calls.programs:
            if call.name in known or call.last or ("/" in call.name and not call.name.startswith("/")):
                continue
            if call.name.startswith(MADE) or (unsure and "/" not in call.name) or self.where(call.name, calls.path):
                continue
            found[call.name] = f"{call.name} is not there" + (
                ", and its error goes to /dev/null" if call.hidden else ""
            )
        return (
            *found.values(),
            *(f"Python has no module {name}" for name in self.modules_missing(path, calls.modules)),
        )

    def modules_missing(self, path: str, modules: Iterable[str]) -> list[str]:
        """Of these modules, those that a root's Python does not find (site, in the Python library reference)."""
        tops = [
            f"{top}/{name}"
            for top in ("/usr/lib", "/usr/local/lib")
            for name in self._names(top)
            if name.startswith("python3")
        ]
        places = [f"{top}{below}" for top in tops for below in ("", "/lib-dynload", "/dist-packages", "/site-packages")]
        names = {name.partition(".")[0] for place in (*places, path.rpartition("/")[0]) for name in self._names(place)}
        standard = any(self._there(f"{top}/os.py") or self._there(f"{top}/os.pyc") for top in tops)
        return [name for name in modules if name not in names and not _may_be_inside(name)] if standard else []


def _may_be_inside(name: str) -> bool:
    """Whether a module of the standard library is compiled, and so may be built into a Python itself."""
    if name not in sys.stdlib_module_names:
        return False
    found = find_spec(name)
    return found is None or not (found.origin or "").endswith(".py")
