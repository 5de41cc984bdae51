"""Current, surges and heat against a nodal solution of SciPy's sparse solver and against ngspice."""

from __future__ import annotations

import math
import random
import re
import shutil
import subprocess
from pathlib import Path

import numpy as np
import pytest
from scipy import sparse
from scipy.sparse.linalg import spsolve

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board
from kyklon.demo import camper
from kyklon.model.assembly import CASES, AssemblySettings
from kyklon.model.build import edited
from kyklon.operations.assembly import heat as heat_
from kyklon.operations.assembly.electrics import PIN_A, awg_ohm_per_m, behind_trace, led_resistor
from kyklon.operations.assembly.surge import Source, hold_up_s, inrush, load_step
from kyklon.operations.assembly.tree import Segment, Sink, Tree, feed, solved

NGSPICE = shutil.which("ngspice")
spice = pytest.mark.skipif(NGSPICE is None, reason="ngspice is not installed")


def nodal(tree: Tree, amps: dict[str, float]) -> dict[str, float]:
    """Volts by Kirchhoff's current law at every node, sparse: each load a current."""
    nodes = [segment.end for segment in tree.segments]
    place = {name: number for number, name in enumerate(nodes)}
    matrix = sparse.lil_matrix((len(nodes), len(nodes)))
    right = np.zeros(len(nodes))
    for segment in tree.segments:
        value, end = 1 / max(segment.ohms, 1e-12), place[segment.end]
        matrix[end, end] += value
        if segment.start == tree.root:
            right[end] += value * tree.volts
        else:
            start = place[segment.start]
            matrix[start, start] += value
            matrix[start, end] -= value
            matrix[end, start] -= value
    for node, drawn in amps.items():
        if node in place:
            right[place[node]] -= drawn
    return dict(zip(nodes, spsolve(matrix.tocsr(), right), strict=True)) | {tree.root: tree.volts}


def drawn_at(tree: Tree, volts: dict[str, float]) -> dict[str, float]:
    found: dict[str, float] = {}
    for sink in tree.sinks:
        found[sink.node] = found.get(sink.node, 0.0) + sink.watts / volts[sink.node]
    return found


def a_tree(seed: int) -> Tree:
    pick = random.Random(seed)
    names = ["root"]
    segments = []
    for number in range(pick.randint(1, 14)):
        start, end = pick.choice(names), f"n{number}"
        segments.append(Segment(end, start, end, pick.choice([0.0005, 0.03, 0.12, 0.2])))
        names.append(end)
    sinks = [Sink(f"s{n}", pick.choice(names), pick.uniform(0.05, 2.5)) for n in range(pick.randint(1, 6))]
    pick.shuffle(segments)
    return Tree("root", pick.choice([5.0, 5.1, 12.4]), tuple(segments), tuple(sinks))


@pytest.mark.parametrize("seed", range(40))
def test_volts_of_a_tree_are_those_of_a_nodal_solution(seed: int) -> None:
    """Fixed point: the currents of the answer, put into the nodal equations, give the same volts, to 0.1 %."""
    tree = a_tree(seed)
    found = solved(tree)
    if not found.holds:
        assert min(found.volts.values()) < tree.volts * 0.7  # near the most that the way can carry
        return
    volts = nodal(tree, drawn_at(tree, dict(found.volts)))
    for node, value in found.volts.items():
        assert value == pytest.approx(volts[node], rel=1e-3)
    lost = sum(found.lost_w(number) for number in range(len(tree.segments)))
    given = found.root_a * tree.volts
    assert given == pytest.approx(lost + sum(sink.watts for sink in tree.sinks), rel=1e-6)  # no watt is lost


def test_trees_that_are_none_are_refused() -> None:
    one = Segment("a", "root", "a", 0.1)
    with pytest.raises(ValueError, match="fed twice"):
        solved(Tree("root", 5, (one, Segment("b", "root", "a", 0.1)), ()))
    with pytest.raises(ValueError, match="nothing feeds"):
        solved(Tree("root", 5, (one, Segment("b", "elsewhere", "b", 0.1)), ()))
    with pytest.raises(ValueError, match="nothing feeds"):
        solved(Tree("root", 5, (one,), (Sink("s", "elsewhere", 1.0),)))
    assert not solved(Tree("root", 5, (Segment("a", "root", "a", 2.0),), (Sink("s", "a", 50.0),))).holds


def test_the_most_a_way_can_carry_is_where_half_of_the_volts_are_lost() -> None:
    """U² / 4 R: 5 V over 0.5 ohm bears 12.5 W."""
    way = (Segment("a", "root", "a", 0.5),)
    assert solved(Tree("root", 5.0, way, (Sink("s", "a", 12.4),))).holds
    assert not solved(Tree("root", 5.0, way, (Sink("s", "a", 12.6),))).holds


# --- ngspice ---------------------------------------------------------------------------------------------------------


def spiced(tmp_path: Path, netlist: str, control: str) -> dict[str, float]:
    assert NGSPICE is not None
    file = tmp_path / "circuit.cir"
    file.write_text(f"kyklon\n{netlist}\n.control\nset numdgt=9\n{control}\n.endc\n.end\n", encoding="ascii")
    done = subprocess.run([NGSPICE, "-b", str(file)], capture_output=True, text=True, timeout=120, check=False)
    found = {}
    for line in done.stdout.splitlines():
        match = re.match(r"^(\S+)\s*=\s*(-?[\d.]+e[+-]\d+)", line.strip())
        if match:
            found[match[1]] = float(match[2])
    return found


@spice
@pytest.mark.parametrize("seed", [0, 3, 5, 8])
def test_four_trees_in_ngspice(seed: int, tmp_path: Path) -> None:
    tree = a_tree(seed)
    found = solved(tree)
    assert found.holds
    rows = [f"V0 {tree.root} 0 {tree.volts}"]
    rows += [f"R{n} {segment.start} {segment.end} {segment.ohms}" for n, segment in enumerate(tree.segments)]
    rows += [f"B{n} {sink.node} 0 I={sink.watts}/V({sink.node})" for n, sink in enumerate(tree.sinks)]
    nodes = [segment.end for segment in tree.segments]
    told = spiced(tmp_path, "\n".join(rows), "op\n" + "\n".join(f"print v({node})" for node in nodes))
    for node in nodes:
        assert found.volts[node] == pytest.approx(told[f"v({node})"], rel=0.01)


@spice
@pytest.mark.parametrize(("volts", "ohms", "farads"), [(5.1, 0.22, 470e-6), (12.6, 0.09, 2200e-6)])
def test_two_inrushes_in_ngspice(volts: float, ohms: float, farads: float, tmp_path: Path) -> None:
    made, tau = inrush(volts, ohms, farads), ohms * farads
    told = spiced(
        tmp_path,
        f"V0 a 0 PULSE(0 {volts} 0 1n 1n 1 2)\nR1 a b {ohms}\nC1 b 0 {farads} IC=0",
        f"tran {tau / 2000} {12 * tau} uic\nlet amps=-i(v0)\nlet square=amps*amps\nlet sum=integ(square)\n"
        f"meas tran peak MAX amps\nmeas tran late FIND amps AT={tau}\nmeas tran heat INTEG square\n",
    )
    assert made.peak_a == pytest.approx(told["peak"], rel=0.01)
    assert made.peak_a * math.exp(-1) == pytest.approx(told["late"], rel=0.01)
    assert made.i2t == pytest.approx(told["heat"], rel=0.01)
    assert made.settles_s == pytest.approx(-tau * math.log(0.05))


@spice
@pytest.mark.parametrize(("farads", "watts"), [(470e-6, (2.5, 9.0)), (3300e-6, (1.0, 12.0))])
def test_two_steps_of_a_load_in_ngspice(farads: float, watts: tuple[float, float], tmp_path: Path) -> None:
    volts, ohms = 5.1, 0.25
    made = load_step(Source(volts, ohms, farads), watts, low_v=4.63, lasts_s=0.01)
    told = spiced(
        tmp_path,
        f"V0 a 0 {volts}\nR1 a b {ohms}\nC1 b 0 {farads}\nVw w 0 PWL(0 {watts[0]} 1m {watts[0]} 1.0001m {watts[1]})\n"
        "B1 b 0 I=V(w)/V(b)",
        "tran 2u 11m\nmeas tran least MIN v(b)\nmeas tran later FIND v(b) AT=1.1m\n",
    )
    assert made.least_v == pytest.approx(told["least"], rel=0.01)
    at = min(made.lies, key=lambda row: abs(row[0] - 1e-4))
    assert at[1] == pytest.approx(told["later"], rel=0.01)


def test_what_a_capacitor_holds_up() -> None:
    """A farad from 5 V to 4 V at 3 W: (25 - 16) / 6 s; the limit of a source lengthens the filling."""
    assert hold_up_s(5.0, 4.0, 1.0, 3.0) == pytest.approx(1.5)
    assert hold_up_s(4.0, 5.0, 1.0, 3.0) == 0
    limited, free = inrush(5.0, 0.1, 1000e-6, limit_a=3.0), inrush(5.0, 0.1, 1000e-6)
    assert (free.peak_a, limited.peak_a) == (50.0, 3.0)
    assert limited.settles_s > free.settles_s
    assert limited.joules == free.joules == pytest.approx(0.0125)
    with pytest.raises(ValueError, match="resistance"):
        inrush(5, 0, 1e-6)


# --- heat ------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("seed", range(30))
def test_temperatures_are_those_of_a_sparse_nodal_solution(seed: int, catalogue: Catalogue) -> None:
    pick = random.Random(seed)
    board = pick.choice(catalogue.all(Board))
    own = AssemblySettings(
        case=pick.choice(CASES),
        openings_cm2=pick.uniform(0, 60),
        sink=pick.choice(["none", "small", "large", "case"]),
        fan=pick.choice(["none", "in the case", "on the chip"]),
        fan_l_s=pick.uniform(0.5, 8),
        room_c=pick.uniform(0, 40),
        lying=pick.random() < 0.5,
        inner_wide=pick.choice([0, 300.0]),
        inner_deep=pick.choice([0, 200.0]),
        inner_high=pick.choice([0, 80.0]),
    )
    watts = pick.uniform(0.5, 9)
    celsius, links = heat_.solved(watts, board, own)
    nodes = [name for name in celsius if name != "room"]
    place = {name: number for number, name in enumerate(nodes)}
    rows, columns, values = [], [], []
    for (one, other), value in links.items():
        for name, away in ((one, other), (other, one)):
            if name in place:
                rows.append(place[name])
                columns.append(place[name])
                values.append(value)
                if away in place:
                    rows.append(place[name])
                    columns.append(place[away])
                    values.append(-value)
    right = np.zeros(len(nodes))
    right[place["chip"]] = heat_.CHIP_SHARE * watts
    right[place["board"]] = (1 - heat_.CHIP_SHARE) * watts
    rise = spsolve(sparse.coo_matrix((values, (rows, columns))).tocsr(), right)
    for name in nodes:
        assert celsius[name] == pytest.approx(own.room_c + rise[place[name]], rel=1e-3, abs=1e-3)
    out = sum(value * (celsius[one] - celsius[other]) for (one, other), value in links.items() if other == "room")
    assert out == pytest.approx(watts, rel=1e-6)  # every watt leaves
    if own.case == "vented" and own.fan != "in the case" and own.openings_cm2 > 1:  # by the warmth that came out
        warm = celsius["air"] - own.room_c
        assert links["air", "room"] == pytest.approx(heat_._AIR_J_M3K * heat_.natural_m3_s(own, warm), rel=1e-3)


@pytest.mark.parametrize("case", CASES)
def test_warming_ends_where_the_steady_state_is_and_agrees_with_small_steps(case: str, catalogue: Catalogue) -> None:
    """Against explicit steps of 20 ms over a minute, by numpy."""
    board, own = catalogue.get(Board, "cod"), AssemblySettings(case=case)  # type: ignore[arg-type]
    celsius, links = heat_.solved(4.0, board, own)
    end = heat_.warming(4.0, board, own, [1e6])[0]
    assert end["chip"] == pytest.approx(celsius["chip"], abs=0.01)
    nodes = list(end)
    held = {"chip": heat_._CHIP_J_K, "board": heat_._BOARD_J_K, "air": 1.0}
    held["wall"] = heat_._area_m2(own) * own.wall * 1e-3 * heat_._WALL_J_M3K
    now = dict.fromkeys([*nodes, "room"], own.room_c)
    step = 2e-4 if case == "open bench" else 0.02
    for _ in range(round(60 / step)):
        flow = dict.fromkeys(nodes, 0.0)
        flow["chip"] += heat_.CHIP_SHARE * 4.0
        flow["board"] += (1 - heat_.CHIP_SHARE) * 4.0
        for (one, other), value in links.items():
            watts = value * (now[one] - now[other])
            if one in flow:
                flow[one] -= watts
            if other in flow:
                flow[other] += watts
        for name in nodes:
            now[name] += flow[name] * step / held[name]
    minute = heat_.warming(4.0, board, own, [60.0])[0]
    assert minute["chip"] == pytest.approx(now["chip"], abs=0.1)


# --- of a build ------------------------------------------------------------------------------------------------------


def test_the_whole_way_of_a_build_is_counted(catalogue: Catalogue) -> None:
    """Every piece and contact once: 1.5 m of AWG, four contacts, and the display behind the board."""
    build = camper.build(catalogue, "0" * 64)
    found = feed(build, catalogue, "peak")
    assert found is not None
    named = [segment.name for segment in found.low.tree.segments]
    assert len(named) == 9
    cable = next(segment for segment in found.low.tree.segments if segment.name.startswith("USB-A to Micro"))
    assert cable.ohms == pytest.approx(2 * 1.5 * awg_ohm_per_m(20, 25))
    volts = nodal(found.low.tree, drawn_at(found.low.tree, dict(found.low.volts)))
    assert found.board_v == pytest.approx(volts["board"], rel=1e-3)
    warm = feed(edited(build, "assembly.wire_c", 70.0), catalogue, "peak")
    assert warm is not None
    assert warm.board_v < found.board_v


def test_led_series_resistor_keeps_the_current_below_what_was_asked() -> None:
    """IEC 60063: the next value up never gives more."""
    pick = random.Random(3)
    for _ in range(200):
        volts, forward, amps = pick.uniform(3, 24), pick.uniform(1.6, 2.9), pick.uniform(0.001, 0.03)
        ohms, watts = led_resistor(volts, forward, amps)
        assert (volts - forward) / ohms <= amps * (1 + 1e-9)
        assert watts == pytest.approx(2 * (volts - forward) ** 2 / ohms)


@spice
@pytest.mark.parametrize("seed", range(6))
def test_an_led_behind_an_old_trace_in_ngspice(seed: int, tmp_path: Path) -> None:
    """A pin, the added resistor, the old board across the trace, its old resistor, and the LED as a source of Vf."""
    pick = random.Random(seed)
    volts, forward = pick.choice([3.3, 5.0]), pick.uniform(1.7, 2.1)
    trace, across = pick.uniform(20, 120), pick.choice([470.0, 2200.0, 1e6])
    found = behind_trace(volts, forward, 0.004, trace, across)
    assert found.added > 0
    netlist = f"""Vpin pin 0 {volts}
Radd pin node {found.added}
Racross node 0 {across}
Rtrace node anode {trace}
Vled anode 0 {forward}"""
    told = spiced(tmp_path, netlist, "op\nprint i(vled) i(vpin)")
    assert found.amps == pytest.approx(told["i(vled)"], rel=0.01)
    assert found.pin_a == pytest.approx(-told["i(vpin)"], rel=0.01)
    assert found.amps <= 0.004 * (1 + 1e-9)
    assert found.shorted is (found.pin_a > PIN_A)


def test_an_led_behind_a_shorted_trace_is_told() -> None:
    assert behind_trace(5.0, 2.0, 0.01, 0.0, 0.0).shorted
    assert behind_trace(5.0, 2.0, 0.01, 100.0, 20.0).shorted
    assert behind_trace(5.0, 2.0, 0.01, 1000.0, math.inf).added == 0  # the old resistor is more than enough
    with pytest.raises(ValueError, match="must be above"):
        behind_trace(1.8, 2.0, 0.01, 0.0, math.inf)
