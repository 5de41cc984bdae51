"""Runs in a real window: under Xvfb (Debian package xvfb), and on Wayland (weston)."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import pytest

from support import Demo

SCRIPT = """
import sys
import tempfile
import time
from pathlib import Path
from PyQt6.QtCore import QTimer
from kyklon.app.start import make_application, open_window
from kyklon.app.theme.tokens import Theme
application = make_application()
window = open_window(Path(sys.argv[1]), Theme())
window.resize(1280, 800)
window.show()
application.processEvents()
print("platform", application.platformName())
window.session.look_at_everything()
def finish():
    if window.session.jobs.running:
        QTimer.singleShot(20, finish)
        return
    window.open_operation(50)
    picture = window.grab()
    print("size", picture.width(), picture.height())
    window.close()
    application.quit()
QTimer.singleShot(50, finish)
application.exec()
"""


def facts_of(demo: Demo, environment: dict[str, str]) -> dict[str, str]:
    """What the window says of itself on that screen."""
    words = [sys.executable, "-c", SCRIPT, str(demo.folder)]
    run = subprocess.run(words, capture_output=True, text=True, env=environment, timeout=900)
    assert run.returncode == 0, run.stderr
    return dict(line.split(" ", 1) for line in run.stdout.splitlines())


@pytest.mark.skipif(shutil.which("Xvfb") is None, reason="Xvfb is not installed")
def test_the_window_on_a_real_display(demo: Demo, tmp_path: Path) -> None:
    read, write = os.pipe()
    server = subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", "1400x900x24", "-nolisten", "tcp"],
        pass_fds=[write],
        stderr=subprocess.DEVNULL,
    )
    os.close(write)
    try:
        with os.fdopen(read) as pipe:  # to the end of the line: a pipe closed too early ends the server
            display = pipe.readline().strip()
        assert display, "Xvfb did not start"
        environment = {**os.environ, "DISPLAY": f":{display}", "QT_QPA_PLATFORM": "xcb"}
        told = facts_of(demo, environment)
    finally:
        server.terminate()
        server.wait(timeout=10)
    assert told["platform"] == "xcb"
    assert told["size"] == "1280 800"


@pytest.mark.long(keep=1)
@pytest.mark.skipif(shutil.which("weston") is None, reason="weston is not installed")
@pytest.mark.parametrize("scale", ["1", "1.5", "2"])
def test_the_window_on_wayland(demo: Demo, scale: str) -> None:
    """A compositor without a screen (weston, headless), at the scales of usual panels."""
    with tempfile.TemporaryDirectory(prefix="wl-") as place:  # a socket's path is at most 107 bytes (unix(7))
        environment = {**os.environ, "XDG_RUNTIME_DIR": place, "QT_QPA_PLATFORM": "wayland"}
        environment |= {"WAYLAND_DISPLAY": "test", "QT_SCALE_FACTOR": scale}
        words = ["weston", "--backend=headless-backend.so", "--width=1400", "--height=900", "--socket=test"]
        compositor = subprocess.Popen(words, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            for _ in range(400):
                if (Path(place) / "test").exists():
                    break
                time.sleep(0.05)
            told = facts_of(demo, environment)
        finally:
            compositor.terminate()
            compositor.wait(timeout=10)
    assert told["platform"] == "wayland"
    assert told["size"] == f"{1280 * float(scale):.0f} {800 * float(scale):.0f}"
