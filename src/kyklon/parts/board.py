"""A board learnt from its device tree, or from what it prints about itself while it runs; the rest is asked.

Properties: Devicetree Specification 0.4, chapters 2 and 3; the kernel's Documentation/devicetree/bindings:
arm/cpus.yaml, display/connector/*.yaml, connector/usb-connector.yaml, mmc/mmc-controller.yaml.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import replace
from typing import Any

from kyklon.base.quantities import counted
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.text_records import Dialect
from kyklon.parts import device_tree
from kyklon.parts.device_tree import Node
from kyklon.parts.draft import Draft
from kyklon.parts.fields import FIELDS
from kyklon.parts.sockets import board_port

ASKED = tuple(field.name for field in FIELDS["boards"] if field.name != "disk_boot_note")
# bindings/arm/cpus.yaml: the cores of each instruction set
_CORES = (
    (re.compile(r"arm11(36|56|76|-mpcore|76jz.*)|armv6"), "ARMv6"),
    (re.compile(r"cortex-a(5|7|8|9|12|15|17)\b|armv7|-v7\b"), "ARMv7"),
    (re.compile(r"cortex-a(32|34|35|53|55|57|65|7\d|510|520|7\d\d)\b|armv8|cortex-x\d"), "ARMv8"),
)
_ALSO = {"ARMv6": ("ARMv6",), "ARMv7": ("ARMv7",), "ARMv8": ("ARMv8",)}
_HDMI = {"a": "HDMI A", "c": "HDMI C", "d": "HDMI D"}  # hdmi-connector.yaml: type
_MB = 1_000_000
_MOST_MEMORY = 1 << 44  # bytes


def learn(data: bytes, catalogue: Catalogue, file: str = "the device tree") -> Draft:
    """A draft from a .dtb file. Raises FormatError with the offset of what is broken."""
    root = device_tree.read(data)
    by = file
    draft = Draft("boards", asked=ASKED)
    model = root.text("model").strip()
    strings = root.compatible
    draft = draft.with_read(by, name=model or (strings[0] if strings else "Board"))
    if strings:
        draft = draft.with_read(by, compatible=strings[0])
    if file.endswith(".dtb"):
        draft = draft.with_read(by, device_tree=file.rpartition("/")[2])
    draft = _processor(draft, root, by)
    draft = _memory(draft, root, by)
    draft = _sockets(draft, root, by)
    rows = [
        ("Compatible with", ", ".join(strings) or "nothing said"),
        ("Buses", ", ".join(buses(root)) or "none"),
        ("Pictures from", ", ".join(video_outputs(root)) or "nothing said"),
    ]
    return replace(with_class(draft, catalogue), about=(*draft.about, *rows))


def _processor(draft: Draft, root: Node, by: str) -> Draft:
    cpus = root.child("cpus")
    cores = [child for child in cpus.children if child.name.partition("@")[0] == "cpu"] if cpus else []
    found = list(dict.fromkeys(word for core in cores for word in core.compatible))
    sets = list(dict.fromkeys(name for name in map(set_of, found) if name))
    best, why = (max(sets), by) if sets else _set_by_bindings(root)
    if not best and found and not any(map(_OLD.match, found)):
        draft = draft.offer(
            "nothing in the tree says that it is a 64-bit processor", native_set="ARMv7", runs=["ARMv7"]
        )
    elif not best:
        draft = draft.tell("Unknown CPU type; you are asked for its instruction set.")
    if best:
        draft = draft.with_read(why if sets else f"{by}: {why}", native_set=best)
        draft = draft.offer("kernels of its own instruction set; add others its maker lists", runs=list(_ALSO[best]))
    speeds = [each.cells("clock-frequency") for each in cores]
    hz = [(one[0] if len(one) == 1 else one[0] << 32 | one[1]) for one in speeds if one]
    if hz and 50 * _MB <= max(hz) <= 20_000 * _MB:
        draft = draft.with_read(by, processor_mhz=[round(max(hz) / _MB)] * 2)
    words = f"{len(cores)} × {found[0]}" if found else f"{len(cores)} cores" if cores else "not said"
    return replace(draft, about=(*draft.about, ("Processor", words)))


_OLD = re.compile(
    r"arm,arm(7|9|10)\w*|.*\barm9\d\d"
)  # cores of ARMv4 and ARMv5, for which no kernel is looked for here
# what only a processor of that set has (bindings/timer/arm,arch_timer.yaml, arm/pmu.yaml, timer/arm,twd-timer.yaml)
_BY_BINDING = (
    (("arm,armv8-timer", "arm,armv8-pmuv3"), "ARMv8"),
    (("arm,armv7-timer", "arm,cortex-a9-twd-timer", "arm,cortex-a5-twd-timer", "arm,cortex-a9-gic"), "ARMv7"),
    (("arm,arm11mp-twd-timer", "arm,arm11mp-gic"), "ARMv6"),
)


def _set_by_bindings(root: Node) -> tuple[str, str]:
    """The instruction set that a core of no known name must have, and by what; '' twice where nothing tells."""
    kinds = {kind for node in root.walk() for kind in node.compatible}
    for words, name in _BY_BINDING:
        if told := next((word for word in words if word in kinds), ""):
            return name, told
    cpus = root.child("cpus")
    if cpus is not None and cpus.cells("#address-cells") == (2,):
        return "ARMv8", "the width of its processor numbers"
    return "", ""


def set_of(core: str) -> str:
    """The instruction set of a core, from its compatible string; '' for one that is not known."""
    plain = core.rpartition(",")[2]
    return next((name for pattern, name in _CORES if pattern.fullmatch(plain) or pattern.match(plain)), "")


def _memory(draft: Draft, root: Node, by: str) -> Draft:
    address = (root.cells("#address-cells") or (2,))[0]
    size = (root.cells("#size-cells") or (1,))[0]
    if not (1 <= address <= 2 and 1 <= size <= 2):
        return draft.tell("Its memory size cannot be read; you are asked for it.")
    total = 0
    for node in root.children:
        if node.name.partition("@")[0] != "memory" or node.text("device_type") != "memory":
            continue
        cells = node.cells("reg")
        for at in range(0, len(cells) - address - size + 1, address + size):
            length = 0
            for cell in cells[at + address : at + address + size]:
                length = length << 32 | cell
            total += length
    if 0 < total < _MOST_MEMORY:
        return draft.with_read(by, memory_mb=_shown_memory(total))
    return draft.tell("The memory size is left to the firmware, so you are asked for it.")


def _shown_memory(count: int) -> int:
    """Memory as boards are sold: 1 GiB is 1024 MB here, as the shipped boards have it."""
    return max(1, round(count / (1 << 20)))


def video_outputs(root: Node) -> tuple[str, ...]:
    """What gives a picture, in words."""
    found = []
    for node in root.walk():
        kinds = node.compatible
        if not node.works:
            continue
        if any(kind.endswith("hdmi-connector") for kind in kinds):
            found.append(f"HDMI {node.text('type').upper()}".strip())
        elif any(
            kind in ("composite-video-connector", "vga-connector", "dvi-connector", "svideo-connector")
            for kind in kinds
        ):
            found.append(kinds[0].removesuffix("-connector").replace("-video", " video"))
        elif re.match(r"(hdmi|dsi|tv-?encoder|vec|panel)(@|$)", node.name) and (kinds or node.name.startswith("panel")):
            found.append(node.name.partition("@")[0])
    return tuple(dict.fromkeys(found))


def buses(root: Node) -> tuple[str, ...]:
    """The buses that are switched on, with how many of each."""
    names = {
        "i2c": "I2C",
        "spi": "SPI",
        "serial": "serial",
        "i2s": "I2S",
        "usb": "USB",
        "mmc": "card or eMMC",
        "pcie": "PCIe",
    }
    counts: dict[str, int] = {}
    for node in root.walk():
        kind = node.name.partition("@")[0]
        kind = {"sdhci": "mmc", "uart": "serial", "mmcnr": "mmc"}.get(kind, kind)
        if kind in names and node.works and node.compatible:
            counts[names[kind]] = counts.get(names[kind], 0) + 1
    return tuple(f"{count} × {name}" for name, count in counts.items())


def _sockets(draft: Draft, root: Node, by: str) -> Draft:
    """Sockets that the tree names; what it does not name is offered, to be set right on the drawing."""
    ports: list[dict[str, Any]] = []
    hdmi = usb = 0
    card = power = False
    for node in root.walk():
        kinds, works = node.compatible, node.works
        if not works:
            continue
        if "hdmi-connector" in kinds:
            hdmi += 1
            ports.append(board_port("video out", _HDMI.get(node.text("type"), "HDMI A"), hdmi))
        elif "vga-connector" in kinds or "composite-video-connector" in kinds:
            hdmi += 1
            ports.append(board_port("video out", "DE-15" if "vga-connector" in kinds else "RCA", hdmi))
        elif any(kind in ("usb-a-connector", "usb-b-connector", "usb-c-connector") for kind in kinds):
            if node.text("power-role") == "sink" or (node.text("data-role") == "device" and not power):
                power = True
                connector = "USB-C" if "usb-c-connector" in kinds else "Micro-USB B"
                ports.insert(0, board_port("power in", connector))
            else:
                usb += 1
                ports.append(board_port("USB out", "USB-C" if "usb-c-connector" in kinds else "USB-A", usb))
        elif node.name.partition("@")[0] in ("mmc", "sdhci") and "non-removable" not in node.props and not card:
            card = bool(kinds)
    read, named = bool(ports), len(ports)
    if not power:
        ports.insert(0, board_port("power in", "USB-C"))
    if not hdmi:
        ports.append(board_port("video out", "HDMI A"))
    if not usb:
        ports += [board_port("USB out", "USB-A", number) for number in (1, 2)]
    ports.append(board_port("card", "microSD"))
    if read and named == len(ports):
        return draft.with_read(f"{by}: its connectors", ports=ports)
    if read:
        draft = draft.offer("some from its connectors, the others are usual", ports=ports)
        return draft.tell("Sockets missing from the tree were added: correct them on the drawing.")
    return draft.offer("the tree names no sockets; these are usual", ports=ports)


def with_class(draft: Draft, catalogue: Catalogue) -> Draft:
    """Suggestions by the class that a board of such a set and memory usually belongs to (common practice)."""
    best, memory = draft.row.get("native_set", ""), int(draft.row.get("memory_mb", 1024))
    small, large = best == "ARMv6" or memory <= 512, memory > 1024
    typical, peak, heat = (0.25, 0.6, 16.0) if small else (0.9, 2.5, 6.5) if large else (0.6, 1.3, 7.5)
    words = "a small board's" if small else "a large board's" if large else "usual for a board of this size"
    draft = draft.offer(f"usual, {words}; measure or look it up", typical_a=typical, peak_a=peak, heat_k_per_w=heat)
    dialects = [each.id for each in catalogue.all(Dialect) if any(file.kind == "extlinux" for file in each.files)]
    draft = draft.offer("boards that start by U-Boot read extlinux.conf; look on its card", dialects=dialects[:1])
    draft = draft.offer("a kernel with a DRM driver obeys these", honours=["video=", "edid firmware"])
    if "memory_mb" not in draft.row:
        draft = draft.offer("usual", memory_mb=1024)
    if "runs" not in draft.row and "runs" not in draft.suggested and best:
        draft = draft.offer("the kernels of its own set", runs=[best])
    return draft


# --- a running board's own words -----------------------------------------------------------------------------------

_OF_TEXT = ("Cores", "USB")  # rows that its own text gives
_NOTHING = "Nothing in that text was recognised; paste what /proc/cpuinfo, /proc/meminfo, lsusb or uname -m print."
_ARCH = {"5": "ARMv5", "6": "ARMv6", "7": "ARMv7", "8": "ARMv8", "aarch64": "ARMv8"}


def learn_text(text: str, catalogue: Catalogue, draft: Draft | None = None) -> Draft:
    """Facts from pasted text: /proc/cpuinfo, /proc/meminfo, /proc/device-tree/model, lsusb, uname -m; any of them, in
    any order, onto a draft or from nothing. What is not recognised is told."""
    made = draft or Draft("boards", asked=ASKED)
    rows = tuple(row for row in made.about if row[0] not in _OF_TEXT)
    made = replace(made, about=rows, told=tuple(each for each in made.told if each != _NOTHING))
    lines = [line.strip("\0 \t\r") for line in text.replace("\0", "\n").splitlines()][:20_000]
    values = {
        key.strip().lower(): value.strip() for key, found, value in (line.partition(":") for line in lines) if found
    }
    taken = 0
    best = ""
    if "cpu architecture" in values:
        best = _ARCH.get(values["cpu architecture"].lower(), "")
    for line in lines:
        match = re.search(r"\b(aarch64|armv([678])l?)\b", line)
        if match and not best:
            best = "ARMv8" if match[1] == "aarch64" else f"ARMv{match[2]}"
    if best in _ALSO:
        made = made.with_read("its own text", native_set=best).offer("the kernels of its own set", runs=[best])
        taken += 1
    cores = sum(
        line.lower().replace(" ", "").startswith("processor\t:")
        or bool(re.match(r"processor\s*:\s*\d+$", line.lower()))
        for line in lines
    )
    if cores:
        made = replace(made, about=(*made.about, (_OF_TEXT[0], counted(cores, "core"))))
    match = re.search(r"MemTotal:\s*(\d{1,12})\s*kB", text)
    if match:
        made = made.with_read("/proc/meminfo", memory_mb=_next_memory(int(match[1]) * 1024))
        taken += 1
    model = values.get("model", "")
    if not model:
        plain = [line for line in lines if line]
        model = plain[0] if len(plain) == 1 and ":" not in plain[0] and len(plain[0]) <= 100 and not best else ""
    if model:
        made = made.with_read("its own text", name=model[:120])
        taken += 1
    usb = _usb(lines)
    if usb:
        made = replace(made, about=(*made.about, (_OF_TEXT[1], ", ".join(usb))))
        if any("3" in each for each in usb):
            made = made.offer("it has a USB 3 bus", usb_mb_s=350.0)
        taken += 1
    if not taken:
        made = made.tell(_NOTHING)
    if "ports" not in made.row and "ports" not in made.suggested:
        made = _default_sockets(made)
    return with_class(made, catalogue)


def _default_sockets(draft: Draft) -> Draft:
    ports = [
        board_port("power in", "USB-C"),
        board_port("video out", "HDMI A"),
        board_port("USB out", "USB-A", 1),
        board_port("USB out", "USB-A", 2),
        board_port("card", "microSD"),
    ]
    return draft.offer("usual; correct them on the drawing", ports=ports)


def _next_memory(count: int) -> int:
    """What a board with that much left for the kernel was sold with: the next power of two."""
    megabytes = count / (1 << 20)
    return next((size for size in (1 << power for power in range(4, 20)) if size >= megabytes), round(megabytes))


def _usb(lines: Iterable[str]) -> tuple[str, ...]:
    found = [match[1] for line in lines if (match := re.match(r"Bus \d{3} Device \d{3}: ID 1d6b:000(\d)\b", line))]
    return tuple(f"{found.count(kind)} × USB {kind}" for kind in dict.fromkeys(found))
