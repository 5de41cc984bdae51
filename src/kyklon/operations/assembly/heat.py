"""Where the heat goes: chip, board, air in the case, its wall, the room, as a small thermal network.

The board's own figure (K/W from chip to still air) is split between chip and board; everything else is conductances in
W/K. What flows through openings by itself depends on the warmth that drives it, so those are solved in turns.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from math import sqrt
from typing import TYPE_CHECKING

from kyklon.base.late import late
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board
from kyklon.model.assembly import AssemblySettings, Fan, Load, Sink
from kyklon.model.build import Build
from kyklon.operations.assembly.power import BOARD_V
from kyklon.operations.assembly.tree import board_a

if TYPE_CHECKING:
    import numpy as np
else:
    np = late("numpy")

THROTTLE_C = 80.0  # °C, CP: where such chips slow down
CHIP_SHARE = 0.65  # of the board's watts that its processor turns into heat, CP
_BOARD_PART = 0.7  # of the way from chip to air that is from the board on, CP
_SINK_W_K: Mapping[Sink, float] = {"none": 0.0, "small": 1 / 38, "large": 1 / 11, "case": 1 / 3}  # W/K in still air, CP
_FANNED = 2.6  # times that a fan on the chip raises what board and sink give to the air, CP
_UPRIGHT = 1.15  # times that an upright board gives to the air of a flat one, CP
_IN_W_M2K = 6.0  # W/m²K at the inside of a wall, radiation included; still air: 5 to 10 (VDI heat atlas, mem)
_OUT_W_M2K = 8.0  # W/m²K at its outside, the same
_PLASTIC, _ALUMINIUM = 0.2, 150.0  # W/mK
_USUAL_MM = (150.0, 110.0, 45.0)  # inside a case that nobody measured, CP
_DRIVE_M = 0.6  # of the case's height that lies between low and high openings, CP
_CD = 0.6  # discharge of a sharp opening (handbooks of ventilation, mem)
_AIR_J_M3K = 1.19 * 1006  # J/m³K of air at 20 °C
_CHIP_J_K, _BOARD_J_K = 2.0, 28.0  # J/K of a chip with its cover, of a small board, CP
_AIR_J_K = 1.0  # J/K of the air in a small case
_WALL_J_M3K = 1.6e6  # J/m³K of plastic; aluminium is 2.4e6
NOISE_DB: Mapping[Fan, float] = {"none": 0.0, "in the case": 24.0, "on the chip": 30.0}  # dB(A) at half a metre, CP
NODES = ("chip", "board", "air", "wall")
_TURNS = 60


@dataclass(frozen=True)
class Heat:
    """celsius: by node, and 'room'. flows: W along each conductance. watts: of the board. throttles_s: seconds from a
    cold start until the chip slows down, None where it never does. factor: by which a measured temperature corrects
    the rise."""

    celsius: Mapping[str, float]
    flows: Mapping[tuple[str, str], float]
    watts: float
    load: Load
    throttles_s: float | None
    factor: float
    assumed: tuple[str, ...]

    @property
    def chip_c(self) -> float:
        return self.celsius["chip"]

    @property
    def margin_k(self) -> float:
        return THROTTLE_C - self.chip_c


def _area_m2(own: AssemblySettings) -> float:
    wide, deep, high = (size or usual for size, usual in zip(_inner(own), _USUAL_MM, strict=True))
    return 2 * (wide * deep + wide * high + deep * high) * 1e-6


def _inner(own: AssemblySettings) -> tuple[float, float, float]:
    return own.inner_wide, own.inner_deep, own.inner_high


def conductances(board: Board, own: AssemblySettings, air_k: float = 10.0) -> dict[tuple[str, str], float]:
    """W/K between the nodes and the room. air_k: by how much the air in the case is warmer than the room, which drives
    what flows through openings."""
    fanned = _FANNED if own.fan == "on the chip" else 1.0
    upright = 1.0 if own.lying else _UPRIGHT
    found = {
        ("chip", "board"): CHIP_SHARE / ((1 - _BOARD_PART) * board.heat_k_per_w),
        ("board", "air"): fanned * upright / (_BOARD_PART * board.heat_k_per_w),
    }
    sink = _SINK_W_K[own.sink]
    if sink and own.sink == "case":
        if own.case == "metal":
            found["chip", "wall"] = sink
    elif sink:
        found["chip", "air"] = sink * fanned * upright
    if own.case == "open bench":
        found["air", "room"] = 1e3
        return found
    area = _area_m2(own)
    found["air", "wall"] = _IN_W_M2K * area
    wall = 1 / (1 / _OUT_W_M2K + own.wall * 1e-3 / (_ALUMINIUM if own.case == "metal" else _PLASTIC))
    found["wall", "room"] = wall * area
    if own.fan == "in the case" and own.case == "vented":
        found["air", "room"] = _AIR_J_M3K * own.fan_l_s * 1e-3
    elif own.case == "vented" and own.openings_cm2:
        found["air", "room"] = _AIR_J_M3K * natural_m3_s(own, air_k)
    return found


def natural_m3_s(own: AssemblySettings, air_k: float) -> float:
    """Air that flows in low and out high by itself, m³/s: Cd · A · sqrt(2 g h ΔT / T), two openings in series."""
    high = (own.inner_high or _USUAL_MM[2]) * 1e-3 * _DRIVE_M
    across = own.openings_cm2 * 1e-4 / sqrt(2)
    kelvin = own.room_c + 273.15 + max(0.0, air_k)
    return _CD * across * sqrt(2 * 9.81 * high * max(0.0, air_k) / kelvin)


def solved(watts: float, board: Board, own: AssemblySettings) -> tuple[dict[str, float], dict[tuple[str, str], float]]:
    """Steady temperatures by node and the conductances that they came out with."""
    air_k, links = 10.0, conductances(board, own)
    celsius: dict[str, float] = {}
    for _turn in range(_TURNS):
        links = conductances(board, own, air_k)
        celsius = _steady(watts, links, own.room_c)
        fresh = celsius["air"] - own.room_c
        if abs(fresh - air_k) < 1e-6:
            break
        air_k = (air_k + fresh) / 2
    return celsius, links


def _nodes(links: Mapping[tuple[str, str], float]) -> list[str]:
    held = {name for pair in links for name in pair}
    return [name for name in NODES if name in held]


def _matrix(links: Mapping[tuple[str, str], float], nodes: list[str]) -> np.ndarray:
    """Of the heat that leaves each node per kelvin."""
    place = {name: number for number, name in enumerate(nodes)}
    matrix = np.zeros((len(nodes), len(nodes)))
    for (one, other), value in links.items():
        for name, away in ((one, other), (other, one)):
            if name in place:
                matrix[place[name], place[name]] += value
                if away in place:
                    matrix[place[name], place[away]] -= value
    return matrix


def _sources(watts: float, nodes: list[str]) -> np.ndarray:
    given = {"chip": CHIP_SHARE * watts, "board": (1 - CHIP_SHARE) * watts}
    return np.array([given.get(name, 0.0) for name in nodes])


def _steady(watts: float, links: Mapping[tuple[str, str], float], room_c: float) -> dict[str, float]:
    nodes = _nodes(links)
    rise = np.linalg.solve(_matrix(links, nodes), _sources(watts, nodes))
    return {name: room_c + float(value) for name, value in zip(nodes, rise, strict=True)} | {"room": room_c}


def _modes(watts: float, board: Board, own: AssemblySettings) -> tuple[list[str], np.ndarray, np.ndarray, np.ndarray]:
    """Nodes, their rise at the end, the rates at which it is neared in 1/s, and the part of each rate in each node.

    C dT/dt = P − K T: with S = C^-1/2 K C^-1/2, which is symmetric, the rates are its eigenvalues.
    """
    _celsius, links = solved(watts, board, own)
    nodes = _nodes(links)
    wall = _area_m2(own) * own.wall * 1e-3 * _WALL_J_M3K
    held = {"chip": _CHIP_J_K, "board": _BOARD_J_K, "air": _AIR_J_K, "wall": wall}
    root = np.sqrt(np.array([held[name] for name in nodes]))
    matrix = _matrix(links, nodes)
    end = np.linalg.solve(matrix, _sources(watts, nodes))
    rates, vectors = np.linalg.eigh(matrix / root[:, None] / root[None, :])
    parts = (vectors / root[:, None]) * (vectors.T @ (root * end))[None, :]
    return nodes, end, rates, parts


def warming(
    watts: float, board: Board, own: AssemblySettings, seconds: list[float], factor: float = 1.0
) -> list[dict[str, float]]:
    """Temperatures after so many seconds from a cold start, the load constant: exact for the network, with the openings
    as they are at the end."""
    nodes, end, rates, parts = _modes(watts, board, own)
    found = []
    for at in seconds:
        rise = end - parts @ np.exp(-rates * at)
        found.append({name: own.room_c + factor * float(value) for name, value in zip(nodes, rise, strict=True)})
    return found


def _throttles_s(watts: float, board: Board, own: AssemblySettings, factor: float, chip_c: float) -> float | None:
    """Seconds from cold to the chip's limit, by halving; None where it is never reached."""
    if chip_c <= THROTTLE_C:
        return None
    nodes, end, rates, parts = _modes(watts, board, own)
    chip = nodes.index("chip")

    def chip_at(seconds: float) -> float:
        return own.room_c + factor * float(end[chip] - parts[chip] @ np.exp(-rates * seconds))

    low, high = 0.0, 1.0
    while chip_at(high) < THROTTLE_C and high < 1e6:
        high *= 2
    for _ in range(40):
        middle = (low + high) / 2
        if chip_at(middle) < THROTTLE_C:
            low = middle
        else:
            high = middle
    return high


def plain_c(build: Build, board: Board, load: Load, room_c: float) -> float:
    """°C of the chip in a room, as no meter has corrected it."""
    own = build.assembly.model_copy(update={"room_c": room_c})
    return solved(board_a(build, board, load) * BOARD_V, board, own)[0]["chip"]


def correction(build: Build, board: Board) -> float:
    """By how much more a measured chip was warmer than the room than the model had it then; 1 where nobody measured.
    Bounded to a third and three times: beyond, something else is wrong."""
    reading = build.assembly.reading("celsius", board.id)
    if reading is None or reading.model - reading.room_c < 0.5:
        return 1.0
    return min(3.0, max(1 / 3, (reading.value - reading.room_c) / (reading.model - reading.room_c)))


def heat(build: Build, catalogue: Catalogue, load: Load | None = None) -> Heat | None:
    """The heat of a build under a load, its own where none is given; None without a board."""
    board = catalogue.find(Board, build.part("board"))
    if board is None:
        return None
    own, now = build.assembly, load or build.assembly.load
    watts = board_a(build, board, now) * BOARD_V
    celsius, links = solved(watts, board, own)
    factor = correction(build, board)
    celsius = {name: own.room_c + factor * (value - own.room_c) for name, value in celsius.items()}
    flows = {(one, other): value * (celsius[one] - celsius[other]) for (one, other), value in links.items()}
    seconds = _throttles_s(watts, board, own, factor, celsius["chip"])
    assumed = ["the share of the chip", "the films at the wall"]
    assumed += ["the case's size"] if not all(_inner(own)) and own.case != "open bench" else []
    assumed += ["the board's current"] if board.is_assumed("peak_a") else []
    return Heat(celsius, flows, watts, now, seconds, factor, tuple(assumed))


def temperature(build: Build, catalogue: Catalogue, load: Load | None = None) -> float:
    """°C of the chip, the room's without a board."""
    board = catalogue.find(Board, build.part("board"))
    if board is None:
        return build.assembly.room_c
    own = build.assembly
    rise = solved(board_a(build, board, load or own.load) * BOARD_V, board, own)[0]["chip"] - own.room_c
    return own.room_c + correction(build, board) * rise


@dataclass(frozen=True)
class Help:
    """What would cool it, by how many kelvin, and what it costs besides. effort: of two that are enough the
    smaller one is proposed."""

    name: str
    path: str
    value: object
    brings_k: float
    chip_c: float
    price: str = ""
    effort: int = 0


def helps(build: Build, catalogue: Catalogue, load: Load | None = None) -> tuple[Help, ...]:
    """Every single thing that cools it, the most first."""
    own, now = build.assembly, temperature(build, catalogue, load)
    tried: list[tuple[int, str, str, object, str]] = []
    tried += [(0, "Board upright", "lying", False, "")] if own.lying else []
    if own.case in ("closed", "metal"):
        tried.append((1, "Vent openings", "case", "vented", "dust"))
    if own.case == "vented":
        tried.append((1, "Larger vents", "openings_cm2", min(2000.0, own.openings_cm2 * 2 or 8.0), ""))
        if own.fan == "none":
            noise = f"about {NOISE_DB['in the case']:.0f} dB(A)"
            tried.append((4, "Fan in the case", "fan", "in the case", noise))
    tried += [(2, "Small heat sink", "sink", "small", "")] if own.sink == "none" else []
    if own.sink in ("none", "small"):
        tried.append((3, "Large heat sink", "sink", "large", "15 mm high"))
    if own.fan != "on the chip":
        noise = f"about {NOISE_DB['on the chip']:.0f} dB(A)"
        tried.append((5, "Fan on the chip", "fan", "on the chip", noise))
    if own.sink != "case":
        tried.append((6, "Metal case", "sink", "case", "warm to the hand"))
    found = []
    for effort, name, path, value, price in tried:
        changed: dict[str, object] = {path: value} | ({"case": "metal"} if value == "case" else {})
        made = build.model_copy(update={"assembly": own.model_copy(update=changed)})
        then = temperature(made, catalogue, load)
        if now - then >= 0.1:
            found.append(Help(name, f"assembly.{path}", value, now - then, then, price, effort))
    return tuple(sorted(found, key=lambda help_: -help_.brings_k))


def most_mhz(build: Build, catalogue: Catalogue, load: Load | None = None) -> int:
    """The fastest clock up to the board's own limit at which the chip stays below its own; 0 where not even its plain
    one does."""
    board = catalogue.find(Board, build.part("board"))
    if board is None:
        return 0
    own, most = board.processor_mhz
    mhz: int
    for mhz in (*range(most, own, -25), own):
        boot = build.boot.model_copy(update={"processor_mhz": mhz if mhz != own else 0})
        if temperature(build.model_copy(update={"boot": boot}), catalogue, load) < THROTTLE_C:
            return mhz
    return 0
