"""What an initramfs does before there is a root: unpacked by the kernel, its init is started, which mounts the root.

Sources: the kernel's init/initramfs.c and init/main.c (6.1); initramfs-tools(7) for the prompt it ends in.
"""

from __future__ import annotations

from kyklon.base.quantities import show_bytes
from kyklon.model.card import Program, Ramdisk
from kyklon.model.findings import Remedy
from kyklon.model.kernel_line import last
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import Failure, Moment, Screen
from kyklon.operations.poweron.stages.fail import panic
from kyklon.operations.poweron.stages.programs import runs_here

UNPACK_B_S = 40e6  # bytes of an initramfs that a small board unpacks a second, CP
LOADS_S = 2.0  # seconds that its scripts take until the root is mounted, CP
_SHARE = 0.5  # of the memory that unpacked files may take: mm/shmem.c, the default size of a tmpfs


def _what_runs(bench: Bench, ramdisk: Ramdisk) -> tuple[Program | None, str]:
    """What the kernel starts in an initramfs, and why it does not run, '' when it does."""
    named = last(bench.kernel_line_words, "rdinit")
    program = ramdisk.init
    if named not in (None, "/init"):
        program = next((other for other in ramdisk.others if other.path == named), None)
        if program is None:
            return None, ""  # nothing is known of it
    return program, runs_here(bench, program) if program is not None else ""


def initramfs_fails(bench: Bench) -> Failure | None:
    """Why the machine does not get past its initramfs, None when it does or when there is none that takes over."""
    ramdisk, lamps = bench.ramdisk, bench.board.lamps
    if ramdisk is None or not bench.initramfs_init:
        return None
    memory = bench.board.memory_mb * 10**6
    if ramdisk.unpacked > memory * _SHARE:
        cause = (
            f"{ramdisk.name} takes {show_bytes(ramdisk.unpacked)} when it is unpacked; the kernel gives it half of the "
            f"board's {show_bytes(memory)}."
        )
        return panic("root partition", "boot.initramfs-damaged", cause, lamps.stuck)
    if ramdisk.trouble and ramdisk.init is None:
        return None  # the kernel goes on to root= by itself
    program, why = _what_runs(bench, ramdisk)
    if program is None and why == "":
        return None
    if ramdisk.trouble and not why:
        why = f"{ramdisk.trouble}, so what comes after that place is missing"
        return panic("root partition", "boot.initramfs-damaged", f"{why[:1].upper()}{why[1:]}.", lamps.stuck)
    if not why:
        return None
    if program is not None and program.lacks and not program.why:
        cause = f"The init of {ramdisk.name} starts and ends at once: it needs {program.lacks}."
        screen = Screen("text", "Kernel panic", ("Attempted to kill init!",))
        return Failure("root partition", "boot.initramfs-dies", cause, None, screen, lamps.stuck)
    other = next((other for other in ramdisk.others if not runs_here(bench, other)), None)
    cause = f"The kernel cannot start the init of {ramdisk.name}: {why}."
    if other is not None:
        cause = f"{cause} It starts {other.path} there instead."
        screen = Screen("text", "Text screen", ("/ #",))
        return Failure("root partition", "boot.initramfs-init", cause, None, screen, lamps.idle)
    screen = Screen("text", "Kernel panic", (f"Failed to execute {program.path if program else '/init'}",))
    return Failure("root partition", "boot.initramfs-init", cause, None, screen, lamps.stuck)


def initramfs_runs(bench: Bench) -> list[Moment]:
    """What is seen of an initramfs that does its work; nothing where there is none."""
    ramdisk = bench.ramdisk
    if ramdisk is None or not bench.initramfs_init:
        return []
    maker = f" ({ramdisk.maker})" if ramdisk.maker else ""
    seconds = ramdisk.unpacked / UNPACK_B_S + LOADS_S
    return [Moment(f"{ramdisk.name}{maker} loads its drivers and mounts the root.", bench.board.lamps.reading, seconds)]


def no_root_found(bench: Bench, stage: str, code: str, cause: str, remedy: Remedy | None) -> Failure:
    """The prompt in which an initramfs ends that finds no root."""
    lines: tuple[str, ...] = ("Gave up waiting for root file system device.", "(initramfs)")
    if bench.ramdisk is not None and bench.ramdisk.maker != "initramfs-tools":
        lines = ("The initramfs found no root.",)
    return Failure(stage, code, cause, remedy, Screen("text", "Initramfs prompt", lines), bench.board.lamps.idle)
