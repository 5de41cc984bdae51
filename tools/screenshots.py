"""Takes every picture of docs/screenshots/ from a fresh demo: .venv/bin/python tools/screenshots.py [NAME ...]"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication, QDialog

from kyklon.app.pages.card.page import CardPage
from kyklon.app.pages.poweron.page import FINDER, FORECAST, LOG, PRACTICE, REHEARSAL
from kyklon.app.shell.window import Window
from kyklon.app.start import make_application, open_window
from kyklon.app.theme.tokens import Theme
from kyklon.catalogue.loader import load
from kyklon.demo import lighthouse
from kyklon.devices.simulated.drives import Faults, SimulatedDrives
from kyklon.model.fault import FaultCase
from kyklon.operations.card.sources import source
from kyklon.operations.poweron.rehearsal import Terms

FAILED_START = """\
[    0.000000] Linux version 6.1.0 (builder@bench) (gcc 12.2.0) #1 SMP
[    0.000000] Machine model: Merrow Herring
[    0.000000] Kernel command line: console=tty1 root=/dev/mmcblk0p5 rootwait quiet
[    0.804211] Console: switching to colour frame buffer device 80x30
[    0.998734] mmcblk0: mmc0:aaaa SD32G 29.7 GiB
[    1.034522]  mmcblk0: p1 p2
[    1.412345] Waiting for root device /dev/mmcblk0p5...
"""
OUT = Path(__file__).resolve().parent.parent / "docs" / "screenshots"
WANTED = set(sys.argv[1:])


class Camera:
    """Walks through the demo as a user would and takes a picture at each stop."""

    def __init__(self, window: Window) -> None:
        self.window, self.session = window, window.session

    def settle(self, *, jobs: bool = True) -> None:
        until = time.monotonic() + 60
        while jobs and self.session.jobs.running and time.monotonic() < until:
            QApplication.processEvents()
            time.sleep(0.005)
        for _ in range(6):
            QApplication.processEvents()

    def shoot(self, name: str, *, jobs: bool = True) -> None:
        self.settle(jobs=jobs)
        if not WANTED or name in WANTED:
            self.window.grab().save(str(OUT / f"{name}.png"))
            print(OUT / f"{name}.png")

    def page(self, number: int, name: str) -> None:
        self.window.open_operation(number)
        self.shoot(name)

    def dialog(self, name: str, trigger: Callable[[], object], accept: Callable[[QDialog], object]) -> None:
        """A picture of the dialog that `trigger` opens, over the window."""

        def seen() -> None:
            dialog = QApplication.activeModalWidget()
            if not isinstance(dialog, QDialog):
                QTimer.singleShot(30, seen)
                return
            QApplication.processEvents()
            if not WANTED or name in WANTED:
                dialog.grab().save(str(OUT / f"{name}.png"))
                print(OUT / f"{name}.png")
            accept(dialog)

        QTimer.singleShot(60, seen)
        trigger()


def main() -> None:
    OUT.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(prefix="kyklon-shots-") as held:
        folder = lighthouse.make(Path(held) / "lighthouse-cafe-table", load())
        application = make_application()
        theme = Theme()
        window = open_window(folder, theme)
        window.resize(1280, 800)
        window.show()
        window.session.look_at_everything()
        camera = Camera(window)
        camera.settle()
        window.session.said.emit("Opened the Lighthouse Café table")
        before_the_card(camera)
        the_card(camera, folder)
        the_power_on(camera)
        the_benches(camera, folder)
        theme.set_dark(True)
        camera.page(50, "dark")
        window.close()
        camera.settle()
        window.session.end()
        application.quit()


def before_the_card(camera: Camera) -> None:
    camera.page(10, "plan")
    camera.page(30, "boot")
    camera.window.open_operation(40)
    view = camera.window.page(40).instrument()
    view.grab()
    view.pressed.emit("p2.b2")
    camera.shoot("controls")
    view.released.emit("p2.b2")
    camera.page(50, "picture")
    camera.page(60, "library")
    camera.page(70, "tuning")
    camera.page(80, "assembly")


def the_card(camera: Camera, folder: Path) -> None:
    window = camera.window
    page = window.page(20)
    assert isinstance(page, CardPage)
    window.open_operation(20)
    camera.settle()
    page.choose_drive("sim:photo-stick")
    camera.settle()  # until it was looked at
    camera.dialog("loss", page.write_button.click, lambda dialog: dialog.reject())
    drives = SimulatedDrives(folder / "drives")
    drives.change("sim:blank-card", faults=Faults(rate=30 << 20))
    page.choose_drive("sim:blank-card")
    camera.settle()
    page.write(next(target for target, _verdict in page.rows() if target.facts.name == "blank-card"), "")
    until = time.monotonic() + 20
    while time.monotonic() < until and page.verified_bytes() < 30 << 20:
        QApplication.processEvents()
        time.sleep(0.005)
    camera.shoot("card", jobs=False)
    camera.settle()
    drives.change("sim:blank-card", faults=Faults())


def the_benches(camera: Camera, folder: Path) -> None:
    """Looking after cards, sets and sizes."""
    window = camera.window
    page = window.page(20)
    assert isinstance(page, CardPage)
    window.open_operation(20)
    camera.settle()
    targets = {target.facts.name: target for target, _verdict in page.rows()}
    keep = page.open_bench(1)
    page.drives.choose("sim:blank-card")
    camera.settle()
    backup = folder / "attachments" / "card-1.img.zst"
    keep.backup(targets["blank-card"], backup)
    camera.settle()
    keep.restore(targets["large-card"], source.inspect(backup), "")
    camera.settle()
    keep.compare(targets["blank-card"], "large-card", targets["large-card"].path)
    camera.shoot("card-keep")
    page.drives.choose("sim:large-card")
    page.open_bench(3)
    camera.shoot("card-multi")
    page.open_bench(0)


def the_real_machine(camera: Camera) -> None:
    """The card that fails: rehearsed, its log read, its fault looked for; and a drill."""
    page = camera.window.page(90)
    page.show_view(REHEARSAL)
    camera.session.rehearse(Terms())
    camera.shoot("rehearsal")
    page.show_view(LOG)
    page.log.set_log(FAILED_START)
    page.log.read()
    camera.shoot("boot-log")
    page.show_view(FINDER)
    page.finder.conversation.seen.emit("screen-black")
    page.finder.conversation.seen.emit("changed-card")
    page.finder.conversation.answered.emit("lamp-slow", False)
    camera.shoot("fault-finder")
    page.show_view(PRACTICE)
    camera.settle()
    page.practice.begin(18, seed="0")
    camera.settle()
    page.practice.check("log-root")
    page.practice.check("keyboard-answers")
    camera.shoot("drill")
    camera.session.edit("fault", FaultCase(), "New case")
    page.show_view(FORECAST)


def the_power_on(camera: Camera) -> None:
    window = camera.window
    window.run_bring_up()
    camera.shoot("power-on-fails")
    the_real_machine(camera)
    for _ in range(4):
        failure = window.session.bring_up.failure
        if failure is None or failure.remedy is None:
            break
        window.session.apply_remedy(failure.remedy, failure.cause)
        window.put_on_card()
        camera.settle()
        window.session.run_bring_up()
        camera.settle()
    window.open_operation(60)
    window.page(60).copy_games()
    camera.settle()
    window.run_bring_up()
    camera.settle()
    window.page(90).show_view(FORECAST)
    camera.shoot("power-on")
    window.open_operation(0)
    camera.shoot("logbook")


main()
