"""One run in a real window under Xvfb (Debian package xvfb)."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from support import Demo

SCRIPT = """
import sys
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
        run = subprocess.run(
            [sys.executable, "-c", SCRIPT, str(demo.folder)],
            capture_output=True,
            text=True,
            env=environment,
            timeout=900,
        )
    finally:
        server.terminate()
        server.wait(timeout=10)
    assert run.returncode == 0, run.stderr
    told = dict(line.split(" ", 1) for line in run.stdout.splitlines())
    assert told["platform"] == "xcb"
    assert told["size"] == "1280 800"
