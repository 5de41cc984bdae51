"""A real start on the desk: the card's own bytes under a real boot loader and a real kernel, from a snapshot.

Programs: QEMU's virt board (qemu-system-arm), U-Boot for it (u-boot-qemu), a kernel that runs as a program
(user-mode-linux). The card is opened for reading only; what the start writes goes into a file that is thrown away.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

from kyklon.base import reading, scratch, tools
from kyklon.base.cell import WORK, Cell, why_none
from kyklon.base.errors import TargetError, ToolError, WrongUse
from kyklon.base.packages import how_to_install
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.running import Ran, Talk, run_watched
from kyklon.catalogue.fault_records import LogPattern
from kyklon.model.kernel_line import given
from kyklon.operations.card.volumes.fat_reader import FatReader
from kyklon.operations.card.volumes.partitions import reader
from kyklon.operations.poweron import twin
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.boot_log import LogReading, read_log

WayKey = Literal["loader", "kernel", "root"]
LIMIT_S = 60.0  # seconds of a phase, unless it is told otherwise
_FIRMWARE = Path("/usr/lib/u-boot/qemu_arm64/u-boot.bin")  # Debian: u-boot-qemu
_QUIET_S = 1.5  # seconds without a word after one that ends a start; CP
_KERNEL_MOST = 96 << 20  # bytes
_BOARDS = {  # instruction set -> QEMU's program and a processor of that set
    "ARMv8": ("qemu-system-aarch64", "cortex-a57"),
    "ARMv7": ("qemu-system-arm", "cortex-a15"),
}
_LOADER_ENDS = (b"NOTHINGELSE", b"Enter choice", b"Synchronous Abort", b"resetting ...")
# what this program adds to the kernel line; the log is to tell of the card's own
_OWN_WORDS = re.compile(
    r"\b(?:ubd0=\S+|mem=96M|uml_dir=[^\s\"]+|con0=\S+|con=null|panic=-1|ignore_loglevel|printk\.time=1"
    r"|console=ttyAMA0|console=tty0|hostfs=\S+) ?"
)
_TALKATIVE = ("ignore_loglevel", "printk.time=1")  # whatever quiet asks for (kernel-parameters)


@dataclass(frozen=True)
class Way:
    """title: on the screen. shows: what is really run. stages: those that it can pass or fail."""

    key: WayKey
    title: str
    shows: str
    stages: tuple[str, ...]


_SYSTEM = ("kernel line", "root partition", "init", "services", "login", "front end")
WAYS: dict[WayKey, Way] = {
    "loader": Way(
        "loader",
        "Boot loader",
        "a real boot loader in a virtual board reads the card and starts its kernel",
        ("partition table", "boot partition", "boot file", "kernel"),
    ),
    "kernel": Way(
        "kernel",
        "Kernel",
        "the card's own kernel is started with its kernel command line in a virtual board",
        ("kernel", *_SYSTEM),
    ),
    "root": Way(
        "root",
        "Root",
        "a real kernel of this computer mounts the card's root and starts its init and services",
        _SYSTEM,
    ),
}


@dataclass(frozen=True)
class Phase:
    """ended: at a word that ends a start, by itself, at the time limit, or flooded with words."""

    way: WayKey
    said: str
    ended: str
    seconds: float

    @property
    def diskless(self) -> bool:
        """Whether the card's kernel has no driver built in for the virtual board's disk."""
        return self.way == "kernel" and "Linux version" in self.said and not re.search(r"\bvda: ", self.said)

    @property
    def tried(self) -> tuple[str, ...]:
        """The stages that it could pass or fail."""
        return WAYS[self.way].stages[: 1 if self.diskless else None]


@dataclass(frozen=True)
class Rehearsal:
    """What was tried, what it said, and what such a start cannot show."""

    phases: tuple[Phase, ...]
    reading: LogReading
    unseen: tuple[str, ...]

    @property
    def said(self) -> str:
        return "\n".join(phase.said for phase in self.phases)

    @property
    def tried(self) -> frozenset[str]:
        """The stages that were up to these phases."""
        return frozenset(stage for phase in self.phases for stage in phase.tried)

    @property
    def at_limit(self) -> bool:
        return any(phase.ended == "limit" for phase in self.phases)

    @property
    def verdict(self) -> str:
        """In a sentence."""
        reading = self.reading
        if reading.stop is not None:
            return f"It stopped at {reading.stop.stage}: {reading.stop.text}"
        if reading.reached == "front end":
            return "It came to its menu."
        if self.at_limit:
            last = f"the last sign was {reading.reached}" if reading.reached else "it gave no sign"
            return f"It was ended at its time limit; {last}."
        return f"It came as far as {reading.reached}." if reading.reached else "It printed nothing."


def why_not(bench: Bench, way: WayKey) -> str:
    """Why a way cannot be gone with this card and this computer, '' when it can."""
    return _unfit(bench, way) or why_none()


def _unfit(bench: Bench, way: WayKey) -> str:
    if not bench.image.has_system and way == "root":
        return "This card has no system below its program."
    if way == "loader":
        if not bench.by_label:
            return f"{bench.board.name} reads its boot files with firmware of its own, not with this boot loader."
        return "" if _FIRMWARE.exists() else _missing("qemu-system-aarch64")
    if way == "kernel":
        kernel = bench.contents.kernel(bench.kernel_name)
        if kernel is None:
            return "The kernel that the boot file names is not on the card."
        if kernel.instruction_set not in _BOARDS:
            return f"No virtual board runs {kernel.instruction_set} kernels here."
        return ""
    others = twin.foreign(bench.contents)
    if others.paths and not others.one:
        return f"{others.paths[0]} and other programs are for another processor than this computer's."
    return ""


def _missing(program: str) -> str:
    return f"{program} and its boot loader are not installed. {how_to_install(program)}"


def ways_for(bench: Bench) -> tuple[WayKey, ...]:
    """The ways that tell most of this card, in order: loader and root where labels are read, else the root."""
    return tuple(way for way in ("loader", "root") if not why_not(bench, way))


@dataclass(frozen=True)
class Terms:
    """ways: in order, those that fit the card when none is named. limit_s: seconds that each may take."""

    ways: tuple[WayKey, ...] = ()
    limit_s: float = LIMIT_S


def rehearse(bench: Bench, card: Path, terms: Terms | None = None, watch: Watch = UNWATCHED) -> Rehearsal:
    """Start the card on the desk; a way that fails ends it.

    Raises WrongUse when no way fits, ToolError for a program that is missing, with its package,
    TargetError for a card that cannot be read, Cancelled.
    """
    terms = terms or Terms()
    chosen, limit_s = terms.ways or ways_for(bench), terms.limit_s
    for way in chosen or ("root",):
        if why := why_not(bench, way):
            raise WrongUse(f"{WAYS[way].title} cannot be rehearsed: {why}", do="Choose another way.")
    phases: list[Phase] = []
    line = bench.settings.kernel_line.split("\n")[0] if bench.settings else ""
    school = bench.image.school
    for way in chosen:
        with scratch.folder("rehearsal") as held:
            try:
                ran = _RUNS[way](bench, card, held, line, limit_s, watch)
            except OSError as bad:
                why = bad.strerror or str(bad)
                raise TargetError(
                    f"{card} cannot be rehearsed: {why}.", do="Plug it in again, or use its image."
                ) from bad
        said = _OWN_WORDS.sub("", ran.said.decode("utf-8", "replace").replace("\r", ""))
        phases.append(Phase(way, said, ran.ended, round(ran.seconds, 1)))
        reading = read_log(said, bench.catalogue, school)
        line = reading.kernel_line if way == "loader" else line
        if way == "loader" and not said.endswith("Starting kernel ..."):
            break
    reading = read_log("\n".join(phase.said for phase in phases), bench.catalogue, school)
    if phases[-1].diskless:
        reading = replace(reading, stop=None, reached="kernel")
    return Rehearsal(tuple(phases), _without_time(reading) if len(phases) > 1 else reading, _unseen(bench, phases))


def _without_time(reading: LogReading) -> LogReading:
    """Two clocks one after the other tell no times between them."""
    return replace(reading, times=())


def _unseen(bench: Bench, phases: list[Phase]) -> tuple[str, ...]:
    """What a start on the desk cannot show."""
    ways = {phase.way for phase in phases}
    told = [
        "Display, lamps, sound and pins are not there; nor is the power supply.",
        f"{bench.board.name}'s own firmware is not run." if not bench.by_label else "",
        "The boot loader's own device tree is used, not that of the card." if "loader" in ways else "",
        "The virtual board has a device tree of its own." if "kernel" in ways else "",
        "The card's kernel has no driver built in for the virtual board's disk, so its root was not tried."
        if any(phase.diskless for phase in phases)
        else "",
        "The kernel is this computer's, so the card's kernel and device tree are not tried." if "root" in ways else "",
        "The card is called ubda there; words that name it are translated." if "root" in ways else "",
    ]
    if "root" in ways and twin.foreign(bench.contents).paths:
        told.append(f"{twin.SHELL} is this computer's, in a twin of the card; all else on the root is the card's own.")
    return tuple(words for words in told if words)


# --- the ways ------------------------------------------------------------------------------------------------------


def translated(line: str, disk: str) -> str:
    """A board's kernel line for another name of its card. disk: 'ubda' or 'vda'."""
    major = {"ubda": ("98", "62"), "vda": ("254", "fe")}[disk]  # admin-guide/devices.txt: ubd; virtio_blk by itself
    line = re.sub(r"/dev/mmcblk0p(\d)", rf"/dev/{disk}\1", line)
    line = re.sub(r"/dev/sda(\d)", rf"/dev/{disk}\1", line)
    line = re.sub(r"\broot=179:(\d+)", rf"root={major[0]}:\1", line)
    line = re.sub(r"\broot=b3([0-9a-f]{2})\b", rf"root={major[1]}\1", line, flags=re.IGNORECASE)
    return re.sub(r"\bconsole=\S+", "", line)


# words of the card that this kernel is given: those that choose the root and init. It runs as a program, and others
# would give what is on the card this computer's files, terminals and network (user-mode-linux: --help)
_ROOT_WORDS = frozenset(
    (
        "root",
        "rootfstype",
        "rootflags",
        "rootwait",
        "rootdelay",
        "init",
        "ro",
        "rw",
        "quiet",
        "loglevel",
        "gpt",
        "single",
        "emergency",
    )
)


def _let_in(line: str) -> list[str]:
    """A kernel line's words as that kernel may have them."""
    found = [word for word in given(line) if word.partition("=")[0] in _ROOT_WORDS or word.startswith("systemd.")]
    return [word for word in found if "hostfs" not in word and "\0" not in word]


def _final(bench: Bench) -> Callable[[bytes, float], bool]:
    """Whether a start says no more: a word that ends one, and then silence."""
    final = [re.compile(each.pattern.lstrip("^").encode()) for each in bench.catalogue.all(LogPattern) if each.ends]
    done: list[bool] = []
    looked = [0]

    def ended(said: bytes, quiet_s: float) -> bool:
        if not done and len(said) > looked[0]:
            fresh = bytes(said[max(0, looked[0] - 300) :])
            looked[0] = len(said)
            done.extend([True] if any(each.search(fresh) for each in final) else [])
        return bool(done) and quiet_s > _QUIET_S

    return ended


def _loader(bench: Bench, card: Path, folder: Path, _line: str, limit_s: float, watch: Watch) -> Ran:
    """U-Boot in QEMU's virt board, the card its only disk."""
    asked: list[bool] = []

    def answer(said: bytes) -> bytes:
        if asked or b"autoboot" not in said:
            return b""
        asked.append(True)
        return b"\nvirtio scan; run bootcmd_virtio0; echo NOTHING''ELSE\n"

    final = _final(bench)

    def ended(said: bytes, quiet_s: float) -> bool:
        if any(mark in said for mark in _LOADER_ENDS):
            return True
        # a kernel for this virtual board goes on talking; another one, or a stand-in, does not
        return b"Starting kernel" in said and (quiet_s > 2 * _QUIET_S or final(said, quiet_s))

    command = [
        "qemu-system-aarch64",
        "-M",
        "virt",
        "-cpu",
        "cortex-a57",
        *_GUEST,
        "-bios",
        "/given/firmware",
        *_DISK,
    ]
    cell = Cell({"/given/card": card.resolve(), "/given/firmware": _FIRMWARE})
    talk = Talk(ended, answer)
    ran = run_watched(cell.around(command), folder, seconds=limit_s, title="Boot loader", talk=talk, watch=watch)
    before, started, after = ran.said.partition(b"Starting kernel ...")
    if not started or b"Linux version" in after:
        return ran
    return replace(ran, said=before + started, ended="mark")  # what a kernel for another board does here tells nothing


# a virtual board with memory, a serial line and a disk: no monitor, no network, no folder, and no start of a program
_GUEST = (
    "-m",
    "512",
    "-nodefaults",
    "-no-user-config",
    "-display",
    "none",
    "-serial",
    "stdio",
    "-monitor",
    "none",
    "-nic",
    "none",
    "-accel",
    "tcg,tb-size=64",
    "-sandbox",
    "on,obsolete=deny,elevateprivileges=deny,spawn=deny,resourcecontrol=deny",
)
# the card is read from; what is written goes into a file in the cell's memory
_DISK = ("-drive", "if=none,file=/given/card,format=raw,id=d,snapshot=on", "-device", "virtio-blk-device,drive=d")


def _kernel(bench: Bench, card: Path, folder: Path, line: str, limit_s: float, watch: Watch) -> Ran:
    """The card's kernel in QEMU's virt board, which brings a device tree of its own."""
    kernel = bench.contents.kernel(bench.kernel_name)
    assert kernel is not None
    program, processor = _BOARDS[kernel.instruction_set]
    given, reads = ["-kernel", "/given/kernel"], {"/given/card": card.resolve()}
    reads["/given/kernel"] = _fetched(bench, card, kernel.name, folder / "kernel")
    if bench.settings and bench.settings.initramfs and bench.contents.has(bench.settings.initramfs):
        given += ["-initrd", "/given/initramfs"]
        reads["/given/initramfs"] = _fetched(bench, card, bench.settings.initramfs, folder / "initramfs")
    words = f"{translated(line, 'vda')} console=ttyAMA0 panic=-1 {' '.join(_TALKATIVE)}".strip()
    command = [
        program,
        "-M",
        "virt",
        "-cpu",
        processor,
        *_GUEST,
        "-no-reboot",
        *given,
        "-append",
        words,
        *_DISK,
    ]
    shut = Cell(reads).around(command)
    return run_watched(shut, folder, seconds=limit_s, title="Kernel", talk=Talk(_final(bench)), watch=watch)


def _fetched(bench: Bench, card: Path, name: str, to: Path) -> Path:
    """A file of the boot partition, outside it."""
    table = bench.contents.table
    part = next((p for p in table.partitions if p.number == bench.contents.boot_number), None) if table else None
    if part is None:
        raise ToolError(f"{name} cannot be fetched: there is no boot partition.")
    with reading.opened(card, devices=True) as file:
        volume = FatReader(reader(file.fileno()), part.start)
        found = next(each for each in volume.files() if each.path.lower() == name.lower())
        to.write_bytes(volume.read(found, _KERNEL_MOST))
    return to


def _root(bench: Bench, card: Path, folder: Path, line: str, limit_s: float, watch: Watch) -> Ran:
    """A kernel that runs as a program, with the card or its twin as its disk."""
    program = tools.find("linux.uml")
    if twin.foreign(bench.contents).paths:
        tools.find("busybox")
        disk, cell = "ubd0=/given/card", Cell(writes={"/given/card": twin.make(card, bench.contents, folder, watch)})
    else:
        disk, cell = (
            "ubd0=written,/given/card",
            Cell({"/given/card": card.resolve()}),
        )  # it keeps what is written in WORK
    command = [
        program,
        disk,
        "mem=96M",
        f"uml_dir={WORK}",
        "con0=null,fd:1",
        "con=null",
        "panic=-1",
        *_let_in(translated(line, "ubda")),
        *_TALKATIVE,
        f"hostfs={WORK}",
    ]
    shut = cell.around(command)
    return run_watched(shut, folder, seconds=limit_s, title="Root", talk=Talk(_final(bench)), watch=watch)


_RUNS: dict[WayKey, Callable[[Bench, Path, Path, str, float, Watch], Ran]] = {
    "loader": _loader,
    "kernel": _kernel,
    "root": _root,
}
