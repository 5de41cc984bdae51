"""No tube is ever sent what its own ranges exclude, whatever identification data say; and what lies at a range's very
edge is served, not refused."""

from __future__ import annotations

import random
from fractions import Fraction

import pytest

from kyklon.catalogue.loader import Catalogue, load, standard_timings
from kyklon.catalogue.records import Display, Range
from kyklon.catalogue.system_records import System
from kyklon.model.build import Build, edited, remedied
from kyklon.model.display import Edid, RangeLimits
from kyklon.model.findings import Severity
from kyklon.model.timing import Mode
from kyklon.model.world import World
from kyklon.operations.picture import edid
from kyklon.operations.picture.findings import findings, menu_mode, mode_remedy
from kyklon.operations.picture.papers import issue
from kyklon.operations.picture.ranges import carried, contradicts, display_ranges, propose
from kyklon.operations.picture.schools import SCHOOLS, plan
from kyklon.operations.picture.sending import identification, unfit
from kyklon.operations.picture.signal_path import SignalPath, refused
from kyklon.operations.picture.smallest import Asking, candidates
from support import Demo
from test_picture_whole import judge, signal_path


def data_saying(line: tuple[int, int], field: tuple[int, int], *, first: int = 0x10) -> Edid:
    timings = (standard_timings("dmt")[first].timing,)
    return Edid("KYK", 1, 1, 2026, "Other", timings, (400, 300), RangeLimits(field, line, 300))


def random_ground(chance: random.Random, catalogue: Catalogue) -> SignalPath:
    """A tube of one to three ranges, with data of its own, another display's, or none."""
    bands = []
    for _ in range(chance.choice((1, 1, 2, 3))):
        low = chance.choice((15.0, 15.6, 24.0, 31.0, chance.uniform(14, 60)))
        slow = chance.choice((45.0, 49.0, 50.0, chance.uniform(40, 59)))
        bands.append(
            Range(
                line_khz=(low, low + chance.choice((0.4, 1.2, 7.0))),
                field_hz=(slow, chance.choice((60.0, 60.05, 61.0, 75.0))),
            )
        )
    own = signal_path(catalogue, "casement-19", chance.choice(("gantry-rgb", "gantry-15", "")))
    tube = own.display.model_copy(update={"ranges": tuple(bands)})
    line = sorted(chance.sample(range(10, 130), 2))
    data = data_saying((line[0], line[1]), (chance.randrange(24, 60), chance.randrange(60, 160)))
    return SignalPath(tube, own.board, own.adapters, chance.choice((data, data, None)))


def test_data_of_another_display_never_lift_the_guard(demo: Demo) -> None:
    """The monitor's data handed over by an adapter, in front of a 15 kHz tube."""
    build = edited(demo.build, "picture.identification", "attachments/pane-24.edid")
    catalogue = load()
    tube = catalogue.get(Display, "casement-19")
    world = World(identification=edid.read((demo.folder / "attachments/pane-24.edid").read_bytes()))
    assert contradicts(tube, world.identification)
    assert display_ranges(tube, world.identification) == tube.ranges
    found = {finding.code: finding for finding in findings(build, catalogue, world)}
    assert found["picture.identification-other"].severity is Severity.STOP
    vga = edited(build, "picture.menu", Mode(name="31 kHz", timing=standard_timings("cta")[1].timing))
    told = {finding.code: finding for finding in findings(vga, catalogue, world)}
    assert told["picture.out-of-range:menu"].severity is Severity.STOP
    after = remedied(vga, told["picture.out-of-range:menu"].remedy)
    assert float(after.picture.menu.timing.horizontal_hz) < 17_000
    right = {finding.code for finding in findings(after, catalogue, world) if finding.severity is Severity.STOP}
    assert not {code for code in right if code.startswith("picture.out-of-range")}


def test_nothing_that_is_proposed_leaves_the_parts_own_range(catalogue: Catalogue) -> None:
    chance, proposals = random.Random(25), 0
    systems = catalogue.all(System)
    for number in range(60):
        own = random_ground(chance, catalogue)
        made = [propose(system, own.display, own.link, own.ranges) for system in systems]
        made.append(menu_mode(own.display, own.link, own.ranges))
        made += candidates([Asking(listed.name, listed) for listed in chance.sample(systems, 3)], own)
        planned = plan(SCHOOLS[number % 3], own, systems)
        made += planned.modes if not planned.why else ()
        proposals += sum(mode is not None for mode in made)
        assert all(judge(mode.timing, own) for mode in made if mode is not None), own.display.ranges
    assert proposals > 500


def test_no_remedy_and_no_issued_file_leaves_the_parts_own_range(demo: Demo) -> None:
    catalogue, chance = load(), random.Random(26)
    rows = [row.timing for row in (*standard_timings("cta").values(), *standard_timings("dmt").values())]
    for _ in range(60):
        own = random_ground(chance, catalogue)
        build: Build = edited(demo.build, "picture.menu", Mode(name="any", timing=chance.choice(rows)))
        remedy = mode_remedy(build, catalogue, "menu", own.display, own.board, own.ranges)
        if remedy is not None:
            after = remedied(build, remedy)
            assert refused(after.picture.menu.timing, SignalPath(own.display, own.board)) == ""
        if not judge(build.picture.menu.timing, SignalPath(own.display, own.board)):
            said = unfit(build, own.display)
            inside = any(
                low <= float(build.picture.menu.timing.horizontal_hz) / 1000 <= high
                for low, high in (band.line_khz for band in own.display.ranges)
            )
            assert inside or "outside what" in said
        else:
            issued = identification(edited(build, "picture.systems", []), own.display)
            assert issued.timings[0] == build.picture.menu.timing
    wrong = edited(demo.build, "picture.menu", Mode(name="31 kHz", timing=standard_timings("cta")[1].timing))
    for data in (None, data_saying((30, 80), (50, 75))):
        files = issue(wrong, catalogue, World(identification=data))
        assert "picture/kernel.words" not in files
        assert "picture/issued.edid" not in files
        assert "25.175" not in str(files["picture/modelines.conf"])


@pytest.mark.parametrize("seed", range(3))
def test_at_the_very_edge_a_tube_is_served(seed: int, catalogue: Catalogue) -> None:
    """A hundred tubes whose ranges end at what systems run at: the clock's steps must carry no mode over the edge."""
    chance = random.Random(seed)
    for _ in range(100):
        fast = chance.choice((60.0, 60.05, 59.94, 60.0988))
        line = chance.choice(((15.6, 15.75), (15.0, 15.734), (15.2, 16.5), (15.625, 15.9)))
        band = Range(line_khz=line, field_hz=(49.0, fast))
        tube = catalogue.get(Display, "casement-19").model_copy(update={"ranges": (band,)})
        own = SignalPath(tube, signal_path(catalogue).board, signal_path(catalogue).adapters)
        link = carried(own.board, own.adapters, tube)
        for rate in (Fraction(60), Fraction(50), Fraction(str(fast)), Fraction(str(fast)) + Fraction(1, 20)):
            system = catalogue.all(System)[0].model_copy(update={"refresh": f"{rate.numerator}/{rate.denominator}"})
            if rate > Fraction(str(fast)) * Fraction(1003, 1000):
                continue
            made = propose(system, tube, link, own.ranges)
            assert made is not None, (float(rate), band)
            assert judge(made.timing, own)
            assert abs(float(made.timing.vertical_hz) / float(rate) - 1) < 0.004
        menu = menu_mode(tube, link, own.ranges)
        assert menu is not None
        assert judge(menu.timing, own)
