"""The import rules of the architecture, nested and type-only imports included."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest

import kyklon

ROOT = Path(kyklon.__file__).parent
FILES = sorted(ROOT.rglob("*.py"))
OPERATIONS = {"plan", "card", "boot", "controls", "picture", "library", "tuning", "assembly", "poweron"}
UPPER = {
    "inspection",
    "observing",
    "workshop",
    "guide",
    "fresh",
    "world",
    "record",
    "demo",
    "cli",
    "cli_picture",
    "cli_card",
    "cli_sets",
    "cli_tools",
    "keeping",
    "app",
}


def imports(path: Path) -> set[str]:
    """Every module of ours, or of Qt, that a file imports anywhere in it."""
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.add(node.module)
            found |= {f"{node.module}.{alias.name}" for alias in node.names if node.module == "kyklon"}
    return found


def part_of(path: Path) -> str:
    """The package (or top module) a file belongs to."""
    return path.relative_to(ROOT).parts[0].removesuffix(".py")


def ours(path: Path) -> set[str]:
    """Names of our packages that a file imports."""
    return {name.split(".")[1] for name in imports(path) if name.startswith("kyklon.")}


@pytest.mark.parametrize("path", [p for p in FILES if part_of(p) != "app"], ids=str)
def test_nothing_below_app_knows_qt(path: Path) -> None:
    assert not any(name.startswith(("PyQt6", "pyqtgraph")) for name in imports(path))
    allowed = {"cli"}  # the command `open` starts the window
    assert "app" not in ours(path) or part_of(path) in allowed


@pytest.mark.parametrize("path", [p for p in FILES if part_of(p) == "model"], ids=str)
def test_model_imports_the_model_only(path: Path) -> None:
    assert ours(path) <= {"model", "errors", "quantities"}


@pytest.mark.parametrize("path", [p for p in FILES if part_of(p) == "catalogue"], ids=str)
def test_catalogue_imports_the_model_only(path: Path) -> None:
    assert ours(path) <= {"model", "catalogue", "errors"}


@pytest.mark.parametrize("path", [p for p in FILES if part_of(p) in OPERATIONS], ids=str)
def test_operations_know_nothing_above_them(path: Path) -> None:
    assert not ours(path) & UPPER


def test_operations_use_each_other_without_a_circle() -> None:
    uses: dict[str, set[str]] = {name: set() for name in OPERATIONS}
    for path in FILES:
        if part_of(path) in OPERATIONS:
            uses[part_of(path)] |= ours(path) & OPERATIONS - {part_of(path)}
    open_: dict[str, set[str]] = dict(uses)
    while open_:
        free = [name for name, needs in open_.items() if not needs & set(open_)]
        assert free, f"a circle among {sorted(open_)}: {open_}"
        for name in free:
            del open_[name]


def test_no_shell_and_no_network_in_the_program() -> None:
    for path in FILES:
        text = path.read_text(encoding="utf-8")
        assert "shell=True" not in text
        assert "os.system" not in text
        assert not {"urllib.request", "requests", "http.client", "socket"} & imports(path)


def test_every_module_says_what_it_is_for() -> None:
    without = [str(p) for p in FILES if not ast.get_docstring(ast.parse(p.read_text(encoding="utf-8")))]
    assert without == []
