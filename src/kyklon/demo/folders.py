"""What every demo folder has: its mark, and what takes the place of an older one."""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from kyklon.base.errors import BuildFolderError
from kyklon.base.progress import UNWATCHED, Progress, Watch
from kyklon.catalogue.loader import Catalogue, standard_timings
from kyklon.model.display import Edid, Extension, RangeLimits
from kyklon.operations.picture import edid

MARK = ".demo"  # the file that tells a demo, with the generation it is of
# 3: stand-ins bear an ending of their own; 4: an image that a real kernel starts; 5: with overlays; 6: samples to
# learn from
GENERATION = 9
PANE = "attachments/pane-24.edid"

UNFINISHED = "unfinished"  # in place of the generation, while it is made


@dataclass(frozen=True)
class Step:
    """phase: what is made, as shown. weight: its usual share of the time, in any unit."""

    phase: str
    weight: int
    do: Callable[[], object]


Make = Callable[[Path, Catalogue, Watch], Path]


def cleared(folder: Path) -> None:
    """An empty place for a demo. Raises BuildFolderError for files that no demo put there."""
    if not folder.exists():
        return
    if any(folder.iterdir()) and not (folder / MARK).exists():
        raise BuildFolderError(
            f"{folder} holds files that no demo put there.", do="Choose an empty folder; nothing was changed."
        )
    shutil.rmtree(folder)


def make_in_steps(folder: Path, steps: Sequence[Step], watch: Watch = UNWATCHED) -> Path:
    """A demo afresh in `folder`, step by step. Only an empty or missing folder, or an earlier demo, is replaced; one
    that was broken off is made again. Raises BuildFolderError, Cancelled."""
    cleared(folder)
    (folder / "attachments").mkdir(parents=True)
    _mark(folder, UNFINISHED)
    whole, done, begun = sum(step.weight for step in steps), 0, time.monotonic()
    for step in steps:
        watch.check()
        left = (time.monotonic() - begun) / done * (whole - done) if done else None
        watch.sink(Progress(step.phase, done, whole, seconds_left=left, unit="steps"))
        step.do()
        done += step.weight
    _mark(folder, str(GENERATION))
    return folder


def _mark(folder: Path, state: str) -> None:
    (folder / MARK).write_text(f"{state}\nMade by Kyklon; a later Kyklon makes it again.\n", encoding="utf-8")


def is_current(folder: Path) -> bool:
    """Whether a folder holds this generation of the demo, whole."""
    return _state(folder) == str(GENERATION)


def _state(folder: Path) -> str:
    try:
        return (folder / MARK).read_text(encoding="utf-8").split("\n")[0]
    except OSError:
        return ""


def make_current(make: Make, folder: Path, catalogue: Catalogue, watch: Watch = UNWATCHED) -> tuple[Path, Path | None]:
    """The demo in `folder`, left as it is when it is of this generation; else made again, and the older one put beside.

    The folder, and where an older one was put, None when there was none.
    """
    if is_current(folder):
        return folder, None
    aside = None
    if _state(folder) != UNFINISHED and folder.exists() and any(folder.iterdir()):
        number = next(n for n in range(1, 1000) if not folder.with_name(f"{folder.name}-before-{n}").exists())
        aside = folder.with_name(f"{folder.name}-before-{number}")
        folder.rename(aside)
    return make(folder, catalogue, watch), aside


def make_pane(path: Path) -> None:
    """The identification data of a flat display."""
    limits = RangeLimits((50, 76), (30, 83), 170)
    extension = Extension((16, 4, 3, 1), audio=True, hdmi=True)
    full = standard_timings("cta")[16].timing
    data = Edid("KYK", 0x2401, 2401, 2026, "Pane 24", (full,), (531, 299), limits, extension=extension)
    path.write_bytes(edid.write(data))
