"""Operation 40 against others: two-colouring by networkx, joint maps by scipy's milp (HiGHS), keymaps by xkbcomp, hwdb
files by systemd-hwdb, rules by udevadm, drawings by Qt's own SVG reader."""

from __future__ import annotations

import random
import shutil
import subprocess
import xml.etree.ElementTree as ET
from pathlib import Path

import networkx
import numpy as np
import pytest
from evdev import ecodes
from scipy.optimize import Bounds, LinearConstraint, milp

from kyklon.catalogue.control_records import Keyboard
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Encoder
from kyklon.catalogue.system_records import System
from kyklon.demo import school_fair
from kyklon.devices.ports import InputFacts
from kyklon.model.build import edited
from kyklon.model.controls import AxisLimits, KeyReading
from kyklon.model.world import World
from kyklon.operations.controls import assignment, exports, keymaps, legends, wiring
from kyklon.operations.controls.assignment import Problem
from kyklon.operations.controls.levers import axis_hwdb
from kyklon.operations.controls.matrix import reconstruct
from kyklon.operations.controls.sources import matched
from support import Demo
from test_controls import rig_for
from test_controls_maps import a_matrix, drawn


def test_rows_and_columns_are_networkxs_two_colours() -> None:
    """networkx.bipartite.color, on readings without errors and on matrices in several parts."""
    for seed in range(60):
        rng = random.Random(seed)
        keys = {key: pair for key, pair in a_matrix(rng).items() if rng.random() < 0.6 or key == "k0"}
        found = reconstruct([KeyReading(key=key, pins=pair) for key, pair in keys.items()])
        graph = networkx.Graph(list(keys.values()))
        assert networkx.is_bipartite(graph)
        assert found.whole
        for part in networkx.connected_components(graph):
            colours = networkx.bipartite.color(graph.subgraph(part))
            rows = {pin for pin in part if pin in found.rows}
            assert rows in ({pin for pin in part if colours[pin] == 0}, {pin for pin in part if colours[pin] == 1})


def test_an_odd_ring_is_flagged_where_networkx_finds_no_colours() -> None:
    readings = [KeyReading(key=key, pins=pins) for key, pins in (("a", (1, 2)), ("b", (2, 3)), ("c", (3, 1)))]
    assert not networkx.is_bipartite(networkx.Graph([reading.pins for reading in readings]))
    assert reconstruct(readings).doubtful


class Joint:
    """The joint mapping as a mixed-integer programme: x places, h homes, z strays, y pairs of neighbours."""

    def __init__(self, problems: list[Problem], ideas: int, buttons: int) -> None:
        self.cost: list[float] = []
        self.rows: list[tuple[dict[int, float], float, float]] = []
        homes = [[self.new(0.0) for _b in range(buttons)] for _k in range(ideas)]
        for idea in homes:
            self.rows.append((dict.fromkeys(idea, 1.0), 1, 1))
        for problem in problems:
            count = len(problem.follows)
            x = [[self.new(float(problem.own[i, b])) for b in range(buttons)] for i in range(count)]
            empty = [self.new(float(problem.empty[i])) for i in range(count)]
            for i in range(count):
                self.rows.append((dict.fromkeys([*x[i], empty[i]], 1.0), 1, 1))
                if problem.ideas[i] >= 0:
                    stray = self.new(float(problem.weight[i]))
                    self.rows.append(({stray: 1.0, empty[i]: -1.0}, 0, np.inf))
                    for b in range(buttons):
                        self.rows.append(({stray: 1.0, x[i][b]: -1.0, homes[problem.ideas[i]][b]: 1.0}, 0, np.inf))
                before = problem.follows[i]
                if before >= 0:
                    for b in range(buttons):
                        for c in range(buttons):
                            if problem.apart[b, c] > 0:
                                both = self.new(float(problem.apart[b, c]))
                                self.rows.append(({both: 1.0, x[before][b]: -1.0, x[i][c]: -1.0}, -1, np.inf))
            for b in range(buttons):
                self.rows.append(({x[i][b]: 1.0 for i in range(count)}, 0, 1))

    def new(self, cost: float) -> int:
        self.cost.append(cost)
        return len(self.cost) - 1

    def solved(self) -> float:
        table = np.zeros((len(self.rows), len(self.cost)))
        for place, (row, _low, _high) in enumerate(self.rows):
            for column, value in row.items():
                table[place, column] = value
        limits = LinearConstraint(
            table, [low for _row, low, _high in self.rows], [high for _row, _low, high in self.rows]
        )
        found = milp(self.cost, constraints=limits, bounds=Bounds(0, 1), integrality=np.ones(len(self.cost)))
        assert found.success
        return float(found.fun)


@pytest.mark.long(keep=4)
@pytest.mark.parametrize("seed", range(12))
def test_joint_maps_against_scipys_milp(seed: int) -> None:
    """scipy.optimize.milp, on instances that are too large to enumerate."""
    rng = np.random.default_rng(1000 + seed)
    buttons, ideas = 5, 4
    problems = [drawn(rng, 4, buttons, ideas) for _system in range(4)]
    best, found = Joint(problems, ideas, buttons).solved(), assignment.solve(problems, ideas)
    assert best - 1e-6 <= found.cost <= best * 1.05
    assert found.bound <= best + 1e-6


KEYMAP = """xkb_keymap {
    xkb_keycodes { include "evdev" };
    xkb_types { include "complete" };
    xkb_compat { include "complete" };
%s
};
"""


@pytest.mark.skipif(shutil.which("xkbcomp") is None, reason="xkbcomp is not installed")
def test_xkbcomp_takes_the_keymaps_of_both_schools(catalogue: Catalogue, tmp_path: Path) -> None:
    own, target = catalogue.get(Keyboard, "fair-50"), catalogue.get(Keyboard, "elm-keys")
    for pairs in (keymaps.by_position(own, target), keymaps.by_symbol(own, target)):
        text = keymaps.xkb_symbols(own, target, pairs)
        source, made = tmp_path / "map.xkb", tmp_path / "map.xkm"
        source.write_text(KEYMAP % text, encoding="utf-8")
        run = subprocess.run(["xkbcomp", "-w", "3", "-xkm", str(source), str(made)], capture_output=True, text=True)
        assert run.returncode == 0, run.stderr
        told = run.stdout + run.stderr
        assert "No symbols" not in told
        assert not [line for line in told.splitlines() if "not found" in line or "undefined" in line.lower()], told
    source.write_text(KEYMAP % text.replace("xkb_symbols", "xkb_symbolz"), encoding="utf-8")
    assert subprocess.run(["xkbcomp", "-xkm", str(source), str(made)], capture_output=True).returncode != 0


@pytest.mark.skipif(shutil.which("systemd-hwdb") is None, reason="systemd-hwdb is not installed")
def test_systemd_hwdb_reads_the_axes_and_the_scan_codes(catalogue: Catalogue, tmp_path: Path) -> None:
    encoder = catalogue.get(Encoder, "tackle-pair")
    limits = (AxisLimits(device="encoder", axis="ABS_X", low=3, high=250, rest=128),)
    own = catalogue.get(Keyboard, "full")
    folder = tmp_path / "etc/udev/hwdb.d"
    folder.mkdir(parents=True)
    (folder / "61-axes.hwdb").write_text(axis_hwdb(limits, {"encoder": (encoder.vendor, encoder.product)}))
    build = edited(school_fair.build(), "controls.keyboard", {"layout": own.id, "usb": "1209:0001"})
    files = exports.issue(build, catalogue, World())
    (folder / "62-keys.hwdb").write_text(files["controls/keyboard/62-kyklon-keys.hwdb"])

    def hwdb(*words: str) -> str:
        run = subprocess.run(["systemd-hwdb", *words, "--root", str(tmp_path)], capture_output=True, text=True)
        assert run.returncode == 0, run.stderr
        assert not run.stderr
        return run.stdout.strip()

    hwdb("update", "--strict")
    query = f"evdev:input:b0003v{encoder.vendor:04X}p{encoder.product:04X}e0110"
    assert hwdb("query", query) == "EVDEV_ABS_00=3:250"
    assert hwdb("query", "evdev:input:b0003v1209p0001e0110").startswith("KEYBOARD_KEY_7")


def test_udevadm_finds_nothing_wrong_with_the_rules(catalogue: Catalogue, tmp_path: Path) -> None:
    udevadm = shutil.which("udevadm")
    if udevadm is None or "verify" not in subprocess.run([udevadm, "--help"], capture_output=True, text=True).stdout:
        pytest.skip("this udevadm verifies no rules (systemd 254 and later do)")
    rules = tmp_path / "70-kyklon-controls.rules"
    rules.write_text(exports.udev_rules(rig_for(catalogue, "cocktail-pair", "tackle-12", "thole-pad")))
    run = subprocess.run([udevadm, "verify", "--no-style", str(rules)], capture_output=True, text=True)
    assert run.returncode == 0, run.stdout + run.stderr


def test_drawings_are_svg_of_the_panels_own_size(demo: Demo, catalogue: Catalogue, qapp: object) -> None:
    from PyQt6.QtSvg import QSvgRenderer

    hookup = rig_for(catalogue, "cocktail-pair", "tackle-pair")
    system = catalogue.get(System, "cedar-disc")
    texts = [
        legends.legend(hookup, system),
        legends.template(hookup.layout),
        legends.labels(wiring.harness(hookup)),
        legends.guest_card(hookup, (system,)),
    ]
    seat = hookup.layout.seats[0]
    for text in texts:
        assert QSvgRenderer(text.encode()).isValid()
    root = ET.fromstring(texts[1])
    assert root.get("width") == f"{seat.width_mm:g}mm"
    holes = {
        (float(each.get("cx")), float(each.get("cy"))): 2 * float(each.get("r"))
        for each in root.iter("{http://www.w3.org/2000/svg}circle")
    }
    assert holes == {(control.x, control.y): control.bore for control in seat.controls}


@pytest.mark.parametrize(
    ("encoder_id", "base"), [("generic-encoder-pad", "BTN_GAMEPAD"), ("generic-encoder-joystick", "BTN_JOYSTICK")]
)
def test_a_generic_encoder_is_what_the_kernel_makes_of_numbered_buttons(
    encoder_id: str, base: str, catalogue: Catalogue
) -> None:
    """drivers/hid/hid-input.c (6.1), HID_UP_BUTTON: the application's first code and the button's number less one, by
    the numbers of linux/input-event-codes.h as evdev has them. Without ids nothing is issued that goes by them."""
    encoder = catalogue.get(Encoder, encoder_id)
    buttons = [each.event for each in encoder.terminals if each.event.startswith("BTN_")]
    first = ecodes.ecodes[base]
    assert [ecodes.ecodes[event] for event in buttons] == list(range(first, first + 12))
    hookup = rig_for(catalogue, "single-eight", encoder_id)
    assert not encoder.is_known
    assert exports.sdl_line(hookup, 1) == ""
    rules = exports.udev_rules(hookup)
    assert "not known" in rules
    assert all(line.startswith("#") for line in rules.splitlines())
    own = InputFacts("e3", "Anybody's pad", 0x1234, 1, 1, "usb", (buttons[0],), (), 8.0, "usb-1/input0")
    mouse = InputFacts("e1", "Mouse", 0x1234, 2, 1, "usb", ("BTN_LEFT",), (), 8.0, "usb-2/input0")
    assert [(player, facts.identity) for _role, player, facts in matched(hookup, (mouse, own))] == [(1, "e3")]
