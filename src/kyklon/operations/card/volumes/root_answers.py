"""Answers about a root: whether a program, a Python module, a library, a driver, a user or a group is there."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from kyklon.operations.card.volumes.script_needs import ScriptNeeds

KINDS = ("program", "module", "library", "driver", "user", "group", "file")
_LIBRARIES = ("/lib", "/usr/lib", "/lib64", "/usr/lib64", "/usr/local/lib")
_MODULES = ("/lib/modules", "/usr/lib/modules")
_MOST_LIST = 4 << 20  # bytes of a list of drivers


@dataclass(frozen=True)
class Answers:
    """there, text, names: of the root; text takes how many bytes of a file are wanted."""

    there: Callable[[str], bool]
    text: Callable[[str, int], str]
    names: Callable[[str], Iterable[str]]
    scripts: ScriptNeeds

    def to(self, questions: Iterable[str]) -> dict[str, bool]:
        """By question, kind:name of KINDS."""
        return {each: self._is(*each.split(":", 1)) for each in questions}

    def _is(self, kind: str, name: str) -> bool:
        if kind == "program":
            return bool(self.scripts.where(name))
        if kind == "module":
            return not self.scripts.modules_missing("/", (name,))
        if kind == "library":
            return any(self.there(f"{folder}/{name}") for folder in self._folders())
        if kind == "driver":
            return self._driver(name)
        if kind == "file":
            return self.there(name)
        lines = self.text("/etc/passwd" if kind == "user" else "/etc/group", 1 << 20).split("\n")
        return any(line.split(":", 1)[0] == name for line in lines)

    def _folders(self) -> Iterable[str]:
        for folder in _LIBRARIES:
            yield folder
            yield from (f"{folder}/{name}" for name in self.names(folder) if "-linux-" in name)

    def _driver(self, name: str) -> bool:
        """modules.dep and modules.builtin (kmod's depmod(8), kbuild.rst); - and _ are one to the kernel."""
        wanted = name.replace("-", "_")
        for top in _MODULES:
            for release in self.names(top):
                for list_ in ("modules.dep", "modules.builtin"):
                    for line in self.text(f"{top}/{release}/{list_}", _MOST_LIST).split("\n"):
                        file = line.partition(":")[0].rpartition("/")[2]
                        if file.partition(".ko")[0].replace("-", "_") == wanted:
                            return True
        return False
