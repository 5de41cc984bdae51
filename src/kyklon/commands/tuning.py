"""Tuning: settings by layer, speed, latency, and what stands on the machine."""

from __future__ import annotations

from pathlib import Path
from statistics import NormalDist
from typing import TYPE_CHECKING, Annotated, Any

from kyklon.base.errors import WrongUse
from kyklon.base.quantities import signed
from kyklon.base.reading import bytes_of
from kyklon.catalogue.chosen import known_systems
from kyklon.catalogue.records import Board
from kyklon.catalogue.system_records import Emulator
from kyklon.catalogue.text_records import TuningSetting
from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import OK, STOPS, Dir, Folder, Json, open_folder, out
from kyklon.devices.linux.folder import Folder as Destination
from kyklon.model.build import CameraClip, edited
from kyklon.model.world import World
from kyklon.operations.library.observe import look_at_library
from kyklon.operations.tuning.camera import counts_in, fit
from kyklon.operations.tuning.cascade import effective, folder_of, with_unit
from kyklon.operations.tuning.cascade import issue as files_of
from kyklon.operations.tuning.latency import ear_shares, shares, total
from kyklon.operations.tuning.remedies import case_of, shorter, suits
from kyklon.operations.tuning.settings_back import differences, put, taken_over
from kyklon.operations.tuning.speed import OFTEN, clock_of, cost_from_log, helps, speeds, with_cost
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook, now

if TYPE_CHECKING:
    from kyklon.catalogue.loader import Catalogue
    from kyklon.catalogue.system_records import System
    from kyklon.model.build import Build
    from kyklon.model.world import World

SystemId = Annotated[str, Option("--system", help="Only this system.")]


def _world(build: Build, folder: Path, parts: Catalogue) -> World:
    return look_at_library(build, folder, parts, World())


def _systems(build: Build, parts: Catalogue, only: str) -> tuple[System, ...]:
    systems = known_systems(build, parts)
    if only and only not in {system.id for system in systems}:
        raise WrongUse(
            f"The build has no system {only!r}.", do=f"One of: {', '.join(system.id for system in systems)}."
        )
    return tuple(system for system in systems if only in ("", system.id))


def show(
    folder: Folder,
    system: SystemId = "",
    game: Annotated[str, Option("--game", help="A title.")] = "",
    as_json: Json = False,
) -> int:
    """Show every setting with its layer, and whether each system runs at full speed."""
    build, parts = open_folder(folder)
    world = _world(build, folder, parts)
    told = {each.system.id: each for each in speeds(build, parts, world)}
    rows, lines = [], []
    for each in _systems(build, parts, system):
        key = f"{each.id}/{game}" if game else None
        place = folder_of(key, world, each) if key else ""
        values = effective(parts.all(TuningSetting), build.tuning, each.id, key, emulator=each.emulator, folder=place)
        speed = told.get(each.id)
        rows.append(
            {
                "system": each.id,
                "settings": [{"id": row.setting.id, "value": row.value, "layer": row.layer} for row in values],
                "speed": _speed_data(speed) if speed else None,
            }
        )
        lines += [
            f"{each.name}",
            *(f"  {row.setting.name}: {with_unit(row.setting, row.value)}, from {row.layer}" for row in values),
        ]
        if speed:
            how = "by its own log" if speed.measured else "by the catalogue"
            lines.append(
                f"  {speed.verdict}: {speed.mean_ms:.1f} ms of {speed.frame_ms:.1f} ms, 99 in 100 within "
                f"{speed.most_ms:.1f} ms ({how})"
            )
            lines += [f"    {tip.words}: {tip.verdict}; {tip.why}" for tip in helps(build, parts, world, speed)]
    out({"systems": rows}, as_json, lambda: lines)
    return STOPS if any(each.verdict == "no" for key, each in told.items() if system in ("", key)) else OK


def _speed_data(speed: Any) -> dict[str, Any]:
    return {
        "verdict": speed.verdict,
        "frame_ms": speed.frame_ms,
        "mean_ms": speed.mean_ms,
        "most_ms": speed.most_ms,
        "measured": speed.measured,
        "frames_ahead": speed.ahead,
        "heavy": speed.heavy,
    }


def cost(
    folder: Folder,
    system: Annotated[str, Argument(help="The system whose games were played.", metavar="SYSTEM")],
    log: Annotated[Path, Argument(help="A text with a frame's time in ms per line.", metavar="LOG")],
    as_json: Json = False,
) -> int:
    """Keep what frames take on this board, from a log of frame times.

    The last number of each line counts. Speed and plans then go by it.
    """
    build, parts = open_folder(folder)
    board = parts.find(Board, build.part("board"))
    (found,) = _systems(build, parts, system) or (None,)
    emulator = parts.find(Emulator, found.emulator) if found is not None else None
    if board is None or emulator is None:
        raise WrongUse("Without a board and an emulator there is nothing to measure.", do="Choose them first.")
    text = bytes_of(log.absolute()).decode("utf-8", "replace")
    told = cost_from_log(text, board.id, emulator.id, clock_of(build, board))
    words = f"{told.frames} frames: {told.mean_ms:.1f} ms on average, 99 in 100 within {told.most_ms:.1f} ms"
    store.update(folder, lambda now: with_cost(now, told))
    Logbook(folder).add(70, f"Frame times of {emulator.name} on {board.name}", words)
    at_1_ghz = told.mean_ms * told.mhz / 1000
    spread = max(0.0, told.most_ms / told.mean_ms - 1) / NormalDist().inv_cdf(OFTEN)
    data = {**told.model_dump(), "frame_ms_at_1_ghz": at_1_ghz, "spread": spread}
    shelf = f"For an emulator of your own on the shelf: frame_ms={at_1_ghz:.2f}, spread={spread:.2f}."
    out(data, as_json, lambda: [f"{words}.", shelf])
    return OK


def issue(
    out_: Dir, folder: Annotated[Path, Option("--folder", help="The build folder.")], as_json: Json = False
) -> int:
    """Write the settings files into a folder: a stick, a share, or any other."""
    build, parts = open_folder(folder)
    world = _world(build, folder, parts)
    put(build, parts, world, Destination(out_))
    files = sorted(files_of(build, parts, world))
    out({"files": files}, as_json, lambda: files)
    return OK


def read(
    folder: Folder,
    at: Annotated[Path | None, Option("--at", help="Where the files are; the build's destination without it.")] = None,
    take: Annotated[bool, Option("--take", help="Use the machine's values.")] = False,
    put_: Annotated[bool, Option("--put", help="Correct the machine's files.")] = False,
    as_json: Json = False,
) -> int:
    """Compare the settings files on the machine with the build's; exit 1 when they differ."""
    from kyklon.operations.library.acts import opened

    build, parts = open_folder(folder)
    world = _world(build, folder, parts)
    if at is not None and not at.is_dir():
        raise WrongUse(f"{at} is not a folder.", do="Name the place where the stick or card is mounted.")
    with opened(replace_destination(build, at), folder) as place:
        found = differences(build, parts, world, Destination(at) if at is not None else place)
        if put_:
            put(build, parts, world, Destination(at) if at is not None else place)
    for each in found if take else ():
        if each.setting:
            tuning = taken_over(build, parts, each)
            build = store.update(folder, lambda kept, tuning=tuning: edited(kept, "tuning", tuning))  # type: ignore[misc]
    rows = [{"file": each.path, "setting": each.setting, "ours": each.ours, "theirs": each.theirs} for each in found]

    def lines() -> list[str]:
        told = []
        for row in rows:
            instead = f", not {row['ours']}" if row["ours"] else ""
            told.append(f"{row['file']}: {row['setting'] or 'the file'} is {row['theirs']}{instead}")
        return told or ["All settings files are as the build has them."]

    out({"differences": rows}, as_json, lines)
    return STOPS if found and not (take or put_) else OK


def replace_destination(build: Build, at: Path | None) -> Build:
    """The build with another destination, for one act."""
    if at is None:
        return build
    return edited(edited(build, "library.destination", str(at.resolve())), "library.route", "folder")


def latency(
    folder: Folder,
    system: SystemId = "",
    film: Annotated[str, Option("--film", help="Frames counted for each press, e.g. '12 14 13'; saved.")] = "",
    per_second: Annotated[float, Option("--per-second", help="Camera frame rate (fps).")] = 240.0,
    as_json: Json = False,
) -> int:
    """Calculate input latency, check it against camera footage, and rank ways to reduce it."""
    build, parts = open_folder(folder)
    if film:
        if not system:
            raise WrongUse("A camera measurement belongs to one system.", do="Choose it with --system.")
        clip = CameraClip(system=system, per_second=per_second, counts=counts_in(film), at=now())
        build = store.update(folder, lambda kept: edited(kept, "tuning.clips", [*kept.tuning.clips, clip]))
    world = _world(build, folder, parts)
    rows, lines = [], []
    for each in _systems(build, parts, system):
        case = case_of(build, parts, each)
        if case is None:
            raise WrongUse("The build has no encoder or no display.", do="Choose both in Plan.")
        seen = total(shares(case.way, case.values, case.rate))
        heard = total(ear_shares(case.way, case.values, case.rate))
        tips = shorter(build, parts, world, each)
        clips = [fit(clip.counts, clip.per_second, seen) for clip in build.tuning.clips if clip.system == each.id]
        rows.append(
            {
                "system": each.id,
                "mean_ms": seen.mean,
                "heard_ms": heard.mean,
                "low_ms": seen.percentile(5),
                "high_ms": seen.percentile(95),
                "shares": [{"name": share.name, "mean_ms": share.mean, "how": share.how} for share in seen.shares],
                "films": [
                    {"mean_ms": c.mean_ms, "unknown_ms": c.unknown_ms, "low_ms": c.low_ms, "high_ms": c.high_ms}
                    for c in clips
                ],
                "shorter": [
                    {"words": tip.words, "won_ms": tip.won_ms, "cost": tip.cost, "risk": tip.risk} for tip in tips
                ],
            }
        )
        spread = f"{seen.percentile(5):.0f} to {seen.percentile(95):.0f}"
        lines.append(
            f"{each.name}: seen after {seen.mean:.0f} ms (5th to 95th percentile: {spread}), "
            f"heard after {heard.mean:.0f} ms; {suits(each, seen.mean)}."
        )
        lines += [
            f"  filmed {c.mean_ms:.0f} ms, {c.presses} presses: {signed(c.unknown_ms)} ms unexplained "
            f"({signed(c.low_ms)} to {signed(c.high_ms)})"
            for c in clips
        ]
        lines += [f"  {tip.won_ms:.1f} ms: {tip.words}; cost: {tip.cost}; {tip.risk}" for tip in tips[:3]]
    out({"systems": rows}, as_json, lambda: lines)
    return OK
