"""A cell for a program that runs what anybody may have made: it sees itself, its libraries and the files it was given,
and nothing else of this computer.

bubblewrap (bwrap(1)) makes it out of namespaces: own files, processes, users, network, semaphores and names, without
any capability and with an empty environment. Where the kernel allows none there is no cell, and nothing is run.
"""

from __future__ import annotations

import functools
import re
import subprocess
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from kyklon.base import tools
from kyklon.base.errors import KyklonError, ToolError

WORK = "/own"  # the folder that the program may write in; it lies in memory and goes with the cell
_NOBODY = "65534"  # user and group inside; nobody's on Linux
_ROOM = 1 << 30  # bytes that may be written in WORK
_MEMORY = 6 << 30  # bytes of address space: an emulator of 512 MB takes 2 GB of it before it starts
_ALONE = (
    "--unshare-user",
    "--unshare-ipc",
    "--unshare-pid",
    "--unshare-net",
    "--unshare-uts",
    "--unshare-cgroup-try",
    "--disable-userns",
    "--die-with-parent",
    "--cap-drop",
    "ALL",
    "--clearenv",
)


@dataclass(frozen=True)
class Cell:
    """reads, writes: files of this computer by the name they have inside. memory: most bytes of address space."""

    reads: Mapping[str, Path] = field(default_factory=dict)
    writes: Mapping[str, Path] = field(default_factory=dict)
    memory: int = _MEMORY

    def around(self, arguments: list[str]) -> list[str]:
        """The command that runs a program in here. Raises ToolError where there can be no cell, or no program."""
        if why := why_none():
            raise ToolError(why)
        return self._around(arguments)

    def _around(self, arguments: list[str]) -> list[str]:
        program = tools.find(arguments[0])
        command = [
            tools.find("prlimit"),
            "--core=0",
            f"--as={self.memory}",
            tools.find("bwrap"),
            *_ALONE,
            "--uid",
            _NOBODY,
            "--gid",
            _NOBODY,
            "--hostname",
            "cell",
            "--setenv",
            "TMPDIR",
            WORK,
        ]
        for file in (program, *_libraries(program)):
            command += ["--ro-bind", file, file]
        command += ["--dev", "/dev", "--size", str(_ROOM), "--tmpfs", WORK]
        for inside, given in self.reads.items():
            command += ["--ro-bind", str(given), inside]
        for inside, given in self.writes.items():
            command += ["--bind", str(given), inside]
        return [*command, "--chdir", WORK, "--", program, *arguments[1:]]


@functools.cache
def why_none() -> str:
    """Why no cell can be had on this computer, '' when one can."""
    try:
        command = Cell()._around(["true"])
        tried = subprocess.run(command, capture_output=True, timeout=20, check=False)
    except KyklonError as missing:
        return str(missing)
    except (OSError, subprocess.SubprocessError) as bad:
        return f"No program can be shut away on this computer: {bad}."
    if tried.returncode:
        said = tried.stderr.decode(errors="replace").strip().splitlines()
        return f"No program can be shut away on this computer ({said[-1] if said else 'bwrap failed'})."
    return ""


@functools.cache
def _libraries(program: str) -> tuple[str, ...]:
    """The libraries that the loader would map, and the loader itself; none for a static program."""
    said = subprocess.run([tools.find("ldd"), program], capture_output=True, timeout=20, check=False).stdout
    return tuple(dict.fromkeys(re.findall(r"(?:=> |^\s+)(/[^ \n]+) \(0x", said.decode(), re.MULTILINE)))
