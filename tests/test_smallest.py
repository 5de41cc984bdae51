"""The smallest set of modes and the schools, part by part: against figures worked out by hand or counted anew."""

from __future__ import annotations

import itertools
import random
from dataclasses import replace
from fractions import Fraction

import numpy as np
import pytest

from kyklon.catalogue.loader import Catalogue, standard_timings
from kyklon.catalogue.records import Adapter, Board, Display
from kyklon.catalogue.system_records import System
from kyklon.model.build import edited
from kyklon.model.library import Game, Scan
from kyklon.model.timing import Mode, Timing
from kyklon.model.world import World
from kyklon.operations.picture import schools, smallest
from kyklon.operations.picture.adjust import move
from kyklon.operations.picture.construct import SYSTEM_525, Frame
from kyklon.operations.picture.glass import OnGlass, Play, on_glass
from kyklon.operations.picture.ranges import made_in, raster
from kyklon.operations.picture.schools import Plan, Row, flat_mode, flat_modes, plan, plans, row_of, taken, wide_modes
from kyklon.operations.picture.signal_path import SignalPath, refused, signal_path_of
from kyklon.operations.picture.smallest import Asking, Choice, Limits, askings_of, candidates, costs, front, solve
from support import Demo

DMT = standard_timings("dmt")


def tube(catalogue: Catalogue) -> SignalPath:
    return SignalPath(
        catalogue.get(Display, "casement-19"), catalogue.get(Board, "herring"), (catalogue.get(Adapter, "gantry-rgb"),)
    )


def flat(catalogue: Catalogue) -> SignalPath:
    return SignalPath(catalogue.get(Display, "pane-24"), catalogue.get(Board, "herring"), ())


def asking(catalogue: Catalogue, rate: str, *, name: str = "a", weight: float = 1.0, height: int = 224) -> Asking:
    system = catalogue.get(System, "birch-16").model_copy(update={"refresh": rate, "height": height})
    return Asking(name, system, weight)


def test_all_limits_are_eased_together() -> None:
    made = Limits(0.01, 6.0, 0.1, 0.5, 0.2).eased(3)
    assert (made.speed, made.lost_per_min, made.crop, made.border, made.circle) == pytest.approx(
        (0.03, 18, 0.3, 1.5, 0.6)
    )
    assert Limits().eased(1) == Limits()
    assert Limits().lost_per_min == 6.0


def test_what_a_game_suffers_is_the_mean_of_squares_in_parts_of_the_limits(catalogue: Catalogue) -> None:
    """Speed or judder, whichever is less; crop, border, roundness. Twice the game's rate shows each frame twice."""
    path, limits = tube(catalogue), Limits(0.02, 30.0, 0.5, 0.9, 0.8)
    rows = [asking(catalogue, "59.7"), asking(catalogue, "50"), asking(catalogue, "29.9")]
    modes = [mode for mode in candidates(rows, path) if not refused(mode.timing, path)][:6]
    assert len(modes) > 2
    table = costs(rows, modes, path, limits)
    for (row, own), (column, mode) in itertools.product(enumerate(rows), enumerate(modes)):
        shown, rate = float(mode.timing.vertical_hz), float(own.system.refresh_hz)
        times = max(1, round(shown / rate))
        rated = min(abs(shown / (times * rate) - 1) / 0.02, abs(shown - times * rate) * 60 / 30)
        glass = on_glass(own.system, mode.timing, path.display)
        parts = (rated, glass.lost / 0.5, glass.border / 0.9, abs(glass.circle - 1) / 0.8)
        expected = sum(part * part for part in parts) / 4 if max(parts) <= 1 else 1e6
        assert table[row, column] == pytest.approx(expected)
    assert (table[2] < 1e6).any(), "30 Hz in a mode of 60"


def test_a_system_asks_for_as_many_games_as_have_no_picture_of_their_own(demo: Demo, catalogue: Catalogue) -> None:
    system, other = catalogue.get(System, "alder-8"), catalogue.get(System, "birch-16")
    games = [Game("alder-8", f"g{n}", (f"g{n}.ad8",), 1000) for n in range(5)]
    scan = Scan("", tuple(games), ())
    rows = [{"game": "alder-8/g0", "width": 200, "height": 180, "refresh": "58"}]
    rows += [{"game": "nowhere/g1", "width": 200, "height": 180, "refresh": "58"}]
    build = edited(edited(demo.build, "picture.games", rows), "picture.wishes", {"alder-8": 0.5})
    found = {own.name: own.weight for own in askings_of(build, [system, other], scan)}
    assert found == {system.name: 2.0, "g0": 0.5, other.name: 1.0}  # (5 - 1) halves; one half; at least one
    alike = [{"game": "alder-8/g0", "width": system.width, "height": system.height, "refresh": system.refresh}]
    build = edited(build, "picture.games", alike)
    assert {own.name: own.weight for own in askings_of(build, [system], scan)} == {system.name: 2.5}


@pytest.mark.parametrize("seed", range(8))
def test_rates_that_are_shared_lie_within_everybodys_limits(seed: int, catalogue: Catalogue) -> None:
    """The middle of each three is within the limits of all that hold it; as few as stabbing in the other direction."""
    pick, path = random.Random(seed), tube(catalogue)
    limits = Limits(speed=0.004, lost_per_min=pick.choice([3.0, 30.0]))
    heights = [200, 240] if seed % 2 else list(range(180, 180 + 12 * 5, 5))  # more than eight get no rates of their own
    rows = [
        asking(catalogue, str(round(pick.uniform(48, 61), 2)), height=pick.choice(heights))
        for _ in range(pick.randint(2, 9))
    ]
    low = min(band.field_hz[0] for band in path.ranges)
    high = max(band.field_hz[1] for band in path.ranges)

    def ends_of(row: Asking) -> tuple[float, float]:
        rate = float(row.system.refresh_hz)
        off = max(0.004 * rate, limits.lost_per_min / 60)
        return max(low, rate - off), min(high, rate + off)

    def stabbed_from_above(group: list[Asking]) -> int:
        ends = sorted((ends for row in group if (ends := ends_of(row))[0] <= ends[1]), reverse=True)
        count = 0
        while ends:
            at = ends[0][0]
            count += 1
            ends = [own for own in ends if own[1] < at]
        return count

    apart = {raster(row.system)[1] for row in rows}
    groups = [rows] + (
        [[row for row in rows if raster(row.system)[1] == own] for own in apart] if len(apart) <= 8 else []
    )
    found = smallest._shared_rates(rows, path, limits)
    assert len(found) == 3 * sum(map(stabbed_from_above, groups))
    for row in rows:
        least, most = ends_of(row)
        assert least > most or any(least - 1e-3 <= rate <= most + 1e-3 for rate in found[::3])
    for middle, near, far in zip(found[::3], found[1::3], found[2::3], strict=True):
        assert near <= middle <= far
        if far - near > Fraction(1, 10):  # 5 and 95 parts in a hundred
            assert float((middle - near) / (far - near)) == pytest.approx(0.5, abs=0.02)
            holding = [ends for row in rows if (ends := ends_of(row))[0] <= middle <= ends[1]]
            assert holding


def test_modes_that_may_be_worth_having(catalogue: Catalogue) -> None:
    path = tube(catalogue)
    rows = [
        asking(catalogue, "60.1", name="one"),
        asking(catalogue, "58.9", name="two"),
        asking(catalogue, "50.2", name="slow"),
    ]
    found = candidates(rows, path)
    assert {"one", "two", "slow"} <= {mode.name for mode in found}
    assert len({mode.timing for mode in found}) == len(found)
    assert not any(refused(mode.timing, path) for mode in found)
    shown = [float(mode.timing.vertical_hz) for mode in found]
    for rate in (59.5, 60000 / 1001, 50.0):  # between the two quick ones; the standards' own
        assert any(abs(own - rate) < 0.02 for own in shown), rate
    assert not any(54 < own < 55 for own in shown), "the middle of 50.2 and 58.9 is near nobody"
    named = {mode.name: mode.timing for mode in found}
    for own in rows:
        assert float(named[own.name].vertical_hz) == pytest.approx(float(own.system.refresh_hz), abs=0.02)
    own = flat(catalogue)
    assert {mode.timing for mode in candidates(rows, own)} == {mode.timing for mode in flat_modes(own)}


def test_the_front_goes_from_the_fewest_to_all_that_win_something() -> None:
    """Forty rows, each best in a column of its own, all served by one: 1, 2, 3, 5, 9 columns and all forty."""
    table = np.full((40, 40), 0.5)
    table[:, 0] = 0.9
    np.fill_diagonal(table, 0.01)
    found = solve(table, np.ones(40))
    assert [len(own.modes) for own in found] == [1, 2, 3, 5, 9, 40]
    for own in found:
        assert own.cost == pytest.approx((len(own.modes) * 0.01 + (40 - len(own.modes)) * 0.5) / 40)
        assert [own.modes[place] for place in own.served].count(own.modes[0]) >= 1
    even = solve(np.full((3, 4), 0.25), np.array([1.0, 2.0, 3.0]))
    assert [len(own.modes) for own in even] == [1]
    assert even[0].cost == pytest.approx(0.25)
    assert solve(np.full((2, 3), 1e6), np.ones(2)) == ()
    weighed = solve(np.array([[0.1, 0.6], [0.6, 0.1]]), np.array([3.0, 1.0]))[0]
    assert weighed.modes == (0,)
    assert weighed.cost == pytest.approx((0.3 + 0.6) / 4)
    kept = solve(np.array([[1e6, 1e6, 0.2], [1e6, 1e6, 1e6], [0.3, 1e6, 1e6]]), np.ones(3))[0]
    assert sorted(kept.modes) == [0, 2]
    assert [kept.modes[place] if place >= 0 else None for place in kept.served] == [2, None, 0]


def test_a_front_names_who_is_left_out(catalogue: Catalogue) -> None:
    path = tube(catalogue)
    odd = replace(
        asking(catalogue, "60", name="tall"),
        system=catalogue.get(System, "birch-16").model_copy(update={"height": 900}),
    )
    made = front([asking(catalogue, "60"), odd], path, Limits(crop=0.05))
    assert made.left_out == ("tall",)
    assert made.choices[0].served[1] == -1
    assert front([], path).choices == ()
    none = replace(path, display=path.display.model_copy(update={"tube": False, "native": None}))
    assert front([asking(catalogue, "60", name="any")], none).left_out == ("any",)


def test_the_heaviest_asking_of_a_system_decides(catalogue: Catalogue) -> None:
    modes = tuple(Mode(name=f"m{n}", timing=DMT[n + 4].timing) for n in range(2))
    rows = [
        asking(catalogue, "60", weight=1.0),
        asking(catalogue, "60", weight=1.0),
        asking(catalogue, "60", weight=0.5),
    ]
    given = smallest.given_by(Choice(modes, (0, 1, 1), 0.0), rows)
    assert given == {"birch-16": modes[0]}, "of equals the first"


# --- schools -------------------------------------------------------------------------------------------------------


def a_row(
    catalogue: Catalogue,
    timing: Timing,
    *,
    lost: float = 0.0,
    border: float = 0.0,
    circle: float = 1.0,
    judder: float = 0.0,
) -> Row:
    system = catalogue.get(System, "alder-8")
    glass = on_glass(system, timing, catalogue.get(Display, "pane-24"))
    mode = Mode(name="m", timing=timing)
    whole: OnGlass = replace(glass, lost=lost, border=border, circle=circle)
    shown = system.refresh_hz + Fraction(judder) / 60
    play = Play(system.refresh_hz, shown)
    return Row(system, mode, whole, play)


def test_figures_of_a_plan_are_the_worst_or_the_mean_of_its_rows(catalogue: Catalogue) -> None:
    one, two = DMT[4].timing, DMT[9].timing
    rows = (
        a_row(catalogue, one, lost=0.1, border=0.2, circle=0.8, judder=3.0),
        a_row(catalogue, two, lost=0.3, border=0.6, circle=1.1, judder=1.0),
        a_row(catalogue, two, border=0.1),
    )
    made = Plan("own modes", Mode(name="menu", timing=one), rows)
    assert (made.lost_per_min, made.lost, made.off_round) == pytest.approx((3.0, 0.3, 0.2))
    assert made.border == pytest.approx(0.3)
    assert [mode.timing for mode in made.modes] == [one, two]
    assert made.modes[0].name == "menu"
    empty = Plan("scaled", None)
    assert (empty.modes, empty.lost_per_min, empty.lost, empty.border, empty.off_round) == ((), 0.0, 0.0, 0.0, 0.0)


def test_the_width_of_a_wide_mode_leaves_the_least_over(catalogue: Catalogue) -> None:
    """Of all widths in steps of eight that the path takes, none has a smaller worst remainder."""
    path = tube(catalogue)
    systems = [own for own in catalogue.all(System) if own.refresh_hz > 55]
    made = wide_modes(path, systems)["60"]

    def worst(across: int) -> tuple[float, float]:
        own = [abs(0.94 - raster(row)[0] * round(0.94 * across / raster(row)[0]) / across) for row in systems]
        return round(max(own), 9), round(sum(own), 9)

    assert made.timing.size[0] % 8 == 0
    better = [across for across in range(640, 2561, 8) if worst(across) < worst(made.timing.size[0])]
    assert len(better) < 40
    for across in better:  # each of them is refused by something
        timing = made_in(
            Frame(across, made.timing.size[1], made.timing.vertical_hz), path.link, path.ranges[0], exactly=True
        )
        assert timing is None or refused(timing, path)
    rates = sorted(own.refresh_hz for own in systems)
    assert float(made.timing.vertical_hz) == pytest.approx(float(rates[len(rates) // 2]), abs=0.02)
    asked = max(min(raster(own)[1], SYSTEM_525.active) for own in systems)
    assert asked <= made.timing.size[1] <= asked + 4  # lines of a frame, at least (construct.Frame)
    assert made.name == f"one for {len(systems)} systems"
    slow = [own for own in catalogue.all(System) if own.refresh_hz < 55]
    both = wide_modes(path, [*systems, *slow])
    assert set(both) == {"60", "50"}
    assert wide_modes(path, slow)["50"].timing == both["50"].timing
    assert wide_modes(path, []) == {}


def test_a_flat_display_shows_what_it_offers_in_its_own_size(catalogue: Catalogue) -> None:
    path = flat(catalogue)
    offered = flat_modes(path)
    assert offered
    assert all(mode.timing.size == path.display.native and not mode.timing.interlaced for mode in offered)
    quick, slow = flat_mode(path, Fraction(75)), flat_mode(path, Fraction(24))
    assert quick is not None
    assert slow is not None
    rates = [mode.timing.vertical_hz for mode in offered]
    assert quick.timing.vertical_hz == max(rates)
    assert slow.timing.vertical_hz == min(rates)
    bare = replace(path, display=path.display.model_copy(update={"modes": ()}), data=None)
    other = standard_timings("cta")[4].timing
    assert other.size != path.display.native
    named = path.display.model_copy(update={"modes": (other, offered[0].timing)})
    assert [mode.timing for mode in flat_modes(replace(bare, display=named))] == [offered[0].timing]
    names = [mode.name for mode in flat_modes(bare)]
    assert [name.partition(" ")[0] for name in names] == ["CTA"] * (len(names) - 1) + [
        "CVT"
    ]  # it takes no 50 Hz of CVT
    assert names[-1] == "CVT reduced, 60 Hz"
    assert flat_modes(replace(path, display=path.display.model_copy(update={"native": None}))) == ()


def test_each_school_gives_what_its_name_says(demo: Demo, catalogue: Catalogue) -> None:
    path, systems = tube(catalogue), catalogue.all(System)
    own, wide, scaled = (plan(school, path, systems) for school in schools.SCHOOLS)
    for row in own.rows:
        assert float(row.mode.timing.vertical_hz) == pytest.approx(float(row.system.refresh_hz), rel=0.01)
    for row in wide.rows:
        assert (row.mode == wide.menu) is (row.system.refresh_hz > 55)
    assert {row.mode.timing for row in scaled.rows} == {scaled.menu.timing}  # type: ignore[union-attr]
    assert not any(made.why for made in (own, wide, scaled))
    assert (
        not on_glass(systems[0], scaled.rows[0].mode.timing, path.display).whole
        or scaled.rows[0].glass != wide.rows[0].glass
    )
    board = path.board.model_copy(update={"most_clock_hz": 1_000_000})
    none = plan("scaled", replace(path, board=board), systems)
    assert none.menu is None
    assert path.display.name in none.why
    assert taken(demo.build, none) is None
    remedy = taken(demo.build, wide)
    assert remedy is not None
    assert [change.path for change in remedy.changes] == ["picture.school", "picture.menu", "picture.systems"]
    given = {each["system"] for each in remedy.changes[2].value}
    apart = {row.system.id for row in wide.rows if row.mode.timing != wide.menu.timing}  # type: ignore[union-attr]
    assert given == apart & set(demo.build.systems)
    assert remedy.changes[1].after == "{} × {}".format(*wide.menu.timing.size)  # type: ignore[union-attr]
    assert remedy.changes[2].after == f"{len(given)} modes"


def test_plans_of_a_build_stand_as_was_measured(demo: Demo, catalogue: Catalogue) -> None:
    path = signal_path_of(demo.build, catalogue, World())
    assert path is not None
    plain = plans(demo.build, catalogue, World())
    menu = plain[0].menu
    assert menu is not None
    measured = {"display": path.display.id, "size": list(menu.timing.size), "right": 6, "down": 2, "squeeze": 1.2}
    moved = plans(edited(demo.build, "picture.adjustments", [measured]), catalogue, World())
    assert [own.school for own in moved] == list(schools.SCHOOLS)
    assert moved[0].menu is not None
    assert moved[0].menu.timing == move(menu.timing, 6, 2).timing != menu.timing
    for before, after in zip(plain[0].rows, moved[0].rows, strict=True):
        same = before.mode.timing.size == menu.timing.size
        assert (after.mode.timing == move(before.mode.timing, 6, 2).timing) is same or before.mode == after.mode
        assert after.glass.circle / before.glass.circle == pytest.approx(1.2 if same else 1.0, rel=0.01)
    assert plans(demo.build.model_copy(update={"parts": ()}), catalogue, World()) == ()
    rows = schools.rows_of(demo.build, catalogue, World())
    for row in rows:
        again = row_of(
            row.system, demo.build.system_mode(row.system.id), path, scaled=demo.build.picture.school == "scaled"
        )
        assert row.mode == again.mode
