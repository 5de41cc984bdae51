"""Applying a remedy: the build after it, saved and logged."""

from __future__ import annotations

from pathlib import Path

from kyklon.model.build import Build, remedied
from kyklon.model.findings import Remedy
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook


def apply_remedy(folder: Path, remedy: Remedy, title: str) -> Build:
    """The build of a folder after a remedy. Raises BuildFolderError."""
    build = store.update(folder, lambda kept: remedied(kept, remedy))
    Logbook(folder).add(0, *words_of(remedy, title))
    return build


def words_of(remedy: Remedy, title: str) -> tuple[str, str]:
    """Title and detail for the logbook."""
    detail = "\n".join(f"{change.label}: {change.before} → {change.after}" for change in remedy.changes)
    return f"Remedy: {remedy.label}", f"{title}\n{detail}"
