"""System programs: always an argument list, always a time limit, their own words kept in the error."""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
from collections.abc import Container, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from kyklon.base.errors import ToolError
from kyklon.base.packages import how_to_install

_SYSTEM_FOLDERS = ("/usr/sbin", "/sbin", "/usr/local/sbin")  # where mkfs and sfdisk live off a user's PATH


def find(program: str) -> str:
    """The program's full path. Raises ToolError with the line that installs it."""
    found = where(program)
    if found is None:
        raise ToolError(f"The system program {program} is missing.", do=how_to_install(program))
    return found


def where(program: str) -> str | None:
    """Its full path, or None."""
    return shutil.which(program, path=os.pathsep.join([os.environ.get("PATH", ""), *_SYSTEM_FOLDERS]))


@dataclass(frozen=True)
class Bounds:
    """What a program may take that reads what anybody may have made (prlimit(1)); file: of each it writes. In bytes."""

    memory: int = 1 << 30
    file: int = 64 << 20


@contextlib.contextmanager
def plain_name(path: Path) -> Iterator[str]:
    """A name for a file that tools can take which read more into a name: mtools at '@@', e2fsprogs at '?'."""
    if not {"@", "?"} & set(str(path)):
        yield str(path)
        return
    descriptor = os.open(path, os.O_RDWR if os.access(path, os.W_OK) else os.O_RDONLY)
    try:
        yield f"/proc/{os.getpid()}/fd/{descriptor}"
    finally:
        os.close(descriptor)


def run(
    arguments: Sequence[str],
    *,
    seconds: float = 60.0,
    stdin: bytes = b"",
    environment: Mapping[str, str] | None = None,
    bounds: Bounds | None = None,
    passes: Container[int] = (0,),
) -> bytes:
    """Standard output of a program that must end within `seconds` with one of the exit codes of `passes`.

    Raises ToolError with the program's own words otherwise.
    """
    command = [find(arguments[0]), *arguments[1:]]
    if bounds is not None:
        command = [find("prlimit"), f"--as={bounds.memory}", f"--fsize={bounds.file}", *command]
    settings = {**os.environ, "LC_ALL": "C.UTF-8", "TZ": "UTC", **(environment or {})}
    if any("\0" in each for each in command):
        raise ToolError(f"{arguments[0]} cannot take a name with a zero byte in it.")
    try:
        done = subprocess.run(command, input=stdin, capture_output=True, timeout=seconds, env=settings)
    except subprocess.TimeoutExpired as late:
        raise ToolError(f"{arguments[0]} gave no answer in {seconds:.0f} s.") from late
    except (OSError, UnicodeEncodeError) as bad:
        raise ToolError(f"{arguments[0]} could not be started: {bad}.") from bad
    if done.returncode not in passes:
        words = (done.stderr or done.stdout).decode(errors="replace").strip()
        raise ToolError(f"{arguments[0]} failed: {words or f'exit code {done.returncode}'}")
    return done.stdout
