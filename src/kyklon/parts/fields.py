"""What each fact of a part is called, in which unit it is typed, from where to where, and why it is asked.

A field's value is kept as the catalogue's record has it; low and high are in the unit that is typed.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from kyklon.base.quantities import NARROW_SPACE
from kyklon.catalogue import records
from kyklon.model.record import Record
from kyklon.model.timing import Timing
from kyklon.parts import sockets
from kyklon.parts.field import PartField

_SETS = tuple((each, each) for each in ("ARMv6", "ARMv7", "ARMv8"))
_RHYTHMS = tuple(records.RHYTHM_WORDS.items())
_CAPABILITIES = tuple((arg, arg) for arg in records.Capability.__args__)  # type: ignore[attr-defined] # a Literal
_SCHOOLS = tuple((each, each) for each in ("complete image", "base and installer", "bare metal", "multi-boot"))
_VIDEO = tuple((each, each) for each in sockets.VIDEO)
_USB = tuple((each, each) for each in ("USB-B", "USB-C", "Micro-USB B", "USB-A plug"))
_POWER = tuple((each, each) for each in sockets.POWER)
_ENDS = tuple((connector, connector) for connector in sockets.all_connectors())
_SIGNALS = tuple((signal, signal) for signal in sockets.SIGNALS)
_CARDS = tuple((card, card) for card in sockets.CARDS)
_LINKS = tuple((each, each) for each in ("usb", "bluetooth", "header", "nine-pin"))
_FORMS = (
    ("separate", "separate H and V"),
    ("composite", "composite, one wire"),
    ("green", "on green"),
    ("digital", "digital, HDMI or DVI"),
)

LAMP_ASKS = {
    "powered": "with power, before anything else", "searching": "while it looks for something to boot",
    "nothing": "with no card, or an empty one", "no_settings": "with a card without the boot file",
    "no_kernel": "with a card without the kernel", "reading": "while it reads the card",
    "stuck": "with a kernel that stopped immediately", "idle": "when the system is idle",
    "sagging": "when the voltage is too low",
}

_STICKS = tuple((each, each) for each in ("FAT32", "exFAT", "ext4"))
_GRAMMARS = tuple((each, each) for each in ("TOML", "JSON", "INI"))
FORM_KEYS = {
    "name": "Key of the name", "order": "Key of the place in the list", "boards": "Key of the boards", "released": "Key of the release day",
    "partitions": "Key of the partitions", "label": "Key of a label", "kind": "Key of a file system", "size": "Key of a size",
    "unpacked": "Key of what is unpacked", "archive": "Key of an archive", "sha256": "Key of a SHA-256", "grows": "Key of growing",
    "ending": "Ending left off archives",
}

FIELDS: Mapping[str, tuple[PartField, ...]] = {
    "boards": (
        PartField("native_set", "Instruction set", "choice", choices=_SETS, why="a kernel of another set does not start"),
        PartField("runs", "Boots kernels for", "words", choices=_SETS, why="some boards start older kernels too"),
        PartField("memory_mb", "Memory", "whole", "MB", low=16, high=1_000_000,
                  why="emulators of disc machines need 1 GB and more"),
        PartField("typical_a", "Typical current", "number", "A", low=0.01, high=20,
                  why="heat and battery run time depend on it"),
        PartField("peak_a", "Peak current", "number", "A", low=0.01, high=20,
                  why="decides the power supply and its cable"),
        PartField("dialects", "Boot file formats", "words", why="the format of its boot files; without one Kyklon cannot predict the boot"),
        PartField("device_tree", "Device tree", pattern=r"[\w.+/-]{1,100}", hint="name.dtb", why="the file that the kernel is handed"),
        PartField("compatible", "Compatible string", empty=True, pattern=r"[\w.,+-]{0,100}", why="a tree for another board gives no picture"),
        PartField("honours", "Settings it obeys", "words", choices=_CAPABILITIES, empty=True,
                  why="settings it ignores are not offered"),
        PartField("processor_mhz", "CPU clock", "pair", "MHz", low=50, high=20_000, default=(1000, 1000),
                  why="its own clock, and the most that it holds"),
        PartField("signal_strength", "HDMI drive strength", "pair", low=0, high=10, default=(0, 10),
                  why="its HDMI drive strengths; a value outside them has no effect"),
        PartField("least_clock_hz", "Minimum pixel clock", "whole", "MHz", 1e6, 1, 1000, default=25_000_000,
                  why="HDMI 1.4: a link does not work below 25 MHz"),
        PartField("most_clock_hz", "Maximum pixel clock", "whole", "MHz", 1e6, 25, 10_000, default=165_000_000,
                  why="a mode above it gives no picture; 165 MHz is single-link DVI's most"),
        PartField("low_voltage_v", "Undervoltage warning at", "number", "V", low=2, high=24, default=4.63,
                  why="common practice for 5 V boards"),
        PartField("firmware_s", "Firmware time", "number", "s", low=0.1, high=120, default=2.5,
                  why="how long the screen stays black before the kernel starts"),
        PartField("heat_k_per_w", "Thermal resistance", "number", "K/W", low=0.1, high=200, default=10.0,
                  why="how hot it gets in its case; from chip to still air"),
        PartField("early", "Picture before the kernel", "choice", default="boot file",
                  choices=(("boot file", "as its boot file says"), ("identification", "as the display says"), ("dark", "none")),
                  why="a tube follows whatever is sent, from the first pulse"),
        PartField("outline", "Size", empty=True, pattern=r"\d{1,4}(\.\d{1,2})?( ?[x×] ?\d{1,4}(\.\d{1,2})?){2}",
                  hint="90 x 60 x 18", why="mm across, front to back and high, sockets included: whether it fits the case"),
        PartField("holes", "Mounting holes", empty=True, hint="4,4; 86,4; 4,56; 86,56",
                  pattern=r"\d{1,4}(\.\d{1,2})?,\d{1,4}(\.\d{1,2})?(; ?\d{1,4}(\.\d{1,2})?,\d{1,4}(\.\d{1,2})?){0,19}",
                  why="mm from its left front corner: the drill template of the standoffs"),
        PartField("hole_mm", "Mounting hole diameter", "number", "mm", low=0.5, high=10, default=2.7,
                  why="ISO 273: 2.7 mm lets an M2.5 screw through"),
        PartField("sockets", "Socket positions", empty=True, hint="power front 14; card left 30",
                  pattern=r"[a-z0-9-]{1,30} (front|back|left|right) \d{1,4}(\.\d{1,2})?(; ?[a-z0-9-]{1,30} (front|back|left|right) \d{1,4}(\.\d{1,2})?){0,29}",
                  why="mm along the edge to the middle of each: whether plugs and card are in reach"),
        PartField("header_pins", "Header pins", "whole", low=0, high=200, default=40,
                  why="what may sit on it"),
        PartField("most_card_bytes", "Largest card", "whole", "GB", 1e9, 0, 100_000, default=0, why="its loader starts from none that is larger; 0 for any"),
        PartField("disk_boot", "Boots from a USB disk", "switch", default=False, why="whether it can boot from a disk"),
        PartField("disk_boot_note", "Change needed for that", empty=True),
        PartField("card_mb_s", "Card slot speed", "number", "MB/s", low=1, high=10_000, default=25.0,
                  why="SD High Speed carries 25 MB/s"),
        PartField("usb_mb_s", "USB port speed", "number", "MB/s", low=0.1, high=10_000, default=38.0,
                  why="USB high speed carries about 38 MB/s"),
        *(PartField(f"lamps.{name}", f"Lamp {what}", "choice", choices=_RHYTHMS, default=default,
                    why="the fault finder asks what the lamp does")
          for (name, what), default in zip(LAMP_ASKS.items(),
              ("steady", "steady", "steady", "steady", "steady", "quick", "steady", "steady", "steady"), strict=True)),
    ),
    "displays": (
        PartField("socket", "Socket", "choice", choices=_VIDEO, why="its cable needs that plug"),
        PartField("tube", "Tube (CRT)", "switch", why="a tube takes any line count within its rates; a wrong rate can harm it"),
        PartField("ranges", "Ranges", "ranges", why="outside them there is no picture, and an old tube may be harmed",
                  hint="15.2 to 16.5 kHz, 49 to 63 Hz"),
        PartField("aspect", "Aspect", "size", low=1, high=1000, default=(4, 3), why="decides whether pixels are square", hint="4:3"),
        PartField("width_mm", "Picture width", "number", "mm", low=10, high=5000, why="measured with a ruler, not the diagonal"),
        PartField("height_mm", "Picture height", "number", "mm", low=10, high=5000, why="measured with a ruler"),
        PartField("overscan_percent", "Overscan at each edge", "number", "%", low=0, high=30, default=0.0,
                  why="the bezel of a tube hides some of the picture"),
        PartField("sync", "Sync", "choice", choices=_FORMS, why="the wiring and its resistors depend on it"),
        PartField("native", "Native size", "size", "", low=16, high=32768, empty=True, why="a flat panel is sharp only at this size"),
        PartField("response_ms", "Response time", "number", "ms", low=0, high=500, default=0.0, why="part of the input latency"),
        PartField("processing_ms", "Processing delay", "number", "ms", low=0, high=500, default=0.0, why="from its socket to its panel; its own scaler"),
        PartField("most_clock_hz", "Maximum pixel clock", "whole", "MHz", 1e6, 0, 10_000, default=0, why="a mode above it is refused"),
        PartField("hdmi", "Accepts HDMI", "switch", empty=True),
    ),
    "encoders": (
        PartField("vendor", "Vendor", "hex"), PartField("product", "Product", "hex"),
        PartField("version", "Version", "hex", default=0x0110),
        PartField("players", "Players", "whole", low=1, high=8, why="each seat needs its own terminals"),
        PartField("device_name", "Device name"),
        PartField("socket", "Socket", "choice", choices=_USB, default="USB-B", why="its cable needs that plug"),
        PartField("tab_mm", "Quick-connect width", "number", "mm", low=0.5, high=20, default=2.8, why="you buy the quick-connects for it; 2.8 and 4.8 mm are common"),
        PartField("poll_ms", "Report interval", "number", "ms", low=0.1, high=255, why="part of the input latency"),
        PartField("debounce_ms", "Debounce time", "number", "ms", low=0.01, high=500, default=5.0, why="below it a press may count twice"),
        PartField("quirk_flags", "Quirk", "whole", low=0, high=0xFFFF, default=0),
        PartField("quirk_why", "Why it needs the quirk", empty=True),
        PartField("link", "Connection", "choice", choices=_LINKS, default="usb", why="what the kernel needs depends on it"),
        PartField("pairing_s", "Ready after", "number", "s", low=0, high=120, default=0.0),
    ),
    "images": (
        PartField("school", "Type", "choice", choices=_SCHOOLS, why="what happens at first boot depends on it"),
        PartField("boards", "Boards it boots", "words", why="a board that is not among them is refused"),
        PartField("least_card_bytes", "Minimum card size", "whole", "GB", 1e9, 0.001, 100_000),
        PartField("front_end", "Front end", empty=True, default=""),
        PartField("front_end_program", "Front end program", empty=True, default="", why="the bring-up looks for it; a base system has none"),
        PartField("default_user", "User", pattern=r"[a-z_][a-z0-9_-]{0,31}", hint="player", why="the front end runs as this user"),
        PartField("games_path", "Games go to", "path", why="games elsewhere are not found", hint="games/{folder}"),
        PartField("system_files_path", "Firmware files go to", "path", why="an emulator that needs one looks there", hint="system-files"),
        PartField("services", "Services", "words", empty=True), PartField("foreground_service", "Foreground service", empty=True, default="",
                  why="the service that shows the front end"),
        PartField("watcher_service", "Shutdown button service", empty=True, default=""),
        PartField("network_service", "Network service", empty=True, default=""),
        PartField("installer_service", "Installer service", empty=True, default=""),
        PartField("first_boot_script", "Script of the first boot", empty=True, default=""),
        PartField("released", "Released", empty=True, default="", pattern=r"\d{4}-\d\d-\d\d", hint="2026-05-31"),
        PartField("default_password", "Default password", empty=True, default="", why="it is to be changed"),
        PartField("grows", "Grows at first boot", "switch", default=True, why="otherwise the rest of the card stays unused"),
        PartField("radio", "Bluetooth on bare metal", "switch", default=False,
                  why="without an operating system only a driver of its own connects wireless controllers"),
        PartField("files", "File names", "words", empty=True), PartField("start_programs", "Programs init calls", "words", empty=True), PartField("reads", "Settings files it reads", "words", empty=True),
        PartField("unattended_min", "Unattended time", "pair", "min", low=0, high=10_000, empty=True),
    ),
    "systems": (
        PartField("width", "Width", "whole", "px", low=1, high=8192, why="the modes are made for it"),
        PartField("height", "Height", "whole", "px", low=1, high=8192, why="the lines that the game draws"),
        PartField("refresh", "Refresh", "rate", "Hz", low=1, high=1000, why="a wrong one judders, or runs at the wrong speed"),
        PartField("aspect", "Aspect", "size", low=1, high=1000, default=(4, 3), hint="4:3"),
        PartField("vertical", "Vertical screen", "switch", default=False, why="an upright game lies across a lying tube"),
        PartField("folder", "Folder", pattern=r"[\w.+-]{1,60}", hint="elm", why="where the front end looks for its games"),
        PartField("extensions", "File extensions", "words", why="files of other endings are not shown"),
        PartField("archives", "Reads archives", "switch", why="a packed game is not found where it does not"),
        PartField("multi_disc", "Multi-disc games", "switch", default=False),
        PartField("emulator", "Emulator", pattern=r"[a-z0-9-]+", why="whose settings are written"),
        PartField("buttons", "Buttons", "whole", low=0, high=12, default=2, why="beside the directions, start and select"),
        PartField("typical_bytes", "Usual game", "whole", "MB", 1e6, 0.000001, 100_000, default=1_000_000, why="the card's size is planned with it"),
        PartField("lag_frames", "Own lag", "whole", "", low=0, high=10, default=1, why="frames between a press and what is shown"),
    ),
    "supplies": (
        PartField("volts", "Voltage", "number", "V", low=1, high=60, why="as printed, or measured under load"),
        PartField("amps", "Current", "number", "A", low=0.05, high=100, why="as printed; the build may not need more"),
        PartField("socket", "Socket", "choice", choices=_POWER, why="its cable needs that plug"),
    ),
    "cables": (
        PartField("ends", "Plugs", "words", choices=_ENDS, hint="USB-A, USB-C", why="each must fit its socket"),
        PartField("signals", "Carries", "words", choices=_SIGNALS, hint="power, USB 2.0", why="power, HDMI, USB 2.0 and so on"),
        PartField("length_m", "Length", "number", "m", low=0.001, high=30, why="a long thin cable loses voltage"),
        PartField("awg", "Power wire gauge", "gauge", "AWG", empty=True, why="printed on the sheath, as 24 AWG; the loss comes from it"),
        PartField("socket_end", "Second end is a socket", "switch", default=False, why="an extension, a panel socket, a plug adapter: the next piece goes into it"),
    ),
    "cards": (
        PartField("capacity_bytes", "Capacity", "whole", "GB", 1e9, 0.001, 100_000, why="as its reader tells; the print is rounded"),
        PartField("socket", "Form factor", "choice", choices=_CARDS, default="microSD", why="it must fit the board's socket"),
        PartField("speed_class", "Speed class", empty=True, default="", hint="U1 A1"),
        PartField("read_mb_s", "Read speed", "number", "MB/s", low=0.1, high=10_000, why="from a proof that was run, or its print"),
        PartField("write_mb_s", "Write speed", "number", "MB/s", low=0.1, high=10_000, why="from a proof that was run, or its print"),
    ),
    "panels": (
        PartField("width_mm", "Width", "number", "mm", low=50, high=3000), PartField("height_mm", "Height", "number", "mm", low=50, high=3000),
        PartField("players", "Players", "whole", low=1, high=8), PartField("facing", "Facing each other", "switch", default=False),
    ),
    "emulators": (
        PartField("template", "Settings template"), PartField("frames_ahead", "Can run frames ahead", "switch", default=False),
        PartField("render_queue_frames", "Frames queued", "whole", low=0, high=10, default=1),
        PartField("frame_ms", "Frame at 1 GHz", "number", "ms", low=0.01, high=1000, default=3.0,
                  why="whether a board holds its speed; kyklon tuning cost tells it from a log"),
        PartField("spread", "Spread of that", "number", low=0, high=2, default=0.15, why="standard deviation, as a part of it"),
        PartField("heavy", "Heavier games", "words", empty=True, default=(), why="words of their titles; they take half as much again"),
        PartField("saves", "Endings of saves", "words", empty=True, default=(), hint="keep", why="what is backed up"),
        PartField("states", "Endings of states", "words", empty=True, default=(), hint="snap*"),
        PartField("saves_path", "Folder of saves", empty=True, default="", hint="saves/{folder}", why="beside the game where nothing is said"),
    ),
    "dialects": (
        PartField("longest_line", "Longest line", "whole", "", low=1, high=100_000, default=160, why="what is longer is cut by the board"),
        PartField("overlays", "Folder of overlays", empty=True, default=""),
    ),
    "adapters": (
        PartField("socket_in", "Input", "choice", choices=_VIDEO, default="HDMI A", why="the cable from the board needs that plug"),
        PartField("socket_out", "Output", "choice", choices=_VIDEO, default="DE-15", why="the cable to the display needs that plug"),
        PartField("sync_out", "Sync it gives", "choice", choices=_FORMS, why="a display that takes another rolls"),
        PartField("most_clock_hz", "Maximum pixel clock", "whole", "MHz", 1e6, 1, 10_000, default=165_000_000, why="faster modes stay black"),
        PartField("least_clock_hz", "Minimum pixel clock", "whole", "MHz", 1e6, 0, 10_000, default=0, why="slower modes stay black"),
        PartField("least_width", "Fewest pixels per line", "whole", "px", low=0, high=8192, default=0),
        PartField("delay_ms", "Delay", "number", "ms", low=0, high=1000, default=0.0, why="it adds to the latency"),
        PartField("needs_hdmi", "Dark on DVI", "switch", default=False),
        PartField("sync_in", "Sync it takes", "choice", choices=(("", "any"), *_FORMS[:3]), default=""),
        PartField("sync_volts", "Sync level", "number", "V", low=0, high=15, default=0.0, why="0 is television level; 5 V into a display for that can harm it"),
        PartField("ohms", "Series resistor in the sync", "number", "Ω", low=0, high=100_000, default=0.0),
    ),
    "bridges": (
        PartField("usb_id", "USB ids", "words", hint="6b79, 0c01", why="a quirk of the kernel is set by them; lsusb shows them"),
        PartField("uas", "UAS", "choice", choices=(("good", "works"), ("misbehaves", "misbehaves: resets, lost writes")), default="good"),
        PartField("firmware", "Firmware that mends it", empty=True, default=""),
        PartField("mb_s", "Speed", "number", "MB/s", low=1, high=10_000, default=100.0), PartField("draws_a", "Current", "number", "A", low=0.01, high=5, default=0.2),
    ),
    "disks": (
        PartField("capacity_bytes", "Capacity", "whole", "GB", 1e9, 1, 100_000), PartField("read_mb_s", "Read speed", "number", "MB/s", low=1, high=20_000, default=400.0),
        PartField("write_mb_s", "Write speed", "number", "MB/s", low=1, high=20_000, default=300.0),
        PartField("typical_a", "Typical current", "number", "A", low=0.01, high=5, default=0.5), PartField("peak_a", "Peak current", "number", "A", low=0.01, high=5, default=1.0, why="as printed; the supply must give it"),
    ),
    "overlays": (
        PartField("pins", "Header pins", "numbers", low=1, high=80, empty=True, why="nothing else may use them"),
        PartField("bus", "Needs the bus", empty=True, default=""), PartField("is_bus", "Is the bus", empty=True, default=""),
    ),
    "headers": (PartField("most_ma", "Most current of a pin, and of all", "pair", "mA", low=0.1, high=5000),),
    "keyboards": (PartField("pins", "Ribbon pins", "whole", low=0, high=40, default=0), PartField("restore", "Key outside the matrix", empty=True, default="")),
    "arrangements": (
        PartField("columns", "Columns", "whole", low=1, high=6), PartField("rows", "Rows", "whole", low=1, high=3), PartField("lean", "Lean of the upper row", "number", low=-1, high=1, default=0.0),
        PartField("lever", "With a joystick", "switch", default=True), PartField("sides", "Pinball buttons at the sides", "switch", default=False),
    ),
    "settings": (
        PartField("low", "From", "whole", low=-1_000_000, high=1_000_000, default=0), PartField("high", "To", "whole", low=-1_000_000, high=1_000_000, default=0),
        PartField("unit", "Unit", empty=True, default=""), PartField("why", "Why it matters"), PartField("cost_ms", "Cost", "number", "ms", low=0, high=1000, default=0.0),
    ),
    "templates": (PartField("path", "File"),),
    "workarounds": (
        PartField("systems", "Systems", "words", empty=True), PartField("emulators", "Emulators", "words", empty=True), PartField("boards", "Boards", "words", empty=True),
        PartField("effect", "What goes wrong"), PartField("source", "Source", empty=True, default=""),
    ),
    "bare_metal": (
        PartField("image", "Its image", pattern=r"[a-z0-9-]+", why="the bare-metal image whose kernels these are"),
        PartField("needed", "Files it needs", "words", empty=True, default=()), PartField("trees", "Folder of device trees", empty=True, default=""),
        PartField("remembered", "File with the last machine", empty=True, default=""), PartField("games", "Games go to", empty=True, default=""),
    ),
    "add_ons": (
        PartField("programs", "Programs it calls", "words", empty=True, default=(), hint="i2cset, python3", why="without them it does nothing"),
        PartField("modules", "Python modules", "words", empty=True, default=()), PartField("libraries", "Libraries", "words", empty=True, default=(), hint="libexample.so.1"),
        PartField("drivers", "Kernel modules", "words", empty=True, default=(), hint="i2c-dev"), PartField("packages", "Packages that bring them", "words", empty=True, default=()),
        PartField("command", "Command line", empty=True, default="", hint="/usr/local/bin/tool --all", pattern=r"/[^\x00-\x1f\x7f\"'`$\\]{1,198}"),
        PartField("starts", "It starts", "choice", choices=(("service", "at every boot"), ("once", "at every boot, and ends"), ("by hand", "by hand")), default="service"),
        PartField("user", "Runs as the user", empty=True, default="", pattern=r"[A-Za-z0-9_][A-Za-z0-9_.+-]{0,63}", why="root where nothing is said"),
        PartField("groups", "Further groups", "words", empty=True, default=()), PartField("network", "Waits for the network", "switch", default=False),
        PartField("restarts", "Restarted when it ends", "switch", default=False),
        PartField("minutes", "Installing takes", "pair", "min", low=0.1, high=600, default=(1.0, 5.0)), PartField("origin", "Where it comes from", empty=True, default=""),
    ),
    "choosers": (
        PartField("image", "Its image", pattern=r"[a-z0-9-]+", why="the multi-boot image that lists these bundles"),
        PartField("bundles", "Folder of the bundles", empty=True, default="", why="'' where they lie at the stick's top"),
        PartField("manifest", "Manifest", why="the file in each bundle that tells what it is"), PartField("about", "File beside it that tells the name", empty=True, default=""),
        PartField("pictures", "Folder of pictures", empty=True, default=""), PartField("picture_kinds", "Picture types", "words", default=("png",)),
        PartField("archive_kinds", "Archives it unpacks", "words", default=("tar.xz",), hint="tar.xz, zip"),
        PartField("makes", "File systems it makes", "words", default=("FAT32", "ext4", "swap")),
        PartField("labels_repeat", "Labels may repeat", "switch", default=False, why="systems that are found by label take the wrong one"),
        PartField("reads", "Sticks it reads", "words", choices=_STICKS, default=("FAT32",), why="a stick of another file system is not seen"),
        PartField("own_bytes", "Space it keeps", "whole", "MB", 1e6, 0, 1_000_000, why="what is left for systems depends on it"),
        PartField("align_bytes", "Partition alignment in bytes", "whole", low=512, high=1 << 30, default=4_194_304),
        PartField("most_partitions", "Most partitions", "whole", low=1, high=1024), PartField("released", "Released", empty=True, default="", pattern=r"\d{4}-\d\d-\d\d", hint="2026-05-31"),
        PartField("board_names", "Its words for boards", "map", empty=True, default={}, hint="WORD=BOARD"),
        PartField("form.grammar", "Manifest format", "choice", choices=_GRAMMARS, default="TOML"),
        *(PartField(f"form.{name}", label, empty=True, default="") for name, label in FORM_KEYS.items()),
        PartField("form.size_bytes", "Bytes in one unit of size", "whole", low=1, high=1 << 30, default=1_000_000),
        PartField("form.unpacked_bytes", "Bytes in one unit of what is unpacked", "whole", low=1, high=1 << 30, default=1_000_000),
        PartField("form.kinds", "Its words for file systems", "map", empty=True, default={}, hint="WORD=ext4", choices=tuple((each, each) for each in ("FAT32", "ext4", "swap"))),
        PartField("form.least_order", "First place in the list", "whole", low=0, high=1, default=1),
        PartField("form.closed", "Other keys are errors", "switch", default=False),
    ),
}

KIND_WORDS = {
    "boards": "Boards", "displays": "Displays", "encoders": "Encoders", "images": "Images", "systems": "Systems",
    "supplies": "Supplies", "cables": "Cables", "cards": "Cards", "panels": "Panels", "adapters": "Adapters",
    "dialects": "Dialects", "emulators": "Emulators", "templates": "Settings templates", "overlays": "On the header",
    "bridges": "Disk bridges", "disks": "Disks", "settings": "Emulator settings", "bare_metal": "Bare-metal layouts",
    "choosers": "Choosers", "headers": "Pin headers", "arrangements": "Arrangements of buttons", "keyboards": "Keyboards",
    "workarounds": "Workarounds", "add_ons": "Add-ons",
}
ONE = {"supplies": "supply", "bare_metal": "bare-metal layout", "templates": "settings template", "overlays": "overlay",
       "disks": "disk", "add_ons": "add-on", "arrangements": "arrangement of buttons"}
_LABELS = {"ports": "Sockets", "terminals": "Terminals", "kernels": "Kernels", "inputs": "Inputs", "controls": "Controls",
           "modes": "Modes", "colour": "Colour", "system_files": "Firmware files", "files": "Files", "name": "Name",
           "note": "Note", "price": "Price", "id": "Short name", "lamps": "Lamp", "playlist_kinds": "Playlists", "pins": "Pins", "keys": "Keyboard shortcuts", "lines": "Wires"}


def one(kind: str) -> str:
    """The name of one part of a kind, in small letters."""
    return ONE.get(kind) or KIND_WORDS[kind].removesuffix("s").lower()


# what has a price in the parts list
PRICED = ("boards", "displays", "encoders", "supplies", "cables", "cards", "panels", "adapters", "overlays", "bridges", "disks", "keyboards")
_PRICE = PartField("price", "Price", "number", low=0, high=1_000_000, default=0.0, why="for the parts list, in your own currency")
_NOTE = PartField("note", "Note", empty=True, default="")


def fields_of(kind: str) -> tuple[PartField, ...]:
    """Every fact of a kind that can be typed, but for the name."""
    return (*FIELDS.get(kind, ()), *((_PRICE,) if kind in PRICED else ()), _NOTE)


def field_of(kind: str, name: str) -> PartField | None:
    return next((field for field in fields_of(kind) if field.name == name), None)


def label_of(kind: str, name: str) -> str:
    """What the screen calls a fact."""
    field = field_of(kind, name)
    return field.label if field else _LABELS.get(name, name.replace("_", " ").capitalize())


def value_words(kind: str, name: str, value: Any) -> str:
    """A fact as the screen says it; lists of records as what they are called."""
    field = field_of(kind, name)
    if field is not None:
        return field.words(value)
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, (list, tuple)):
        return _listed(name, value)
    if name == "colour" and isinstance(value, Record):
        points = {key: each for key, each in value.model_dump().items() if key != "bits"}
        told = [f"{key} {x:.3f} {y:.3f}" for key, (x, y) in points.items()]
        bits = getattr(value, "bits", 0)
        return ", ".join([f"{bits} bits each"] * bool(bits) + told)
    if isinstance(value, Record):
        return ", ".join(f"{key.replace('_', ' ')} {each}" for key, each in value.model_dump().items())
    if isinstance(value, Mapping):
        return ", ".join(f"{key} {each}" for key, each in value.items())
    return "not known" if value is None else str(value) or "none"


def _listed(name: str, value: Any) -> str:
    if not value:
        return "none"
    return ", ".join(
        _row_words(name, each if isinstance(each, Mapping) else each.model_dump() if isinstance(each, Record) else each)
        for each in value
    )


def _row_words(name: str, row: Any) -> str:
    """One of a list of records, as it is called."""
    if not isinstance(row, Mapping):
        return str(row)
    if name == "modes":
        timing = Timing.model_validate(row)
        return f"{timing.size[0]} × {timing.size[1]} at {float(timing.vertical_hz):.2f}{NARROW_SPACE}Hz"
    if name == "ports":
        return f"{row.get('label')} ({row.get('connector')})"
    if name == "terminals":
        return f"{row.get('printed')} {row.get('event')}"
    if name == "kernels":
        return f"{row.get('file')} ({row.get('instruction_set')})"
    if name == "controls":
        return f"{row.get('label')} {row.get('bore', 0):g}{NARROW_SPACE}mm"
    return str(row.get("label") or row.get("name") or row.get("path") or next(iter(row.values()), ""))
