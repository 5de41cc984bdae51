"""The boot log reader: what each line means, in whatever form a log comes, and what it comes to beside a forecast."""

from __future__ import annotations

import re
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kyklon.base.errors import WrongUse
from kyklon.catalogue.fault_records import Cause, LogPattern
from kyklon.catalogue.loader import Catalogue, load
from kyklon.operations.poweron.boot_log import MOST_LOG, log_text, measured, read_log
from kyklon.operations.poweron.events import BLACK, PUT_ON_CARD, BringUp, Event, Failure
from kyklon.operations.poweron.sequence import STAGES
from kyklon.operations.poweron.side_by_side import lay, of_forecast, of_log, parted, remedy_for, verdict
from support import that_ends

PARTS = load()
PATTERNS = PARTS.all(LogPattern)
GOOD = """\
[    0.000000] Linux version 6.1.0 (builder@bench) (gcc 12.2.0) #1 SMP
[    0.000000] Machine model: Merrow Herring
[    0.000000] Kernel command line: console=tty1 root=/dev/mmcblk0p2 rootwait
[    0.900000] Console: switching to colour frame buffer device 80x30
[    1.500000]  mmcblk0: p1 p2
[    2.100000] VFS: Mounted root (ext4 filesystem) readonly on device 179:2.
[    2.200000] Run /sbin/init as init process
[    2.600000] start: network
[    3.400000] start: gangway
[    4.000000] gangway: the menu
"""
LOST = """\
[    0.000000] Linux version 6.1.0 (builder@bench) (gcc 12.2.0) #1 SMP
[    0.000000] Kernel command line: console=tty1 root=/dev/mmcblk0p5
[    1.300000] VFS: Cannot open root device "mmcblk0p5" or unknown-block(179,5): error -6
[    1.310000] b300        31166976 mmcblk0 driver: mmcblk
[    1.320000]   b302       31000000 mmcblk0p2 00000000-02
[    1.400000] Kernel panic - not syncing: VFS: Unable to mount root fs on unknown-block(179,5)
"""


def read(text: str):
    return read_log(text, PARTS)


@pytest.mark.parametrize("pattern", PATTERNS, ids=[each.id for each in PATTERNS])
def test_every_pattern_reads_its_own_line_soon(pattern: LogPattern) -> None:
    assert re.search(pattern.pattern, pattern.example)
    assert pattern.stage in {stage.name for stage in STAGES}
    assert (pattern.means in ("stops", "hurts")) == bool(pattern.code)
    assert not re.search(r"\{\d\}", read(pattern.example).said[0].text)
    for hostile in (" " * 600, "a" * 600, "mmcblk0: " * 60, "[" * 600, "EXT4-fs (" * 60, "p1 " * 200):
        with that_ends():
            re.search(pattern.pattern, hostile * 20)


def test_a_good_start_reaches_the_menu_and_tells_its_times() -> None:
    found = read(GOOD)
    assert (found.reached, found.stop, found.model) == ("front end", None, "Merrow Herring")
    assert found.kernel_line == "console=tty1 root=/dev/mmcblk0p2 rootwait"
    assert [(time.stage, time.seconds) for time in found.times] == [
        ("display", 0.9),
        ("root partition", 1.2),
        ("init", 0.5),
        ("services", 0.8),
        ("front end", 0.6),
    ]
    assert found.times[1].with_ == ("kernel line",)


@pytest.mark.parametrize(
    "form",
    [
        lambda text: text,
        lambda text: re.sub(r"^\[ *[\d.]+\] ", "", text, flags=re.MULTILINE),
        lambda text: re.sub(r"^", "Nov 27 10:00:00 games kernel: ", text, flags=re.MULTILINE),
        lambda text: re.sub(r"^", "<6>", text, flags=re.MULTILINE),
        lambda text: text.replace("\n", "\r\n"),
        lambda text: re.sub(r"^", "\x1b[0m", text, flags=re.MULTILINE),
        lambda text: GOOD + text,
        lambda text: "\n".join(line for word in text.split("\n") for line in (word, "random: crng init done")),
    ],
    ids=["plain", "typed", "journal", "levels", "carriage-returns", "colours", "an-older-start", "mixed"],
)
def test_the_same_log_in_whatever_form_says_the_same(form) -> None:
    found = read(form(LOST))
    assert found.reached == "display"
    assert (found.stop.stage, found.stop.code) == ("kernel line", "boot.root-nowhere")
    assert "mmcblk0p5" in found.stop.line.text


def test_the_last_of_several_starts_counts() -> None:
    found = read(GOOD + LOST + GOOD)
    assert (found.starts, found.reached) == (3, "front end")


def test_a_device_that_the_kernel_lists_is_there() -> None:
    found = read(LOST.replace("(179,5)", "(179,2)"))
    assert (found.stop.stage, found.stop.code) == ("root partition", "card.no-root-partition")
    assert read(LOST.replace('"mmcblk0p5"', '""').replace("(179,5)", "(0,0)")).stop.code == "boot.no-root"


def test_what_came_before_a_stage_that_was_passed_did_not_stop_it() -> None:
    """A kernel tries ext3 and ext2 first and says that it cannot."""
    early = "EXT4-fs (mmcblk0p2): couldn't mount as ext3 due to feature incompatibilities\n"
    assert read(GOOD.replace("[    2.1", early + "[    2.1")).stop is None


@given(st.text(max_size=400))
def test_any_text_is_read(text: str) -> None:
    found = read(text)
    assert found.reached == "" or found.said


@given(st.integers(0, 9), st.integers(0, 5))
def test_a_log_cut_at_its_end_never_reaches_further(cut: int, extra: int) -> None:
    order = ["", *(stage.name for stage in STAGES)]
    lines = GOOD.split("\n")
    short, longer = read("\n".join(lines[:cut])), read("\n".join(lines[: cut + extra]))
    assert order.index(short.reached) <= order.index(longer.reached)


def test_bytes_that_are_no_log() -> None:
    assert read(log_text(bytes(range(256)) * 50)).stop is None
    assert read(log_text("Linux version 6.1\n".encode("utf-16"))).reached == "kernel"
    with pytest.raises(WrongUse, match="8 MB"):
        log_text(b"x" * (MOST_LOG + 1))


@pytest.mark.long
def test_a_large_log_is_read_within_its_bounds() -> None:
    with that_ends():
        found = read(GOOD + "usb 1-1: something else that takes a while to read\n" * 100_000)
    assert found.reached == "front end"
    late = read(GOOD[:200] + "something that goes on and on\n" * 50_000 + LOST[80:])
    assert late.stop.code == "boot.root-nowhere"


def test_codes_of_logs_are_known_to_the_fault_finder() -> None:
    """Each line that complains speaks of a cause, or of one that the forecast has a finding for."""
    spoken = {code for cause in PARTS.all(Cause) for code in cause.codes}
    assert {pattern.code for pattern in PATTERNS if pattern.code} <= spoken


# --- beside a forecast -----------------------------------------------------------------------------------------------


def forecast(stop: str = "", code: str = "boot.root-nowhere") -> BringUp:
    names = [stage.name for stage in STAGES]
    end = names.index(stop) if stop else len(names)
    events = tuple(Event(float(index), name, f"{name} goes.", "steady") for index, name in enumerate(names[: end + 1]))
    failure = Failure(stop, code, "It stops.", PUT_ON_CARD, BLACK, "steady")
    return BringUp(names[end - 1] if stop else "front end", events, (failure,) if stop else (), BLACK)


def sides(run: BringUp, text: str):
    left, right = of_forecast(run, ""), of_log(read(text), "")
    rows = lay(left, right)
    return rows, verdict(left, right, rows)


def test_a_log_that_ends_as_foretold_agrees() -> None:
    rows, said = sides(forecast("kernel line"), LOST)
    assert parted(rows) is None
    assert said.agree
    assert "kernel line" in said.text
    assert sides(forecast(), GOOD)[1].text == "Both come to the menu."


def test_the_first_difference_is_named_with_what_may_be_behind_it() -> None:
    rows, said = sides(forecast(), LOST)
    assert parted(rows).stage == "kernel line"
    assert not said.agree
    assert said.why
    rows, said = sides(forecast("kernel", "boot.kernel-set"), LOST)
    assert parted(rows).stage == "kernel"
    assert "goes on" in said.text


def test_a_log_that_is_cut_is_no_difference() -> None:
    rows, said = sides(forecast(), "\n".join(GOOD.split("\n")[:5]))
    assert parted(rows) is None
    assert said.agree


def test_a_log_leads_to_the_forecasts_remedy_or_to_the_builds_own_files() -> None:
    reading = read(LOST)
    assert remedy_for(reading, forecast("kernel line")) is PUT_ON_CARD
    assert remedy_for(reading, None) is PUT_ON_CARD
    assert remedy_for(read(GOOD), forecast()) is None
    worn = replace(reading, stop=replace(reading.stop, code="card.worn"))
    assert remedy_for(worn, None) is None


def test_measured_times_become_the_boards_own() -> None:
    found = {each.stage: each.seconds for each in measured(read(GOOD).times, forecast(), "herring")}
    assert found["display"] == 0.9
    assert found["kernel line"] + found["root partition"] == pytest.approx(1.2)
    assert all(each.board == "herring" for each in measured(read(GOOD).times, forecast(), "herring"))


def test_the_catalogue_reads_a_users_own_patterns(tmp_path) -> None:
    (tmp_path / "log_patterns.toml").write_text(
        '[[log_patterns]]\nid = "mine"\nby = "image"\nmeans = "passed"\nstage = "front end"\n'
        'pattern = "harbour lights on"\nname = "The lights are on."\nexample = "harbour lights on"\n'
    )
    own: Catalogue = load(tmp_path)
    assert read_log("harbour lights on", own).reached == "front end"
    assert read("harbour lights on").quiet
