"""Boot files as text, and a build compiled to both dialects."""

from __future__ import annotations

import contextlib

import pytest
from hypothesis import given
from hypothesis import strategies as st
from kyklon.operations.boot.issue import difference, issue, read_settings

from kyklon.base.errors import FormatError
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Dialect, Encoder
from kyklon.demo.card_image import BOOT_FILE, EXTLINUX, KERNEL_LINE
from kyklon.model.build import Build, edited, remedied
from kyklon.model.timing import Timing
from kyklon.operations.boot import text
from kyklon.operations.boot.findings import findings
from kyklon.operations.boot.services import repaired, track
from kyklon.operations.controls.quirks import encoder_quirk
from kyklon.operations.picture import exports
from support import Demo

ON_CARD = {"merrow.cfg": BOOT_FILE, "kernel.line": KERNEL_LINE, "extlinux/extlinux.conf": EXTLINUX}
KEYS = st.from_regex(r"[a-z][a-z_.]{0,10}", fullmatch=True)
VALUES = st.from_regex(r"[A-Za-z0-9/+-]{1,12}", fullmatch=True)
LINES = st.one_of(
    st.builds(lambda k, v: f"{k}={v}", KEYS, VALUES),
    st.sampled_from(["# a remark", "", "[all]", "[herring]", "[cod]", "  # indented = remark"]),
)


@given(st.lists(LINES, max_size=25), st.dictionaries(KEYS, VALUES, max_size=5))
def test_set_keys_sets_them_and_keeps_everything_else(lines: list[str], wanted: dict[str, str]) -> None:
    before = "\n".join(lines) + "\n"
    after = text.set_keys(before, wanted, "herring")
    old, new = text.effective(before, "herring"), text.effective(after, "herring")
    assert new == old | wanted
    assert text.set_keys(after, wanted, "herring") == after
    others = text.effective(before, "cod")
    untouched = {key: value for key, value in others.items() if key not in wanted}
    assert {key: value for key, value in text.effective(after, "cod").items() if key in untouched} == untouched
    remarks = [line for line in lines if line.lstrip().startswith("#")]
    assert [line for line in after.splitlines() if line.lstrip().startswith("#")] == remarks


def test_the_last_value_of_a_key_that_counts_for_the_board_is_the_one_edited() -> None:
    before = "a=1\n[herring]\na=2\n[cod]\na=3\n"
    after = text.set_keys(before, {"a": "9"}, "herring")
    assert after == "a=1\n[herring]\na=9\n[cod]\na=3\n"
    assert text.effective(after, "cod")["a"] == "3"


def test_an_empty_value_takes_the_line_out() -> None:
    assert text.set_keys("a=1\nb=2\n", {"a": ""}, "herring") == "b=2\n"


WORDS = st.from_regex(r"[a-z]{1,6}(=[a-z0-9:]{1,8})?", fullmatch=True)


@given(st.lists(WORDS, max_size=12), st.lists(WORDS, max_size=5))
def test_set_words_makes_one_line_with_each_wanted_word(old: list[str], wanted: list[str]) -> None:
    line = text.set_words(" ".join(old), wanted)
    assert "\n" not in line
    assert "  " not in line
    last = {word.partition("=")[0]: word for word in wanted if "=" in word}
    for word in wanted:
        name = word.partition("=")[0]
        assert word in text.words(line) or last.get(name) in text.words(line)
    assert text.set_words(line, wanted) == line or len({w.partition("=")[0] for w in wanted}) < len(wanted)
    names = {word.partition("=")[0] for word in wanted}
    kept = [word for word in old if word.partition("=")[0] not in names]
    assert [word for word in text.words(line) if word.partition("=")[0] not in names] == kept


def test_quirks_are_joined_and_never_doubled() -> None:
    line = text.set_words("quiet usbhid.quirks=0x1:0x2:0x40", ["usbhid.quirks=0x3:0x4:0x40"])
    assert line == "quiet usbhid.quirks=0x1:0x2:0x40,0x3:0x4:0x40"
    assert text.set_words(line, ["usbhid.quirks=0x3:0x4:0x40"]) == line
    assert text.word_values(line, "usbhid.quirks") == ("0x1:0x2:0x40", "0x3:0x4:0x40")


def test_a_console_may_be_given_twice_and_quotes_hold_spaces() -> None:
    line = text.set_words('console=tty1 greet="good day"', ["console=serial0,115200"])
    assert text.words(line) == ("console=tty1", 'greet="good day"', "console=serial0,115200")


def test_extlinux_edits_the_default_entry_only() -> None:
    before = "DEFAULT b\n# remark\nLABEL a\n  LINUX /old\n  APPEND quiet\nLABEL b\n  LINUX /b\n  INITRD /i\n"
    after = text.set_entry(before, {"LINUX": "/new", "FDT": "/tree"}, ["root=/dev/sda2"])
    a, b = after.split("LABEL b")
    assert "/old" in a
    assert "# remark" in a
    entry = text.default_entry(after)
    assert entry.values == {"LINUX": "/new", "INITRD": "/i", "FDT": "/tree", "APPEND": "root=/dev/sda2"}
    assert "/new" in b


def test_extlinux_is_made_where_there_is_none() -> None:
    entry = text.default_entry(text.set_entry("", {"LINUX": "/k"}, ["quiet"]))
    assert entry.values == {"LINUX": "/k", "APPEND": "quiet"}


@given(st.integers(1, 10**9), st.lists(st.integers(1, 4000), min_size=8, max_size=8), st.booleans(), st.booleans())
def test_a_timing_line_reads_back(clock: int, n: list[int], plus: bool, laced: bool) -> None:
    timing = Timing(
        clock_hz=clock,
        horizontal={"active": n[0], "front": n[1], "sync": n[2], "back": n[3], "positive": plus},
        vertical={"active": n[4] * 2, "front": n[5], "sync": n[6], "back": n[7], "positive": not plus},
        interlaced=laced,
    )
    assert exports.parse_timing_line(exports.timing_line(timing)) == timing


@given(st.text(max_size=60))
def test_any_text_gives_a_timing_or_the_one_error(line: str) -> None:
    with contextlib.suppress(FormatError):
        exports.parse_timing_line(line)


def issued(build: Build, catalogue: Catalogue, card: dict[str, str] | None = None) -> dict[str, str]:
    return {file.path: file.text for file in issue(build, catalogue, ON_CARD if card is None else card)}


def test_the_merrow_dialect_keeps_the_cards_own_lines(demo: Demo, catalogue: Catalogue) -> None:
    files = issued(demo.build, catalogue)
    boot = files["merrow.cfg"]
    assert "startup.greeting=off" in boot
    assert "fan.start_celsius=60" in boot
    assert boot.startswith("# Quayside boot file.")
    assert text.effective(boot, "herring")["memory.video"] == "256"
    assert text.effective(boot, "sprat")["memory.video"] == "64"  # another board's section is not ours
    assert max(map(len, boot.splitlines())) <= catalogue.get(Dialect, "merrow").longest_line
    assert files["services.list"].splitlines() == list(demo.build.boot.services)


def test_every_line_of_ours_knows_its_decision(demo: Demo, catalogue: Catalogue) -> None:
    files = {file.path: file for file in issue(demo.build, catalogue, {})}
    for line in files["merrow.cfg"].lines:
        assert line.path, line.text
    labels = {line.label for line in files["merrow.cfg"].lines}
    assert {"Kernel", "Device tree", "Menu mode", "Forced output", "Overscan", "Sound route", "Memory split"} == labels


def test_the_extlinux_dialect(demo: Demo, catalogue: Catalogue) -> None:
    build = edited(demo.build.with_part("board", "ling"), "boot.dialect", "extlinux")
    build = edited(build, "boot.device_tree", "ling.dtb")
    build = edited(build, "boot.kernel_words", ["usbhid.quirks=0x6b79:0x0022:0x40"])
    entry = text.default_entry(issued(build, catalogue)["extlinux/extlinux.conf"])
    assert entry.label == "quayside"
    assert entry.values["LINUX"] == "/merrow8.krn"
    assert entry.values["FDT"] == "/ling.dtb"
    append = text.words(entry.values["APPEND"])
    assert {"root=/dev/mmcblk0p2", "usbhid.quirks=0x6b79:0x0022:0x40", "video=HDMI-A-1:640x480@60D"} <= set(append)


@pytest.mark.parametrize(("board", "dialect"), [("herring", "merrow"), ("cod", "merrow"), ("cod", "extlinux")])
def test_what_is_issued_reads_back_as_it_was_decided(
    board: str, dialect: str, demo: Demo, catalogue: Catalogue
) -> None:
    build = edited(demo.build.with_part("board", board), "boot.dialect", dialect)
    build = edited(build, "boot.kernel_words", ["usbhid.quirks=0x6b79:0x0022:0x40"])
    texts = {name.lower(): body for name, body in issued(build, catalogue).items()}
    found = read_settings(catalogue.get(Dialect, dialect), catalogue.get(Board, board), texts)
    assert found.kernel_file == build.boot.kernel
    assert found.tree == build.boot.device_tree
    assert found.services == build.boot.services
    assert found.user == build.boot.user
    assert "0x6b79:0x0022:0x40" in text.word_values(found.kernel_line, "usbhid.quirks")
    assert "root=/dev/mmcblk0p2" in text.words(found.kernel_line)
    if dialect == "merrow":
        assert found.timing == build.picture.menu.timing


def test_issuing_twice_changes_nothing(demo: Demo, catalogue: Catalogue) -> None:
    once = issued(demo.build, catalogue)
    again = issued(demo.build, catalogue, {name.lower(): body for name, body in once.items()})
    assert again == once
    assert difference(once["merrow.cfg"], again["merrow.cfg"], "merrow.cfg") == ""


def test_services_behind_the_foreground_one_never_start() -> None:
    steps = track(("network", "gangway", "shutdown-watcher"), "gangway")
    assert [step.starts for step in steps] == [True, True, False]
    assert repaired(("network", "gangway", "shutdown-watcher"), "gangway")[-1] == "gangway"


@pytest.mark.parametrize(
    ("path", "value", "code"),
    [
        ("boot.kernel", "merrow6.krn", "boot.kernel-set"),
        ("boot.kernel", "gone.krn", "boot.kernel-set"),
        ("boot.device_tree", "cod.dtb", "boot.device-tree"),
        ("boot.dialect", "extlinux", "boot.dialect"),
        ("boot.services", ["gangway", "shutdown-watcher"], "boot.service-order"),
    ],
)
def test_findings_and_their_remedies(path: str, value: object, code: str, demo: Demo, catalogue: Catalogue) -> None:
    build = edited(edited(demo.build, "boot.kernel", "merrow7.krn"), path, value)
    found = {finding.code: finding for finding in findings(build, catalogue, None, None)}
    assert found[code].severity == "stop"
    after = remedied(build, found[code].remedy)
    assert code not in {finding.code for finding in findings(after, catalogue, None, None)}


def test_a_front_end_that_is_not_started_and_a_radio_without_country(demo: Demo, catalogue: Catalogue) -> None:
    build = edited(edited(demo.build, "boot.services", ["network"]), "boot.country", "")
    codes = {finding.code for finding in findings(build, catalogue, None, None)}
    assert {"boot.no-front-end", "boot.country"} <= codes


def test_the_quirk_word_of_an_encoder(catalogue: Catalogue) -> None:
    assert encoder_quirk(catalogue.get(Encoder, "tackle-pair")) == "0x6b79:0x0022:0x40"
    assert encoder_quirk(catalogue.get(Encoder, "tackle-12")) == ""
    assert encoder_quirk(None) == ""
