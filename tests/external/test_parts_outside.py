"""What is learnt of a thing, beside what others read of the same bytes.

Outside references: edid-decode(1); dtc(1), fdtget(1) and fdtdump(1) of the device tree compiler; the kernel's own
headers by python-evdev and linux/hid.h; pint (unit conversions of NIST and BIPM); ezdxf and the SVG that its user drew.
"""

from __future__ import annotations

import random
import re
import subprocess
from pathlib import Path

import evdev
import ezdxf.filemanagement
import pint
import pytest
from ezdxf import units as dxf_units

from kyklon.base import units
from kyklon.catalogue.loader import Catalogue, standard_timings
from kyklon.demo import samples
from kyklon.model.display import Edid, Extension, RangeLimits
from kyklon.operations.boot.dialects.codec import Wanted
from kyklon.operations.boot.dialects.settings_file import SettingsFile
from kyklon.operations.picture import edid
from kyklon.parts import board, device_tree, dialect, encoder, identification, panel, sockets

# --- identification data ---------------------------------------------------------------------------------------------


def blocks(count: int) -> list[bytes]:
    """Blocks of many kinds: digital and analogue, with and without ranges, extension, names, sizes, modes."""
    chance = random.Random(11)
    dmt = [row.timing for row in standard_timings("dmt").values() if not row.timing.interlaced]
    dmt = [each for each in dmt if each.clock_hz < 655_350_000 and max(each.size) < 4096]
    made = []
    while len(made) < count:
        digital = chance.random() < 0.8
        limits = RangeLimits(
            (chance.randrange(20, 60), chance.randrange(60, 240)),
            (chance.randrange(15, 31), chance.randrange(31, 160)),
            chance.randrange(20, 340),
        )
        extension = None
        if digital and chance.random() < 0.7:
            codes = tuple(chance.sample([1, 2, 3, 4, 5, 6, 7, 16, 17, 18, 19, 31, 32, 33, 34], chance.randrange(1, 9)))
            extension = Extension(codes, chance.random() < 0.5, chance.random() < 0.7, tuple(chance.sample(dmt, 1)))
        timings = tuple(chance.sample(dmt, chance.randrange(1, 3)))
        size = chance.choice(
            [(0, 0), (477, 268), (376, 282), (151, 94), (1210, 680), (chance.randrange(60, 2000), 300)]
        )
        vendor = "".join(chance.choices("ABCDEFGHIJKLMNOPQRSTUVWXYZ", k=3))
        name = "".join(chance.choices("ABCDEFGHIJKLMabcdefghij 0123456789", k=chance.randrange(2, 13))).strip() or "A"
        data = edid.write(
            Edid(
                vendor,
                chance.randrange(65536),
                chance.randrange(1 << 32),
                chance.randrange(1992, 2027),
                name,
                timings,
                size,
                limits if chance.random() < 0.7 else None,
                digital,
                chance.randrange(1, 53),
                chance.randrange(1 << 17) << 7,
                extension,
            )
        )
        block = bytearray(data)
        for at in range(38, 54, 2):  # standard timings (E-EDID A2, 3.9)
            if chance.random() < 0.5:
                block[at : at + 2] = bytes([chance.randrange(2, 256), chance.randrange(256)])
        if digital and block[19] == 4:
            block[20] = 0x80 | chance.randrange(1, 7) << 4 | chance.randrange(0, 6)
        block[25:35] = bytes(chance.randrange(256) for _ in range(10))
        block[127] = -sum(block[:127]) % 256
        made.append(bytes(block))
    return made


def decoded(data: bytes) -> str:
    told = subprocess.run(["edid-decode", "-"], input=data, capture_output=True, check=False)
    return told.stdout.decode("utf-8", "replace")


def number(pattern: str, text: str) -> float | None:
    match = re.search(pattern, text)
    return float(match[1]) if match else None


@pytest.mark.parametrize("batch", range(10))
def test_edid_decode_reads_the_same_of_every_block(batch: int) -> None:
    for data in blocks(300)[batch::10]:
        compare(data)


def compare(data: bytes) -> None:
    """Every field that is taken, beside what edid-decode says."""
    mine, said = identification.look(data), decoded(data)
    base = said.partition("Block 1")[0]
    assert mine.troubles == ()
    assert f"Manufacturer: {mine.vendor}" in base
    assert f"Model: {mine.product}" in base
    made = re.search(r"Made in: (?:week (\d+) of )?(\d{4})", base)
    assert made is not None
    assert int(made[2]) == mine.year
    assert f"Display Product Name: '{mine.name}'" in base
    assert ("Digital display" in base) == mine.digital
    if mine.bits:
        assert f"Bits per primary color channel: {mine.bits}" in base
    if mine.link:
        assert mine.link.replace(" A", "-a").replace(" B", "-b").lower() in base.lower()
    assert number(r"Gamma: ([\d.]+)", base) == pytest.approx(mine.gamma)
    for name, (x, y) in zip(("Red  ", "Green", "Blue ", "White"), mine.colour, strict=True):
        match = re.search(rf"{name}: ([\d.]+), ([\d.]+)", base)
        assert match is not None
        assert (float(match[1]), float(match[2])) == pytest.approx((x, y), abs=2e-4)
    limits = re.search(r"Monitor ranges.*: (\d+)-(\d+) Hz V, (\d+)-(\d+) kHz H(?:, max dotclock (\d+) MHz)?", base)
    assert (limits is not None) == (mine.ranges is not None)
    if limits is not None and mine.ranges is not None:
        assert tuple(map(int, limits.groups()[:4])) == (*mine.ranges.field_hz, *mine.ranges.line_khz)
        assert int(limits[5]) == mine.ranges.clock_mhz
    own_modes = [(each.size, round(each.clock_hz / 1e6, 2)) for each in mine.detailed]
    told_modes = re.findall(r"DTD \d+: +(\d+)x(\d+)i? +([\d.]+) Hz.*?([\d.]+) MHz", said)
    assert own_modes == [((int(w), int(h)), pytest.approx(float(mhz), abs=0.011)) for w, h, _hz, mhz in told_modes]
    if mine.size_mm != (0, 0):
        assert f"({mine.size_mm[0]} mm x {mine.size_mm[1]} mm)" in said or f"{round(mine.size_mm[0] / 10)} cm" in base
    assert ("Serial Number:" in base) == mine.has_serial or not any(data[12:16])
    established = [(each.width, each.height) for each in mine.established]
    part = base.partition("Established Timings")[2].partition("Standard Timings")[0]
    told = [(int(w), int(h)) for w, h in re.findall(r"[A-Z]\w+ *[^:]*: +(\d+)x(\d+)", part)]
    assert sorted(established) == sorted(told)
    part = base.partition("Standard Timings")[2].partition("Detailed Timing")[0]
    told = [(int(w), int(h), float(hz)) for w, h, hz in re.findall(r"(\d+)x(\d+) +([\d.]+) Hz", part)]
    mine_named = sorted((each.width, each.height, each.hz) for each in mine.standard)
    assert mine_named == [(w, h, pytest.approx(hz, abs=1.0)) for w, h, hz in sorted(told)]
    codes = [int(each) for each in re.findall(r"VIC +(\d+):", said)]
    assert list(mine.codes) == list(dict.fromkeys(codes))
    assert mine.hdmi == ("Vendor-Specific Data Block (HDMI)" in said)
    assert mine.audio == ("Basic audio support" in said)
    if mine.address:
        assert f"Source physical address: {mine.address}" in said


@pytest.mark.parametrize("tool", [["hexdump", "-C"], ["od", "-A", "x", "-t", "x1"], ["edid-decode", "-"]])
def test_dumps_as_tools_print_them_are_read_back(tool: list[str]) -> None:
    for data in blocks(20):
        text = subprocess.run(tool, input=data, capture_output=True, check=False).stdout.decode("utf-8", "replace")
        assert identification.from_dump(text) == data


# --- device trees ----------------------------------------------------------------------------------------------------


def compiled(source: str, path: Path) -> Path:
    subprocess.run(["dtc", "-q", "-I", "dts", "-O", "dtb", "-o", path, "-"], input=source.encode(), check=True)
    return path


def fdtget(path: Path, node: str, prop: str, kind: str) -> str:
    return subprocess.run(
        ["fdtget", "-t", kind, path, node, prop], capture_output=True, text=True, check=True
    ).stdout.strip()


def test_dtc_and_fdtget_read_the_same_tree(tmp_path: Path, catalogue: Catalogue) -> None:
    by_dtc = compiled(samples.TREE, tmp_path / "dtc.dtb")
    by_library = tmp_path / "library.dtb"
    by_library.write_bytes(samples.tree())
    seen = []
    for path in (by_dtc, by_library):
        draft = board.learn(path.read_bytes(), catalogue, "gurnard.dtb")
        seen.append((dict(draft.row), draft.about))
        assert draft.row["name"] == fdtget(path, "/", "model", "s")
        assert draft.row["compatible"] == fdtget(path, "/", "compatible", "s").split(" ")[0]
        assert draft.row["processor_mhz"][0] * 1_000_000 == int(fdtget(path, "/cpus/cpu@0", "clock-frequency", "u"))
        cells = [int(word) for word in fdtget(path, "/memory@0", "reg", "u").split()]
        assert draft.row["memory_mb"] == (cells[2] << 32 | cells[3]) >> 20
        names = subprocess.run(
            ["fdtget", "-l", path, "/soc"], capture_output=True, text=True, check=True
        ).stdout.split()
        root = device_tree.read(path.read_bytes())
        assert [child.name for child in root.child("soc").children] == names
    assert seen[0] == seen[1]


def test_every_property_is_byte_for_byte_what_fdtget_says(tmp_path: Path) -> None:
    path = compiled(samples.TREE, tmp_path / "t.dtb")
    for node in device_tree.read(path.read_bytes()).walk():
        for name, value in node.props.items():
            said = fdtget(path, node.path, name, "bx")
            assert bytes(int(word, 16) for word in said.split()) == value, (node.path, name)


def test_what_dtc_refuses_is_refused_with_the_place(tmp_path: Path, catalogue: Catalogue) -> None:
    data = compiled(samples.TREE, tmp_path / "t.dtb").read_bytes()
    chance, refused = random.Random(3), 0
    for _ in range(400):
        broken = bytearray(data)
        for _times in range(chance.randrange(1, 4)):
            broken[chance.randrange(len(broken))] = chance.randrange(256)
        path = tmp_path / "broken.dtb"
        path.write_bytes(broken)
        bad = subprocess.run(
            ["dtc", "-q", "-f", "-I", "dtb", "-O", "dts", "-o", "/dev/null", path], capture_output=True, check=False
        )
        if bad.returncode == 0:
            continue
        refused += 1
        with pytest.raises(device_tree.FormatError) as caught:
            device_tree.read(bytes(broken))
        assert 0 <= caught.value.offset <= len(data)
    assert refused > 20


# --- event codes -----------------------------------------------------------------------------------------------------


def test_the_names_of_events_and_the_quirk_are_the_kernels() -> None:
    for first, second in (("ABS_X", "ABS_Y"), ("ABS_Z", "ABS_RX")):
        assert evdev.ecodes.ecodes[second] == evdev.ecodes.ecodes[first] + 1
    for stand_in in ("BTN_TRIGGER", "BTN_BASE2", "BTN_TRIGGER_HAPPY8", "KEY_Z"):
        assert stand_in in evdev.ecodes.ecodes
    assert encoder.MULTI_INPUT == 1 << 6  # HID_QUIRK_MULTI_INPUT BIT(6) (from memory)


# --- units -----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "unit", "said"),
    [
        ("900 mA", "A", "900 mA"),
        ("15,7 kHz", "Hz", "15.7 kHz"),
        ("19 in", "mm", "19 inch"),
        ('1.5"', "mm", "1.5 inch"),
        ("2 ft", "m", "2 foot"),
        ("125 thou", "mm", "125 thou"),
        ("148.5 MHz", "Hz", "148.5 MHz"),
        ("3 min", "s", "3 minute"),
        ("4 GiB", "GB", "4 GiB"),
        ("512 MiB", "MB", "512 MiB"),
        ("90 MB/s", "MB/s", "90 MB/s"),
        ("40 Mbit/s", "MB/s", "40 Mbit/s"),
        ("5100 mV", "V", "5100 mV"),
        ("2.2 kohm", "Ω", "2.2 kohm"),
        ("250 µs", "ms", "250 us"),
        ("0.5 kW", "W", "0.5 kW"),
    ],
)
def test_typed_quantities_are_pints(text: str, unit: str, said: str) -> None:
    registry = pint.UnitRegistry()
    wanted = registry(said).to(
        {"Ω": "ohm", "MB/s": "megabyte/second", "MB": "megabyte", "GB": "gigabyte"}.get(unit, unit)
    )
    assert units.measure(text, unit) == pytest.approx(wanted.magnitude, rel=1e-12)


@pytest.mark.parametrize(
    ("text", "gauge"), [("24 AWG", 24), ("AWG 28", 28), ("0.205 mm²", 24), ("0.081 mm2", 28), ("2.08 mm²", 14)]
)
def test_gauges_are_astm_b258s(text: str, gauge: int) -> None:
    """ASTM B258: AWG 24 has 0.2047 mm², 28 has 0.0810 mm², 14 has 2.081 mm²."""
    assert units.measure(text, "AWG") == gauge


# --- drawings --------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("code", "scale"), [(dxf_units.MM, 1.0), (dxf_units.IN, 25.4), (dxf_units.CM, 10.0), (0, 1.0)])
def test_circles_of_a_dxf_that_ezdxf_made(tmp_path: Path, code: int, scale: float) -> None:
    document = ezdxf.filemanagement.new("R2010")
    document.header["$INSUNITS"] = int(code)
    space = document.modelspace()
    block = document.blocks.new("HOLE")
    block.add_circle((0, 0), 15 / scale)
    circles = [(50, 40, 24), (120, 60, 30), (160, 60, 28)]
    for x, y, d in circles:
        space.add_circle((x / scale, y / scale), d / 2 / scale)
    space.add_blockref("HOLE", (200 / scale, 50 / scale))
    space.add_lwpolyline([(230 / scale, 60 / scale, 0, 0, 1), (254 / scale, 60 / scale, 0, 0, 1)], close=True)
    space.add_lwpolyline([(0, 0), (300 / scale, 0), (300 / scale, 120 / scale), (0, 120 / scale)], close=True)
    path = tmp_path / "panel.dxf"
    document.saveas(path)
    found = panel.trace(path)
    assert found.size == pytest.approx((300, 120), abs=1e-6)
    wanted = sorted([*((x, 120 - y, d) for x, y, d in circles), (200, 70, 30), (242, 60, 24)])
    assert sorted((c.x, c.y, c.diameter) for c in found.circles) == [pytest.approx(each, abs=1e-6) for each in wanted]


def test_circles_of_an_svg_whatever_it_is_drawn_with(tmp_path: Path) -> None:
    """SVG 2: user units, millimetres, transforms, a circle drawn as two arcs, one drawn by a tool's path."""
    text = """<svg xmlns="http://www.w3.org/2000/svg" width="100mm" height="60mm" viewBox="0 0 200 120">
      <rect width="200" height="120"/><circle cx="40" cy="60" r="24"/>
      <g transform="translate(60 0)"><ellipse cx="40" cy="60" rx="30" ry="30"/></g>
      <path d="M 136 60 a 24 24 0 1 0 48 0 a 24 24 0 1 0 -48 0 Z"/><rect x="5" y="5" width="10" height="10"/></svg>"""
    path = tmp_path / "panel.svg"
    path.write_text(text)
    found = panel.trace(path)
    assert found.size == pytest.approx((100, 60), abs=1e-3)
    got = sorted((round(c.x, 3), round(c.y, 3), round(c.diameter, 3)) for c in found.circles)
    assert got == [(20, 30, 24), (50, 30, 30), (80, 30, 24)]


# --- dialects --------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("name", list(samples.BOOT_FILES))
def test_an_unseen_grammar_is_learnt_and_survives_edits(name: str) -> None:
    sample = dialect.sample_of(samples.BOOT_FILES[name].encode(), name)
    for number_, setting in samples.CARRIED[name].items():
        sample = sample.marked(number_, setting)
    trial = dialect.tried(sample)
    assert trial.good, trial
    codec = SettingsFile(sample.grammar)
    found = codec.read(sample.text, "")
    entries = dialect.entries_of(sample)
    assert {entry.setting for entry in entries} | {"boot.kernel_words"} == set(samples.CARRIED[name].values())
    kernel = next(entry for entry in entries if entry.setting == "boot.kernel")
    values = {entry.key: found[entry.key] for entry in entries} | {kernel.key: "other-armv8.krn"}
    wanted = Wanted("", values, {}, ("root=/dev/mmcblk0p2", "video=HDMI-A-1:640x480"))
    issued = codec.compile(sample.text, wanted)
    again = codec.read(issued, "")
    assert again[kernel.key] == "other-armv8.krn"
    assert "video=HDMI-A-1:640x480" in again["kernel line"].split()
    before, after = sample.text.splitlines(), issued.splitlines()
    assert sum(a != b for a, b in zip(before, after, strict=True)) == 2  # every other line is as it was
    for key in values:  # a line that goes and comes back
        gone = codec.compile(issued, Wanted("", {**values, key: ""}, {}, ("root=/dev/mmcblk0p2",)))
        assert key not in codec.read(gone, "")
        back = codec.read(codec.compile(gone, wanted), "")
        assert back[key] == values[key]


def test_the_shipped_grammar_is_derived_from_its_own_file(catalogue: Catalogue, demo) -> None:
    from kyklon.demo.card_image import BOOT_FILE

    sample = dialect.sample_of(BOOT_FILE.encode(), "merrow.settings")
    assert (sample.grammar.separator, sample.grammar.remark) == ("=", "--")
    assert dialect.tried(sample.marked(4, "boot.kernel")).good


def test_every_connector_that_is_offered_is_one_of_the_catalogues_or_known(catalogue: Catalogue) -> None:
    shipped = {port.connector for rows in catalogue.parts.values() for part in rows.values() for port in part.ports}
    assert shipped <= set(sockets.all_connectors())
