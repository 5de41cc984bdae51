"""Ranges, proposed modes, placement, identification data."""

from __future__ import annotations

from fractions import Fraction

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kyklon.base.errors import FormatError, WrongUse
from kyklon.base.progress import UNWATCHED
from kyklon.catalogue.loader import Catalogue, standard_timings
from kyklon.catalogue.records import Board, Display, Range
from kyklon.catalogue.system_records import System
from kyklon.model.build import edited, remedied
from kyklon.model.display import Edid, Extension, RangeLimits
from kyklon.model.timing import Axis, Mode, Timing
from kyklon.model.world import World
from kyklon.operations.picture import edid
from kyklon.operations.picture.exports import fb_mode, modeline
from kyklon.operations.picture.findings import findings, menu_mode
from kyklon.operations.picture.formulas import cvt, gtf
from kyklon.operations.picture.glass import Play, on_glass
from kyklon.operations.picture.observe import look_at_display
from kyklon.operations.picture.ranges import carried, display_ranges, fit, propose, raster
from support import Demo

SYSTEMS = ("alder-8", "birch-16", "cedar-disc", "dogwood-pocket", "elm-micro", "fir-board-h", "fir-board-v")


@pytest.mark.parametrize("system_id", SYSTEMS)
@pytest.mark.parametrize("display_id", ["casement-19", "casement-tri-25"])
def test_a_proposed_mode_fits_display_link_and_system(system_id: str, display_id: str, catalogue: Catalogue) -> None:
    system, display = catalogue.get(System, system_id), catalogue.get(Display, display_id)
    board = catalogue.get(Board, "herring")
    mode = propose(system, display, carried(board), display.ranges)
    assert mode is not None
    timing = mode.timing
    assert fit(timing, display.ranges).holds
    assert board.least_clock_hz <= timing.clock_hz <= board.most_clock_hz
    assert timing.clock_hz % 10_000 == 0
    spot = on_glass(system, timing, display)
    width, height = raster(system)
    assert spot.box[2:] == (width * spot.scale[0], height * spot.scale[1])
    assert 0 <= spot.box[0] < 0.2 * timing.size[0]
    assert 0 <= spot.lost < 0.2
    play = Play(system.refresh_hz, timing.vertical_hz)
    assert abs(play.cents) < 1.0  # nobody hears a hundredth of a semitone
    assert play.lost_per_min < 3


@given(st.integers(64, 1024), st.integers(100, 288), st.fractions(48, 64, max_denominator=1000))
def test_proposals_for_any_machine_hold_or_are_none(width: int, height: int, rate: Fraction) -> None:
    from kyklon.catalogue.loader import load

    catalogue = _CATALOGUE.setdefault("it", load())
    system = catalogue.get(System, "birch-16").model_copy(
        update={"width": width, "height": height, "refresh": str(rate)}
    )
    display = catalogue.get(Display, "casement-19")
    mode = propose(system, display, carried(catalogue.get(Board, "herring")), display.ranges)
    if mode is not None:
        assert mode.timing.vertical.active >= height
        assert mode.timing.horizontal.active % 64 == 0
        assert fit(mode.timing, display.ranges).off_khz == pytest.approx(0, abs=0.01)


_CATALOGUE: dict[str, Catalogue] = {}


def test_a_flat_panel_gets_its_native_mode(catalogue: Catalogue) -> None:
    display, board = catalogue.get(Display, "pane-24"), catalogue.get(Board, "herring")
    assert propose(catalogue.get(System, "birch-16"), display, carried(board), display.ranges) is None
    mode = menu_mode(display, carried(board), display.ranges)
    assert mode.timing.size == display.native


def test_the_tube_gets_a_television_mode_for_its_menu(catalogue: Catalogue) -> None:
    display = catalogue.get(Display, "casement-19")
    mode = menu_mode(display, carried(catalogue.get(Board, "herring")), display.ranges)
    assert mode.name == "CTA 8"  # 1440 x 240 at 27 MHz


def test_identification_data_narrows_the_catalogue(catalogue: Catalogue) -> None:
    display = catalogue.get(Display, "casement-tri-25")
    limits = RangeLimits((50, 60), (15, 17), 50)
    data = Edid("KYK", 1, 1, 2026, "Tri", (standard_timings("cta")[8].timing,), (500, 375), limits)
    (band,) = display_ranges(display, data)
    assert band.line_khz == (15.2, 16.5)
    assert band.field_hz == (49.5, 60.5)
    assert display_ranges(display, None) == display.ranges


def test_distance_to_the_nearest_range() -> None:
    ranges = (Range(line_khz=(15, 16), field_hz=(49, 63)), Range(line_khz=(31, 32), field_hz=(49, 63)))
    vga = standard_timings("cta")[1].timing
    assert fit(vga, ranges).holds
    assert fit(vga, ranges[:1]).off_khz == pytest.approx(15.469, abs=1e-3)
    assert fit(standard_timings("cta")[23].timing, ranges[1:]).off_khz == pytest.approx(-15.375, abs=1e-3)


def test_a_mode_outside_the_range_is_a_stop_with_a_remedy(demo: Demo, catalogue: Catalogue) -> None:
    found = [finding for finding in findings(demo.build, catalogue, World()) if finding.severity == "stop"]
    assert [each.code for each in found] == ["picture.out-of-range:menu"]
    assert "31.47" in found[0].title
    after = remedied(demo.build, found[0].remedy)
    assert findings(after, catalogue, World()) == []


def test_a_systems_mode_outside_the_range_has_its_own_remedy(demo: Demo, catalogue: Catalogue) -> None:
    wrong = Mode(name="CTA 1", timing=standard_timings("cta")[1].timing)
    rows = [system.model_dump() for system in demo.build.picture.systems]
    rows[1]["mode"] = wrong.model_dump()
    build = edited(demo.build, "picture.systems", rows)
    found = next(
        finding for finding in findings(build, catalogue, World()) if finding.code == "picture.out-of-range:birch-16"
    )
    after = remedied(build, found.remedy)
    assert after.system_mode("birch-16") == demo.build.system_mode("birch-16")


def test_a_clock_below_the_links_floor_is_a_stop(demo: Demo, catalogue: Catalogue) -> None:
    timing = standard_timings("cta")[8].timing
    slow = timing.model_copy(
        update={
            "clock_hz": 13_500_000,
            "horizontal": timing.horizontal.model_copy(update={"active": 720, "front": 19, "sync": 62, "back": 57}),
        }
    )
    build = edited(demo.build, "picture.menu", Mode(name="half", timing=slow))
    codes = {finding.code for finding in findings(build, catalogue, World())}
    assert codes == {"picture.clock:menu"}


@pytest.mark.parametrize(
    ("width", "height", "rate"), [(10, 480, 60), (640, 99999, 60), (640, 480, 0), (640, 480, 9000)]
)
def test_senseless_requests_are_refused_by_name(width: int, height: int, rate: float) -> None:
    for formula in (cvt, gtf):
        with pytest.raises(WrongUse, match=r"width|height|rate"):
            formula(width, height, rate)


@settings(deadline=None)
@given(
    st.integers(640, 2560),
    st.integers(400, 1440),
    st.integers(50, 100),
    st.sampled_from(["normal", "reduced1", "reduced2", "reduced3"]),
)
def test_cvt_comes_out_near_what_was_asked(width: int, height: int, rate: int, blanking: str) -> None:
    timing = cvt(width, height, rate, blanking)
    assert 0 <= width - timing.horizontal.active < 8
    # the clock is rounded down by at most one step of 250 kHz, and the line count by formula
    step = 1 - 250_000 / timing.clock_hz
    assert 0.98 * rate * step < float(timing.vertical_hz) <= rate * 1.03


def test_texts_for_others_add_up() -> None:
    timing = standard_timings("dmt")[4].timing
    assert modeline(timing, "vga") == 'Modeline "vga" 25.175000 640 656 752 800 480 490 492 525 -HSync -VSync'
    assert "timings 39722 48 16 33 10 96 2" in fb_mode(timing, "vga")  # fb.modes(5) of 640x480-60
    laced = standard_timings("cta")[5].timing
    assert " 1080 1084 1094 1125 " in modeline(laced, "x") + " "
    assert "Interlace" in modeline(laced, "x")


# --- identification data ----------------------------------------------------------------------------------------


def sheet(**changes: object) -> Edid:
    base = {
        "vendor": "KYK",
        "product": 7,
        "serial": 9,
        "year": 2026,
        "name": "Sheet",
        "timings": (standard_timings("cta")[8].timing,),
        "size_mm": (400, 300),
        "ranges": RangeLimits((49, 63), (15, 17), 50),
    }
    return Edid(**(base | changes))


@given(
    st.from_regex(r"[A-Z]{3}", fullmatch=True),
    st.integers(0, 65535),
    st.integers(0, 2**32 - 1),
    st.integers(1990, 2245),
    st.sampled_from([1, 4, 5, 8, 16, 23, 39]),
    st.integers(10, 2550),
    st.booleans(),
)
def test_what_is_written_reads_back(
    vendor: str, product: int, serial: int, year: int, code: int, wide: int, hdmi: bool
) -> None:
    extension = Extension((code, 1), audio=hdmi, hdmi=hdmi)
    timing = standard_timings("cta")[code].timing
    clock = (timing.clock_hz + 5_000) // 10_000 * 10_000
    timing = timing.model_copy(update={"clock_hz": clock, "half_line": True})
    data = sheet(
        vendor=vendor,
        product=product,
        serial=serial,
        year=year,
        size_mm=(wide, 300),
        timings=(timing,),
        extension=extension,
    )
    assert edid.read(edid.write(data)) == data


@given(st.binary(max_size=260))
def test_any_bytes_give_data_or_the_one_error(data: bytes) -> None:
    with pytest.raises(FormatError):
        edid.read(data)


@given(st.integers(0, 255), st.integers(0, 255))
def test_a_changed_byte_is_found_by_its_checksum(at: int, value: int) -> None:
    data = bytearray(edid.write(sheet(extension=Extension((1,)))))
    if data[at] == value:
        return
    data[at] = value
    with pytest.raises(FormatError) as caught:
        edid.read(bytes(data))
    assert caught.value.offset in (0, 127, 255, 256)


@given(st.integers(54, 125), st.integers(0, 255))
def test_nonsense_behind_a_right_checksum_gives_data_or_the_one_error(at: int, value: int) -> None:
    data = bytearray(edid.write(sheet()))
    data[at] = value
    data[127] = -sum(data[:127]) % 256
    try:
        edid.read(bytes(data))
    except FormatError as bad:
        assert 54 <= bad.offset < 126


@pytest.mark.parametrize(
    ("changes", "told"),
    [
        ({"vendor": "ky"}, "three capital letters"),
        ({"name": "A name that is too long"}, "13 letters"),
        ({"timings": (standard_timings("cta")[8].timing,) * 3}, "3 detailed timings"),
        ({"timings": (standard_timings("cta")[102].timing,)}, "width=4096"),
        ({"ranges": RangeLimits((49, 300), (15, 17), 50)}, "one byte"),
    ],
)
def test_what_the_format_cannot_hold_is_refused(changes: dict[str, object], told: str) -> None:
    with pytest.raises(WrongUse, match=told):
        edid.write(sheet(**changes))


def test_damaged_identification_data_is_a_finding(demo: Demo, catalogue: Catalogue) -> None:
    path = demo.folder / demo.build.picture.identification
    data = bytearray(path.read_bytes())
    data[60] ^= 1
    path.write_bytes(bytes(data))
    world = look_at_display(demo.build, demo.folder, catalogue, World(), UNWATCHED)
    assert "at byte 127 expected the checksum" in world.identification_error
    found = findings(demo.build, catalogue, world)
    assert "picture.identification" in {each.code for each in found}
    path.unlink()
    assert (
        "cannot be read" in look_at_display(demo.build, demo.folder, catalogue, World(), UNWATCHED).identification_error
    )


def sized(catalogue: Catalogue, width: int, height: int) -> System:
    return catalogue.get(System, "birch-16").model_copy(update={"width": width, "height": height, "vertical": False})


def raster_of(across: int, down: int) -> Mode:
    axes = [Axis(active=active, front=8, sync=16, back=24, positive=False) for active in (across, down)]
    return Mode(name="x", timing=Timing(clock_hz=27_000_000, horizontal=axes[0], vertical=axes[1]))


def test_a_picture_is_placed_as_worked_by_hand(catalogue: Catalogue) -> None:
    """1440 by 240 on a 4:3 tube: 320 by 224 goes in 4 by 1 times; borders of 80 and 8; worked on paper."""
    tube = catalogue.get(Display, "casement-19").model_copy(update={"overscan_percent": 5.0})
    system, timing = sized(catalogue, 320, 224), raster_of(1440, 240).timing
    spot = on_glass(system, timing, tube)
    assert (spot.scale, spot.box) == ((4, 1), (80, 8, 1280, 224))
    assert spot.circle == pytest.approx((1280 / 1440) / (224 / 240))
    assert spot.lost == pytest.approx(1 / 28)  # 2 x (0.05 - 1/30) of 14/15 of the height
    wide = on_glass(system, timing, tube.model_copy(update={"overscan_percent": 10.0}))
    assert wide.lost == pytest.approx(1 - 0.9 * 6 / 7)
    assert on_glass(system, timing, tube.model_copy(update={"overscan_percent": 0.0})).lost == 0


def test_a_flat_display_scales_by_whole_pixels(catalogue: Catalogue) -> None:
    timing, pane = raster_of(1920, 1080).timing, catalogue.get(Display, "pane-24")
    spot = on_glass(sized(catalogue, 320, 224), timing, pane)
    assert (spot.scale, spot.box) == ((4, 4), (320, 92, 1280, 896))
    assert spot.circle == pytest.approx(1280 / 896 * 3 / 4)
    assert on_glass(sized(catalogue, 3000, 2000), timing, pane).scale == (1, 1)


@pytest.mark.parametrize("system", ["alder-8", "birch-16", "cedar-disc", "elm-micro"])
def test_the_parts_of_a_proposed_mode_add_up(system: str, catalogue: Catalogue) -> None:
    display, board = catalogue.get(Display, "casement-19"), catalogue.get(Board, "herring")
    wanted = catalogue.get(System, system)
    mode = propose(wanted, display, carried(board), display.ranges)
    assert mode is not None
    timing = mode.timing
    down = timing.vertical
    assert down.sync == 3  # lines of vertical sync, CP
    assert down.front == (2 if wanted.refresh_hz < 55 else 4)  # as CTA-861's codes 23 and 8
    assert down.back == down.total - down.active - down.front - 3 >= 1
    assert down.active >= wanted.height
    assert float(timing.vertical_hz) == pytest.approx(float(Fraction(wanted.refresh)), abs=1e-3)
    assert timing.size[0] % 64 == 0
    assert timing.size[0] >= 2 * wanted.width
    assert board.least_clock_hz <= timing.clock_hz <= board.most_clock_hz


def test_limits_are_cut_half_a_kilohertz_wider_than_they_read(catalogue: Catalogue) -> None:
    """Worked by hand: a tube of 15.2 to 16.5 kHz, 49 to 63 Hz."""
    tube = catalogue.get(Display, "casement-19")

    def told(line: tuple[int, int], rate: tuple[int, int]) -> tuple[tuple[float, float], ...]:
        data = Edid("KYK", 1, 1, 2026, "x", (), (1, 1), RangeLimits(rate, line, 50))
        return tuple(each for band in display_ranges(tube, data) for each in (band.line_khz, band.field_hz))

    assert told((15, 17), (49, 63)) == ((15.2, 16.5), (49, 63))
    assert told((16, 17), (50, 60)) == ((15.5, 16.5), (49.5, 60.5))
    assert told((14, 15), (40, 55)) == ((15.2, 15.5), (49, 55.5))
    assert told((30, 83), (50, 76)) == ((15.2, 16.5), (49, 63))  # another display's data: the tube's own ranges stay
    assert told((16, 16), (10, 20)) == ((15.2, 16.5), (49, 63))


def test_a_picture_as_high_as_what_is_seen_fits_just(catalogue: Catalogue) -> None:
    """262 lines less 8.3 % of them, which is 22: 240 are seen."""
    display, board = catalogue.get(Display, "casement-19"), catalogue.get(Board, "herring")

    def proposed(height: int, low: float = 15.2, high: float = 15.75) -> Mode | None:
        system = sized(catalogue, 320, height).model_copy(update={"refresh": "60"})
        return propose(system, display, carried(board), (Range(line_khz=(low, high), field_hz=(50, 61)),))

    assert proposed(240).timing.vertical.active == 240
    assert proposed(240).timing.vertical.total == 262
    assert proposed(241) is None
    assert proposed(200, 15.2, 15.72).timing.vertical.total == 262
    assert proposed(200, 15.73, 15.77) is None  # no whole number of lines lies within
    assert proposed(200, 15.715, 15.72).timing.vertical.total == 262  # 15.72 itself: no clock step may lead beyond it


def test_a_faster_tube_is_aimed_at_in_the_middle_of_its_range(catalogue: Catalogue) -> None:
    """30 to 32 kHz at 60 Hz: 31 kHz is 516.7 lines; no proposal of 15 kHz figures is made for such a line."""
    display, board = catalogue.get(Display, "casement-tri-25"), catalogue.get(Board, "herring")
    system = sized(catalogue, 320, 400).model_copy(update={"refresh": "60"})
    mode = propose(system, display, carried(board), (Range(line_khz=(30.0, 32.0), field_hz=(50, 61)),))
    assert mode is None or mode.timing.vertical.total == 517


def test_identification_data_says_what_it_is_byte_by_byte(catalogue: Catalogue) -> None:
    """Offsets and bits of EDID 1.4, table 3.1, and of CTA-861's blocks; worked by hand."""
    full = standard_timings("cta")[16].timing
    limits = RangeLimits((50, 76), (30, 83), 170)
    plain = edid.write(Edid("KYK", 1, 2, 2026, "x", (full,), (531, 299), limits))
    assert plain[:8] == bytes([0, 255, 255, 255, 255, 255, 255, 0])
    assert plain[24] & 1  # continuous frequency: range limits, and no HDMI
    assert plain[126] == 0
    heard = edid.write(
        Edid("KYK", 1, 2, 2026, "x", (full,), (531, 299), limits, extension=Extension((16, 4), audio=True, hdmi=True))
    )
    assert not heard[24] & 1
    block = heard[128:]
    assert block[0] == 2  # CTA-861
    data = block[4 : block[2]]
    kinds = {}
    while data:
        length = data[0] & 31
        kinds[data[0] >> 5] = data[1 : 1 + length]
        data = data[1 + length :]
    assert kinds[2][:2] == bytes([16, 4])  # video codes
    assert kinds[1] == bytes([0b0000_1001, 0b111, 0b111])  # LPCM, two channels; 32 to 48 kHz; 16 to 24 bit
    assert kinds[4] == bytes([1, 0, 0])  # front left and right
    assert kinds[3][:3] == bytes([0x03, 0x0C, 0x00])  # HDMI
    narrow = edid.write(Edid("KYK", 1, 2, 2026, "x", (full,), (531, 299), None))
    assert not narrow[24] & 1


@pytest.mark.parametrize("size", [(1, 1), (255, 256), (376, 282), (531, 299), (4095, 4095)])
def test_sizes_in_millimetres_come_back(size: tuple[int, int]) -> None:
    full = standard_timings("cta")[16].timing
    found = edid.read(edid.write(Edid("KYK", 1, 2, 2026, "x", (full,), size, RangeLimits((50, 76), (30, 83), 170))))
    assert found.size_mm == size
