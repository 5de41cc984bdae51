"""Operation 50 as a whole: schools, the smallest set, judder, chain, signals, geometry, identification, waking."""

from __future__ import annotations

import itertools
import random
from fractions import Fraction
from functools import cache
from io import BytesIO

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image as Image_

from kyklon.base.errors import FormatError, WrongUse
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue, load, standard_timings
from kyklon.catalogue.records import Adapter, Board, Cable, Display, Port, Range
from kyklon.catalogue.system_records import System
from kyklon.demo import lighthouse
from kyklon.devices.simulated.glass import GlassStandIn, SimulatedGlass
from kyklon.model.build import Build, GameRaster, Link, Part, edited, remedied
from kyklon.model.display import Edid, Extension, RangeLimits
from kyklon.model.findings import Severity
from kyklon.model.timing import Axis, Mode, Timing
from kyklon.model.world import World
from kyklon.operations.boot import firmware
from kyklon.operations.boot.compile import compiled
from kyklon.operations.boot.first_boot import parts as setup_parts
from kyklon.operations.picture import colour, edid, testcard
from kyklon.operations.picture.adjust import Readings, applied, centred, move, squeezed
from kyklon.operations.picture.chain import chain_of, into_75, resistor_for
from kyklon.operations.picture.findings import findings
from kyklon.operations.picture.glass import Play, cadence, on_glass
from kyklon.operations.picture.names import parse_timing
from kyklon.operations.picture.papers import issue, table
from kyklon.operations.picture.ranges import carried, plain
from kyklon.operations.picture.repair import repaired, timings_of, with_hdmi, with_timings
from kyklon.operations.picture.schools import SCHOOLS, plan, plans, rows_of, taken, wide_modes
from kyklon.operations.picture.sending import identification
from kyklon.operations.picture.signal_path import SignalPath, refused, signal_path_of, stood
from kyklon.operations.picture.signals import signals
from kyklon.operations.picture.smallest import (
    Asking,
    Choice,
    Front,
    Limits,
    askings_of,
    candidates,
    costs,
    front,
    given_by,
    solve,
)
from kyklon.operations.tuning.cascade import issue as settings_files
from support import Demo, that_ends

DISPLAYS = (
    ("casement-19", "gantry-rgb"),
    ("casement-tri-25", "gantry-15"),
    ("pane-24", ""),
    ("pane-7", ""),
    ("casement-bare-9", "gantry-rgb"),
)


def signal_path(
    catalogue: Catalogue, display: str = "casement-19", adapter: str = "gantry-rgb", board: str = "herring"
) -> SignalPath:
    adapters = (catalogue.get(Adapter, adapter),) if adapter else ()
    return SignalPath(catalogue.get(Display, display), catalogue.get(Board, "herring"), adapters)


def judge(timing: Timing, own: SignalPath) -> bool:
    """Whether everything takes a timing: written apart from the program's own judge, in numbers of its own."""
    line, field = timing.clock_hz / (timing.horizontal.active + timing.horizontal.blank), float(timing.vertical_hz)
    bands = [(*band.line_khz, *band.field_hz) for band in own.display.ranges]
    inside = any(
        low * 1000 - 0.5 <= line <= high * 1000 + 0.5 and slow - 1e-6 <= field <= fast + 1e-6
        for low, high, slow, fast in bands
    )
    clocks = [own.board.most_clock_hz, *(adapter.most_clock_hz for adapter in own.adapters)]
    clocks += [own.display.most_clock_hz] if own.display.most_clock_hz else []
    wide = all(timing.horizontal.active >= adapter.least_width for adapter in own.adapters)
    floor = max(own.board.least_clock_hz, *(adapter.least_clock_hz for adapter in own.adapters), 0)
    return inside and wide and floor <= timing.clock_hz <= min(clocks)


# --- schools -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("display", "adapter"), DISPLAYS)
@pytest.mark.parametrize("school", SCHOOLS)
def test_every_school_serves_every_system_on_every_display(
    display: str, adapter: str, school: str, catalogue: Catalogue
) -> None:
    own = signal_path(catalogue, display, adapter)
    made = plan(school, own, catalogue.all(System))
    assert made.menu is not None
    assert not made.why
    assert len(made.rows) == len(catalogue.all(System))
    assert all(judge(mode.timing, own) for mode in made.modes)
    if school == "own modes" and own.display.tube:
        assert made.lost_per_min < 0.1
    if school != "own modes":
        assert len(made.modes) <= 2  # one for 60 Hz, and perhaps one for 50
    if school == "scaled":
        assert made.off_round < 0.01
    else:
        assert all(row.glass.whole for row in made.rows)


@settings(max_examples=120, deadline=None)
@given(
    low=st.floats(15, 40),
    wide=st.floats(0.3, 30),
    slow=st.floats(45, 58),
    fast=st.floats(59.95, 90),
    clocks=st.tuples(st.integers(5, 40), st.integers(41, 300)),
    least_width=st.sampled_from([0, 1280, 1920]),
    tube=st.booleans(),
    school=st.sampled_from(SCHOOLS),
    stand=st.sampled_from(["turned with the game", "upright"]),
)
def test_no_plan_ends_outside_what_display_and_link_take(
    low: float,
    wide: float,
    slow: float,
    fast: float,
    clocks: tuple[int, int],
    least_width: int,
    tube: bool,
    school: str,
    stand: str,
) -> None:
    catalogue = load()
    display = catalogue.get(Display, "casement-19" if tube else "pane-24").model_copy(
        update={"ranges": (Range(line_khz=(low, low + wide), field_hz=(slow, fast)),)}
    )
    board = catalogue.get(Board, "herring").model_copy(
        update={"least_clock_hz": clocks[0] * 1_000_000, "most_clock_hz": clocks[1] * 1_000_000}
    )
    adapter = catalogue.get(Adapter, "gantry-rgb").model_copy(update={"least_width": least_width})
    own = SignalPath(display, board, (adapter,))
    made = plan(school, own, catalogue.all(System))
    if made.menu is None:
        assert made.why
        return
    assert made.why or all(judge(mode.timing, own) for mode in made.modes)
    assert all(judge(mode.timing, own) for mode in candidates([Asking("a", catalogue.all(System)[0])], own))


@pytest.mark.long
@settings(max_examples=60, deadline=None)
@given(st.data())
def test_no_remedy_leads_to_a_mode_that_must_not_be_sent(data: st.DataObject) -> None:
    """From any menu and modes, over the remedies of the findings, to modes that pass."""
    catalogue = load()
    display = catalogue.get(Display, data.draw(st.sampled_from([name for name, _adapter in DISPLAYS])))
    adapter = data.draw(st.sampled_from(["", "gantry-rgb", "gantry-15", "gantry-colour"]))
    board = data.draw(st.sampled_from(["sprat", "herring", "cod", "ling"]))
    build = _demo_build().with_part("display", display.id).with_part("board", board)
    build = edited(build, "parts", [part for part in build.parts if part.role != "adapter"])
    build = build.with_part("adapter", adapter) if adapter else build
    rows = list(standard_timings("cta").values()) + list(standard_timings("dmt").values())
    timings = st.sampled_from([row.timing for row in rows])
    build = edited(build, "picture.menu", Mode(name="any", timing=data.draw(timings)))
    build = edited(
        build,
        "picture.systems",
        [
            {"system": system, "mode": Mode(name="any", timing=data.draw(timings)).model_dump()}
            for system in build.systems
        ],
    )
    adapters = (catalogue.get(Adapter, adapter),) if adapter else ()
    own = SignalPath(display, catalogue.get(Board, board), adapters)
    for _ in range(40):
        found = [finding for finding in findings(build, catalogue, World()) if finding.severity is Severity.STOP]
        modes = [("menu", build.picture.menu.timing), *((row.system, row.mode.timing) for row in build.picture.systems)]
        told = {each.code.rpartition(":")[2] for each in found}
        assert all(key in told for key, timing in modes if not judge(timing, own)), "a stop is missing"
        cures = [
            each.remedy for each in found if each.remedy and each.code.startswith(("picture.out", "picture.clock"))
        ]
        if not cures:
            break
        after = remedied(build, cures[0])
        fresh = [after.picture.menu, *(row.mode for row in after.picture.systems)]
        old = [build.picture.menu, *(row.mode for row in build.picture.systems)]
        assert all(judge(mode.timing, own) for mode in fresh if mode not in old)
        build = after
    for text in issue(build, catalogue, World()).values():
        if isinstance(text, str) and text.startswith("Modeline"):
            clocks = [round(float(line.split('"')[2].split()[0]) * 1e6) for line in text.splitlines()]
            sent = [timing.clock_hz for _key, timing in modes if judge(timing, own)]
            assert sorted(clocks) == sorted(sent)


@cache
def _demo_build() -> Build:
    return lighthouse.build(load(), "0" * 64)


def test_a_plan_is_taken_up_by_boot_tuning_and_the_findings(demo: Demo, catalogue: Catalogue) -> None:
    build = demo.build
    for made in plans(build, catalogue, World()):
        remedy = taken(build, made)
        assert remedy is not None
        after = remedied(build, remedy)
        assert not [finding for finding in findings(after, catalogue, World()) if finding.severity is Severity.STOP]
        assert made.menu is not None
        settings_text = next(file for file in compiled(after, catalogue, {}) if file.path == "merrow.settings").text
        assert f"picture.timing = {made.menu.timing.clock_hz} {made.menu.timing.size[0]}/" in settings_text.replace(
            "picture.timing=", "picture.timing = "
        )
        files = settings_files(after, catalogue, World())
        for row in made.rows:
            text = next(text for path, text in files.items() if row.system.id in path)
            assert f"{row.mode.timing.clock_hz} {row.mode.timing.size[0]}/" in text
            assert ",".join(map(str, row.glass.box)) in text


def test_a_tube_of_31_khz_alone_gets_modes_of_its_own(catalogue: Catalogue) -> None:
    own = signal_path(catalogue, "casement-tri-25", "gantry-15")
    band = Range(line_khz=(31.0, 32.0), field_hz=(49, 72))
    own = SignalPath(own.display.model_copy(update={"ranges": (band,)}), own.board, own.adapters)
    made = plan("own modes", own, catalogue.all(System))
    assert not made.why
    assert all(judge(row.mode.timing, own) for row in made.rows)
    assert all(row.glass.scale[1] >= 2 for row in made.rows if row.system.height < 230)  # lines doubled
    timing = plain(own.display, own.link, own.ranges)
    assert timing is not None
    vga = standard_timings("cta")[1].timing  # 640 x 480 at 31.469 kHz
    for part in ("sync", "blank"):
        own_us = timing.microseconds(getattr(timing.horizontal, part))
        assert own_us == pytest.approx(vga.microseconds(getattr(vga.horizontal, part)), rel=0.12)


def test_a_vertical_game_on_a_tube_that_stays_upright_takes_less_of_it(demo: Demo, catalogue: Catalogue) -> None:
    system, display = catalogue.get(System, "fir-board-v"), catalogue.get(Display, "pane-24")
    picture = demo.build.picture
    timing = standard_timings("cta")[16].timing
    turned = on_glass(stood(system, picture), timing, display, scaled=True)
    upright = on_glass(stood(system, picture.model_copy(update={"stand": "upright"})), timing, display, scaled=True)
    assert turned.area_mm2 / upright.area_mm2 == pytest.approx((4 / 3) / (3 / 4), rel=0.01)
    assert turned.circle == pytest.approx(1, abs=0.005)
    assert upright.circle == pytest.approx(1, abs=0.005)


# --- the smallest set ----------------------------------------------------------------------------------------------


def test_the_best_choice_of_at_most_so_many_modes() -> None:
    modes = tuple(Mode(name=f"m{n}", timing=standard_timings("dmt")[n + 4].timing) for n in range(3))
    rows = tuple(Choice(modes[:n], (0,), 1.0 / n) for n in (1, 2, 3))
    made = Front((), rows)
    assert [len(made.at_most(count).modes) for count in (1, 2, 3, 9, 0)] == [1, 2, 3, 3, 3]  # type: ignore[union-attr]
    assert Front((), rows[1:]).at_most(1) is rows[1], "fewer are not to be had"
    assert Front(()).at_most(1) is None


def test_what_a_game_asks_for_counts_and_wishes_weigh(demo: Demo, catalogue: Catalogue) -> None:
    """Two games with one picture of their own ask twice; a wish multiplies; the heaviest of a system decides."""
    system = catalogue.get(System, "birch-16")
    rows = [GameRaster(game=f"birch-16/{name}", width=320, height=224, refresh="59.9") for name in ("One", "Two")]
    build = edited(edited(demo.build, "picture.games", rows), "picture.wishes", {"birch-16": 2.0})
    askings = {asking.name: asking for asking in askings_of(build, [system], None)}
    assert askings["One"].weight == 4.0
    assert askings[system.name].weight == 2.0
    modes = tuple(Mode(name=f"m{n}", timing=standard_timings("dmt")[n + 4].timing) for n in range(2))
    order = tuple(askings.values())
    places = tuple(1 if asking.name == "One" else 0 for asking in order)
    assert given_by(Choice(modes, places, 0.0), order) == {"birch-16": modes[1]}
    assert given_by(Choice(modes, (-1,) * len(order), 0.0), order) == {}


def test_a_limit_that_is_just_kept_is_kept(demo: Demo, catalogue: Catalogue) -> None:
    """A mode 1 Hz too fast loses 60 frames a minute: within a limit of 60, beyond one of 59."""
    system = catalogue.get(System, "alder-8").model_copy(update={"refresh": "59"})
    path = signal_path_of(demo.build.with_part("display", "pane-24"), catalogue, World())
    assert path is not None
    mode = Mode(name="60", timing=standard_timings("dmt")[4].timing)
    rate = float(mode.timing.vertical_hz)
    wide = {"crop": 9.0, "border": 9.0, "circle": 9.0, "speed": 1e-9}
    asking = Asking("a", system.model_copy(update={"refresh": str(Fraction(mode.timing.vertical_hz) - 1)}))
    lost = (rate - float(asking.system.refresh_hz)) * 60
    for most, held in ((lost * 1.0001, True), (lost * 0.99, False)):
        table = costs([asking], [mode], path, Limits(lost_per_min=most, **wide))
        assert bool(table[0, 0] < 1.0) is held


@pytest.mark.long
def test_the_smallest_set_is_the_one_that_exhaustive_search_finds() -> None:
    pick = random.Random(50)
    for _ in range(200):
        rows, columns = pick.randint(1, 6), pick.randint(1, 7)
        table_ = np.array([[pick.choice([pick.random(), 1e6]) for _ in range(columns)] for _ in range(rows)])
        weights = np.array([pick.uniform(0.1, 5) for _ in range(rows)])
        served = [row for row in range(rows) if table_[row].min() < 1e6]
        found = solve(table_, weights)
        if not served:
            assert found == ()
            continue
        best: dict[int, float] = {}
        for count in range(1, columns + 1):
            for taken_ in itertools.combinations(range(columns), count):
                part = table_[np.ix_(served, taken_)].min(axis=1)
                if part.max() < 1e6:
                    cost = float((part * weights[served]).sum() / weights[served].sum())
                    best[count] = min(best.get(count, 9.0), cost)
        assert len(found[0].modes) == min(best)
        for each in found:
            within = [cost for count, cost in best.items() if count <= max(len(each.modes), len(found[0].modes))]
            assert each.cost == pytest.approx(min(within), abs=1e-9)
            assert each.gap < 1e-9
            for row, place in enumerate(each.served):
                assert (place < 0) == (row not in served)


@pytest.mark.parametrize("seed", [*range(5), 19])
def test_no_fewer_modes_serve_than_are_proposed(seed: int, catalogue: Catalogue) -> None:
    """Beside wide modes at every twentieth of a hertz."""
    pick, own = random.Random(seed), signal_path(catalogue)
    rows = []
    for number in range(pick.randint(4, 9)):
        base = pick.choice(catalogue.all(System))
        rate = str(round(pick.uniform(50.5, 60.5), 3))
        rows.append(Asking(str(number), base.model_copy(update={"refresh": rate})))
    modes = list(candidates(rows, own))
    for step in range(241):
        rate = Fraction(1000 + step, 20)
        near = [row.system for row in rows if abs(row.system.refresh_hz / rate - 1) < Fraction(3, 100)]
        wide = wide_modes(own, [each.model_copy(update={"refresh": str(rate)}) for each in near]) if near else {}
        modes += [mode for mode in wide.values() if judge(mode.timing, own)]
    best, mine = solve(costs(rows, modes, own, Limits()), np.ones(len(rows)))[0], front(rows, own).choices[0]
    assert sum(place >= 0 for place in mine.served) == sum(place >= 0 for place in best.served)
    assert len(mine.modes) == len(best.modes)


def test_three_thousand_games_are_served(catalogue: Catalogue) -> None:
    pick = random.Random(3)
    kinds = [*catalogue.all(System), *catalogue.all(System)[:2]]
    askings = []
    for number, shape in itertools.product(range(12), range(5)):
        base = kinds[number]
        height, rate = min(256, base.height + pick.randrange(-12, 8)), float(base.refresh_hz) + pick.uniform(-0.8, 0.8)
        system = base.model_copy(
            update={"width": base.width + pick.randrange(-20, 20), "height": height, "refresh": str(round(rate, 3))}
        )
        askings.append(Asking(f"{number}/{shape}", system, 50.0))
    assert sum(asking.weight for asking in askings) == 3000
    own = signal_path(catalogue)
    with that_ends():
        found = front(askings, own)
    assert found.choices
    limits = Limits()
    for choice in found.choices:
        suffered = costs(askings, choice.modes, own, limits)
        assert all(suffered[row, place] < 1 for row, place in enumerate(choice.served) if place >= 0)
    counts = [len(each.modes) for each in found.choices]
    assert counts == sorted(counts)
    assert [each.cost for each in found.choices] == sorted((each.cost for each in found.choices), reverse=True)


# --- judder --------------------------------------------------------------------------------------------------------


@given(st.fractions(20, 130, max_denominator=1000), st.fractions(20, 130, max_denominator=1000))
def test_as_many_frames_are_lost_or_doubled_as_the_rates_say(shown: Fraction, game: Fraction) -> None:
    play = Play(game, shown)
    fields = 600
    frames = cadence(play, fields)
    steps = [after - before for before, after in itertools.pairwise(frames)]
    assert all(step >= 0 for step in steps)
    assert frames[-1] - frames[0] == pytest.approx(float(game / shown) * (fields - 1), abs=1)
    if Fraction(3, 4) < game / shown < Fraction(3, 2):
        odd = sum(abs(step - 1) for step in steps)
        assert odd == pytest.approx(play.lost_per_min / 60 * float((fields - 1) / shown), abs=1.01)
    assert play.speed == pytest.approx(2 ** (play.cents / 1200))


# --- the chain -----------------------------------------------------------------------------------------------------


def chained(build: Build, parts: dict[str, str], *links: tuple[str, str, str]) -> Build:
    kept = [part for part in build.parts if part.role not in ("adapter", "adapter-2")]
    build = edited(build, "parts", (*kept, *(Part(role=role, part=part) for role, part in parts.items())))
    rest = [link for link in build.links if "display" not in link.end and "adapter" not in link.end]
    return edited(build, "links", (*rest, *(Link(start=a, end=b, cable=c) for a, b, c in links)))


def test_levels_and_resistors() -> None:
    assert into_75(3.3, 470) == pytest.approx(0.454, abs=5e-4)  # 3.3 V x 75 / 545
    assert into_75(5, 470) == pytest.approx(0.688, abs=5e-4)
    for volts in (3.3, 5.0):
        assert 0.3 < into_75(volts, resistor_for(volts)) < 0.6


def test_two_sync_outputs_tied_together_are_a_stop(demo: Demo, catalogue: Catalogue) -> None:
    tied = chained(
        demo.build,
        {"adapter": "gantry-15"},
        ("board.video", "adapter.in", "hdmi-a-a-1m"),
        ("adapter.out", "display.rgb", "de15-21-tied"),
    )
    (trouble,) = chain_of(tied, catalogue, World()).troubles
    assert (trouble.code, trouble.stops, trouble.place) == ("tied", True, "adapter")
    joined = chained(
        demo.build,
        {"adapter": "gantry-15", "adapter-2": "gantry-join"},
        ("board.video", "adapter.in", "hdmi-a-a-1m"),
        ("adapter.out", "adapter-2.in", "de15-1m5"),
        ("adapter-2.out", "display.rgb", "rgb-21-1m5"),
    )
    chain = chain_of(joined, catalogue, World())
    assert [place.role for place in chain.places] == ["board", "adapter", "adapter-2", "display"]
    assert not chain.troubles
    assert chain.places[2].sync_v == pytest.approx(into_75(5, 680))


def test_what_a_chain_may_have_wrong(demo: Demo, catalogue: Catalogue) -> None:
    colour_in = chained(
        demo.build,
        {"adapter": "gantry-colour"},
        ("board.video", "adapter.in", "hdmi-a-a-1m"),
        ("adapter.out", "display.video", "rca-2m"),
    )
    codes = {trouble.code for trouble in chain_of(colour_in, catalogue, World()).troubles}
    assert codes == {"hdmi", "width"}  # the menu of the demo has 640 pixels
    eighth = Mode(name="CTA 8", timing=standard_timings("cta")[8].timing)
    whole = edited(edited(colour_in, "picture.menu", eighth), "boot.link", "hdmi")
    assert not chain_of(whole, catalogue, World()).troubles
    hot = catalogue.get(Adapter, "gantry-join").model_copy(update={"ohms": 100.0})
    loud = chained(
        demo.build,
        {"adapter": "gantry-15", "adapter-2": "gantry-join"},
        ("board.video", "adapter.in", "hdmi-a-a-1m"),
        ("adapter.out", "adapter-2.in", "de15-1m5"),
        ("adapter-2.out", "display.rgb", "rgb-21-1m5"),
    )
    (level,) = chain_of(loud, _with(catalogue, hot), World()).troubles
    assert level.code == "level"
    assert "Ω in series" in level.do
    links = ("board.video2", "adapter.in", "hdmi-d-a-1m"), ("adapter.out", "display.rgb", "rgb-21-1m5")
    ling = chained(demo.build.with_part("board", "ling"), {"adapter": "gantry-rgb"}, *links)
    (second,) = chain_of(ling, catalogue, World()).troubles
    assert second.code == "output"
    told = next(
        finding for finding in findings(ling, catalogue, World()) if finding.code.startswith("picture.chain-output")
    )
    assert told.remedy is not None
    assert not chain_of(remedied(ling, told.remedy), catalogue, World()).troubles
    jack = Port(
        id="out",
        label="AV",
        connector="RCA",
        direction="out",
        signal="composite video",
        contacts=("left", "right", "ground", "picture"),
    )
    board = catalogue.get(Board, "herring")
    lead = catalogue.get(Cable, "rca-2m").model_copy(update={"contacts": ("left", "picture", "right", "ground")})
    odd = _with(catalogue, board.model_copy(update={"ports": (*board.ports, jack)}), lead)
    direct = chained(demo.build, {}, ("board.out", "display.video", "rca-2m"))
    (contacts,) = chain_of(direct, odd, World()).troubles
    assert contacts.code == "contacts"
    long = chained(
        edited(demo.build, "picture.menu", Mode(name="", timing=parse_timing("cta 16"))),
        {},
        ("board.video", "display.rgb", "hdmi-a-a-1m"),
    )
    far = catalogue.get(Cable, "hdmi-a-a-1m").model_copy(update={"length_m": 25.0})
    assert "length" in {trouble.code for trouble in chain_of(long, _with(catalogue, far), World()).troubles}


def _with(catalogue: Catalogue, *parts: object) -> Catalogue:
    """The catalogue with other parts in place of those of their ids."""
    return _Over(catalogue, {part.id: part for part in parts})


class _Over:
    def __init__(self, below: Catalogue, parts: dict[str, object]) -> None:
        self._below, self._parts = below, parts

    def find(self, kind: type, part_id: str | None) -> object:
        own = self._parts.get(part_id or "")
        return own if isinstance(own, kind) else self._below.find(kind, part_id)

    def any(self, part_id: str | None) -> object:
        return self._parts.get(part_id or "") or self._below.any(part_id)


@pytest.mark.parametrize(
    ("sent", "takes", "colour_seen", "holds"),
    [("PAL B/G", "PAL B/G", True, True), ("NTSC M", "PAL B/G", False, False), ("PAL M", "NTSC M", False, True)],
)
def test_what_a_set_shows_of_another_colour_system(sent: str, takes: str, colour_seen: bool, holds: bool) -> None:
    systems = {system.name: system for system in colour.SYSTEMS}
    found = colour.seen(systems[sent], systems[takes])
    assert (found.colour, found.holds) == (colour_seen, holds)


# --- signals -------------------------------------------------------------------------------------------------------


def test_a_wrong_moment_before_a_right_menu_is_a_stop(demo: Demo, catalogue: Catalogue) -> None:
    build = edited(demo.build.with_part("board", "ling"), "boot.dialect", "extlinux")
    build = remedied(build, taken(build, plans(build, catalogue, World())[0]))
    build = edited(build, "picture.issue_identification", True)
    found = {signal.key: signal for signal in signals(build, catalogue, World())}
    assert found["firmware"].harms
    assert not found["menu"].harms
    assert not any(each.harms for each in found.values() if each.key not in ("firmware",))
    told = next(finding for finding in findings(build, catalogue, World()) if finding.code == "picture.signal:firmware")
    assert told.severity is Severity.STOP
    after = remedied(build, told.remedy)
    assert not any(signal.harms for signal in signals(after, catalogue, World()))
    assert not [finding for finding in findings(after, catalogue, World()) if finding.severity is Severity.STOP]


def test_a_system_whose_mode_cannot_be_sent_keeps_the_menus(demo: Demo, catalogue: Catalogue) -> None:
    build = edited(demo.build.with_part("board", "ling"), "boot.dialect", "extlinux")
    build = remedied(build, taken(build, plans(build, catalogue, World())[0]))
    without = {signal.key: signal for signal in signals(build, catalogue, World())}
    assert "not offered" in without["birch-16"].origin
    given_over = edited(build, "picture.issue_identification", True)
    with_data = {signal.key: signal for signal in signals(given_over, catalogue, World())}
    assert with_data["birch-16"].timing == given_over.system_mode("birch-16").timing


# --- geometry ------------------------------------------------------------------------------------------------------


@settings(max_examples=60, deadline=None)
@given(
    middle=st.floats(35, 38.5),
    lines=st.floats(136, 146),
    pull=st.floats(0, 0.2),
    tick=st.sampled_from([1, 2]),
    code=st.sampled_from([8, 23]),
)
def test_two_rounds_of_rulers_centre_a_picture_within_a_pixel(
    middle: float, lines: float, pull: float, tick: int, code: int
) -> None:
    timing = standard_timings("cta")[code].timing
    extra = 24 if code == 23 else 0
    glass = SimulatedGlass(
        GlassStandIn(middle_us=middle, middle_lines=lines + extra, pull=pull, tick=tick, window_lines=216 + extra * 2)
    )
    for _ in range(2):
        moved = centred(timing, Readings(*glass.read(timing)))
        assert moved.timing.horizontal_hz == timing.horizontal_hz
        assert moved.timing.vertical_hz == timing.vertical_hz
        assert moved.timing.horizontal.sync == timing.horizontal.sync
        timing = moved.timing
        if moved.short:  # the porches are at their end, and it says so
            return
    off = Readings(*SimulatedGlass(glass.glass.model_copy(update={"tick": 1})).read(timing)).off
    assert abs(off[0]) <= 1 + tick / 2 + abs(pull) * 2
    assert abs(off[1]) <= 1


def test_moving_stops_where_the_porches_end_and_says_so() -> None:
    timing = standard_timings("cta")[8].timing
    moved = move(timing, 10_000, -10_000)
    assert moved.timing.horizontal.front == 1
    assert moved.timing.vertical.back == 1
    assert "right" in moved.short
    assert "up" in moved.short
    with pytest.raises(WrongUse):
        Readings(9999, 0, 0, 0)
    with pytest.raises(WrongUse):
        squeezed(0, 10)


def test_an_adjustment_is_kept_and_comes_with_the_next_plan(demo: Demo, catalogue: Catalogue) -> None:
    build = remedied(demo.build, taken(demo.build, plans(demo.build, catalogue, World())[0]))
    before = build.picture.menu.timing
    moved = centred(before, Readings(100, 40, 20, 10))
    build = remedied(build, applied(build, "menu", "casement-19", moved))
    assert build.picture.menu.timing.horizontal.back == before.horizontal.back + 30
    again = plans(build, catalogue, World())[0]
    assert again.menu is not None
    assert again.menu.timing == build.picture.menu.timing
    further = centred(build.picture.menu.timing, Readings(10, 4, 0, 0))
    build = remedied(build, applied(build, "menu", "casement-19", further, squeezed(210, 200)))
    (kept,) = build.picture.adjustments
    plain_one, squeezed_one = (
        plans(remedied(demo.build, taken(demo.build, again)), catalogue, World()),
        plans(build, catalogue, World()),
    )
    assert plain_one[2].off_round < 0.01
    assert squeezed_one[2].off_round < 0.01  # scaling makes up for it
    assert squeezed_one[2].rows[0].glass.box[2] < plain_one[2].rows[0].glass.box[2]
    assert (kept.right, kept.down, kept.squeeze) == (33, 3, 1.05)  # three lines is what the front porch of CTA 8 gives


def test_the_card_goes_with_the_boot_files_where_the_firmware_shows_it(demo: Demo, catalogue: Catalogue) -> None:
    build = remedied(demo.build, taken(demo.build, plans(demo.build, catalogue, World())[0]))
    assert firmware.files(build, catalogue) == {}
    build = edited(build, "picture.test_card", True)
    ((name, data),) = firmware.files(build, catalogue).items()
    text = next(file for file in compiled(build, catalogue, {}) if file.path == "merrow.settings").text
    assert f"picture.first = {name}" in text.replace("=", " = ").replace("  ", " ")
    with Image_.open(BytesIO(data)) as picture:
        assert picture.size == build.picture.menu.timing.size
    assert firmware.files(build.with_part("board", "ling"), catalogue) == {}


@given(st.integers(32, 2600), st.integers(32, 1300), st.sampled_from(testcard.PLATES))
@settings(max_examples=40, deadline=None)
def test_a_test_card_of_any_size_is_drawn(wide: int, high: int, plate: testcard.Plate) -> None:
    display = load().get(Display, "casement-19")
    axis = Axis(active=wide, front=8, sync=8, back=8, positive=True)
    timing = Timing(clock_hz=27_000_000, horizontal=axis, vertical=axis.model_copy(update={"active": high}))
    picture = testcard.card(timing, display, plate)
    assert picture.shape == (high, wide, 3)


def test_the_rulers_count_from_the_edges_and_the_ring_is_round_on_the_glass(catalogue: Catalogue) -> None:
    timing, display = standard_timings("cta")[8].timing, catalogue.get(Display, "casement-19")
    picture = testcard.card(timing, display).astype(int)
    row = picture[picture.shape[0] // 2 - 1]  # the ticks' lowest line
    marks = [x for x in range(170) if tuple(row[x]) == testcard.MARK]
    steps = {after - before for before, after in itertools.pairwise(marks)}
    assert marks[0] == 0
    assert len(steps) == 1
    assert [
        picture.shape[1] - 1 - x
        for x in range(picture.shape[1] - 170, picture.shape[1])
        if tuple(row[x]) == testcard.MARK
    ][::-1] == marks
    radius, away = 0.4 * 240, 48  # lines; where neither ruler is
    across = np.flatnonzero((picture[119 - away] == testcard.INK).all(axis=1))
    wide = (np.ptp(across[(across > 190) & (across < 1250)]) + 1) / 1440 * 376 / 2  # mm
    high = (radius**2 - (away + 0.5) ** 2) ** 0.5 / 240 * 282
    assert wide == pytest.approx(high, rel=0.02)


# --- identification data -------------------------------------------------------------------------------------------


def _data(count: int = 1, **changes: object) -> Edid:
    whole = [row.timing for row in standard_timings("cta").values() if row.timing.clock_hz % 10_000 == 0]
    timings = tuple(dict.fromkeys(each for each in whole if each.half_line and each.size[0] < 3000))[:count]
    base = Edid("KYK", 1, 2, 2026, "Test", timings[:2], (400, 300), RangeLimits((48, 75), (15, 90), 170))
    return with_timings(Edid(**{**base.__dict__, **changes}), timings)


@pytest.mark.parametrize("count", [1, 2, 3, 7, 9, 20])
@pytest.mark.parametrize("hdmi", [False, True])
def test_any_number_of_timings_is_written_and_read_back(count: int, hdmi: bool) -> None:
    data = with_hdmi(_data(count), on=hdmi, audio=hdmi)
    read = edid.read(edid.write(data))
    assert timings_of(read) == timings_of(data)
    assert len(timings_of(read)) == count
    assert bool(read.extension and read.extension.hdmi) == hdmi


@settings(max_examples=400, deadline=None)
@given(st.data())
def test_damaged_data_are_repaired_or_refused_in_words(data: st.DataObject) -> None:
    whole = bytearray(edid.write(with_hdmi(_data(9), on=True, audio=True)))
    for _ in range(data.draw(st.integers(1, 6))):
        whole[data.draw(st.integers(0, len(whole) - 1))] = data.draw(st.integers(0, 255))
    cut = bytes(whole[: data.draw(st.integers(60, len(whole)))])
    try:
        found = repaired(cut)
    except FormatError:
        return
    again = repaired(found.data)
    assert again.data == found.data
    assert not again.done
    edid.read(found.data)


def test_data_handed_over_hold_every_mode_of_the_build(demo: Demo, catalogue: Catalogue) -> None:
    build = edited(demo.build, "systems", [each.id for each in catalogue.all(System)])
    build = remedied(build, taken(build, plans(build, catalogue, World())[0]))
    for sound in ("analogue", "digital"):
        data = identification(edited(build, "boot.sound", sound), catalogue.get(Display, "casement-19"))
        wanted = {build.picture.menu.timing, *(row.mode.timing for row in build.picture.systems)}
        assert set(timings_of(edid.read(edid.write(data)))) == wanted
        assert (data.extension or Extension()).hdmi == (sound == "digital")


# --- what is issued, and waking ------------------------------------------------------------------------------------


def test_nothing_that_must_not_be_sent_is_issued(demo: Demo, catalogue: Catalogue) -> None:
    files = issue(demo.build, catalogue, World())  # its menu is 31 kHz
    assert "31469" not in table(demo.build, catalogue, World())
    assert "picture/kernel.words" not in files
    assert "picture/issued.edid" not in files
    assert "640 480" not in str(files["picture/fb.modes"])
    fine = remedied(demo.build, taken(demo.build, plans(demo.build, catalogue, World())[0]))
    after = issue(fine, catalogue, World())
    assert "geometry 1440 240" in str(after["picture/fb.modes"])
    assert set(after) >= {"picture/sheet.svg", "picture/issued.edid", "picture/kernel.words", "picture/card-tones.png"}


def test_a_display_that_needs_waking_is_woken_or_that_is_a_stop(demo: Demo, catalogue: Catalogue) -> None:
    build = demo.build.with_part("display", "casement-bare-9")
    build = remedied(build, taken(build, plans(build, catalogue, World())[0]))
    stop = next(finding for finding in findings(build, catalogue, World()) if finding.code == "picture.waking-bus")
    after = remedied(build, stop.remedy)
    assert "picture.waking-bus" not in {finding.code for finding in findings(after, catalogue, World())}
    image, display = catalogue.get(Image, "quayside"), catalogue.get(Display, "casement-bare-9")
    text = "".join(part.text for part in setup_parts(after, image, display))
    assert "i2cset -y 1 0x2a 0x00 0x01" in text
    assert text.index("0x05 0x40") < text.index("0x06 0x3c") < text.index("0x00 0x81")
    assert "^exit" in text  # before the last exit of rc.local
    assert rows_of(after, catalogue, World())
    assert not refused(after.picture.menu.timing, signal_path(catalogue, "casement-bare-9"))
    assert carried(catalogue.get(Board, "herring")).holds(after.picture.menu.timing)
