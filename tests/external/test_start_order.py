"""What a root starts by itself: numbered scripts, and units by their dependencies.

Outside references: systemd.unit(5) as systemd-analyze(1) verify reads it, where it runs; graphlib of the standard
library for orders; ls(1) for the order of numbered scripts.
"""

from __future__ import annotations

import graphlib
import os
import shutil
import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kyklon.demo.card_image import MIB, make_ext4
from kyklon.model.card import RootFacts, Unit
from kyklon.operations.boot.services import by_dependencies, told_dependencies
from kyklon.operations.card.volumes.partitions import reader
from kyklon.operations.card.volumes.root_facts import observe_root
from support import that_ends

UNITS = "usr/lib/systemd/system"
SH = {"bin/sh": b"\x7fELF not looked at here\n"}


def service(*lines: str, run: str = "/usr/bin/run", kind: str = "simple") -> bytes:
    return "\n".join(("[Unit]", *lines, "[Service]", f"Type={kind}", f"ExecStart={run}", "")).encode()


def root(folder: Path, files: dict[str, bytes | str]) -> RootFacts:
    image = folder / "root.ext4"
    make_ext4(image, folder / "tree", {**SH, **files}, 8 * MIB)
    with image.open("rb") as file:
        return observe_root(reader(file.fileno()), 0, 8 * MIB)


def systemd(folder: Path, units: dict[str, bytes | str], wanted: tuple[str, ...]) -> RootFacts:
    files: dict[str, bytes | str] = {
        "lib/systemd/systemd": b"x",
        "usr/bin/run": b"#!/bin/sh\n",
        "etc/systemd/system/default.target": f"/{UNITS}/games.target",
        f"{UNITS}/games.target": b"[Unit]\nDescription=Games\n",
        **{f"{UNITS}/{name}": data for name, data in units.items()},
        **{f"etc/systemd/system/games.target.wants/{name}": f"/{UNITS}/{name}" for name in wanted},
    }
    return root(folder, files)


def why(unit: Unit) -> str:
    return unit.program.why if unit.program and not unit.program.path.endswith("run") else ""


def test_units_start_by_their_dependencies_and_what_is_behind_the_front_end_never_does(tmp_path: Path) -> None:
    facts = systemd(
        tmp_path,
        {
            "network.service": service(),
            "gangway.service": service("After=network.service", kind="oneshot"),
            "watcher.service": service("After=gangway.service"),
            "late.service": service("After=watcher.service"),
            "needs.service": service("Requires=nothing.service"),
            "by.service": service("Requires=needs.service", "After=needs.service"),
            "gone.service": service(run="/usr/bin/gone"),
            "unwanted.service": service(),
            "masked.service": "/dev/null",
            "helper.service": service("Before=network.service"),
            "pulled.service": service("Wants=helper.service"),
        },
        (
            "network.service",
            "gangway.service",
            "watcher.service",
            "late.service",
            "needs.service",
            "by.service",
            "gone.service",
            "masked.service",
            "pulled.service",
        ),
    )
    rows, circles = by_dependencies(facts.pulled, "gangway", why)
    told = {row.name: row.why for row in rows}
    order = [row.name for row in rows]
    assert not circles
    assert "unwanted" not in told
    assert order.index("helper") < order.index("network") < order.index("gangway")
    assert not told["network"]
    assert not told["gangway"]
    assert (
        told["watcher"] == told["late"].replace("watcher", "gangway") == "it waits for gangway, which does not return"
    )
    assert told["needs"] == "it needs nothing, which does not exist"
    assert told["by"] == "it needs needs, which does not start"
    assert told["gone"] == "/usr/bin/gone is not there"
    assert told["masked"] == "it is masked"


@pytest.mark.skipif(not shutil.which("systemd-analyze"), reason="systemd-analyze is not installed")
def test_circles_and_missing_programs_are_those_that_systemd_tells(tmp_path: Path) -> None:
    units: dict[str, bytes | str] = {
        "a.service": service("After=b.service"),
        "b.service": service("After=c.service"),
        "c.service": service("After=a.service"),
        "gone.service": service(run="/usr/bin/no-such-program-here"),
    }
    facts = systemd(tmp_path, units, tuple(units))
    rows, circles = by_dependencies(facts.pulled, "", why)
    assert circles == (("a", "b", "c"),)
    assert all("wait for each other" in row.why for row in rows if row.name in "abc")
    assert len(rows) == len({row.name for row in rows})
    folder = tmp_path / "units"
    folder.mkdir()
    for name, data in {
        **units,
        "games.target": b"[Unit]\nRequires=a.service b.service c.service gone.service\n",
    }.items():
        (folder / name).write_bytes(data if isinstance(data, bytes) else data.encode())
    said = verified(folder)
    assert "ordering cycle" in said
    assert "no-such-program-here" in said


def verified(folder: Path) -> str:
    done = subprocess.run(
        ["systemd-analyze", "verify", "--man=no", *map(str, sorted(folder.iterdir()))],
        capture_output=True,
        text=True,
        check=False,
        env={**os.environ, "SYSTEMD_UNIT_PATH": f"{folder}:"},
    )
    if "Failed to initialize manager" in done.stderr:
        pytest.skip("systemd-analyze does not run here")
    return done.stderr


@pytest.mark.skipif(not shutil.which("systemd-analyze"), reason="systemd-analyze is not installed")
def test_what_a_target_pulls_in_and_comes_after_it_is_no_circle(tmp_path: Path) -> None:
    """As an image's own barrier services are: pulled in by a target, ordered behind it, by default or by name."""
    units: dict[str, bytes | str] = {
        "early.target": b"[Unit]\nWants=late.service named.service own.service\n",
        "late.service": service("After=early.target"),
        "named.service": service("DefaultDependencies=no", "After=early.target", "Before=late.service"),
        "own.service": service(),
    }
    facts = systemd(tmp_path, units, ("early.target",))
    _rows, circles = by_dependencies(facts.pulled, "", why)
    assert circles == ()
    after = facts.pulled["early.target"].after
    assert "own" in after
    assert not {"late", "named"} & set(after)
    folder = tmp_path / "units"
    folder.mkdir()
    for name, data in units.items():
        (folder / name).write_bytes(data if isinstance(data, bytes) else data.encode())
    assert "cycle" not in verified(folder)


NAMES = [f"u{number}" for number in range(8)]
EDGES = st.lists(st.tuples(st.sampled_from(NAMES), st.sampled_from(NAMES)), max_size=14)


@given(EDGES)
def test_orders_and_circles_are_those_of_graphlib(edges: list[tuple[str, str]]) -> None:
    units = {name: Unit(name, None, after=tuple(other for one, other in edges if one == name)) for name in NAMES}
    rows, circles = by_dependencies(units, "", lambda _unit: "")
    order = [row.name for row in rows]
    assert sorted(order) == NAMES
    graph = graphlib.TopologicalSorter({name: set(unit.after) - {name} for name, unit in units.items()})
    try:
        graph.prepare()
    except graphlib.CycleError:
        assert circles
        return
    assert not circles
    assert all(order.index(other) < order.index(one) for one, other in edges if one != other)


def test_numbered_scripts_start_in_the_order_of_their_names(tmp_path: Path) -> None:
    names = ["S01network", "S50gangway", "S09sound", "S10watcher", "K20old", "README", "S5odd"]
    facts = root(tmp_path, {f"etc/init.d/{name}": b"#!/bin/sh\n" for name in names})
    listed = subprocess.run(
        ["ls", tmp_path / "tree/etc/init.d"],
        capture_output=True,
        text=True,
        check=True,
        env={**os.environ, "LC_ALL": "C"},
    ).stdout.split()
    assert facts.numbered == tuple(name[3:] for name in listed if name.startswith("S") and name[1:3].isdigit())


def test_a_list_that_does_not_keep_what_its_units_ask_for_is_told() -> None:
    units = {"a": Unit("a", None, requires=("b", "x")), "b": Unit("b", None, after=("c",)), "c": Unit("c", None)}
    assert [words for _name, words in told_dependencies(("a", "b", "c"), units)] == [
        "a needs b, which starts after it",
        "a needs x, which is not in the list",
        "b should start after c, but comes before it",
    ]
    assert told_dependencies(("c", "b"), units) == ()


def test_folders_that_hold_themselves_end_and_files_are_counted_once(tmp_path: Path) -> None:
    """debugfs(8) links folders into one another, which no file system should have."""
    image = tmp_path / "root.ext4"
    make_ext4(image, tmp_path / "tree", {**SH, "games/a/one.a8": b"x", "games/b/two.a8": b"yy"}, 8 * MIB)
    commands = "".join(f"link /games /games/{place}/again{number}\n" for place in "ab" for number in range(40))
    subprocess.run(["debugfs", "-w", "-f", "-", image], input=commands.encode(), check=True, capture_output=True)
    with image.open("rb") as file, that_ends():
        facts = observe_root(reader(file.fileno()), 0, 8 * MIB, ["/games/"])
    assert {path: size for path, size in facts.files.items() if "again" not in path} == {
        "games/a/one.a8": 1,
        "games/b/two.a8": 2,
    }
    assert len(facts.files) <= 6
