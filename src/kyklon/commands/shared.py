"""What all commands share: options, output, progress, the interlock's question."""

from __future__ import annotations

import contextlib
import json
import signal
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

from kyklon.base.errors import Cancelled, Refused, WrongUse
from kyklon.base.progress import CancelToken, Progress, Watch
from kyklon.base.quantities import show_bytes, show_duration, show_share
from kyklon.base.shown import visible, visible_json
from kyklon.commands.line import Argument, Option
from kyklon.commands.main import FAILED, OK, STOPS, WRONG

if TYPE_CHECKING:
    from kyklon.catalogue.loader import Catalogue
    from kyklon.model.build import Build
    from kyklon.operations.card.drives.interlock import Verdict

__all__ = ["FAILED", "OK", "STOPS", "WRONG"]

Folder = Annotated[Path, Argument(help="The build folder.", metavar="FOLDER")]
Json = Annotated[bool, Option("--json", help="One JSON document and nothing else.")]
InFolder = Annotated[Path | None, Option("--folder", help="The build folder with the drives and the record.")]
Lose = Annotated[str, Option("--lose", help="Name of what will be lost, exactly as shown.")]
Yes = Annotated[bool, Option("--yes", help="Do not ask when nothing is lost.")]
TargetName = Annotated[str, Argument(help="A simulated drive's name, a drive, or a file.", metavar="TARGET")]
CardName = Annotated[str, Option("--card", help="A simulated drive's name, a drive, or an image file.")]
BoardId = Annotated[str, Option("--board", help="A board's id in the catalogue.")]
Dir = Annotated[Path, Argument(help="The folder.", metavar="DIR")]


def tell(text: str) -> None:
    """A line on standard error."""
    print(f"kyklon: {visible(text)}", file=sys.stderr)


def out(data: Any, as_json: bool, lines: Callable[[], list[str]]) -> None:
    """One JSON document, or lines."""
    if as_json:
        print(visible_json(json.dumps(data, indent=1, ensure_ascii=False)))
    else:
        print("\n".join(visible(line, lines=True) for line in lines()))


class _Line:
    """Progress on standard error, when somebody is looking."""

    def __init__(self) -> None:
        self.shown = False

    def __call__(self, report: Progress) -> None:
        if not sys.stderr.isatty():
            return
        share = f"{show_share(report.fraction):>5}" if report.fraction is not None else ""
        rate = f"{show_bytes(report.rate)}/s" if report.rate and report.unit == "B" else ""
        left = f"{show_duration(report.seconds_left)} left" if report.seconds_left is not None else ""
        print(f"\r{report.phase} {share} {rate} {left}\033[K", end="", file=sys.stderr, flush=True)
        self.shown = True


@contextlib.contextmanager
def watching() -> Iterator[Watch]:
    """Progress on the terminal, and Ctrl+C as Cancel: the work stops between two steps and keeps the truth about it."""
    line, token = _Line(), CancelToken()
    pressed: list[int] = []

    def on_interrupt(number: int, _frame: object) -> None:
        pressed.append(number)
        token.cancel()

    before = signal.signal(signal.SIGINT, on_interrupt)
    try:
        yield Watch(line, token)
    except Cancelled as ended:
        if pressed:
            raise KeyboardInterrupt from ended
        raise
    finally:
        signal.signal(signal.SIGINT, before)
        if line.shown:
            print(file=sys.stderr)


def _confirmed(question: str) -> bool:
    """Whether somebody answers yes; nobody there is a no."""
    print(f"{question} [y/N]: ", end="", file=sys.stderr, flush=True)
    return _typed(lambda: sys.stdin.readline()).strip().lower() in ("y", "yes")


def _typed(read: Callable[[], str]) -> str:
    """What comes in; nothing where standard input is closed or cannot be read."""
    try:
        return read() if sys.stdin is not None else ""
    except (OSError, ValueError):
        return ""


def standard_input(most: int) -> bytes:
    """At most so many bytes of standard input. Raises WrongUse where there is none."""
    try:
        if sys.stdin is not None:
            return sys.stdin.buffer.read(most)
    except (OSError, ValueError):
        pass
    raise WrongUse("Nothing can be read from standard input.", do="Name a file, or pipe one in: kyklon … - < FILE.")


def catalogue() -> Catalogue:
    """The shipped catalogue with the user's own parts over it; parts that cannot be used are named and passed over."""
    from kyklon.base.places import catalogue_folder
    from kyklon.catalogue.loader import load

    made = load(catalogue_folder(), strict=False)
    for each in made.broken:
        tell(f"skipped: {each.error}")
    return made


def open_folder(folder: Path) -> tuple[Build, Catalogue]:
    """The build of a folder and the catalogue as it sees it; what its reader should know goes to standard error."""
    from kyklon.parts import repository
    from kyklon.parts.view import catalogue_for, waiting_for
    from kyklon.record import folder as store
    from kyklon.record import restoring

    repository.look()
    if finished := restoring.finish(folder):
        tell(finished)
    opened = store.load(folder)
    if opened.warning:
        tell(opened.warning)
    shelf = catalogue()
    waiting = waiting_for(opened.build, shelf) if opened.build.copies else ()
    if waiting:
        names = ", ".join(copy.key for copy in waiting)
        tell(f"{names}: templates from someone else, not active yet. Review them with `kyklon part trust {folder}`.")
    return opened.build, catalogue_for(opened.build, shelf) if opened.build.copies else shelf


def keep_copies(folder: Path) -> None:
    """After an edit: the build keeps a copy of each of its user's own parts."""
    from kyklon.parts.view import catalogue_for, kept
    from kyklon.record import folder as store

    shelf = catalogue()
    build = store.load(folder).build
    if kept(build, catalogue_for(build, shelf)) != build:
        store.update(folder, lambda now: kept(now, catalogue_for(now, shelf)))


def agree(verdict: Verdict, question: str, *, yes: bool) -> None:
    """Ask when nothing is lost; what is lost must be named with --lose. Raises Refused with all reasons, Cancelled."""
    if verdict.refusals:
        raise Refused(verdict.refusals, do="Choose another drive.")
    if not verdict.lose and not yes and not _confirmed(question):
        raise Cancelled
