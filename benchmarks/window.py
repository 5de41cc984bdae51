"""Time to the first window, beside a bare PyQt6 window with one label, and how long the window ever fails to answer.

The whole chain is driven as a user drives it: every page, writing the card, bring-up, remedies put on the card, games
copied, the logbook. Every event that the window handles is timed; the longest are printed.
Usage: .venv/bin/python benchmarks/window.py
"""

from __future__ import annotations

import compileall
import os
import subprocess
import sys
import tempfile
from pathlib import Path

MOST_FIRST_S, MOST_SLOT_S, MOST_EDIT_S = 1.0, 0.05, 0.1
SOURCE = Path(__file__).parent.parent / "src" / "kyklon"

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
FIRST = """
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
window.session.end()
"""
CHAIN = """
import os, sys, time
from pathlib import Path
from PyQt6.QtCore import QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QDialog

doing, slots = ["start"], []

class Timed(QApplication):
    depth = 0
    def notify(self, receiver, event):
        begun = time.monotonic()
        Timed.depth += 1
        try:
            return super().notify(receiver, event)
        finally:
            Timed.depth -= 1
            if Timed.depth == 0:
                slots.append((time.monotonic() - begun, doing[0], type(receiver).__name__, event.type().name))

application = Timed(sys.argv[:1])
from kyklon.app.start import make_application, open_window, preload_pages
from kyklon.app.theme.tokens import Theme
make_application()
window = open_window(Path(sys.argv[1]), Theme())
window.resize(1280, 800)
window.show()
session = window.session

def settle(until=lambda: True):
    for _ in range(6000):
        QTest.qWait(5)
        if not session.jobs.running and until():
            return
    raise SystemExit(f"{doing[0]} did not end")

def do(name, act, until=lambda: True):
    doing[0] = name
    done = []
    QTimer.singleShot(0, lambda: (act(), done.append(True)))
    settle(lambda: done and until())

settle()
slots.clear()  # what came before is the first window's time
do("looking around", session.look_at_everything)
preload_pages()  # the program does it in a thread after the first window
doing[0] = "prepare pages"
window.prepare_pages()  # as the program does then
settle(lambda: len(window.pages) == 9)
for number in (10, 20, 30, 40, 50, 60, 70, 80, 90, 0):
    do(f"open {number}", lambda: window.open_operation(number))
import kyklon.app.pages.card.dialogs as dialogs
dialogs.LossDialog.exec = lambda self: QDialog.DialogCode.Accepted  # its own loop would count as one slot
do("open 20", lambda: window.open_operation(20))
page = window.page(20)
do("choose a drive", lambda: page.choose_drive("sim:blank-card"), lambda: page.write_button.isEnabled())
do("write the card", page.write_button.click)
for _ in range(8):
    do("bring-up", session.run_bring_up, lambda: session.bring_up_current)
    failure = session.bring_up.failure
    if failure is None or not failure.remedy:
        break
    if failure.remedy.changes:
        do("remedy", lambda: session.apply_remedy(failure.remedy, failure.cause))
    do("put on the card", window.put_on_card)
do("open 60", lambda: window.open_operation(60))
do("copy games", window.page(60).copy_games)
do("bring-up", session.run_bring_up, lambda: session.bring_up_current)
assert session.bring_up.failure is None, session.bring_up.failure
edits = []
for number in (10, 20, 30, 40, 50, 60, 70, 80, 90):
    window.open_operation(number)
    for country in ("NL", "BE", "GB"):
        begun = time.monotonic()
        session.edit("boot.country", country)
        edits.append(time.monotonic() - begun)
do("open 0", lambda: window.open_operation(0))
do("close", window.close, lambda: session.ended)
for slot in sorted(slots, reverse=True)[:6]:
    print(f"slot {slot[0]:.4f} {slot[1]}: {slot[2]}, {slot[3]}")
print(f"events {len(slots)}")
print(f"edit {max(edits):.4f}", flush=True)
os._exit(0)  # without taking the timed application apart
"""


def run(script: str, *arguments: str) -> list[str]:
    environment = {**os.environ, "QT_QPA_PLATFORM": os.environ.get("QT_QPA_PLATFORM", "offscreen")}
    out = subprocess.run([sys.executable, "-c", script, *arguments], capture_output=True, text=True, env=environment)
    assert out.returncode == 0, out.stdout + out.stderr
    return out.stdout.splitlines()


def main() -> None:
    compileall.compile_dir(SOURCE, quiet=1)
    with tempfile.TemporaryDirectory(prefix="kyklon-bench-") as held:
        folder = Path(held) / "demo"
        subprocess.run(
            [sys.executable, "-m", "kyklon", "demo", "--folder", str(folder), "--no-window"],
            check=True,
            stdout=subprocess.DEVNULL,
        )
        bare = min(float(run(BARE)[0]) for _ in range(3))
        first = min(float(run(FIRST, str(folder))[0]) for _ in range(3))
        told = run(CHAIN, str(folder))
    slots = [line.removeprefix("slot ") for line in told if line.startswith("slot ")]
    edit = float(told[-1].removeprefix("edit "))
    print(f"bare PyQt6 window:        {bare * 1000:6.0f} ms")
    print(
        f"kyklon's first window:    {first * 1000:6.0f} ms (under {MOST_FIRST_S * 1000:.0f}), ratio {first / bare:.1f}"
    )
    print(f"slowest edit, inspected and shown: {edit * 1000:4.0f} ms (under {MOST_EDIT_S * 1000:.0f})")
    print(
        f"longest events of the chain, of {told[-2].removeprefix('events ')} (each under {MOST_SLOT_S * 1000:.0f} ms):"
    )
    for slot in slots:
        seconds, _space, what = slot.partition(" ")
        print(f"  {float(seconds) * 1000:6.1f} ms  {what}")
    if first > MOST_FIRST_S or edit > MOST_EDIT_S or float(slots[0].split()[0]) > MOST_SLOT_S:
        sys.exit(1)


if __name__ == "__main__":
    main()
