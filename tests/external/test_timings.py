"""Timings and identification data against edid-decode (Debian package edid-decode), the reference tool for VESA DMT
1.13, CTA-861, VESA CVT 1.2, VESA GTF 1.1 and EDID 1.4; and against the numbers of the standards themselves."""

from __future__ import annotations

import random
import re
import subprocess
from fractions import Fraction
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kyklon.base.errors import WrongUse
from kyklon.catalogue.loader import Catalogue, standard_timings
from kyklon.catalogue.records import Board, Display
from kyklon.catalogue.system_records import System
from kyklon.model.display import Edid, Extension, RangeLimits
from kyklon.model.timing import Axis, Timing
from kyklon.operations.picture import edid
from kyklon.operations.picture.exports import modeline
from kyklon.operations.picture.formulas import Third, cvt, gtf
from kyklon.operations.picture.names import parse_timing
from kyklon.operations.picture.ranges import carried, propose

Numbers = tuple[int, tuple[int, ...], tuple[int, ...], str]


def reference(*arguments: str) -> tuple[Numbers, float, float]:
    """What edid-decode computes: clock in Hz, porches, polarities; and its line rate in kHz and field rate in Hz."""
    out = subprocess.run(["edid-decode", *arguments], capture_output=True, text=True, check=True).stdout
    rates = re.search(r"([\d.]+) Hz\s+\S+\s+([\d.]+) kHz\s+([\d.]+) MHz", out)
    across = re.search(r"Hfront\s+(-?\d+) Hsync\s+(\d+) Hback\s+(-?\d+) Hpol (\w)", out)
    down = re.search(r"Vfront\s+(-?\d+) Vsync\s+(\d+) Vback\s+(-?\d+)(?: Vpol (\w))?", out)
    assert rates, out
    assert across, out
    assert down, out
    side = int((re.search(r"Hborder (\d+)", out) or [0, 0])[1])  # a border is counted with the porch beside it
    edge = int((re.search(r"Vborder (\d+)", out) or [0, 0])[1])
    horizontal = (int(across[1]) + side, int(across[2]), int(across[3]) + side)
    vertical = (int(down[1]) + edge, int(down[2]), int(down[3]) + edge)
    clock = round(Fraction(rates[3]) * 1_000_000)
    return (clock, horizontal, vertical, across[4] + (down[4] or "N")), float(rates[2]), float(rates[1])


def numbers(timing: Timing) -> Numbers:
    h, v = timing.horizontal, timing.vertical
    signs = ("P" if h.positive else "N") + ("P" if v.positive else "N")
    return timing.clock_hz, (h.front, h.sync, h.back), (v.front, v.sync, v.back), signs


@pytest.mark.parametrize(("table", "option"), [("dmt", "--dmt"), ("cta", "--vic")])
def test_every_standard_timing_that_ships(table: str, option: str) -> None:
    for row in standard_timings(table).values():
        wanted, line, field = reference(option, f"{row.id:#x}" if table == "dmt" else str(row.id))
        assert numbers(row.timing) == wanted, (table, row.id)
        assert float(row.timing.horizontal_hz) / 1000 == pytest.approx(line, abs=6e-4), (table, row.id)
        assert float(row.timing.vertical_hz) == pytest.approx(field, abs=1e-5), (table, row.id)


def requests(seed: int, count: int) -> list[tuple[int, int, float, bool]]:
    chance = random.Random(seed)
    sizes = [(640, 480), (800, 600), (1024, 768), (1280, 720), (1920, 1080), (1280, 800), (1366, 768), (2560, 1440)]
    rows = [(*size, rate, False) for size in sizes for rate in (50, 60, 75)]
    while len(rows) < count:
        size = (chance.randrange(320, 3840), chance.randrange(200, 2160))
        rows.append((*size, chance.choice([24, 50, 60, 72, 75, 85, 100]), chance.random() < 0.2))
    return rows


@pytest.mark.parametrize("blanking", ["normal", "reduced1", "reduced2", "reduced3"])
def test_cvt_modes(blanking: str) -> None:
    """80 in each of the four blankings."""
    version = {"normal": "", "reduced1": ",rb=1", "reduced2": ",rb=2", "reduced3": ",rb=3"}[blanking]
    for width, height, rate, interlaced in requests(7, 80):
        laced = ",interlaced" if interlaced else ""
        wanted, line, field = reference("--cvt", f"w={width},h={height},fps={rate}{version}{laced}")
        made = cvt(width, height, rate, blanking, interlaced=interlaced)
        # the tool's floating point loses a clock step of 1 kHz where the exact product is whole
        lost = made.clock_hz - wanted[0]
        assert lost in ((0, 1000) if blanking == "reduced2" else (0,)), (width, height, rate, interlaced)
        assert numbers(made)[1:] == wanted[1:], (width, height, rate, interlaced)
        if width % 8 == 0 and not lost:  # the tool's rates are of the width asked for, not of the one in whole cells
            assert float(made.horizontal_hz) / 1000 == pytest.approx(line, abs=6e-4)
            assert float(made.vertical_hz) == pytest.approx(field, abs=1e-5)


def test_what_a_third_reduced_blanking_may_ask_for() -> None:
    chance = random.Random(5)
    for width, height, rate, _interlaced in requests(13, 60):
        across, down, early = chance.randrange(80, 201, 8), chance.randrange(460, 700, 5), chance.random() < 0.5
        asked = f"w={width},h={height},fps={rate},rb=3,hblank={across},vblank={down}{',early-vsync' if early else ''}"
        made = cvt(width, height, rate, "reduced3", third=Third(across, down, early=early))
        assert numbers(made) == reference("--cvt", asked)[0], asked
    with pytest.raises(WrongUse, match="outside 80 to 200"):
        Third(pixels=84)


def test_gtf_modes() -> None:
    """Where the formula leaves no room for the sync the reference prints a negative porch; ours refuses."""
    compared = 0
    for width, height, rate, interlaced in requests(11, 150):
        laced = ",interlaced" if interlaced else ""
        wanted, line, _field = reference("--gtf", f"w={width},h={height},fps={rate}{laced}")
        if min(wanted[1]) < 0:
            with pytest.raises(WrongUse):
                gtf(width, height, rate, interlaced=interlaced)
            continue
        made = gtf(width, height, rate, interlaced=interlaced)
        assert numbers(made) == wanted, (width, height, rate, interlaced)
        if width % 8 == 0:
            assert float(made.horizontal_hz) / 1000 == pytest.approx(line, abs=6e-4)
        compared += 1
    assert compared >= 100


# The standards' own numbers, as VESA and CTA print them
@pytest.mark.parametrize(
    ("text", "clock_hz", "line_khz", "field_hz"),
    [
        ("cta 1", 25_175_000, 31.469, 59.940),
        ("cta 8", 27_000_000, 15.734, 60.054),
        ("cta 23", 27_000_000, 15.625, 50.080),
        ("dmt 12h", 78_750_000, 60.023, 75.029),
        ("cvt 640 480 60", 23_750_000, 29.688, 59.375),
        ("cvt 1920 1080 60 reduced1", 138_500_000, 66.587, 59.934),
        ("gtf 640 480 60", 23_856_000, 29.820, 60.000),
    ],
)
def test_published_values(text: str, clock_hz: int, line_khz: float, field_hz: float) -> None:
    timing = parse_timing(text)
    assert timing.clock_hz == clock_hz
    assert float(timing.horizontal_hz) / 1000 == pytest.approx(line_khz, abs=6e-4)
    assert float(timing.vertical_hz) == pytest.approx(field_hz, abs=6e-4)


def report(path: Path) -> str:
    return subprocess.run(["edid-decode", "--check", str(path)], capture_output=True, text=True).stdout


def assert_clean(data: bytes, path: Path) -> str:
    """No failure and no warning."""
    path.write_bytes(data)
    told = report(path)
    assert "EDID conformity: PASS" in told, told
    assert "Warnings:" not in told, told
    assert "Failures:" not in told, told
    return told


def test_the_identification_data_of_the_demo(demo_master: Path, tmp_path: Path) -> None:
    for name in ("casement-19", "pane-24"):
        data = (demo_master / "attachments" / f"{name}.edid").read_bytes()
        told = assert_clean(data, tmp_path / "edid")
        assert edid.read(data).name in told
        assert edid.write(edid.read(data)) == data


def test_identification_data_of_every_display_and_system(catalogue: Catalogue, tmp_path: Path) -> None:
    """Everything our writer makes of the shipped parts: a clean report, and the same timing read back by the tool."""
    made = 0
    for display in catalogue.all(Display):
        for system in catalogue.all(System):
            mode = propose(system, display, carried(catalogue.get(Board, "herring")), display.ranges)
            if mode is None:
                continue
            line, rate = float(mode.timing.horizontal_hz) / 1000, float(mode.timing.vertical_hz)
            limits = RangeLimits((int(rate), int(rate) + 1), (int(line), int(line) + 1), 60)
            sheet = Edid("KYK", made, 1, 2026, display.name[:13], (mode.timing,), (400, 300), limits)
            told = assert_clean(edid.write(sheet), tmp_path / "edid")
            assert f"{mode.timing.clock_hz / 1e6:.6f} MHz" in told
            made += 1
    assert made >= 10


@pytest.mark.parametrize("text", ["dmt 4", "dmt 52h", "cvt 1280 800 60 reduced1", "cvt 1024 768 60", "gtf 800 600 72"])
def test_a_modeline_says_what_the_reference_says(text: str, tmp_path: Path) -> None:
    """edid-decode -X prints the X.Org modeline of a detailed timing."""
    timing = parse_timing(text)
    line, rate = float(timing.horizontal_hz) / 1000, float(timing.vertical_hz)
    limits = RangeLimits((int(rate), int(rate) + 1), (int(line), int(line) + 1), int(timing.clock_hz / 1e6) + 10)
    path = tmp_path / "edid"
    path.write_bytes(edid.write(Edid("KYK", 1, 1, 2026, "Sheet", (timing,), (400, 300), limits)))
    told = subprocess.run(["edid-decode", "-X", str(path)], capture_output=True, text=True).stdout
    found = re.search(r"Modeline\s+\"[^\"]*\"\s+([\d.]+)\s+([\d ]+?)\s+([+-]HSync [+-]VSync)", told, re.IGNORECASE)
    assert found, told
    ours = re.fullmatch(r'Modeline "x" ([\d.]+) ([\d ]+) ([+-]HSync [+-]VSync)', modeline(timing, "x"))
    assert ours
    assert float(ours[1]) == pytest.approx(float(found[1]), abs=6e-3)  # steps of 10 kHz
    assert ours[2].split() == found[2].split()
    assert ours[3].lower() == found[3].lower()


BIG = st.builds(
    lambda clock, wide, high, porches, positive: Timing(
        clock_hz=clock * 10_000,
        horizontal=Axis(active=wide, front=porches[0], sync=porches[1], back=porches[2], positive=positive[0]),
        vertical=Axis(active=high, front=porches[3], sync=porches[4], back=porches[5], positive=positive[1]),
    ),
    st.sampled_from([2560, 2561, 25600, 65535, 12345]),
    st.integers(256, 4095),
    st.integers(256, 4095),
    st.tuples(
        st.integers(0, 1023),
        st.integers(1, 1023),
        st.integers(0, 2000),
        st.integers(0, 63),
        st.integers(1, 63),
        st.integers(0, 3000),
    ),
    st.tuples(st.booleans(), st.booleans()),
)


@settings(max_examples=60, deadline=None)
@given(BIG, st.sampled_from(["Name of twelv", "Name of a dzn", "x"]))
def test_every_bit_of_a_detailed_timing_is_where_the_tool_reads_it(
    tmp_path_factory: pytest.TempPathFactory, timing: Timing, name: str
) -> None:
    path = tmp_path_factory.mktemp("bits") / "edid"
    sheet = Edid("KYK", 1, 1, 2026, name, (timing,), (4000, 300), None)
    data = edid.write(sheet)
    assert len(data) == 128
    path.write_bytes(data)
    told = report(path)
    across, down = timing.horizontal, timing.vertical
    row = re.search(r"DTD 1:\s+(\d+)x(\d+) .*?([\d.]+) MHz \((\d+) mm x (\d+) mm\)", told)
    ports = re.search(
        r"Hfront\s+(-?\d+) Hsync\s+(\d+) Hback\s+(-?\d+) Hpol (.)\n\s+Vfront\s+(-?\d+) Vsync\s+(\d+) "
        r"Vback\s+(-?\d+) Vpol (.)",
        told,
    )
    assert row, told
    assert ports, told
    assert row.groups()[:2] == (str(across.active), str(down.active))
    assert float(row[3]) == timing.clock_hz / 1e6
    assert row.groups()[3:] == ("4000", "300")
    assert ports.groups() == (
        str(across.front),
        str(across.sync),
        str(across.back),
        "P" if across.positive else "N",
        str(down.front),
        str(down.sync),
        str(down.back),
        "P" if down.positive else "N",
    )
    assert f"Product Name: '{name}'" in told
    assert edid.read(data).timings == (timing.model_copy(update={"half_line": edid.read(data).timings[0].half_line}),)
    assert (edid.read(data).size_mm, edid.read(data).name) == ((4000, 300), name)


def test_an_extension_says_to_the_tool_what_was_meant(tmp_path: Path) -> None:
    full = standard_timings("cta")[16].timing
    data = edid.write(Edid("KYK", 1, 1, 2026, "x", (full,), (531, 299), None, extension=Extension((16, 1), audio=True)))
    told = assert_clean(data, tmp_path / "edid")
    for words in (
        "RGB quantization: Selectable",
        "PT scan behavior: No Data",
        "IT scan behavior: Always Underscanned",
        "CE scan behavior: Always Underscanned",
        "Basic audio support",
    ):
        assert words in told
    other = bytearray(data)  # another maker's block, in a place of its own, is no HDMI
    end = other[130]
    block = bytes([3 << 5 | 3, 0x12, 0x34, 0x56])
    other[128 + end : 128 + end + 4] = block
    other[130] = end + 4
    other[255] = -sum(other[128:255]) % 256
    assert "OUI 56-34-12" in report(_written(tmp_path / "other", bytes(other)))
    found = edid.read(bytes(other)).extension
    assert found is not None
    assert not found.hdmi
    spare = bytearray(data)  # and three bytes of that number in another kind of block are none either
    spare[128 + end : 128 + end + 4] = bytes([1 << 5 | 3, 0x03, 0x0C, 0x00])
    spare[130] = end + 4
    spare[255] = -sum(spare[128:255]) % 256
    assert not edid.read(bytes(spare)).extension.hdmi  # type: ignore[union-attr]


def test_a_size_in_centimetres_counts_where_a_timing_has_none(tmp_path: Path) -> None:
    full = standard_timings("cta")[16].timing
    data = bytearray(edid.write(Edid("KYK", 1, 1, 2026, "x", (full,), (530, 300), None)))
    data[66:69] = bytes(3)
    data[127] = -sum(data[:127]) % 256
    assert edid.read(bytes(data)).size_mm == (530, 300)
    assert "53 cm x 30 cm" in report(_written(tmp_path / "edid", bytes(data)))
    wall = edid.write(Edid("KYK", 1, 1, 2026, "x", (full,), (9000, 5000), None))  # a projector's
    assert edid.read(wall).size_mm == (4095, 4095)
    with pytest.raises(WrongUse, match="clock=0"):
        edid.write(Edid("KYK", 1, 1, 2026, "x", (full.model_copy(update={"clock_hz": 4000}),), (530, 300), None))


def _written(path: Path, data: bytes) -> Path:
    path.write_bytes(data)
    return path
