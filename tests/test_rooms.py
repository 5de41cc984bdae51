"""The rooms: import contracts that can fail, the lists that everything walks, and what may not be in the source."""

from __future__ import annotations

import ast
import inspect
import os
import re
import shutil
import subprocess
import sys
from importlib import import_module
from pathlib import Path

import pytest

import kyklon
from kyklon.commands.listing import COMMANDS
from kyklon.model.world import World
from kyklon.operations.registry import LOOKS, OPERATIONS

SOURCE = Path(kyklon.__file__).parent
PROJECT = SOURCE.parent.parent
FILES = sorted(SOURCE.rglob("*.py"))
MOST_ARGUMENTS = 6


def linted(project: Path) -> subprocess.CompletedProcess[str]:
    """import-linter over a copy of the source."""
    command = [str(Path(sys.executable).with_name("lint-imports")), "--no-cache"]
    environment = {**os.environ, "PYTHONPATH": str(project / "src")}
    return subprocess.run(command, cwd=project, env=environment, capture_output=True, text=True)


@pytest.fixture
def copy(tmp_path: Path) -> Path:
    shutil.copytree(SOURCE, tmp_path / "src" / "kyklon", ignore=shutil.ignore_patterns("__pycache__", "data"))
    shutil.copy(PROJECT / ".importlinter", tmp_path)
    return tmp_path


def test_no_two_commands_have_one_name() -> None:
    names = [command.name for command in COMMANDS]
    assert sorted(names) == sorted(set(names))


@pytest.mark.parametrize(
    ("module", "line"),
    [
        ("garret/__init__.py", ""),  # a room that no rule names
        ("model/card.py", "from kyklon.devices import ports"),  # upstairs
        ("operations/boot/compile.py", "from kyklon.operations.boot import acts"),  # a circle
        ("operations/inspection.py", "from PyQt6 import QtCore"),
    ],
)
def test_the_contracts_can_break(module: str, line: str, copy: Path) -> None:
    path = copy / "src" / "kyklon" / module
    path.parent.mkdir(exist_ok=True)
    text = path.read_text(encoding="utf-8") if path.exists() else '"""New."""\n'
    path.write_text(f"{text}\n{line}\n", encoding="utf-8")
    found = linted(copy)
    assert found.returncode == 1, found.stdout
    assert "broken" in found.stdout


def test_no_shell_and_no_markup_of_foreign_names() -> None:
    for path in FILES:
        text = path.read_text(encoding="utf-8")
        assert "shell=True" not in text, path
        assert "os.system" not in text, path
        assert "RichText" not in text, path


def test_every_module_says_what_it_is_for() -> None:
    without = [str(p) for p in FILES if not ast.get_docstring(ast.parse(p.read_text(encoding="utf-8")))]
    assert without == []


def test_public_functions_take_few_arguments() -> None:
    """What travels together is one record. Commands are asked by name, an option each, and are no such functions."""
    for path in FILES:
        if "commands" in path.parts:
            continue
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.FunctionDef) and not node.name.startswith("_"):
                names = [
                    each.arg for each in (*node.args.args, *node.args.kwonlyargs) if each.arg not in ("self", "cls")
                ]
                assert len(names) <= MOST_ARGUMENTS, (path, node.name, names)


def test_nobody_above_the_devices_asks_which_back_end_it_is() -> None:
    kinds = re.compile(r"isinstance\([^)]*(LinuxDrives|UDisks|SimulatedDrives|ImageFile)")
    for path in FILES:
        if "devices" not in path.parts:
            assert not kinds.search(path.read_text(encoding="utf-8")), path


def test_the_registry_is_whole() -> None:
    assert [operation.number for operation in OPERATIONS] == sorted({operation.number for operation in OPERATIONS})
    fields = set(World.__dataclass_fields__)
    looked_at = [name for look in LOOKS.values() for name in look.fields]
    assert len(looked_at) == len(set(looked_at)), "two looks fill one field"
    assert fields - set(looked_at) == {"writing"}  # the one thing the program knows of itself
    for operation in OPERATIONS:
        package, _dot, _module = operation.page[0].partition(".")
        assert (SOURCE / "operations" / package / "__init__.py").exists()
        assert (SOURCE / "app" / "pages" / package / "__init__.py").exists()


def test_the_list_of_commands_says_what_each_command_says_of_itself() -> None:
    for command in COMMANDS:
        module, name = command.place
        act = getattr(import_module(f"kyklon.commands.{module}"), name)
        told = (inspect.getdoc(act) or "").split("\n")[0]
        assert told == command.what, command.name


def imported(*words: str) -> set[str]:
    """Top modules that a command line has imported when it is done."""
    code = (
        "import sys; sys.argv[1:] = sys.argv[1:]\nfrom kyklon.commands.main import main\n"
        "try: main()\nexcept SystemExit: pass\nprint('\\nMODULES', *sys.modules)"
    )
    done = subprocess.run([sys.executable, "-c", code, *words], capture_output=True, text=True)
    assert "Traceback" not in done.stderr, done.stderr
    return set(done.stdout.rsplit("MODULES", 1)[1].split())


def test_the_command_line_imports_what_it_needs_and_no_more(tmp_path: Path) -> None:
    image = tmp_path / "a.img"
    image.write_bytes(b"x" * 4096)
    for words in (["--help"], ["source", "--help"], ["write", str(image), str(tmp_path / "card.img"), "--yes"]):
        found = imported(*words)
        heavy = {"numpy", "scipy", "PyQt6", "jinja2", "pydantic", "kyklon.catalogue.records", "kyklon.model.build"}
        assert not heavy & found, (words, heavy & found)
    assert "typer" not in imported("--help")
    assert (tmp_path / "card.img").read_bytes() == image.read_bytes()
