"""The formatter and its parser."""

from __future__ import annotations

import pytest

from kyklon.base.quantities import NARROW_SPACE, group, show, show_bytes, show_duration, show_share, signed
from kyklon.base.units import measure


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        ("15.7 kHz", "Hz", 15_700),
        ("15,7k", "Hz", 15_700),
        ("2 A", "A", 2),
        ("470", "Ω", 470),
        (f"1{NARROW_SPACE}920", "m", 1920),
        ("25.175MHz", "Hz", 25_175_000),
        ("148.5 mhz", "MHz", 148.5),
        ("8 ms", "s", 0.008),
        ("5µs", "s", 5e-6),
    ],
)
def test_people_write_quantities_in_many_ways(text: str, unit: str, value: float) -> None:
    assert measure(text, unit) == pytest.approx(value)


@pytest.mark.parametrize("text", ["", "kHz", "12 parsecs", "1.2.3 V", "5 kA of it"])
def test_what_is_no_quantity_is_named(text: str) -> None:
    with pytest.raises(ValueError, match="“"):
        measure(text, "V")


def test_units_stand_behind_a_thin_space() -> None:
    assert show(31468.5, "Hz") == f"31.47{NARROW_SPACE}kHz"
    assert show(0.0123, "A", 1) == f"12.3{NARROW_SPACE}mA"
    assert show(2.4, "A", prefix="") == f"2.40{NARROW_SPACE}A"


def test_makers_gigabytes_are_decimal() -> None:
    assert show_bytes(32e9) == f"32.0{NARROW_SPACE}GB"
    assert show_bytes(999) == f"999{NARROW_SPACE}B"
    assert show_bytes(88_080_384) == f"88.1{NARROW_SPACE}MB"


def test_durations_use_two_units() -> None:
    assert show_duration(112).replace(NARROW_SPACE, " ") == "1 min 52 s"
    assert show_duration(2 * 3600 + 300).replace(NARROW_SPACE, " ") == "2 h 05 min"
    assert show_duration(8.04).replace(NARROW_SPACE, " ") == "8.0 s"


def test_long_numbers_are_grouped() -> None:
    assert group(1920) == "1920"
    assert group(65536) == f"65{NARROW_SPACE}536"


@pytest.mark.parametrize(
    ("share", "digits", "text"),
    [
        (0.126, 0, "13 %"),
        (0.5, 1, "50.0 %"),
        (-0.0001, 0, "0 %"),
        (-0.02, 0, "-2 %"),
        (0, 2, "0.00 %"),
        (1, 0, "100 %"),
    ],
)
def test_shares_are_written_one_way(share: float, digits: int, text: str) -> None:
    assert show_share(share, digits) == text.replace(" ", NARROW_SPACE)


def test_a_difference_that_rounds_to_nothing_has_no_sign() -> None:
    assert [signed(value) for value in (-0.04, 0.04, -0.06, 2.0, -0.0)] == ["0.0", "0.0", "-0.1", "+2.0", "0.0"]
    assert [signed(value, 0) for value in (-0.4, 12.6)] == ["0", "+13"]
