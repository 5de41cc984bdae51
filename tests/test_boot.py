"""Boot files as text, and a build compiled to both dialects."""

from __future__ import annotations

import contextlib
from typing import get_args

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kyklon.base import tools
from kyklon.base.errors import FormatError
from kyklon.catalogue.loader import Catalogue, standard_timings
from kyklon.catalogue.records import Board, Encoder
from kyklon.catalogue.text_records import Dialect, DialectFile, Grammar
from kyklon.demo.card_image import BOOT_FILE, EXTLINUX, KERNEL_LINE
from kyklon.model.build import Build, edited, remedied
from kyklon.model.fields import describe
from kyklon.model.kernel_line import set_words, word_values, words
from kyklon.model.timing import Mode, Timing
from kyklon.model.world import World
from kyklon.operations.boot import hardware
from kyklon.operations.boot.as_found import as_found
from kyklon.operations.boot.compile import compiled, difference
from kyklon.operations.boot.dialects.codec import Wanted
from kyklon.operations.boot.dialects.extlinux_file import Label, chosen, parse, set_entry
from kyklon.operations.boot.dialects.kinds import codec_of
from kyklon.operations.boot.dialects.settings_file import SettingsFile, split_lines
from kyklon.operations.boot.findings import findings
from kyklon.operations.boot.hardware import taken_settings
from kyklon.operations.boot.read import read_settings
from kyklon.operations.boot.services import repaired, track
from kyklon.operations.card.volumes import contents
from kyklon.operations.controls.quirks import encoder_quirk
from kyklon.operations.picture import exports
from support import Demo

ON_CARD = {"merrow.settings": BOOT_FILE, "kernel.line": KERNEL_LINE, "extlinux/extlinux.conf": EXTLINUX}
MERROW = SettingsFile(Grammar(separator="=", remark="--", bound="on {boards}:", first_line="merrow settings 2"))
OTHERS = (  # grammars of no shipped file: the codec must not lean on one of them
    SettingsFile(Grammar(separator=":", remark=";", bound="[{boards}]", wins="first")),
    SettingsFile(Grammar(separator="=", remark="#")),
)
KEYS = st.from_regex(r"[a-z][a-z_.]{0,10}", fullmatch=True)
VALUES = st.from_regex(r"[A-Za-z0-9/+-]{1,12}", fullmatch=True)
BOARDS = st.sampled_from(["", "herring", "cod", "herring, cod", "sprat,ling"])


def chosen_of(text: str) -> Label | None:
    return chosen(parse(text))


def line(file: SettingsFile, boards: str, key: str, value: str) -> str:
    bound = f"{file.grammar.bound.format(boards=boards)} " if boards and file.grammar.bound else ""
    return f"{bound}{key} {file.grammar.separator} {value}"


@given(st.data(), st.sampled_from([MERROW, *OTHERS]))
def test_compile_sets_what_is_wanted_and_keeps_everything_else(data: st.DataObject, file: SettingsFile) -> None:
    odd = st.sampled_from([f"{file.grammar.remark} a = remark", "", "no setting here", f"  {file.grammar.remark}x"])
    own = st.builds(lambda *parts: line(file, *parts), BOARDS, KEYS, VALUES)
    lines = data.draw(st.lists(st.one_of(own, odd), max_size=25))
    values = data.draw(st.dictionaries(KEYS, VALUES, max_size=5))
    first = [file.grammar.first_line] if file.grammar.first_line else []
    before = "".join(f"{each}\n" for each in [*first, *lines])
    wanted = Wanted("herring", values, {})
    after = file.compile(before, wanted)
    assert file.read(after, "herring") == file.read(before, "herring") | values
    assert file.compile(after, wanted) == after
    odd_lines = [each for each in lines if not file.lines(each)]
    assert [each for each in after.splitlines()[len(first) :] if not file.lines(each)] == odd_lines
    old, new = file.read(before, "cod"), file.read(after, "cod")
    assert {key: value for key, value in new.items() if key not in values} == {
        key: value for key, value in old.items() if key not in values
    }
    bound_to_cod = {each.key for each in file.lines(before) if "cod" in each.boards}
    assert {key: new[key] for key in bound_to_cod} == {key: old[key] for key in bound_to_cod}


@given(st.text(max_size=120))
def test_any_text_is_read_and_its_lines_are_kept(text: str) -> None:
    after = MERROW.compile(text, Wanted("cod", {"kernel.file": "k"}, {}))
    assert MERROW.read(after, "cod")["kernel.file"] == "k"
    settings = {line.number for line in MERROW.lines(text) if line.key == "kernel.file"}
    kept = [each for number, each in enumerate(split_lines(text)) if number not in settings]
    rest = iter(after.split("\n"))
    assert all(each in rest for each in kept), "a line was lost or moved"


def test_a_line_bound_to_the_board_counts_before_one_for_all() -> None:
    before = "merrow settings 2\non herring, cod: a = 3\na = 1\na = 2\n"
    assert (MERROW.read(before, "herring"), MERROW.read(before, "ling")) == ({"a": "3"}, {"a": "2"})
    after = MERROW.compile(before, Wanted("herring", {"a": "9"}, {}))
    assert after == before + "on herring: a = 9\n"  # cod keeps the line it shares
    assert MERROW.read(after, "herring")["a"] == "9"


def test_an_empty_value_takes_the_line_out_for_this_board_only() -> None:
    before = "merrow settings 2\na = 1\non cod, herring: b = 2\n"
    assert MERROW.compile(before, Wanted("herring", {"a": "", "b": ""}, {})) == "merrow settings 2\non cod: b = 2\n"


def test_a_file_that_does_not_name_its_format_is_not_read_and_gets_its_first_line() -> None:
    assert MERROW.read("a = 1\n", "cod") == {}
    after = MERROW.compile("a = 1\n[old] x=2\n", Wanted("cod", {"a": "2"}, {}))
    assert after == "merrow settings 2\na = 2\n[old] x=2\n"


def test_a_desktop_editors_line_endings_stay() -> None:
    before = "merrow settings 2\r\n-- hello\r\na = 1\r\n"
    assert MERROW.compile(before, Wanted("cod", {"a": "2"}, {})) == "merrow settings 2\r\n-- hello\r\na = 2\r\n"


WORDS = st.from_regex(r"[a-z]{1,6}(=[a-z0-9:]{1,8})?", fullmatch=True)


@given(st.lists(WORDS, max_size=12), st.lists(WORDS, max_size=5))
def test_set_words_makes_one_line_with_each_wanted_word(old: list[str], wanted: list[str]) -> None:
    line = set_words(" ".join(old), wanted)
    assert "\n" not in line
    assert "  " not in line
    last = {word.partition("=")[0]: word for word in wanted if "=" in word}
    for word in wanted:
        name = word.partition("=")[0]
        assert word in words(line) or last.get(name) in words(line)
    assert set_words(line, wanted) == line or len({w.partition("=")[0] for w in wanted}) < len(wanted)
    names = {word.partition("=")[0] for word in wanted}
    kept = [word for word in old if word.partition("=")[0] not in names]
    assert [word for word in words(line) if word.partition("=")[0] not in names] == kept


def test_quirks_are_joined_and_never_doubled() -> None:
    line = set_words("quiet usbhid.quirks=0x1:0x2:0x40", ["usbhid.quirks=0x3:0x4:0x40"])
    assert line == "quiet usbhid.quirks=0x1:0x2:0x40,0x3:0x4:0x40"
    assert set_words(line, ["usbhid.quirks=0x3:0x4:0x40"]) == line
    assert word_values(line, "usbhid.quirks") == ("0x1:0x2:0x40", "0x3:0x4:0x40")


def test_a_console_may_be_given_twice_and_quotes_hold_spaces() -> None:
    line = set_words('console=tty1 greet="good day"', ["console=serial0,115200"])
    assert words(line) == ("console=tty1", 'greet="good day"', "console=serial0,115200")


def test_extlinux_edits_the_default_entry_only() -> None:
    before = "DEFAULT b\n# remark\nLABEL a\n  LINUX /old\n  APPEND quiet\nLABEL b\n  LINUX /b\n  INITRD /i\n"
    after = set_entry(before, {"LINUX": "/new", "FDT": "/tree"}, ["root=/dev/sda2"])
    a, b = after.split("LABEL b")
    assert "/old" in a
    assert "# remark" in a
    entry = chosen_of(after)
    assert entry.values == {"LINUX": "/new", "INITRD": "/i", "FDT": "/tree", "APPEND": "root=/dev/sda2"}
    assert "/new" in b


def test_extlinux_is_made_where_there_is_none() -> None:
    entry = chosen_of(set_entry("", {"LINUX": "/k"}, ["quiet"]))
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
    return {file.path: file.text for file in compiled(build, catalogue, ON_CARD if card is None else card)}


def test_the_merrow_dialect_keeps_the_cards_own_lines(demo: Demo, catalogue: Catalogue) -> None:
    files = issued(demo.build, catalogue)
    boot, file = files["merrow.settings"], catalogue.get(Dialect, "merrow").files[0]
    assert "start.greeting = off" in boot
    assert "on ling, cod: fan.start_celsius = 60" in boot
    assert boot.startswith("merrow settings 2\n-- Quayside.")
    assert codec_of(file).read(boot, "herring")["memory.video"] == "256"
    assert codec_of(file).read(boot, "sprat")["memory.video"] == "64"  # another board's line is not ours
    assert max(map(len, boot.splitlines())) <= catalogue.get(Dialect, "merrow").longest_line
    assert files["services.list"].splitlines() == list(demo.build.boot.services)


def test_every_line_of_ours_knows_its_decision(demo: Demo, catalogue: Catalogue) -> None:
    files = {file.path: file for file in compiled(demo.build, catalogue, {})}
    first, *lines = files["merrow.settings"].lines
    assert (first.text, first.path) == ("merrow settings 2", "")
    assert all(line.path for line in lines), lines
    paths = (
        "boot.kernel",
        "boot.device_tree",
        "picture.menu",
        "boot.force_output",
        "boot.sound",
        "boot.video_memory_mb",
        "boot.overscan_percent",
    )
    assert {line.label for line in lines} <= {describe(Build, path).label for path in paths}


EVERY = {
    "boot.mode_as": ("number", "picture.mode = cta 16"),
    "boot.link": ("dvi", "picture.link = dvi"),
    "boot.ignore_identification": (True, "picture.ask = never"),
    "boot.signal_strength": (8, "picture.strength = 8"),
    "boot.inset_left": (10, "picture.inset = 288,96,54,54"),
    "boot.frame_size": ("640x480", "picture.frame = 640x480"),
    "boot.turn": ("90", "picture.turned = 90"),
    "boot.safe_start": (True, "start.safe = on"),
    "boot.processor_mhz": (900, "processor.mhz = 900"),
    "boot.overlays": (["fan-switch:pin=36"], "header.extras = fan-switch:pin=36"),
}


@pytest.mark.parametrize("path", EVERY)
def test_every_setting_comes_to_the_card_and_goes_again(path: str, demo: Demo, catalogue: Catalogue) -> None:
    build = edited(demo.build, "picture.menu", Mode(name="CTA 16", timing=standard_timings("cta")[16].timing))
    before = issued(build, catalogue)["merrow.settings"]
    value, line = EVERY[path]
    after = compiled(edited(build, path, value), catalogue, {"merrow.settings": before})[0].text
    assert line in after.split("\n")
    assert line not in before.split("\n")
    back = compiled(build, catalogue, {"merrow.settings": after})[0].text
    assert sorted(back.split("\n")) == sorted(before.split("\n"))
    ling = edited(build.with_part("board", "ling"), "boot.dialect", "extlinux")
    codes = {finding.code for finding in hardware.findings(edited(ling, path, value), catalogue, World())}
    carried = path in taken_settings(catalogue.get(Dialect, "extlinux"), catalogue.get(Board, "ling"))
    assert (f"boot.no-effect:{path}" in codes) is not carried  # and where it means nothing, that is said


def test_a_line_longer_than_the_firmware_reads_is_a_stop_and_is_read_as_cut(demo: Demo, catalogue: Catalogue) -> None:
    long = edited(demo.build, "boot.kernel_words", ["x" * 470, "root=/dev/mmcblk0p2"])
    found = {finding.code: finding for finding in hardware.findings(long, catalogue, World())}
    assert found["boot.line-too-long:kernel.line"].severity == "stop"
    texts = {
        "merrow.settings": "merrow settings 2\n" + "kernel.file" + " " * 150 + "= a.krn\n",
        "kernel.line": "x" * 470 + " root=/dev/mmcblk0p2\n",
    }
    read = read_settings(catalogue.get(Dialect, "merrow"), catalogue.get(Board, "herring"), texts)
    assert read is not None
    assert (read.kernel_file, "root=/dev/mm" in read.kernel_line) == ("", False)


@pytest.mark.parametrize(
    ("path", "value", "code", "severity"),
    [
        ("boot.video_memory_mb", 1000, "boot.memory", "stop"),
        ("boot.video_memory_mb", 600, "boot.memory", "caution"),
        ("boot.processor_mhz", 1000, "boot.clock", "caution"),
        ("boot.processor_mhz", 1051, "boot.clock", "stop"),
        ("boot.signal_strength", 10, "boot.signal-strength", "stop"),
        ("boot.signal_strength", 0, "boot.signal-strength", "stop"),
        ("boot.safe_start", True, "boot.safe-start", "stop"),
        ("boot.overlays", ["shutdown-button:pin=36", "fan-switch"], "boot.pin:36", "stop"),
        ("boot.overlays", ["bus-sound", "bus-four-wire"], "boot.pin:23", "stop"),
        ("boot.overlays", ["day-clock"], "boot.bus:day-clock", "caution"),
        ("boot.machine_sound", ["elm-s:digital"], "boot.machine-sound", "caution"),
        ("boot.overlays", ["nothing-such"], "boot.overlay:nothing-such", "caution"),
        ("boot.overlays", ["fan-switch:speed=2"], "boot.overlay:fan-switch:speed=2", "caution"),
        ("boot.overlays", ["Fan=36"], "boot.overlay:Fan=36", "caution"),
    ],
)
def test_what_the_board_does_not_bear_is_told_and_its_remedy_ends_it(
    path: str, value: object, code: str, severity: str, demo: Demo, catalogue: Catalogue
) -> None:
    build = edited(demo.build, path, value)
    found = next(finding for finding in hardware.findings(build, catalogue, World()) if finding.code == code)
    assert found.severity == severity
    if found.remedy:
        after = remedied(build, found.remedy)
        assert code not in {finding.code for finding in hardware.findings(after, catalogue, World())}


def test_the_extlinux_dialect(demo: Demo, catalogue: Catalogue) -> None:
    build = edited(demo.build.with_part("board", "ling"), "boot.dialect", "extlinux")
    build = edited(build, "boot.device_tree", "ling.dtb")
    build = edited(build, "boot.kernel_words", ["usbhid.quirks=0x6b79:0x0022:0x40"])
    entry = chosen_of(issued(build, catalogue)["extlinux/extlinux.conf"])
    assert entry.name == "quayside"
    assert entry.values["LINUX"] == "/merrow-armv8.krn"
    assert entry.values["FDT"] == "/ling.dtb"
    append = words(entry.values["APPEND"])
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
    assert "0x6b79:0x0022:0x40" in word_values(found.kernel_line, "usbhid.quirks")
    assert "root=/dev/mmcblk0p2" in words(found.kernel_line)
    if dialect == "merrow":
        assert found.timing == build.picture.menu.timing


def test_issuing_twice_changes_nothing(demo: Demo, catalogue: Catalogue) -> None:
    once = issued(demo.build, catalogue)
    again = issued(demo.build, catalogue, {name.lower(): body for name, body in once.items()})
    assert again == once
    assert difference(once["merrow.settings"], again["merrow.settings"], "merrow.settings") == ""


def test_services_behind_the_foreground_one_never_start() -> None:
    steps = track(("network", "gangway", "shutdown-watcher"), "gangway")
    assert [step.starts for step in steps] == [True, True, False]
    assert repaired(("network", "gangway", "shutdown-watcher"), "gangway")[-1] == "gangway"


@pytest.mark.parametrize(
    ("path", "value", "code"),
    [
        ("boot.kernel", "merrow-armv6.krn", "boot.kernel-set"),
        ("boot.kernel", "gone.krn", "boot.kernel-set"),
        ("boot.device_tree", "cod.dtb", "boot.device-tree"),
        ("boot.dialect", "extlinux", "boot.dialect"),
        ("boot.services", ["gangway", "shutdown-watcher"], "boot.service-order"),
    ],
)
def test_findings_and_their_remedies(path: str, value: object, code: str, demo: Demo, catalogue: Catalogue) -> None:
    build = edited(edited(demo.build, "boot.kernel", "merrow-armv7.krn"), path, value)
    found = {finding.code: finding for finding in findings(build, catalogue, World())}
    assert found[code].severity == "stop"
    after = remedied(build, found[code].remedy)
    assert code not in {finding.code for finding in findings(after, catalogue, World())}


def test_a_front_end_that_is_not_started_and_a_radio_without_country(demo: Demo, catalogue: Catalogue) -> None:
    build = edited(edited(demo.build, "boot.services", ["network"]), "boot.country", "")
    codes = {finding.code for finding in findings(build, catalogue, World())}
    assert {"boot.no-front-end", "boot.country"} <= codes


def test_the_quirk_word_of_an_encoder(catalogue: Catalogue) -> None:
    assert encoder_quirk(catalogue.get(Encoder, "tackle-pair")) == "0x6b79:0x0022:0x40"
    assert encoder_quirk(catalogue.get(Encoder, "tackle-12")) == ""
    assert encoder_quirk(None) == ""


@pytest.mark.parametrize("kind", get_args(DialectFile.model_fields["kind"].annotation))
def test_every_kind_of_boot_file_has_a_codec_that_reads_any_text(kind: str) -> None:
    codec = codec_of(DialectFile(path="x", kind=kind))
    wanted = Wanted("cod", {}, {}, ("quiet",), ("network",))
    for old in ("", "\n", "odd \x00 text\r\n\ufffd", "a" * 5000):
        once = codec.compile(old, wanted)
        assert codec.compile(once, wanted) == once
        codec.read(once, "cod")
        assert all(isinstance(codec.explain(line, wanted), str) for line in once.splitlines())


LINES_OF_A_MENU = st.sampled_from(
    [
        "",
        "# a remark",
        "DEFAULT a",
        "DEFAULT none",
        "LABEL a",
        "LABEL b",
        "  LINUX /k",
        "  FDT /t.dtb",
        "  APPEND root=/dev/x quiet",
        "\tlinux /other",
        "  frobnicate yes",
        "MENU TITLE Games",
        "TIMEOUT 30",
        "  MENU DEFAULT",
        "  INITRD /i",
        "  LOCALBOOT 1",
        "PROMPT 0",
        "  KERNEL",
        "  append",
    ]
)


@given(st.lists(LINES_OF_A_MENU, max_size=14))
def test_any_menu_is_edited_to_start_what_is_wanted_and_nothing_else_moves(rows: list[str]) -> None:
    before = "".join(f"{row}\n" for row in rows)
    wanted = {"LINUX": "/merrow-armv8.krn", "FDT": "/ling.dtb"}
    after = set_entry(before, wanted, ["root=/dev/mmcblk0p2"])
    menu = parse(after)
    label = chosen(menu)
    assert menu.error == ""
    assert not menu.waits
    assert label is not None
    assert {name: label.values[name] for name in wanted} == wanted
    assert "root=/dev/mmcblk0p2" in label.values["APPEND"].split()
    assert set_entry(after, wanted, ["root=/dev/mmcblk0p2"]) == after
    if not parse(before).error and chosen(parse(before)) is not None:
        kept = [
            row for row in rows if row.split()[:1] not in (["LINUX"], ["linux"], ["FDT"], ["APPEND"], ["LOCALBOOT"])
        ]
        left = iter(after.split("\n"))
        assert all(row in left for row in kept), "a line that nobody edited moved or went"


def test_a_boot_file_is_read_line_by_line_with_what_is_odd(catalogue: Catalogue) -> None:
    merrow, labels = catalogue.get(Dialect, "merrow"), catalogue.get(Dialect, "extlinux")
    board = catalogue.get(Board, "cod")
    texts = {
        "merrow.settings": "merrow settings 2\n-- a remark\nmemory.video = 64\non ling: sound.route = digital\n"
        f"memory.video = 128\nwhat is this\nfan.start = 60\n{'x' * 161}\n",
        "kernel.line": "root=/dev/a quiet root=/dev/b\nlost\n",
        "services.list": "sound\nsound\n",
    }
    found = {(line.file, line.number, line.key): line for line in as_found(merrow, board, texts)}
    settings = "merrow.settings"
    assert found[settings, 3, "memory.video"].odd == "has no effect: line 5 sets it too"
    assert found[settings, 5, "memory.video"].setting == "boot.video_memory_mb"
    assert found[settings, 4, "sound.route"].odd == "is for ling only"
    assert found[settings, 6, ""].odd == "is neither a setting nor a comment"
    assert (found[settings, 7, "fan.start"].setting, found[settings, 7, "fan.start"].odd) == ("", "")
    assert any("longer than 160" in line.odd and line.number == 8 for line in found.values())
    assert found["kernel.line", 2, "lost"].odd.startswith("ignored")
    roots = [line for line in as_found(merrow, board, texts) if line.key == "root"]
    assert [(line.value, bool(line.odd)) for line in roots] == [("/dev/a", True), ("/dev/b", False)]
    assert found["services.list", 2, "sound"].odd == "is in the list already"
    menu = "DEFAULT a\nLABEL a\n  LINUX /k\n  frob x\n  APPEND y\nLABEL b\n  LINUX /l\r\n"
    odd = {line.number: line.odd for line in as_found(labels, board, {"extlinux/extlinux.conf": menu}) if line.odd}
    assert "skipped" in odd[4]
    assert "skipped" in odd[5]
    assert "carriage return" in odd[7]
    void = as_found(labels, board, {"extlinux/extlinux.conf": "LABEL\n"})
    assert any("rejects the file: line 1" in line.odd for line in void)


def test_a_set_of_several_machines_has_sound_by_machine(demo: Demo, catalogue: Catalogue) -> None:
    build = edited(demo.build.with_part("image", "tidepool"), "boot.machine_sound", ["elm-s:digital", "none-such:none"])
    found = next(
        finding for finding in hardware.findings(build, catalogue, World()) if finding.code == "boot.machine-sound"
    )
    build = remedied(build, found.remedy)
    assert build.boot.machine_sound == ("elm-s:digital",)
    text = compiled(build, catalogue, {})[0].text
    assert "sound.machines = elm-s:digital" in text.split("\n")


def test_a_fresh_word_goes_to_the_end_of_its_section() -> None:
    """What belongs to no section stands before the first; a section that is not there is begun."""
    text = "[a]\nx = 1\n\n[b]\ny = 2\n# the end of b\n\n[a]\nv = 4\n"
    codec = SettingsFile(Grammar(section="[{section}]"))
    values = {"a/z": "9", "c/w": "5", "top": "3", "a/x": "1", "b/y": "2", "b/w": "6"}
    issued = codec.compile(text, Wanted("", values, {}))
    assert issued == "top = 3\n[a]\nx = 1\n\n[b]\ny = 2\nw = 6\n# the end of b\n\n[a]\nv = 4\nz = 9\n[c]\nw = 5\n"
    assert {key: codec.read(issued, "")[key] for key in values} == values
    closed = SettingsFile(Grammar(section="{section} {", close="}", separator=":", joint=": "))
    issued = closed.compile("a {\n  x: 1\n}\n", Wanted("", {"a/y": "2", "b/z": "3"}, {}))
    assert issued == "a {\n  x: 1\ny: 2\n}\nb {\nz: 3\n}\n"
    assert closed.read(issued, "") == {"a/x": "1", "a/y": "2", "b/z": "3"}


def test_a_settings_file_full_of_remarks_is_read_and_a_mode_that_is_none_is_told(
    demo: Demo, catalogue: Catalogue
) -> None:
    """Over 64 KB of remarks before what counts; a timing and a number that name nothing."""
    board, dialect = catalogue.get(Board, "herring"), catalogue.get(Dialect, "merrow")
    head = "merrow settings 2\n"
    for line, told in (
        ("picture.timing = 15 kHz please", "picture timing"),
        ("picture.mode = cta 999", "no CTA"),
        ("picture.mode = vga 3", "no table"),
        ("picture.mode = dmt", "not a number"),
    ):
        found = read_settings(dialect, board, {"merrow.settings": f"{head}{line}\n"})
        assert found is not None
        assert found.timing is None
        assert told in found.timing_error
    assert demo.write().bad is None
    card = demo.drive("blank-card")
    table = contents.observe(card).table
    assert table is not None
    boot = table.boot()
    assert boot is not None
    remarks = "-- a remark that goes on and on\n" * 4000
    text = contents.observe(card).texts_meant["merrow.settings"].replace(head, f"{head}{remarks}")
    source = demo.folder / "long.settings"
    source.write_text(text)
    tools.run(["mcopy", "-o", "-i", f"{card}@@{boot.start}", str(source), "::/merrow.settings"])
    assert len(contents.observe(card).texts_meant["merrow.settings"]) > 100_000
