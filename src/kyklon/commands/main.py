"""The entry point: which command a line means. Exit codes: 0 OK, 1 stops found, 2 wrong usage, 3 failed,
130 ended by Ctrl+C.
"""

from __future__ import annotations

import contextlib
import os
import sys
from collections.abc import Callable, Iterator
from importlib import import_module
from pathlib import Path
from typing import Any, TextIO

from kyklon import __version__
from kyklon.base.inside import BUILD_FILE
from kyklon.base.shown import visible, visible_json
from kyklon.commands.listing import COMMANDS, Command

OK, STOPS, WRONG, FAILED = 0, 1, 2, 3
INTERRUPTED = 130  # 128 and SIGINT: what a shell says of a program that Ctrl+C ended


def main() -> None:
    """Run a command and turn errors into sentences and exit codes."""
    sys.exit(_to_its_end(lambda: _run(sys.argv[1:])))


class OutputLost(Exception):
    """Standard output takes no more: a full disk, a closed descriptor."""


class _Output:
    """Standard output whose failures can be told from a command's own."""

    def __init__(self, inner: TextIO) -> None:
        self._inner = inner

    def write(self, text: str) -> int:
        self._done(lambda: self._inner.write(text))
        return len(text)

    def flush(self) -> None:
        self._done(self._inner.flush)

    def _done(self, act: Callable[[], Any]) -> Any:
        try:
            return act()
        except BrokenPipeError:
            raise
        except (OSError, ValueError) as bad:  # ValueError: it was closed before
            raise OutputLost(getattr(bad, "strerror", None) or str(bad)) from bad

    def __getattr__(self, name: str) -> Any:
        return getattr(self._inner, name)


def _to_its_end(run: Callable[[], int]) -> int:
    """Whatever becomes of standard output: a reader who has seen enough is no error, output that is lost is one."""
    if sys.stdout is None:  # closed by whoever started this
        sys.stdout = open(os.devnull, "w", encoding="utf-8")  # noqa: SIM115 # to the end of the program
        with contextlib.suppress(SystemExit):
            run()
        return FAILED
    own = sys.stdout
    sys.stdout = _Output(own)
    try:
        try:
            code = run()
        except SystemExit as ended:  # argparse, after its help
            code = ended.code if isinstance(ended.code, int) else FAILED if ended.code else OK
        sys.stdout.flush()
        return code
    except BrokenPipeError:
        return _without_output(OK)
    except OutputLost as lost:
        with contextlib.suppress(OSError, ValueError):
            _tell(f"The output could not be written: {lost}.")
        return _without_output(FAILED)


def _without_output(code: int) -> int:
    """Nothing more goes to standard output, not even what its buffer holds when the program ends."""
    with contextlib.suppress(OSError):
        nowhere = os.open(os.devnull, os.O_WRONLY)
        os.dup2(nowhere, 1)
    return code


def _run(words: list[str]) -> int:
    if not words or words[0] in ("--help", "-h"):
        print(_help(""))
        return OK if words else WRONG
    if words[0] in ("--version", "-V"):
        print(f"kyklon {__version__}")
        return OK
    for count in (2, 1):
        found = next((command for command in COMMANDS if command.name == " ".join(words[:count])), None)
        if found is not None:
            return _call(found, words[count:])
    if any(command.name.startswith(f"{words[0]} ") for command in COMMANDS) and "--json" not in words:
        print(_help(words[0]))
        return OK if words[1:] in (["--help"], ["-h"]) else WRONG
    told = f"Unknown command: {' '.join(words[:2])!r}. `kyklon --help` lists all commands."
    return _ended(told, WRONG, as_json="--json" in words)


def _help(noun: str) -> str:
    """The commands, or those of one noun."""
    rows = [command for command in COMMANDS if not noun or command.name.startswith(f"{noun} ")]
    lines = ["Usage: kyklon COMMAND [OPTIONS] ...", ""]
    lines += [f"  {row.name:18} {row.what}" for row in rows]
    lines += ["", "See kyklon COMMAND --help. With --json a command prints one JSON document and nothing else."]
    lines += [] if noun else ["kyklon --version prints the version."]
    return "\n".join([*lines, "Exit codes: 0 OK, 1 stops found, 2 wrong usage, 3 failed, 130 ended by Ctrl+C."])


def _call(command: Command, words: list[str]) -> int:
    from kyklon.base.errors import KyklonError, WrongUse
    from kyklon.commands.line import read

    module, name = command.place
    as_json = "--json" in words
    _any_name_may_be_printed()
    try:
        act = getattr(import_module(f"kyklon.commands.{module}"), name)
        arguments = read(act, f"kyklon {command.name}", words)
        with _noted(arguments.get("folder")):
            code = act(**arguments)
        sys.stdout.flush()
    except WrongUse as bad:
        return _ended(str(bad), WRONG, as_json=as_json)
    except KyklonError as bad:
        return _ended(str(bad), FAILED, as_json=as_json)
    except (BrokenPipeError, OutputLost):  # whoever read the lines has seen enough, or nobody can
        raise
    except KeyboardInterrupt as ended:
        return _ended(str(ended.__cause__ or "Cancelled."), INTERRUPTED, as_json=as_json)
    except Exception as bad:
        return _ended(_report(bad, words), FAILED, as_json=as_json)
    return code if isinstance(code, int) else OK


@contextlib.contextmanager
def _noted(folder: object) -> Iterator[None]:
    """Changes of a build that a command makes are in its logbook."""
    if not isinstance(folder, Path) or not (folder / BUILD_FILE).is_file():
        yield
        return
    from kyklon.record.noting import noted

    with noted(folder):
        yield


def _any_name_may_be_printed() -> None:
    """Names of files may hold bytes that are no text: they are shown as escapes, and never end a command."""
    for stream in (sys.stdout, sys.stderr):
        reconfigure = getattr(stream, "reconfigure", None)  # a test's stand-in has none
        if reconfigure is not None:
            reconfigure(errors="backslashreplace")


def _ended(text: str, code: int, *, as_json: bool) -> int:
    """Say why a command ended; with --json on standard output too."""
    _tell(text)
    if as_json:
        import json

        print(visible_json(json.dumps({"error": text, "code": code}, ensure_ascii=False)))
    return code


def _report(bad: Exception, words: list[str]) -> str:
    """A fault of the program: what is needed to find it goes into a file, and a sentence is told."""
    import tempfile
    import traceback

    from kyklon.base import program_log

    told = f"Kyklon {__version__}: {' '.join(words)}\n{''.join(traceback.format_exception(bad))}"
    program_log.note(told)
    lines = [program_log.without_names(told)]
    with tempfile.NamedTemporaryFile(
        "w", prefix="kyklon-fault-", suffix=".txt", delete=False, encoding="utf-8", errors="backslashreplace"
    ) as file:
        file.writelines(lines)
    return f"This is a bug in Kyklon, not your mistake ({type(bad).__name__}). The report is in {file.name}."


def _tell(text: str) -> None:
    """A line on standard error."""
    print(f"kyklon: {visible(text)}", file=sys.stderr)
