"""What is wrong with a file set, and the renaming that puts it right."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from kyklon.base.errors import WrongUse
from kyklon.base.inside import inside
from kyklon.model.findings import Severity


@dataclass(frozen=True)
class Problem:
    """bundle: the folder within the set that it is in, '' for the set itself. rename: from and to inside that folder;
    None when no renaming helps."""

    code: str
    severity: Severity
    subject: str
    sentence: str
    why: str
    rename: tuple[str, str] | None = None
    bundle: str = ""


def rename_words(problem: Problem) -> str:
    """The renaming that helps, in brackets; '' for none."""
    return f" (rename {problem.rename[0]} to {problem.rename[1]})" if problem.rename else ""


def rename(top: Path, problem: Problem) -> None:
    """Carry a problem's renaming out below `top`. Raises WrongUse; never writes over another file."""
    if problem.rename is None:
        raise WrongUse(f"{problem.subject}: renaming does not help here.")
    start, end = (inside(top / problem.bundle if problem.bundle else top, name) for name in problem.rename)
    if end.exists() and not start.samefile(end):
        raise WrongUse(f"{end} already exists.", do="Move it away first; nothing was changed.")
    try:
        end.parent.mkdir(parents=True, exist_ok=True)
        start.rename(end)
    except OSError as bad:
        raise WrongUse(f"{start} cannot be renamed: {bad.strerror}.") from bad
