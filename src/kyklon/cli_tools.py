"""What all commands share: options, output, progress, exit codes."""

from __future__ import annotations

import contextlib
import json
import signal
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Annotated, Any

import typer

from kyklon.catalogue.loader import Catalogue, load
from kyklon.model.build import Build
from kyklon.places import catalogue_folder
from kyklon.progress import CancelToken, Progress
from kyklon.quantities import show_bytes, show_duration
from kyklon.record import folder as store

OK, STOPS, WRONG, FAILED = 0, 1, 2, 3

Folder = Annotated[Path, typer.Argument(help="The build folder.", metavar="FOLDER")]
Json = Annotated[bool, typer.Option("--json", help="One JSON document and nothing else.")]
InFolder = Annotated[Path | None, typer.Option("--folder", help="The build folder with the drives and the record.")]
Lose = Annotated[str, typer.Option("--lose", help="The name of what may be lost, letter for letter.")]
Yes = Annotated[bool, typer.Option("--yes", help="Do not ask when nothing is lost.")]
TargetName = Annotated[str, typer.Argument(help="A simulated drive's name, a drive, or a file.", metavar="TARGET")]


def tell(text: str) -> None:
    """A line on standard error."""
    print(f"kyklon: {text}", file=sys.stderr)


def out(data: Any, as_json: bool, lines: Callable[[], list[str]]) -> None:
    """One JSON document, or lines."""
    if as_json:
        print(json.dumps(data, indent=1, ensure_ascii=False))
    else:
        print("\n".join(lines()))


class Meter:
    """Progress on standard error, when somebody is looking."""

    def __init__(self) -> None:
        self._shown = False

    def __call__(self, report: Progress) -> None:
        if not sys.stderr.isatty():
            return
        share = f"{report.fraction:4.0%}" if report.fraction is not None else ""
        rate = f"{show_bytes(report.rate)}/s" if report.rate and report.unit == "B" else ""
        left = f"{show_duration(report.seconds_left)} left" if report.seconds_left is not None else ""
        print(f"\r{report.phase} {share} {rate} {left}\033[K", end="", file=sys.stderr, flush=True)
        self._shown = True

    def done(self) -> None:
        if self._shown:
            print(file=sys.stderr)


@contextlib.contextmanager
def cancelling() -> Iterator[CancelToken]:
    """A token that Ctrl+C sets: the work stops between two steps and keeps the truth about it."""
    token = CancelToken()
    before = signal.signal(signal.SIGINT, lambda _number, _frame: token.cancel())
    try:
        yield token
    finally:
        signal.signal(signal.SIGINT, before)


def open_folder(folder: Path) -> tuple[Build, Catalogue]:
    """The build of a folder and the catalogue; what its reader should know goes to standard error."""
    opened = store.load(folder)
    if opened.warning:
        tell(opened.warning)
    return opened.build, load(catalogue_folder())
