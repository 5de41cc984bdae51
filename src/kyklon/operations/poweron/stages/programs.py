"""Which programs a kernel of an instruction set runs."""

from __future__ import annotations

from kyklon.model.card import Program
from kyklon.operations.poweron.bench import Bench

# a 64-bit kernel runs programs of 32 bits too (CONFIG_COMPAT)
RUNS = {
    "ARMv6": ("ARM 32-bit",),
    "ARMv7": ("ARM 32-bit",),
    "ARM 32-bit": ("ARM 32-bit",),
    "ARMv8": ("ARM 64-bit", "ARM 32-bit"),
    "x86-64": ("x86-64", "x86 32-bit"),
}


def runs_here(bench: Bench, program: Program) -> str:
    """Why the kernel of this card does not run a program, '' when it does."""
    if program.trouble:
        return program.trouble
    kernel = bench.contents.kernel(bench.kernel_name)
    runs = RUNS.get(kernel.instruction_set, ()) if kernel else ()
    if kernel and program.machine and program.machine not in runs:
        return (
            f"{program.path} is a program for {program.machine}, which a kernel for {kernel.instruction_set} cannot run"
        )
    return ""
