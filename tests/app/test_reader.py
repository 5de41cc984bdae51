"""The chain by AT-SPI alone (at-spi2-core, pyatspi, a window under Xvfb): what a screen reader's user can do."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from support import Demo

LAUNCHER = Path("/usr/libexec/at-spi-bus-launcher")
PYTHON = "/usr/bin/python3"


def _has_pyatspi() -> bool:
    return (
        Path(PYTHON).exists()
        and subprocess.run([PYTHON, "-c", "import pyatspi"], capture_output=True, check=False).returncode == 0
    )


pytestmark = [
    pytest.mark.long(keep=0),
    pytest.mark.skipif(
        not LAUNCHER.exists() or None in (shutil.which("Xvfb"), shutil.which("dbus-daemon")) or not _has_pyatspi(),
        reason="at-spi2-core, pyatspi or Xvfb is not installed",
    ),
]


@pytest.fixture
def desk(tmp_path: Path) -> Iterator[dict[str, str]]:
    """A screen and a session bus of the test's own, with the accessibility bus on it."""
    read, write = os.pipe()
    screen = subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", "1400x900x24", "-nolisten", "tcp"],
        pass_fds=[write],
        stderr=subprocess.DEVNULL,
    )
    os.close(write)
    with os.fdopen(read) as pipe:
        display = pipe.readline().strip()
    bus = subprocess.Popen(
        ["dbus-daemon", "--session", "--nofork", "--print-address=1"],
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
    )
    assert bus.stdout is not None
    environment = {
        **os.environ,
        "DISPLAY": f":{display}",
        "QT_QPA_PLATFORM": "xcb",
        "QT_LINUX_ACCESSIBILITY_ALWAYS_ON": "1",
        "DBUS_SESSION_BUS_ADDRESS": bus.stdout.readline().strip(),
        "XDG_RUNTIME_DIR": str(tmp_path),
    }
    launcher = subprocess.Popen([LAUNCHER, "--launch-immediately"], env=environment, stderr=subprocess.DEVNULL)
    yield environment
    bus.stdout.close()
    for process in (launcher, bus, screen):
        process.terminate()
        process.wait(timeout=20)


def test_the_chain_by_a_screen_reader_alone(demo: Demo, desk: dict[str, str]) -> None:
    window = subprocess.Popen(
        [sys.executable, "-m", "kyklon", "open", str(demo.folder)], env=desk, stderr=subprocess.PIPE, text=True
    )
    try:
        walk = subprocess.run(
            [PYTHON, Path(__file__).with_name("reader_walk.py")], env=desk, capture_output=True, text=True, timeout=900
        )
    finally:
        window.send_signal(signal.SIGTERM)
        _out, said = window.communicate(timeout=60)
    assert walk.returncode == 0, f"{walk.stdout}{walk.stderr}{said}"
    assert "The forecast passes." in walk.stdout
