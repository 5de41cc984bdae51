"""Constructed timings against the television standards: SMPTE 170M, ITU-R BT.470, and the rows of CTA-861 that carry
them over a digital link (codes 8 and 23, figures of edid-decode's table)."""

from __future__ import annotations

from fractions import Fraction

import pytest

from kyklon.catalogue.loader import Catalogue, standard_timings
from kyklon.catalogue.records import Board, Display
from kyklon.catalogue.system_records import System
from kyklon.operations.picture.construct import SYSTEM_525, SYSTEM_625, Frame, construct, lines_for, standard_of
from kyklon.operations.picture.ranges import carried, propose

LINKS = (25_000_000, 200_000_000)  # HDMI carries at least 25 MHz


@pytest.mark.parametrize(("code", "rate"), [(8, Fraction(4_500_000, 286 * 262)), (23, Fraction(15_625, 312))])
def test_lines_and_porches_are_those_of_cta_861(code: int, rate: Fraction) -> None:
    row = standard_timings("cta")[code].timing
    lines = lines_for(Frame(1440, row.vertical.active, rate), (15.2, 16.5))
    assert lines == row.vertical.total
    made = construct(Frame(1440, row.vertical.active, rate), lines, LINKS)
    assert made is not None
    assert (made.timing.vertical.active, made.timing.vertical.front, made.timing.vertical.sync) == (
        row.vertical.active,
        row.vertical.front,
        row.vertical.sync,
    )
    assert made.off_hz <= 0.001


@pytest.mark.parametrize(("standard", "rate"), [(SYSTEM_525, Fraction(60_000, 1001)), (SYSTEM_625, Fraction(50))])
def test_a_line_keeps_the_standards_times(standard: object, rate: Fraction) -> None:
    """Blanking, front porch and sync in µs, of SMPTE 170M and of BT.470 B and G."""
    assert standard_of(rate) is standard
    told = {525: ((10.9, 0.2), (1.5, 0.1), (4.7, 0.1)), 625: ((12.0, 0.3), (1.5, 0.3), (4.7, 0.2))}
    blanking, front, sync = told[525 if rate > 55 else 625]
    lines = lines_for(Frame(1440, standard.active, rate), (15.2, 16.5))
    for active in range(1344, 2500, 64):
        made = construct(Frame(active, standard.active, rate), lines, LINKS)
        assert made is not None
        axis = made.timing.horizontal
        period = 1e6 / float(made.timing.horizontal_hz)
        shrink = period * float(standard.line_hz) / 1e6  # 312 of 312.5 lines
        for pixels, (nominal, tolerance) in ((axis.blank, blanking), (axis.front, front), (axis.sync, sync)):
            assert made.timing.microseconds(pixels) == pytest.approx(nominal * shrink, abs=tolerance)
        assert made.off_hz <= made.step_hz / 2 + 1e-6


def test_every_system_gets_its_own_rate_on_a_television(catalogue: Catalogue) -> None:
    """Within 0.001 Hz: one frame in a quarter of an hour."""
    display, board = catalogue.get(Display, "casement-19"), catalogue.get(Board, "herring")
    for system in catalogue.all(System):
        mode = propose(system, display, carried(board), display.ranges)
        assert mode is not None
        assert abs(mode.timing.vertical_hz - system.refresh_hz) <= Fraction(1, 1000)
        usual = (262, 263) if system.refresh_hz > 55 else (312, 313)
        assert mode.timing.vertical.total in usual or system.id == "fir-board-v"  # 15.2 kHz is the least it follows


def test_a_625_line_system_is_no_longer_taken_for_525() -> None:
    """312 lines at 15.6 kHz with 12.0 µs of blanking, not 314 at 15.74 with 11.0."""
    lines = lines_for(Frame(1440, 288, Fraction(50)), (15.2, 16.5))
    made = construct(Frame(1440, 288, Fraction(50)), lines, LINKS)
    assert made is not None
    assert (lines, float(made.timing.horizontal_hz)) == (312, pytest.approx(15_600, abs=1))
    assert made.timing.microseconds(made.timing.horizontal.blank) == pytest.approx(12.0, abs=0.3)


@pytest.mark.parametrize(("code", "rate"), [(6, Fraction(60_000, 1001)), (21, Fraction(50))])
def test_interlaced_fields_are_those_of_cta_861(code: int, rate: Fraction) -> None:
    """Codes 6 and 21: 525 and 625 lines a frame."""
    row = standard_timings("cta")[code].timing
    lines = lines_for(Frame(1440, row.vertical.active, rate, True), (15.2, 16.5))
    made = construct(Frame(1440, row.vertical.active, rate, True), lines, LINKS)
    assert made is not None
    down, told = made.timing.vertical, row.vertical
    assert (down.active, down.front, down.sync, down.back) == (told.active, told.front, told.sync, told.back)
    assert made.timing.lines_per_frame == row.lines_per_frame == (525 if code == 6 else 625)
    assert float(made.timing.vertical_hz) == pytest.approx(float(rate), abs=1e-3)


def test_a_system_with_more_lines_than_a_field_is_interlaced(catalogue: Catalogue) -> None:
    display, board = catalogue.get(Display, "casement-19"), catalogue.get(Board, "herring")
    tall = catalogue.get(System, "cedar-disc").model_copy(update={"height": 448})
    mode = propose(tall, display, carried(board), display.ranges)
    assert mode is not None
    assert mode.timing.interlaced
    assert mode.timing.size[1] >= 448
    assert 15.2 <= float(mode.timing.horizontal_hz) / 1000 <= 16.5
    assert not propose(catalogue.get(System, "cedar-disc"), display, carried(board), display.ranges).timing.interlaced
