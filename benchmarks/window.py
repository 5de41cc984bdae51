"""Time to the first window and of an edit, beside a bare PyQt6 window with one label, in the same run.

Usage: .venv/bin/python benchmarks/window.py
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path

BARE = """
import time
begun = time.monotonic()
from PyQt6.QtWidgets import QApplication, QLabel
application = QApplication([])
label = QLabel("hello")
label.show()
application.processEvents()
print(time.monotonic() - begun)
"""
OURS = """
import sys, time
begun = time.monotonic()
from pathlib import Path
from kyklon.app.start import make_application, open_window
from kyklon.app.theme.tokens import Theme
application = make_application()
window = open_window(Path(sys.argv[1]), Theme())
window.resize(1280, 800)
window.show()
application.processEvents()
print(time.monotonic() - begun)
window.session.look_at_everything()
while window.session.jobs.running:
    application.processEvents()
slowest = 0.0
for number in (10, 20, 30, 40, 50, 60, 70, 80, 90):
    window.open_operation(number)
    for country in ("NL", "BE", "GB"):
        begun = time.monotonic()
        window.session.edit("Country", "boot.country", country)
        slowest = max(slowest, time.monotonic() - begun)
print(slowest)
window.close()
"""


def run(script: str, *arguments: str) -> list[float]:
    environment = {**os.environ, "QT_QPA_PLATFORM": os.environ.get("QT_QPA_PLATFORM", "offscreen")}
    out = subprocess.run(
        [sys.executable, "-c", script, *arguments], capture_output=True, text=True, check=True, env=environment
    )
    return [float(line) for line in out.stdout.split()]


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="kyklon-bench-") as held:
        folder = Path(held) / "demo"
        subprocess.run([sys.executable, "-m", "kyklon", "demo", "--folder", str(folder), "--no-window"], check=True,
                       stdout=subprocess.DEVNULL)  # fmt: skip
        bare = min(run(BARE)[0] for _ in range(3))
        first, edit = min(run(OURS, str(folder)) for _ in range(3))
    print(f"bare PyQt6 window:        {bare * 1000:6.0f} ms")
    print(f"kyklon's first window:    {first * 1000:6.0f} ms (must be under 1500), ratio {first / bare:.1f}")
    print(f"slowest edit, inspected and shown: {edit * 1000:4.0f} ms (inspection must be under 100)")
    if first > 1.5 or edit > 0.1:
        sys.exit(1)


if __name__ == "__main__":
    main()
