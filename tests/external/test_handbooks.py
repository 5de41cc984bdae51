"""Values from handbooks and standards: ASTM B258, IEC 60028, IEC 60063, ITU-R BT.470, kernel documentation."""

from __future__ import annotations

from fractions import Fraction

import pytest

from kyklon.catalogue.loader import standard_timings
from kyklon.model.kernel_line import set_words
from kyklon.model.timing import Timing
from kyklon.operations.assembly.electrics import (
    E12,
    E24,
    awg_diameter_m,
    awg_ohm_per_m,
    cable_drop_v,
    led_resistor,
    next_up,
    sync_level_v,
)
from kyklon.operations.picture.chain import EN_50049, into_75
from kyklon.operations.picture.colour import SYSTEMS
from kyklon.operations.picture.construct import SYSTEM_525
from kyklon.operations.picture.exports import video_word
from kyklon.operations.picture.glass import Play


# ASTM B258: nominal diameters in mm
@pytest.mark.parametrize(
    ("gauge", "mm"), [(0, 8.251), (10, 2.588), (18, 1.024), (20, 0.8118), (24, 0.5106), (36, 0.1270)]
)
def test_wire_diameters(gauge: int, mm: float) -> None:
    assert awg_diameter_m(gauge) * 1000 == pytest.approx(mm, rel=1e-3)


# ASTM B258 with IEC 60028's copper: milliohm per metre at 20 °C
@pytest.mark.parametrize(("gauge", "mohm"), [(20, 33.3), (22, 53.0), (24, 84.2), (26, 133.9), (28, 212.9)])
def test_wire_resistance(gauge: int, mohm: float) -> None:
    assert awg_ohm_per_m(gauge) * 1000 == pytest.approx(mohm, abs=0.06)


def test_copper_gains_resistance_with_heat() -> None:
    assert awg_ohm_per_m(24, 30) / awg_ohm_per_m(24) == pytest.approx(1.0393)  # IEC 60028: 0.393 % a kelvin


@pytest.mark.parametrize(("gauge", "volts"), [(20, 0.51), (24, 1.29)])  # 3.05 m at 2.5 A, both conductors
def test_cable_drop(gauge: int, volts: float) -> None:
    assert cable_drop_v(gauge, 3.05, 2.5) == pytest.approx(volts, abs=0.01)


@pytest.mark.parametrize("gauge", [-1, 41])
def test_gauges_outside_the_table_are_refused(gauge: int) -> None:
    with pytest.raises(ValueError, match="gauge"):
        awg_diameter_m(gauge)


def test_preferred_series_are_iec_60063() -> None:
    """Rounded powers of the 12th and 24th root of ten, but for the historical exceptions of IEC 60063."""
    odd = {27, 30, 33, 36, 39, 43, 47, 82}
    for series in (E12, E24):
        exact = [round(10 * 10 ** (index / len(series))) for index in range(len(series))]
        assert {value for value, rule in zip(series, exact, strict=True) if value != rule} <= odd


@pytest.mark.parametrize(
    ("ohms", "series", "value"),
    [(300, E24, 300), (301, E24, 330), (300, E12, 330), (83, E12, 100), (0.9, E24, 0.91), (9_100, E24, 9_100)],
)
def test_the_next_value_up(ohms: float, series: tuple[int, ...], value: float) -> None:
    assert next_up(ohms, series) == pytest.approx(value)


def test_led_resistor() -> None:
    ohms, watts = led_resistor(5.0, 2.0, 0.010, E24)
    assert ohms == pytest.approx(300)
    assert watts == pytest.approx(2 * 0.010**2 * 300)
    with pytest.raises(ValueError, match="volts"):
        led_resistor(2.0, 2.0, 0.01)


@pytest.mark.parametrize(("volts", "level"), [(3.3, 0.454), (5.0, 0.688)])  # 470 ohm into 75 ohm
def test_sync_levels(volts: float, level: float) -> None:
    assert sync_level_v(volts, 470) == pytest.approx(level, abs=5e-4)


def test_television_lines() -> None:
    """ITU-R BT.470 and SMPTE 170M."""
    assert float(SYSTEM_525.line_hz) == pytest.approx(15_734.266, abs=5e-4)
    assert float(SYSTEM_525.line_hz * 2 / 525) == pytest.approx(59.940, abs=5e-4)
    assert float(SYSTEM_525.line_hz / 262) == pytest.approx(60.05, abs=5e-3)
    assert pytest.approx(50.08, abs=1e-3) == 15_625 / 312


def test_refresh_mismatch() -> None:
    """60.0988 on 60.000: one frame every 10.1 s, or -2.85 cents."""
    found = Play(Fraction("60.0988"), Fraction(60))
    assert 60 / found.lost_per_min == pytest.approx(10.12, abs=0.01)
    assert found.cents == pytest.approx(-2.85, abs=0.005)
    assert Play(Fraction(60), Fraction(60)).lost_per_min == 0


def cta(code: int) -> Timing:
    return standard_timings("cta")[code].timing


@pytest.mark.parametrize(
    ("code", "force", "word"),
    [
        (1, False, "video=HDMI-A-1:640x480@60"),
        (1, True, "video=HDMI-A-1:640x480@60D"),
        (5, False, "video=HDMI-A-1:1920x1080@60i"),
    ],
)
def test_the_video_word_follows_modedb(code: int, force: bool, word: str) -> None:
    """Kernel documentation, fb/modedb: <conn>:<xres>x<yres>@<refresh>[i], D forces a digital output."""
    assert video_word(cta(code), force=force) == word


def test_quirk_words_follow_kernel_parameters() -> None:
    """Kernel documentation, kernel-parameters: usb-storage.quirks is a comma-separated list of VID:PID:Flags."""
    line = set_words("root=/dev/sda2 usb-storage.quirks=152d:0578:u", ["usb-storage.quirks=1234:abcd:u"])
    assert line == "root=/dev/sda2 usb-storage.quirks=152d:0578:u,1234:abcd:u"


@pytest.mark.parametrize(
    ("name", "subcarrier", "cycles"),
    [  # ITU-R BT.470-6, table 2: subcarriers in MHz, and in lines; values from memory
        ("NTSC M", 3.579545, 227.5),
        ("PAL B/G", 4.43361875, 283.7516),
        ("PAL M", 3.57561149, 227.25),
        ("PAL N", 3.58205625, 229.2516),
    ],
)
def test_colour_subcarriers(name: str, subcarrier: float, cycles: float) -> None:
    system = next(each for each in SYSTEMS if each.name == name)
    assert float(system.subcarrier_hz) / 1e6 == pytest.approx(subcarrier, abs=1e-6)
    assert float(system.cycles) == pytest.approx(cycles, abs=1e-4)


def test_levels_of_a_sync_output_through_a_resistor() -> None:
    """V x 75 / (R + 75), for 75 ohm inputs as EN 50049-1 has them."""
    assert into_75(3.3, 470) == pytest.approx(0.454, abs=5e-4)
    assert into_75(5.0, 470) == pytest.approx(0.688, abs=5e-4)


def test_contacts_of_the_21_pin_connector() -> None:
    """EN 50049-1; values from memory."""
    words = dict(EN_50049)
    assert (words[7], words[11], words[15]) == ("blue", "green", "red")
    assert "sync" in words[20]
    assert "RGB" in words[16]
