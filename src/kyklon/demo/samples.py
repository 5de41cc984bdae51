"""A box of things that no catalogue knows, to learn from: a board, displays, encoders, an image, games, boot files, a
panel. All of them invented."""

from __future__ import annotations

import zipfile
from pathlib import Path

from kyklon.catalogue.loader import standard_timings
from kyklon.demo import card_image
from kyklon.demo.noise import kernel_64, noise
from kyklon.devices import choose
from kyklon.devices.simulated.inputs import SimulatedInputs, StandIn, Switch
from kyklon.model.display import Edid, Extension, RangeLimits
from kyklon.operations.picture import edid

FOLDER = "samples"
BOARD = "gurnard.dtb"
IMAGE = "skiff-1.0.img.xz"
DUMP = "halyard-22.txt"
GAMES = "juniper"
PANEL, PANEL_DXF = "bench-six.svg", "bench-six.dxf"
TREE = """\
/dts-v1/;
/ {
    model = "Dory Gurnard";
    compatible = "dory,gurnard", "dory,g1";
    #address-cells = <2>;
    #size-cells = <2>;
    memory@0 {
        device_type = "memory";
        reg = <0x0 0x0 0x0 0x80000000>;
    };
    cpus {
        #address-cells = <1>;
        #size-cells = <0>;
        cpu@0 {
            device_type = "cpu";
            compatible = "arm,armv8";
            reg = <0x0>;
            clock-frequency = <1500000000>;
        };
        cpu@1 {
            device_type = "cpu";
            compatible = "arm,armv8";
            reg = <0x1>;
            clock-frequency = <1500000000>;
        };
    };
    hdmi-connector {
        compatible = "hdmi-connector";
        type = "a";
    };
    usb-power {
        compatible = "usb-c-connector";
        power-role = "sink";
        data-role = "device";
    };
    usb-left {
        compatible = "usb-a-connector";
    };
    usb-right {
        compatible = "usb-a-connector";
    };
    soc {
        mmc@1000 {
            compatible = "dory,g1-mmc";
            reg = <0x0 0x1000 0x0 0x100>;
        };
        i2c@2000 {
            compatible = "dory,g1-i2c";
            reg = <0x0 0x2000 0x0 0x100>;
        };
        spi@3000 {
            compatible = "dory,g1-spi";
            reg = <0x0 0x3000 0x0 0x100>;
            status = "disabled";
        };
        serial@4000 {
            compatible = "dory,g1-uart";
            reg = <0x0 0x4000 0x0 0x100>;
        };
    };
};
"""
EXTLINUX = """\
# Skiff: read by the loader of its boards
DEFAULT skiff
LABEL skiff
  LINUX /skiff-armv8.krn
  FDT /gurnard.dtb
  APPEND root=/dev/mmcblk0p2 rootwait quiet
"""
SERVICES = ("network", "sound", "tiller")
FIRST_BOOT = "-- read once, at first boot\nuser.name = deckhand\nnetwork.country =\nnetwork.name = skiff\n"
# five boot files whose grammars no dialect has
BOOT_FILES = {
    "start.ini": """\
; Skiff start file
[picture]
turned="90"   ; the screen stands
always="Yes"

[kernel]
image="/skiff-armv8.krn"
tree="/gurnard.dtb"
line="root=/dev/mmcblk0p2 rootwait quiet"
""",
    "loader.env": """\
// loader script, read from top to bottom
set kernel skiff-armv8.krn;
set tree gurnard.dtb;
set kernel_line 'root=/dev/mmcblk0p2 rootwait';
set video_always 1;
banner off
""",
    "boot.map": """\
# what the first stage needs
kernel: skiff-armv8.krn
tree:   gurnard.dtb
line:   root=/dev/mmcblk0p2 rootwait   # one line
sound:  jack
memory: 128
""",
    "config.blk": """\
! two blocks
start {
  kernel = "skiff-armv8.krn",
  tree = "gurnard.dtb",
  line = "root=/dev/mmcblk0p2 rootwait",
}
picture {
  turned = "90",
  always = "TRUE",
}
""",
    "BOOT.TAB": "REM tabs between\nKERNEL\t\tskiff-armv8.krn\nTREE\t\tgurnard.dtb\nLINE\t\troot=/dev/mmcblk0p2 "
    "rootwait\nSAFE\t\tOFF\n",
}
# the decision that each line of those carries, by the line's number
CARRIED = {
    "start.ini": {
        3: "boot.turn",
        4: "boot.force_output",
        7: "boot.kernel",
        8: "boot.device_tree",
        9: "boot.kernel_words",
    },
    "loader.env": {2: "boot.kernel", 3: "boot.device_tree", 4: "boot.kernel_words", 5: "boot.force_output"},
    "boot.map": {
        2: "boot.kernel",
        3: "boot.device_tree",
        4: "boot.kernel_words",
        5: "boot.sound",
        6: "boot.video_memory_mb",
    },
    "config.blk": {
        3: "boot.kernel",
        4: "boot.device_tree",
        5: "boot.kernel_words",
        8: "boot.turn",
        9: "boot.force_output",
    },
    "BOOT.TAB": {2: "boot.kernel", 3: "boot.device_tree", 4: "boot.kernel_words", 5: "boot.safe_start"},
}
# one seat's panel in mm: lever, six buttons, start and select
HOLES = (
    (70, 88, 24),
    (150, 104, 30),
    (186, 96, 30),
    (222, 96, 30),
    (150, 68, 30),
    (186, 60, 30),
    (222, 60, 30),
    (280, 34, 24),
    (310, 34, 24),
)
PLATE = (340, 150)


def make_samples(folder: Path) -> None:
    """The box of things, and the stand-ins for what is plugged in, into a build's folder."""
    box = folder / FOLDER
    box.mkdir(parents=True, exist_ok=True)
    (box / BOARD).write_bytes(tree())
    (box / DUMP).write_text(dump(display_data()), encoding="ascii")
    _make_image(box / IMAGE)
    _make_games(box / GAMES)
    for name, text in BOOT_FILES.items():
        (box / name).write_text(text, encoding="utf-8")
    (box / PANEL).write_text(svg(), encoding="utf-8")
    _make_dxf(box / PANEL_DXF)
    _make_stand_ins(folder / choose.STAND_INS)


def tree(text: str = TREE) -> bytes:
    """A flattened device tree from its source, by the library that reads them too."""
    import fdt

    return bytes(fdt.parse_dts(text).to_dtb(version=17))


def display_data() -> bytes:
    """Identification data of a display that no catalogue knows."""
    limits = RangeLimits((48, 75), (30, 82), 150)
    extension = Extension((16, 4, 3, 2, 1), audio=True, hdmi=True)
    full = standard_timings("cta")[16].timing
    return edid.write(Edid("KYK", 0x2201, 0, 2025, "Halyard 22", (full,), (477, 268), limits, extension=extension))


def dump(data: bytes) -> str:
    """As hexadecimal tools print it: address, sixteen bytes, letters."""
    lines = []
    for at in range(0, len(data), 16):
        row = data[at : at + 16]
        letters = "".join(chr(byte) if 32 <= byte < 127 else "." for byte in row)
        lines.append(f"{at:08x}  {row[:8].hex(' ')}  {row[8:].hex(' ')}  |{letters}|")
    return "\n".join([*lines, f"{len(data):08x}", ""])


def _make_image(path: Path) -> None:
    """Skiff 1.0: a complete image for the one board, with a front end of its own."""
    files = {
        "extlinux/extlinux.conf": EXTLINUX.encode(),
        "skiff-armv8.krn": kernel_64(),
        BOARD: tree(),
        "services.list": "".join(f"{name}\n" for name in SERVICES).encode(),
        "first-boot.settings": FIRST_BOOT.encode(),
    }
    root: dict[str, bytes | str] = {}
    for name, data in card_image.root_tree().items():
        if "gangway" in name or "shutdown-watcher" in name or name in ("home/player/", "games/", "etc/checksums"):
            continue
        if isinstance(data, bytes):
            data = data.replace(b"player", b"deckhand").replace(b"Quayside", b"Skiff").replace(b"quayside", b"skiff")
        root[name] = data
    root["usr/bin/tiller"] = (
        f'#!/bin/sh\n# stands for the front end\necho "tiller: the menu"\n{card_image.ON_AND_ON}'.encode()
    )
    root["etc/services.d/tiller.service"] = (
        b"[Unit]\nDescription=tiller\nAfter=network\n[Service]\nType=oneshot\nExecStart=/usr/bin/tiller\n"
    )
    root["etc/image-release"] = b"Skiff 1.0, 2026-05-11\n"
    root["home/deckhand/"] = b""
    root[f"home/deckhand/games/{GAMES}/"] = b""
    card_image.make_card(path, files, root)


def _make_games(folder: Path) -> None:
    """Two dozen games of a system that no catalogue knows."""
    folder.mkdir(parents=True, exist_ok=True)
    for number in range(20):
        (folder / f"Juniper game {number + 1:02d} (Europe).jnp").write_bytes(
            noise(f"juniper {number}", 24_000 + 900 * number)
        )
    for number in range(4):
        with zipfile.ZipFile(folder / f"Juniper packed {number + 1}.zip", "w", zipfile.ZIP_DEFLATED) as archive:
            member = zipfile.ZipInfo(f"Juniper packed {number + 1}.jnp", (2026, 5, 11, 0, 0, 0))
            archive.writestr(member, noise(f"juniper packed {number}", 30_000))
    (folder / "list of games.txt").write_text("Twenty cartridges and four archives.\n", encoding="utf-8")


def svg() -> str:
    """The panel's drawing, in millimetres."""
    wide, high = PLATE
    rows = "".join(f'  <circle cx="{x}" cy="{y}" r="{d / 2:g}"/>\n' for x, y, d in HOLES)
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{wide}mm" height="{high}mm" viewBox="0 0 {wide} {high}" '
        f'fill="none" stroke="black">\n  <rect x="0" y="0" width="{wide}" height="{high}"/>\n{rows}</svg>\n'
    )


def _make_dxf(path: Path) -> None:
    import ezdxf.filemanagement
    from ezdxf import units

    document = ezdxf.filemanagement.new("R2010")
    document.units = units.MM
    space = document.modelspace()
    wide, high = PLATE
    space.add_lwpolyline([(0, 0), (wide, 0), (wide, high), (0, high)], close=True)
    for x, y, d in HOLES:
        space.add_circle((x, high - y), d / 2)
    document.saveas(path)


def _make_stand_ins(folder: Path) -> None:
    """Encoders that are plugged in, with what is wrong with each; and displays at their sockets."""
    levers = (("U", "ABS_Y-"), ("D", "ABS_Y+"), ("L", "ABS_X-"), ("R", "ABS_X+"))
    buttons = ("BTN_TRIGGER", "BTN_THUMB", "BTN_THUMB2", "BTN_TOP", "BTN_TOP2", "BTN_PINKIE", "BTN_BASE", "BTN_BASE2")
    keys = ("KEY_UP", "KEY_DOWN", "KEY_LEFT", "KEY_RIGHT", "KEY_Z", "KEY_X", "KEY_C", "KEY_V", "KEY_1", "KEY_5")

    def switches(players: int) -> tuple[Switch, ...]:
        made = []
        for player in range(1, players + 1):
            before = str(player) if players > 1 else ""
            rows = [*levers, *((str(number), code) for number, code in enumerate(buttons, 1))]
            made += [Switch(id=f"{before}{name}", printed=f"{before}{name}", event=event) for name, event in rows]
        return tuple(made)

    def stand_in(identity: str, name: str, product: int, rows: tuple[Switch, ...], **more: object) -> StandIn:
        return StandIn(identity=f"sim:{identity}", name=name, vendor=0x6B79, product=product, switches=rows, **more)

    keyed = tuple(Switch(id=f"k{index + 1}", printed=f"K{index + 1}", event=code) for index, code in enumerate(keys))
    SimulatedInputs(folder).put(
        stand_in("cleat", "Cleat One", 0x0101, switches(1), interval_ms=2, bounce_ms=9),
        stand_in("cleat-twin", "Cleat Twin", 0x0102, switches(2), interval_ms=4, bounce_ms=14),
        stand_in("fairlead", "Fairlead Keys", 0x0103, keyed, interval_ms=1, bounce_ms=3),
        stand_in(
            "cleat-worn",
            "Cleat One, worn",
            0x0104,
            switches(1),
            interval_ms=10,
            bounce_ms=40,
            told=False,
            stuck=("8",),
            crossed=(("1", "2"),),
            tied=(("5", "6"),),
            silent=("7",),
        ),
    )
    sockets = folder / choose.DISPLAYS
    sockets.mkdir(parents=True, exist_ok=True)
    good = display_data()
    broken = bytearray(good)
    broken[57] ^= 0x40  # a bit that was read wrong
    (sockets / "HDMI-A-1.edid").write_bytes(good)
    (sockets / "HDMI-A-2.edid").write_bytes(bytes(broken))
    (sockets / "VGA-1.edid").write_bytes(b"")
