"""Whether a system holds its rate on a board: the time a frame of the game has against what it takes and its spread."""

from __future__ import annotations

import math
import statistics
from collections.abc import Sequence
from dataclasses import dataclass
from statistics import NormalDist
from typing import Literal

from kyklon.base.errors import KyklonError
from kyklon.catalogue.chosen import known_systems
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board
from kyklon.catalogue.system_records import Emulator, System
from kyklon.catalogue.text_records import TuningSetting
from kyklon.model.build import Build, FrameCost, Value, edited
from kyklon.model.world import World
from kyklon.operations.assembly.budget import budget
from kyklon.operations.picture.glass import Play
from kyklon.operations.tuning.cascade import effective

Class = Literal["fine", "marginal", "no"]
OFTEN = 0.99  # share of frames that must be ready in time for "fine": one late in 100 is seen as a stutter, CP
SPARE = 0.05  # of a frame that the system beside the emulator takes, CP
HOT_C = 80.0  # °C, where boards begin to slow down, CP
_SHOWN_HZ = (25.0, 30.0, 50.0, 60.0, 75.0, 100.0, 120.0)  # at which frames are shown, V-sync on
_STEADY, _MOSTLY = 0.02, 0.9  # of a frame, of all frames: an emulator's own cost is never that even, CP
HEAVY = 1.5  # times the usual cost, of games that are known for it, CP


@dataclass(frozen=True)
class Speed:
    """A system on a board. frame_ms: that a frame has. mean_ms, most_ms: that it takes, mean and 99th percentile, all
    added up. parts: name and ms of each. measured: by the machine's own log. ahead: frames ahead that still hold.
    heavy: games that will not hold."""

    system: System
    emulator: Emulator
    mhz: float
    frame_ms: float
    mean_ms: float
    most_ms: float
    parts: tuple[tuple[str, float], ...]
    measured: bool
    ahead: int
    heavy: tuple[str, ...] = ()

    @property
    def verdict(self) -> Class:
        room = self.frame_ms * (1 - SPARE)
        return "fine" if self.most_ms <= room else "marginal" if self.mean_ms <= room else "no"

    @property
    def load(self) -> float:
        """Share of a frame that the mean takes."""
        return self.mean_ms / self.frame_ms


@dataclass(frozen=True)
class Help:
    """Something that helps a system hold. verdict: of it then. why: what it costs. change: path and value of the build,
    None where it is not one of the build."""

    words: str
    verdict: Class
    why: str
    change: tuple[str, object] | None = None


def clock_of(build: Build, board: Board) -> float:
    """MHz that the board runs at."""
    return float(build.boot.processor_mhz or board.processor_mhz[0])


def speeds(build: Build, catalogue: Catalogue, world: World) -> tuple[Speed, ...]:
    """Every system of the build on its board; none without a board."""
    board = catalogue.find(Board, build.part("board"))
    if board is None:
        return ()
    return tuple(
        speed_of(build, catalogue, system, (board, clock_of(build, board)), world)
        for system in known_systems(build, catalogue)
        if catalogue.find(Emulator, system.emulator)
    )


def speed_of(
    build: Build,
    catalogue: Catalogue,
    system: System,
    place: tuple[Board, float],
    world: World,
    emulator: Emulator | None = None,
) -> Speed:
    """One system. place: a board and its clock in MHz. emulator: another one than the system's own."""
    board, mhz = place
    emulator = emulator or catalogue.get(Emulator, system.emulator)
    rows = effective(catalogue.all(TuningSetting), build.tuning, system.id, emulator=emulator.id)
    values = {row.setting.id: row.value for row in rows}
    mode = build.system_mode(system.id).timing
    pixels = mode.size[0] * mode.size[1] / 1e6
    cost = next((each for each in build.tuning.costs if (each.board, each.emulator) == (board.id, emulator.id)), None)
    mean, spread = _cost(emulator, cost, mhz)
    filters = [
        (row.setting.name, row.setting.cost_ms * pixels * 1000 / mhz)
        for row in rows
        if row.setting.cost_ms and row.value not in (False, 0)
    ]
    ahead = min(int(values.get("frames-ahead", 0)), system.lag_frames) if emulator.frames_ahead else 0
    frame = Play(system.refresh_hz, mode.vertical_hz).frame_ms
    extra = sum(ms for _name, ms in filters)

    def added(frames: int) -> tuple[float, float]:
        """Frames in one displayed frame are made one after the other: means add up, spreads by their squares."""
        count = 1 + frames
        whole = count * mean + extra
        return whole, whole + NormalDist().inv_cdf(OFTEN) * spread * math.sqrt(count)

    mean_all, most_all = added(ahead)
    most_ahead = max((n for n in range(system.lag_frames + 1) if added(n)[1] <= frame * (1 - SPARE)), default=0)
    heavy = _heavy(world, system, emulator, mean * HEAVY * (1 + ahead) + extra, frame * (1 - SPARE))
    parts = (("Emulation", mean), *((("Frames ahead", mean * ahead),) if ahead else ()), *filters)
    return Speed(
        system,
        emulator,
        mhz,
        frame,
        mean_all,
        most_all,
        parts,
        cost is not None,
        most_ahead if emulator.frames_ahead else 0,
        heavy,
    )


def _cost(emulator: Emulator, cost: FrameCost | None, mhz: float) -> tuple[float, float]:
    """Mean and standard deviation of a frame, ms at that clock."""
    if cost is None:
        mean = emulator.frame_ms * 1000 / mhz
        return mean, mean * emulator.spread
    scale = cost.mhz / mhz
    return cost.mean_ms * scale, max(0.0, cost.most_ms - cost.mean_ms) * scale / NormalDist().inv_cdf(OFTEN)


def _heavy(world: World, system: System, emulator: Emulator, takes: float, room: float) -> tuple[str, ...]:
    if takes <= room or world.scan is None or not emulator.heavy:
        return ()
    return tuple(
        sorted(
            {
                game.called
                for game in world.scan.of(system.id)
                if game.ready and any(word.casefold() in game.called.casefold() for word in emulator.heavy)
            }
        )
    )


def on_boards(build: Build, catalogue: Catalogue, system: System, world: World) -> tuple[tuple[Board, Class], ...]:
    """The class of a system on every board of the catalogue, each at its own clock, as it is set now."""
    own = build.part("board")
    found = []
    for board in catalogue.all(Board):
        mhz = clock_of(build, board) if board.id == own else float(board.processor_mhz[0])
        found.append((board, speed_of(build, catalogue, system, (board, mhz), world).verdict))
    return tuple(found)


def helps(build: Build, catalogue: Catalogue, world: World, speed: Speed) -> tuple[Help, ...]:
    """What makes a system hold that does not, or does so only just; the gentlest first."""
    board = catalogue.find(Board, build.part("board"))
    if board is None or speed.verdict == "fine":
        return ()
    found: list[Help] = []
    system, mhz = speed.system, speed.mhz

    def after(change: tuple[str, object], clock: float = mhz) -> Speed:
        return speed_of(edited(build, *change), catalogue, system, (board, clock), world)

    rows = {
        row.setting.id: row
        for row in effective(catalogue.all(TuningSetting), build.tuning, system.id, emulator=system.emulator)
    }
    if int(rows["frames-ahead"].value) and speed.emulator.frames_ahead:
        change = _set(build, system.id, "frames-ahead", min(speed.ahead, int(rows["frames-ahead"].value) - 1))
        found.append(
            Help("Fewer frames ahead", after(change).verdict, "each frame less adds one frame of latency", change)
        )
    for key, row in rows.items():
        if row.setting.cost_ms and row.value not in (False, 0):
            change = _set(build, system.id, key, False if row.setting.kind == "switch" else 0)
            found.append(Help(f"{row.setting.name} off", after(change).verdict, row.setting.why, change))
    own, most = board.processor_mhz
    if mhz < most:
        faster = ("boot.processor_mhz", most)
        told = budget(edited(build, *faster), catalogue)
        chip = told.chip_c if told else 0.0
        hot = f"the chip reaches {chip:.0f} °C" + ("; it slows down by itself above 80 °C" if chip > HOT_C else "")
        verdict = speed.verdict if chip > HOT_C else after(faster, float(most)).verdict
        found.append(Help(f"Clock at {most} MHz instead of {mhz:.0f}", verdict, hot, faster))
    for other in system.also:
        emulator = catalogue.find(Emulator, other)
        if emulator is not None:
            quicker = speed_of(build, catalogue, system, (board, mhz), world, emulator).verdict
            found.append(
                Help(
                    f"{emulator.name} instead of {speed.emulator.name}",
                    quicker,
                    (emulator.note or "another emulator, with its own faults; choose it in the catalogue")
                    + f"; save states of {speed.emulator.name} do not load in it, saves made inside a game usually do",
                )
            )
    if own == mhz and not found:
        found.append(Help("A faster board", "fine", "this one has no more to give"))
    return tuple(found)


def _set(build: Build, system: str, key: str, value: Value) -> tuple[str, object]:
    systems = {each: dict(values) for each, values in build.tuning.systems.items()}
    systems.setdefault(system, {})[key] = value
    return "tuning.systems", systems


def with_cost(build: Build, cost: FrameCost) -> Build:
    """A build that knows what frames of an emulator take on a board, in place of what it knew."""
    own = (cost.board, cost.emulator)
    kept = tuple(each for each in build.tuning.costs if (each.board, each.emulator) != own)
    return edited(build, "tuning.costs", (*kept, cost))


def cost_from_log(text: str, board: str, emulator: str, mhz: float) -> FrameCost:
    """What frames took, from a machine's log: the last number of each line that has one, in ms. Raises KyklonError."""
    times = []
    for line in text.splitlines()[:1_000_000]:
        word = line.replace(",", " ").replace("=", " ").removesuffix("ms").split()
        try:
            value = float(word[-1].removesuffix("ms")) if word else math.nan
        except ValueError:
            continue
        if 0 < value < 1000:
            times.append(value)
    if len(times) < 30:
        raise KyklonError(
            f"The log has {len(times)} frame times; at least 30 are needed.",
            do="Let the game run for a minute with frame times logged, one per line, in ms.",
        )
    usual = statistics.median(times)
    steady = sum(abs(each - usual) <= _STEADY * usual for each in times) / len(times)
    if steady > _MOSTLY and any(abs(usual * hz / 1000 - 1) < _STEADY for hz in _SHOWN_HZ):
        raise KyklonError(
            f"Nearly all frames took {usual:.1f} ms: these are the display's frames, not what the emulator needs.",
            do="Turn V-sync off and let the game run as fast as it can, or log what a frame costs.",
        )
    return FrameCost(
        board=board,
        emulator=emulator,
        mhz=mhz,
        mean_ms=sum(times) / len(times),
        most_ms=percentile(times, OFTEN),
        frames=len(times),
    )


def percentile(values: Sequence[float], share: float) -> float:
    """By linear interpolation between order statistics (Hyndman and Fan 1996, type 7)."""
    ordered = sorted(values)
    at = share * (len(ordered) - 1)
    low = math.floor(at)
    high = min(low + 1, len(ordered) - 1)
    return ordered[low] + (ordered[high] - ordered[low]) * (at - low)
