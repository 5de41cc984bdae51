"""Modules that are imported when they are first used: a large library costs every start that does not need it."""

from __future__ import annotations

import types
from importlib import import_module
from typing import Any


class Late(types.ModuleType):
    """Stands for a module; its first attribute asked for imports it. Safe from any thread: the import system locks."""

    def __getattr__(self, name: str) -> Any:
        value = getattr(import_module(self.__name__), name)
        self.__dict__[name] = value
        return value


def late(name: str) -> Any:
    """The module of that name, imported at its first use. Write it beside a TYPE_CHECKING import of the same name."""
    return Late(name)
