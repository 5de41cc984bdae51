"""The log that writes itself: what changed in a build without an entry of its own becomes one."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Iterator
from pathlib import Path

from kyklon.base.errors import KyklonError
from kyklon.base.reading import bytes_of
from kyklon.model.build import Build
from kyklon.record.changes import between_builds
from kyklon.record.folder import CURRENT, migrated
from kyklon.record.logbook import Logbook


def words_of(before: Build, after: Build) -> tuple[str, str]:
    """Title and detail for what was changed, two '' for nothing."""
    changes = between_builds(before, after)
    if not changes:
        return "", ""
    if len(changes) == 1:
        return changes[0].words, ""
    labels = list(dict.fromkeys(change.label for change in changes))
    title = labels[0] if len(labels) == 1 else f"{len(changes)} changes: {', '.join(labels[:3])}"
    return title + ("…" if len(labels) > 3 else ""), "\n".join(change.words for change in changes)


@contextlib.contextmanager
def noted(folder: Path | None) -> Iterator[None]:
    """Note what happens to the build of a folder inside, where nothing inside has noted anything itself."""
    before = _data(folder)
    if folder is None or before is None:
        yield
        return
    count = _count(folder)
    try:
        yield
    finally:
        after = _data(folder)
        if after is not None and after != before and _count(folder) == count:
            with contextlib.suppress(KyklonError, ValueError):
                title, detail = words_of(_build(before), _build(after))
                if title:
                    Logbook(folder).add(0, title, detail)


def _data(folder: Path | None) -> bytes | None:
    if folder is None:
        return None
    try:
        return bytes_of(folder / CURRENT)
    except (KyklonError, OSError):
        return None


def _build(data: bytes) -> Build:
    return Build.model_validate(migrated(json.loads(data), Path(CURRENT)))


def _count(folder: Path) -> int:
    try:
        return Logbook(folder).count()
    except KyklonError:
        return -1
