"""Checked multi-boot bundles put on a stick, in the chooser's layout, each file read back."""

from __future__ import annotations

from pathlib import Path

from kyklon.base import durable
from kyklon.base.errors import WrongUse
from kyklon.base.inside import files_below, inside
from kyklon.base.meter import Meter
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.catalogue.image_records import Chooser
from kyklon.devices.files import told_of
from kyklon.operations.card.sets.multiboot import Check, top_of


def lay_out(source: Path, chooser: Chooser, checked: Check, to: Path, watch: Watch = UNWATCHED) -> tuple[int, int]:
    """The chosen bundles into a stick's folder; files and bytes copied.

    Raises WrongUse while a stop stands or where the bundles are already, TargetError, Cancelled.
    """
    if not checked.ready:
        raise WrongUse("The bundles are not ready.", do="Fix their stops, then choose at least one.")
    top = top_of(source, chooser)
    below = f"{chooser.bundles}/" if chooser.bundles else ""
    destination = to / below
    if destination.resolve() == top.resolve():
        raise WrongUse(f"{to} is where the bundles are now.", do="Choose the stick.")
    jobs = [
        (top / name / path, inside(to, f"{below}{name}/{path}"))
        for name in checked.chosen
        for path, _status in files_below(top / name)
    ]
    total = sum(path.stat().st_size for path, _target in jobs)
    meter = Meter("Copying the bundles", total, watch)
    done = 0

    def moved(count: int) -> None:
        nonlocal done
        meter.wait()
        done += count
        meter.report(done)

    for path, target in jobs:
        with told_of(target):
            durable.copy(path, target, moved)
    meter.report(total, force=True)
    return len(jobs), total
