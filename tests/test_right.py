"""What is answered wrongly nowhere: sign-offs, codes, root devices, quirks, axes, power, what a board sends."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from fractions import Fraction
from functools import cache
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kyklon.catalogue import image_records, loader, records, system_records
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Bridge, Disk, Display, Range
from kyklon.devices.linux.inputs import direction
from kyklon.model import kernel_line
from kyklon.model.build import Build, edited
from kyklon.model.card import Partition, PartitionTable
from kyklon.model.display import Edid, RangeLimits
from kyklon.model.root_device import root_device
from kyklon.model.world import World
from kyklon.operations import inspection
from kyklon.operations.assembly.budget import budget
from kyklon.operations.controls.quirks import heard, joined, quirk_given
from kyklon.operations.picture.findings import findings as picture_findings
from kyklon.operations.picture.ranges import carried, display_ranges, fit, propose
from kyklon.operations.registry import OPERATIONS
from support import Demo

# --- sign-offs ---------------------------------------------------------------------------------------------------

PARTS = {
    "board": records.Board,
    "supply": records.Supply,
    "card": records.Card,
    "display": records.Display,
    "adapter": records.Adapter,
    "encoder": records.Encoder,
    "image": image_records.Image,
    "bridge": records.Bridge,
    "disk": records.Disk,
}


def _changes(build: Build, catalogue: Catalogue) -> list[tuple[str, Build]]:
    """Every part exchanged for each other one of its kind, and fields of every group changed."""
    found = []
    for role, kind in PARTS.items():
        for part in catalogue.all(kind):
            if part.id != build.part(role):
                found.append((f"{role} {part.id}", build.with_part(role, part.id)))
    disk = catalogue.all(records.Disk)[0].id
    bridge = catalogue.all(records.Bridge)[0].id
    whole = edited(build.with_part("disk", disk).with_part("bridge", bridge), "medium", "disk")
    edits: dict[str, Any] = {
        "medium": "disk",
        "systems": build.systems[:-1],
        "links": build.links[:-1],
        "boot.sound": "none",
        "boot.kernel_words": ("quiet", "usbhid.quirks=0x1:0x2:0x40"),
        "boot.overscan_percent": 7.0,
        "library.folder": "elsewhere",
        "library.destination": "",
        "controls.hotkey": "start",
        "tuning.front_end": {"frames-ahead": 2},
        "picture.systems": (),
        "source.path": "other.img",
    }
    return [*found, ("disk", whole), *((path, edited(build, path, value)) for path, value in edits.items())]


@pytest.mark.long
def test_whatever_changes_what_an_operation_says_makes_its_sign_off_stale(demo: Demo, catalogue: Catalogue) -> None:
    build = demo.build
    world = inspection.observe(build, demo.folder, catalogue)
    outcome: Callable[[Any, Build], tuple[Any, Any]] = lambda operation, each: (  # noqa: E731
        [finding for findings in operation.findings for finding in findings(each, catalogue, world)],
        operation.issue(each, catalogue, world) if operation.issue else None,
    )
    missed = []
    for operation in OPERATIONS:
        before, mark = outcome(operation, build), inspection.fingerprint(build, operation)
        for name, changed in _changes(build, catalogue):
            if outcome(operation, changed) != before and inspection.fingerprint(changed, operation) == mark:
                missed.append((operation.name, name))
    assert missed == []


@pytest.mark.parametrize(("role", "number"), [("display", 50), ("encoder", 40), ("board", 30), ("board", 90)])
def test_another_part_makes_the_sign_off_stale(demo: Demo, catalogue: Catalogue, role: str, number: int) -> None:
    operation = next(each for each in OPERATIONS if each.number == number)
    other = next(each.id for each in catalogue.all(PARTS[role]) if each.id != demo.build.part(role))
    changed = demo.build.with_part(role, other)
    assert inspection.fingerprint(changed, operation) != inspection.fingerprint(demo.build, operation)


def test_every_finding_has_a_code_of_its_own(demo: Demo, catalogue: Catalogue) -> None:
    world = inspection.observe(demo.build, demo.folder, catalogue)
    for _name, build in _changes(demo.build, catalogue):
        codes = [finding.code for finding in inspection.inspect(build, catalogue, world)]
        assert len(codes) == len(set(codes))
        for code in codes:
            assert inspection.find(inspection.inspect(build, catalogue, world), code).code == code
    two = inspection.inspect(demo.build, catalogue, world)[:2]
    assert inspection._unique([*two, *two]) == two  # the same twice is said once
    others = [each.model_copy(update={"subject": "another"}) for each in two]
    assert len({each.code for each in inspection._unique([*two, *others])}) == 4


# --- root= -------------------------------------------------------------------------------------------------------

TABLE = PartitionTable(
    0x4B594B32, (Partition(1, 0x0C, 512, 512, active=False), Partition(2, 0x83, 1024, 512, active=False))
)
OWN_ID = "0a0b0c0d-0000-4000-8000-00000000abcd"
GPT = PartitionTable(0, (Partition(2, 0x83, 1024, 512, active=False, guid="x", uuid=OWN_ID),), "GPT")


@pytest.mark.parametrize(
    ("words", "number"),
    [
        (["root=/dev/mmcblk0p2"], 2),
        (["root=/dev/mmcblk0p9", "root=/dev/mmcblk0p2"], 2),  # the last one counts
        (["root=PARTUUID=4b594b32-02"], 2),
        (["root=PARTUUID=4B594B32-02"], 2),
        (["root=179:2"], 2),
        (["root=b302"], 2),
        (["root=/dev/mmcblk0p1"], 1),
        (["root=/dev/mmcblk0p2", "root=/dev/mmcblk0p9"], None),
        (["root=/dev/mmcblk1p2"], None),
        (["root=/dev/sda2"], None),
        (["root=PARTUUID=4b594b32-03"], None),
        (["root=PARTUUID=deadbeef-02"], None),
        (["root=UUID=1234-ABCD"], None),
        (["root=LABEL=root"], None),
        (["root=root=/dev/mmcblk0p2"], None),
        (["root="], None),
        (["root=/dev/mmcblk0"], None),
        (["root=8:2"], None),
        (["root=nonsense"], None),
        (["root=179:0"], None),
        (["root=/dev/mmcblk0p2\x00"], None),
    ],
)
def test_root_in_every_form_against_the_table(words: list[str], number: int | None) -> None:
    meant = root_device(words, TABLE)
    assert meant is not None
    assert (meant.partition.number if meant.partition else None) == number
    assert bool(meant.why) == (number is None)


def test_root_on_a_disk_and_by_a_gpt_partitions_own_id() -> None:
    assert root_device(["root=/dev/sda2"], TABLE, disk=True).partition.number == 2  # type: ignore[union-attr]
    assert root_device(["root=8:2"], TABLE, disk=True).partition.number == 2  # type: ignore[union-attr]
    assert root_device(["root=/dev/mmcblk0p2"], TABLE, disk=True).partition is None  # type: ignore[union-attr]
    assert root_device([f"root=PARTUUID={GPT.partitions[0].uuid}"], GPT).partition is not None  # type: ignore[union-attr]
    assert root_device(["quiet"], TABLE) is None


@given(st.text(max_size=60))
def test_any_root_gets_an_answer(value: str) -> None:
    meant = root_device([f"root={value}"], TABLE)
    assert meant is not None
    assert (meant.partition is None) == bool(meant.why)


# --- encoders ----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("given_", "holds"),
    [
        ("0x1234:0x00ab:0x40", True),
        ("0x1234:0x00AB:0x48", True),
        ("1234:ab:40", False),
        ("0X1234:0xab:0xff", False),
        ("0x1234:0xab:0x40 or so", True),
        ("0x1234:00ab:0x40", False),
        ("0x1234:0x00ab:0x08", False),
        ("0x1234:0x00ab:0x4", False),
        ("0x1235:0x00ab:0x40", False),
        ("nonsense", False),
        ("0x1234:0x00ab", False),
        ("", False),
    ],
)
def test_quirks_compare_as_numbers(given_: str, holds: bool) -> None:
    """As the kernel's sscanf reads them: the small 0x is a must (drivers/hid/hid-quirks.c)."""
    assert quirk_given("0x1234:0x00ab:0x40", [f"usbhid.quirks={given_}"]) is holds


WANTED = "0x1234:0x00ab:0x40"
OTHERS = ("0x1:0x1:0x1", "0x2:0x2:0x2", "0x3:0x3:0x4", "0x4:0x4:0x4")


@pytest.mark.parametrize(
    ("line", "holds"),
    [
        (f"usbhid.quirks={WANTED}", True),
        (f"usbhid.quirks={','.join(OTHERS)},{WANTED}", False),
        (f"usbhid.quirks={','.join(OTHERS[:3])},{WANTED}", True),
        (f"usbhid.quirks={WANTED},0x1234:0x00ab:0x08", False),
        (f"usbhid.quirks=0x1234:0x00ab:0x08,{WANTED}", True),
        (f"usbhid.quirks={WANTED} usbhid.quirks={OTHERS[0]}", False),
        (f"usbhid.quirks={OTHERS[0]},{WANTED} usbhid.quirks={OTHERS[1]}", True),
        (f'usbhid.quirks="{WANTED}"', True),
        (f'console="tty1 usbhid.quirks={WANTED}', False),
        (f'"usbhid.quirks={WANTED} x"', True),
        (f"-- usbhid.quirks={WANTED}", False),
        (f"usbhid.quirks=,,,,{WANTED}", False),
        (f"usbhid.quirks=,{WANTED}", True),
        (f"quiet usbhid.quirks={WANTED}\u00a0", True),
        (f"quiet\u00a0usbhid.quirks={WANTED}", True),
        (f"quiet\u2003usbhid.quirks={WANTED}", False),
        (f"caf\u00e0 usbhid.quirks={WANTED}", True),
    ],
)
def test_quirks_are_heard_as_the_kernel_fills_its_array(line: str, holds: bool) -> None:
    """Worked by hand from kernel/params.c (param_array) and lib/cmdline.c (next_arg) of 6.1."""
    assert quirk_given(WANTED, kernel_line.given(line)) is holds


def test_a_remedy_for_quirks_is_heard_and_loses_none() -> None:
    assert joined([WANTED], ["1234:ab:8", OTHERS[0]]) == ("0x1234:0x00ab:0x48", OTHERS[0])
    assert joined([WANTED], ["0x1234:0xab:0x48"]) == ("0x1234:0xab:0x48",)
    for line in ("", "1234:ab:8", f"{OTHERS[0]},{OTHERS[1]}", f"{','.join(OTHERS[:3])},0X1234:0xAB:0x8"):
        made = joined([WANTED], [word for word in line.split(",") if word])
        assert quirk_given(WANTED, [f"usbhid.quirks={','.join(made)}"])
        before = heard([f"usbhid.quirks={line}"])
        after = heard([f"usbhid.quirks={','.join(made)}"])
        assert all(after[device] & flags == flags for device, flags in before.items())


@pytest.mark.parametrize(
    ("line", "holds"),
    [
        ("usb-storage.quirks=152d:0578:u", True),
        ("usb-storage.quirks=152D:578:tu", True),
        ("usb-storage.quirks=x", False),
        ("usb-storage.quirks=152d:0578:u usb-storage.quirks=1:2:u", False),
        ("usb-storage.quirks=152d:0578:t", False),
    ],
)
def test_storage_quirks_are_heard(line: str, holds: bool) -> None:
    assert kernel_line.storage_quirk_given("152d:0578:u", kernel_line.given(line)) is holds


@pytest.mark.parametrize(
    ("low", "high", "values"),
    [
        (0, 255, {0: -1, 127: 0, 128: 0, 255: 1, 100: 0, 10: -1}),
        (-1, 1, {-1: -1, 0: 0, 1: 1}),
        (-32768, 32767, {-32768: -1, 0: 0, 200: 0, 32767: 1}),
        (0, 0, {-5: -1, 0: 0, 5: 1}),
    ],
)
def test_an_axis_rests_at_its_middle(low: int, high: int, values: dict[int, int]) -> None:
    assert {value: direction(value, low, high) for value in values} == values


# --- electricity -------------------------------------------------------------------------------------------------


def test_a_disk_and_the_contacts_are_in_the_power_budget(demo: Demo, catalogue: Catalogue) -> None:
    plain = budget(demo.build, catalogue)
    disk, bridge = catalogue.all(Disk)[0], catalogue.all(Bridge)[0]
    build = edited(demo.build.with_part("disk", disk.id).with_part("bridge", bridge.id), "medium", "disk")
    with_disk = budget(build, catalogue)
    assert plain is not None
    assert with_disk is not None
    assert plain.drop_v is not None
    assert plain.cable is not None
    assert with_disk.peak_a == pytest.approx(plain.peak_a + disk.peak_a + bridge.draws_a)
    # USB 2.0, table 7-6: 30 mΩ a contact, four on the way
    copper = plain.drop_v - 4 * 0.030 * plain.peak_a
    assert 0 < copper < plain.drop_v
    assert plain.chip_c >= 35 + plain.board.typical_a * 5 * plain.board.heat_k_per_w


# --- the picture -------------------------------------------------------------------------------------------------


def test_a_board_that_takes_only_a_size_stops_a_15_khz_tube(demo: Demo, catalogue: Catalogue) -> None:
    boards = [each for each in catalogue.all(Board) if "boot file" not in each.honours and "video=" in each.honours]
    assert boards
    display = catalogue.get(Display, demo.build.part("display"))
    assert display.tube
    for board in boards:
        build = demo.build.with_part("board", board.id)
        found = {finding.code: finding for finding in picture_findings(build, catalogue, World())}
        assert found["picture.video-only"].severity == "stop"
        assert found["picture.video-only"].remedy is None  # the same word again would change nothing
    assert "picture.video-only" not in {finding.code for finding in picture_findings(demo.build, catalogue, World())}


def test_sync_pulses_that_no_tube_locks_to_are_told(demo: Demo, catalogue: Catalogue) -> None:
    timing = demo.build.picture.systems[0].mode.timing
    wide = timing.model_copy(update={"horizontal": timing.horizontal.model_copy(update={"sync": 1})})
    mode = demo.build.picture.menu.model_copy(update={"timing": wide, "name": "odd"})
    build = edited(demo.build, "picture.menu", mode)
    codes = {finding.code for finding in picture_findings(build, catalogue, World())}
    assert "picture.sync:menu" in codes


def _limits(line_khz: tuple[int, int], field_hz: tuple[int, int]) -> Edid:
    return Edid("KYK", 1, 1, 2026, "X", (), (1, 1), RangeLimits(field_hz, line_khz, 30))


def test_ranges_are_cut_to_what_the_identification_data_says(demo: Demo, catalogue: Catalogue) -> None:
    display = catalogue.get(Display, demo.build.part("display")).model_copy(
        update={
            "ranges": (Range(line_khz=(15.2, 16.5), field_hz=(49, 63)), Range(line_khz=(24, 26), field_hz=(50, 60)))
        }
    )
    assert display_ranges(display, None) == display.ranges
    assert display_ranges(display, replace(_limits((15, 16), (50, 60)), ranges=None)) == display.ranges
    (cut,) = display_ranges(display, _limits((15, 16), (50, 60)))  # VESA EDID: whole kHz, so half a kHz either way
    assert (cut.line_khz, cut.field_hz) == ((15.2, 16.5), (49.5, 60.5))
    (narrow,) = display_ranges(display, _limits((16, 16), (50, 55)))
    assert (narrow.line_khz, narrow.field_hz) == ((15.5, 16.5), (49.5, 55.5))
    assert len(display_ranges(display, _limits((15, 26), (40, 70)))) == 2
    for other in (_limits((31, 50), (60, 75)), _limits((17, 20), (60, 75))):  # nothing in common, or an edge only
        assert display_ranges(display, other) == display.ranges


@cache
def _shipped() -> Catalogue:
    return loader.load(None)


@settings(deadline=None)
@given(
    height=st.integers(150, 300),
    rate=st.fractions(45, 70, max_denominator=10_000),
    low=st.floats(14.5, 17),
    wide=st.floats(0.2, 3),
    field=st.tuples(st.floats(40, 59), st.floats(60, 80)),
)
def test_a_proposed_mode_is_one_that_the_display_holds(
    height: int, rate: Fraction, low: float, wide: float, field: tuple[float, float]
) -> None:
    catalogue = _shipped()
    display = next(each for each in catalogue.all(Display) if each.tube)
    board = next(each for each in catalogue.all(Board) if "boot file" in each.honours)
    system = catalogue.all(system_records.System)[0].model_copy(
        update={"height": height, "width": 300, "vertical": False, "refresh": str(rate)}
    )
    band = Range(line_khz=(low, low + wide), field_hz=field)
    mode = propose(system, display, carried(board), (band,))
    # ITU-R BT.470: 8.3 % of the lines are blanking, so a picture of that height needs so many lines a second
    if mode is None:
        return
    shown = height / 2 if mode.timing.interlaced else height  # of a field
    impossible = float(rate) * shown / (1 - 0.083) > (low + wide) * 1020 or not field[0] <= rate <= field[1]
    assert not impossible
    timing = mode.timing
    assert fit(
        timing, (Range(line_khz=(low - 0.02, low + wide + 0.02), field_hz=(field[0] - 0.1, field[1] + 0.1)),)
    ).holds
    assert timing.size[1] >= height
    assert timing.vertical.sync == 3  # SMPTE 170M
    assert board.least_clock_hz <= timing.clock_hz * 1.01
    assert timing.clock_hz <= board.most_clock_hz * 1.01
    assert timing.horizontal.sync / timing.clock_hz == pytest.approx(4.7e-6, rel=0.05)  # SMPTE 170M
    assert abs(float(timing.vertical_hz) - float(rate)) < 0.1


def test_nothing_is_proposed_for_a_flat_panel(catalogue: Catalogue) -> None:
    flat = next(each for each in catalogue.all(Display) if not each.tube)
    board = catalogue.all(Board)[0]
    assert propose(catalogue.all(system_records.System)[0], flat, carried(board), flat.ranges) is None
