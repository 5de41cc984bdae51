"""Every file that operation 50 issues: the modes in the words of others, identification data, test cards, the sheet."""

from __future__ import annotations

import contextlib
import csv
from collections.abc import Iterable
from io import StringIO

from kyklon.base.errors import WrongUse
from kyklon.base.shown import visible
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Display
from kyklon.model.build import Build
from kyklon.model.timing import Mode
from kyklon.model.world import World
from kyklon.operations.picture import edid, testcard
from kyklon.operations.picture.exports import fb_mode, modeline, video_word
from kyklon.operations.picture.findings import modes_of
from kyklon.operations.picture.schools import rows_of
from kyklon.operations.picture.sending import identification, unfit
from kyklon.operations.picture.sheet import sheet
from kyklon.operations.picture.signal_path import refused, signal_path_of


def issue(build: Build, catalogue: Catalogue, world: World) -> dict[str, str | bytes]:
    """The files by their paths. A mode that must not be sent is in none of them but the table, which says why."""
    rows = modes_of(build, catalogue)
    signal_path = signal_path_of(build, catalogue, world)
    fine = [
        (key, name, mode) for key, name, mode in rows if signal_path is None or not refused(mode.timing, signal_path)
    ]
    files: dict[str, str | bytes] = {
        "picture/modelines.conf": _lines(modeline(mode.timing, _title(name, mode)) for _key, name, mode in fine),
        "picture/fb.modes": _lines(fb_mode(mode.timing, _title(name, mode)) for _key, name, mode in fine),
        "picture/modes.csv": table(build, catalogue, world),
    }
    display = catalogue.find(Display, build.part("display"))
    menu_fine = any(key == "menu" for key, _name, _mode in fine)
    if menu_fine:
        files["picture/kernel.words"] = f"{video_word(build.picture.menu.timing, force=build.boot.force_output)}\n"
    if display is not None:
        files |= _cards(build, display)
        if len(fine) == len(rows) and not unfit(build, display):
            files["picture/issued.edid"] = edid.write(identification(build, display))
    if world.identification is not None and build.picture.identification:
        with contextlib.suppress(WrongUse):  # data of a display may say what is not written here
            files["picture/display.edid"] = edid.write(world.identification)
    drawn = sheet(build, catalogue, world)
    if drawn:
        files["picture/sheet.svg"] = drawn
    return files


def _title(name: str, mode: Mode) -> str:
    return visible(f"{name} ({mode.name})").replace('"', "'")


def _lines(rows: Iterable[str]) -> str:
    return "".join(f"{row}\n" for row in rows)


def _cards(build: Build, display: Display) -> dict[str, bytes]:
    """A measuring card for each size that is sent, and the other plates for the menu's."""
    menu = build.picture.menu.timing
    found: dict[str, bytes] = {}
    for plate in testcard.PLATES:
        found[f"picture/card-{plate}.png"] = testcard.png(testcard.card(menu, display, plate))
    for row in build.picture.systems:
        wide, high = row.mode.timing.size
        path = f"picture/card-measure-{wide}x{high}.png"
        if row.mode.timing.size != menu.size and path not in found:
            try:
                found[path] = testcard.png(testcard.card(row.mode.timing, display))
            except WrongUse:  # too small or too large for a card
                continue
    return found


def table(build: Build, catalogue: Catalogue, world: World) -> str:
    """Modes as CSV: what is sent, how the system lies in it, and how it plays."""
    out = StringIO()
    pen = csv.writer(out, lineterminator="\n")
    pen.writerow(
        (
            "system",
            "width",
            "height",
            "interlaced",
            "clock_hz",
            "line_hz",
            "field_hz",
            "box",
            "scale",
            "lost",
            "dark",
            "circle",
            "frames_a_minute",
            "refused",
        )
    )
    signal_path = signal_path_of(build, catalogue, world)
    for row in rows_of(build, catalogue, world):
        timing = row.mode.timing
        pen.writerow(
            (
                row.system.id,
                *timing.size,
                int(timing.interlaced),
                timing.clock_hz,
                f"{float(timing.horizontal_hz):.3f}",
                f"{float(timing.vertical_hz):.6f}",
                " ".join(map(str, row.glass.box)),
                " ".join(f"{each:.4g}" for each in row.glass.scale),
                f"{row.glass.lost:.4f}",
                f"{row.glass.border:.4f}",
                f"{row.glass.circle:.4f}",
                f"{row.play.lost_per_min:.3f}",
                refused(timing, signal_path) if signal_path else "",
            )
        )
    return out.getvalue()
