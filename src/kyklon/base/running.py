"""A system program that runs on and speaks: watched, bounded in time and words, and never left behind.

It runs in a process namespace of its own where the kernel allows that, and ends with this program, however that ends.
"""

from __future__ import annotations

import contextlib
import functools
import os
import select
import shutil
import signal
import subprocess
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from kyklon.base import tools
from kyklon.base.errors import ToolError
from kyklon.base.progress import UNWATCHED, Progress, Watch

MOST_SAID = 8 << 20  # bytes of words that are kept; a program that says more is ended
_TURN_S = 0.1  # between two looks at Cancel
_GONE_S = 10.0  # that a killed program is waited for
# a wrapper that is process 1 of the namespace: some programs cannot be that (they would not get their own signals)
_FIRST = ("sh", "-c", '"$@"; exit $?', "sh")
_CONTAINED = (
    ("unshare", "--pid", "--fork", "--kill-child=KILL"),
    ("unshare", "--user", "--map-current-user", "--pid", "--fork", "--kill-child=KILL", "--mount-proc"),
)


@dataclass(frozen=True)
class Ran:
    """ended: by itself, at a mark in its words, at the time limit, or because it said too much."""

    said: bytes
    ended: Literal["itself", "mark", "limit", "flood"]
    seconds: float


@dataclass(frozen=True)
class Talk:
    """ended: whether a program is done, by all that it said so far and the seconds since the last word. answer: what to
    type then, b'' for nothing."""

    ended: Callable[[bytes, float], bool]
    answer: Callable[[bytes], bytes] = lambda _said: b""


@functools.cache
def _containment() -> tuple[str, ...]:
    """What to put before a command so that all its processes end with it; () where the kernel allows nothing."""
    if shutil.which("unshare") is None:
        return ()
    for prefix in _CONTAINED:
        with contextlib.suppress(OSError, subprocess.SubprocessError):
            tried = subprocess.run([*prefix, "true"], capture_output=True, timeout=10, check=False)
            if tried.returncode == 0:
                return (*prefix, *_FIRST)
    return ()


def run_watched(
    arguments: Sequence[str],
    folder: Path,
    *,
    seconds: float,
    title: str,
    talk: Talk,
    watch: Watch = UNWATCHED,
) -> Ran:
    """Run a program in `folder` until it ends, the talk is at its end, or `seconds` are over. What runs what somebody
    else has made is shut away first (base.cell.Cell.around).

    Raises ToolError when it cannot be started, Cancelled when the watch says so; in every case nothing is left running.
    """
    command = [*_containment(), tools.find(arguments[0]), *arguments[1:]]
    if shutil.which("setpriv"):
        command = ["setpriv", "--pdeathsig", "KILL", *command]
    begun = last = time.monotonic()
    try:
        run = subprocess.Popen(
            command,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            cwd=folder,
            start_new_session=True,
        )
    except OSError as bad:
        raise ToolError(f"{arguments[0]} could not be started: {bad}.") from bad
    said = bytearray()
    told = -1.0
    try:
        assert run.stdin is not None
        assert run.stdout is not None
        while True:
            watch.check()
            now = time.monotonic()
            if now - told >= 0.25:
                told = now
                watch.sink(Progress(title, round(now - begun), round(seconds), None, seconds - (now - begun), "s"))
            if now - begun >= seconds:
                return Ran(bytes(said), "limit", now - begun)
            if select.select([run.stdout], [], [], _TURN_S)[0]:
                data = os.read(run.stdout.fileno(), 1 << 16)
                if not data:
                    return Ran(bytes(said), "itself", time.monotonic() - begun)
                said += data
                last = time.monotonic()
            if len(said) > MOST_SAID:
                return Ran(bytes(said), "flood", time.monotonic() - begun)
            if words := talk.answer(bytes(said)):
                with contextlib.suppress(OSError):
                    run.stdin.write(words)
                    run.stdin.flush()
            if talk.ended(bytes(said), time.monotonic() - last):
                return Ran(bytes(said), "mark", time.monotonic() - begun)
    finally:
        _end(run)


def _end(run: subprocess.Popen[bytes]) -> None:
    """This program and all in its session, which it was started as the head of."""
    for _ in range(100):  # one may start another while it is being ended
        own = [number for number in _numbers() if _session(number) == run.pid]
        if not own:
            break
        for number in own:
            with contextlib.suppress(OSError):
                os.kill(number, signal.SIGKILL)
        run.poll()
        time.sleep(0.01)
    run.wait()
    _drain(run)
    for stream in (run.stdin, run.stdout):
        with contextlib.suppress(OSError):
            if stream is not None:
                stream.close()


def _drain(run: subprocess.Popen[bytes]) -> None:
    """Wait for what still holds the pipe: in a cell the kernel ends the rest when its first process has gone."""
    assert run.stdout is not None
    until = time.monotonic() + _GONE_S
    with contextlib.suppress(OSError, ValueError):
        while time.monotonic() < until:
            if select.select([run.stdout], [], [], _TURN_S)[0] and not os.read(run.stdout.fileno(), 1 << 16):
                return


def _numbers() -> list[int]:
    return [int(path.name) for path in Path("/proc").iterdir() if path.name.isdigit()]


def _session(number: int) -> int:
    """Of a process that still runs; 0 for one that has ended."""
    try:
        if Path(f"/proc/{number}/stat").read_text().rpartition(")")[2].split()[0] in "ZX":
            return 0
        return os.getsid(number)
    except OSError:
        return 0
