"""Takes every picture of docs/screenshots/ from a fresh demo: .venv/bin/python tools/screenshots.py [NAME ...]"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PIL import Image, ImageDraw
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication, QDialog

from kyklon.app.pages.assembly.page import HEAT, POWER, SPACE
from kyklon.app.pages.card.page import CardPage
from kyklon.app.pages.controls.page import PANEL
from kyklon.app.pages.logbook.class_dialog import ClassDialog
from kyklon.app.pages.plan.page import CHOOSE, MAP
from kyklon.app.pages.poweron.page import FINDER, FORECAST, LOG, PRACTICE
from kyklon.app.pages.upkeep.page import SAVES
from kyklon.app.shell.route_card import LOGBOOK, SHELF
from kyklon.app.shell.start_window import StartWindow
from kyklon.app.shell.window import Window
from kyklon.app.start import make_application, open_window
from kyklon.app.theme.tokens import Theme
from kyklon.catalogue.chosen import known_systems
from kyklon.catalogue.loader import load
from kyklon.demo import lighthouse, samples
from kyklon.devices.simulated.drives import Faults, SimulatedDrives
from kyklon.model.fault import FaultCase
from kyklon.record import builds, classroom, outcomes, photos
from kyklon.record.logbook import Logbook, Noted

FAILED_START = """\
[    0.000000] Linux version 6.1.0 (builder@bench) (gcc 12.2.0) #1 SMP
[    0.000000] Machine model: Merrow Herring
[    0.000000] Kernel command line: console=tty1 root=/dev/mmcblk0p5 rootwait quiet
[    0.804211] Console: switching to colour frame buffer device 80x30
[    0.998734] mmcblk0: mmc0:aaaa SD32G 29.7 GiB
[    1.034522]  mmcblk0: p1 p2
[    1.412345] Waiting for root device /dev/mmcblk0p5...
"""
BENCH = (
    ("Rail at the board measured", 4.71, 0.0),
    ("Shorter cable", 4.83, 4.5),
    ("Thicker cable", 4.96, 6.2),
    ("New supply", 5.02, 12.0),
)
CLASS = (
    ("Bench 1", "plan.source", "Ballast 3"),
    ("Bench 1", "boot.kernel", "merrow-armv8.krn"),
    ("Bench 1", "assembly.resistor", "130"),
    ("Bench 2", "plan.source", "Gantry RGB"),
    ("Bench 2", "boot.kernel", "merrow-armv7.krn"),
    ("Bench 2", "tuning.frame", "16.8 ms"),
    ("Bench 3", "picture.fits", "yes"),
    ("Bench 3", "boot.kernel", "merrow-armv7.krn"),
)
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

    def pause(self, seconds: float) -> None:
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            QApplication.processEvents()
            time.sleep(0.005)

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
        os.environ["HOME"] = held  # nobody's own parts are seen or touched
        os.environ |= {
            f"XDG_{name}_HOME": f"{held}/{place}"
            for name, place in (("CONFIG", ".config"), ("DATA", ".local/share"), ("CACHE", ".cache"))
        }
        folder = lighthouse.make(Path(held) / "lighthouse-cafe-table", load())
        application = make_application()
        theme = Theme()
        window = open_window(folder, theme)
        window.resize(1280, 800)
        window.show()
        window.session.look_at_everything()
        builds.remember(folder)
        the_first_page(theme)
        camera = Camera(window)
        camera.settle()
        window.session.said.emit("Opened the Lighthouse Café table")
        before_the_card(camera)
        the_card(camera, folder)
        the_power_on(camera)
        the_upkeep(camera)
        the_logbook(camera, folder)
        the_shelf(camera, folder)
        the_controls(camera)
        window.close()
        camera.settle()
        window.session.end()
        application.quit()


def before_the_card(camera: Camera) -> None:
    camera.page(10, "plan")
    the_plan(camera)
    camera.page(30, "boot")
    camera.page(50, "picture")
    camera.page(60, "library")
    the_assembly(camera)


def the_plan(camera: Camera) -> None:
    page = camera.window.page(10)
    page.show_view(CHOOSE)
    camera.settle()
    camera.pause(0.4)
    camera.shoot("plan-choose")
    page.show_view(MAP)


def the_first_page(theme: Theme) -> None:
    """Three answers on the first page."""
    page = StartWindow(theme, load())
    page.show()
    for system in ("birch-16", "dogwood-pocket", "gorse-twin"):
        page._form._rows[system][0].click()
    page._place.setText("/home/player/machines/my-machine")
    until = time.monotonic() + 20
    while time.monotonic() < until and (page.jobs.running or not page._answer.plans):
        QApplication.processEvents()
        time.sleep(0.01)
    QApplication.processEvents()
    if not WANTED or "start" in WANTED:
        page.grab().save(str(OUT / "start.png"))
        print(OUT / "start.png")
    page.close()


def the_logbook(camera: Camera, folder: Path) -> None:
    """Six weeks at the bench: measured, photographed, changed, started; and a class at it."""
    session, page = camera.session, camera.window.logbook_page()
    book = Logbook(folder)
    session.note_edits()
    session.flush()
    for text, volts, cost in BENCH:
        book.add(0, text, kind="own", noted=Noted("5 V rail at the board", volts, "V", cost, 45))
    photos_of_the_panel = tuple(photos.keep(folder, path) for path in panel_photos(folder.parent))
    book.add(0, "Panel drilled; levers and buttons fit", kind="own", files=photos_of_the_panel)
    session.edit("boot.country", "NL")
    session.edit("system.time_zone", "Europe/Dublin")
    session.note_edits()
    session.edit("boot.overscan_percent", 3.0)
    session.note_edits()
    session.flush()
    outcomes.note(book, "display", "display", right=True, detail="A rolling picture, as predicted.")
    outcomes.note(book, "games", "games", right=True)
    session.acted()
    camera.window.open_operation(LOGBOOK)
    camera.pause(0.6)
    place = next(row for row, entry in enumerate(page.model.rows) if entry.title.startswith("Thicker"))
    page.list.choose([place])
    camera.pause(0.5)
    camera.shoot("logbook")
    for seat, key, given in CLASS:
        classroom.put(folder, seat, key, given)
    dialog = ClassDialog(session, camera.window)
    dialog.show_question(2)
    dialog.show()
    camera.pause(0.3)
    if not WANTED or "class" in WANTED:
        dialog.grab().save(str(OUT / "class.png"))
        print(OUT / "class.png")
    dialog.close()
    camera.window.guide.show_help("picture")
    shown = camera.window.guide.help
    assert shown is not None
    camera.pause(0.6)
    if not WANTED or "help" in WANTED:
        shown.grab().save(str(OUT / "help.png"))
        print(OUT / "help.png")
    shown.close()


def panel_photos(folder: Path) -> list[Path]:
    """Two drawn stand-ins for photos of a panel."""
    made = []
    for number, ground in enumerate(("#B99A6B", "#8A6F47")):
        drawn = Image.new("RGB", (900, 600), ground)
        pen = ImageDraw.Draw(drawn)
        pen.rectangle((60, 90, 840, 510), fill="#2A3336")
        pen.ellipse((150, 220, 310, 380), fill="#A8341C" if number else "#1B2327", outline="#D9E6E4", width=8)
        for column in range(3):
            for line in range(2):
                x, y = 430 + column * 130, 200 + line * 130
                pen.ellipse((x, y, x + 90, y + 90), fill="#D9E6E4" if number else "#14191B", outline="#F3E6CC", width=6)
        made.append(folder / f"panel-{number + 1}.jpg")
        drawn.save(made[-1], quality=88)
    return made


def the_upkeep(camera: Camera) -> None:
    """The stand-in of the network, a card with saves from two evenings, a stick that the machine has laid out."""
    window, folder = camera.window, camera.session.folder
    window.open_operation(95)
    page = window.page(95)
    page.machine.find(seconds=0.2)
    camera.settle()
    camera.shoot("upkeep-machine")
    page.show_view(SAVES)
    card = folder / "old-card"
    for system in known_systems(camera.session.build, camera.session.catalogue):
        place = card / "games" / system.folder
        place.mkdir(parents=True)
        there = sorted(path for path in (folder / "library").rglob("*") if path.parent.name == system.folder)
        for game in there[:2]:
            (place / game.name).write_bytes(b"game")
            for ending, size in (("keep", 8192), ("snap1", 70_000)):
                (place / f"{game.stem}.{ending}").write_bytes(f"{game.stem} {ending}".encode() * (size // 40))
    kept = sorted(card.rglob("*.keep"))
    for evening, changed in enumerate(([], kept[:3], kept[1:2])):
        for path in changed:
            path.write_bytes(path.read_bytes() + f"evening {evening}".encode())
        if evening < 2:
            page.saves.use_folder(card)
            camera.settle()
            page.saves.keep()
        else:
            page.saves.look()
        camera.settle()
    camera.shoot("upkeep-saves")


def the_card(camera: Camera, folder: Path) -> None:
    window = camera.window
    page = window.page(20)
    assert isinstance(page, CardPage)
    window.open_operation(20)
    camera.settle()
    page.choose_drive("sim:photo-stick")
    camera.settle()  # until it was looked at
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


def the_shelf(camera: Camera, folder: Path) -> None:
    """Parts learnt from the box of samples."""
    box = folder / samples.FOLDER
    page = camera.window.shelf_page()
    camera.window.open_operation(SHELF)
    walk = page.start("board_walk", "BoardWalk")
    walk.learn_from("board", box / samples.BOARD)
    camera.settle()
    walk.save()
    camera.pause(0.6)
    walk = page.start("display_walk", "DisplayWalk")
    walk.learn_from("display", box / samples.DUMP)
    camera.settle()
    walk.save()
    camera.pause(0.6)
    page.show_part("boards", "dory-gurnard")
    camera.shoot("shelf")


def the_real_machine(camera: Camera) -> None:
    """The card that fails: rehearsed, its log read, its fault looked for; and a drill."""
    page = camera.window.page(90)
    page.show_view(LOG)
    page.log.set_log(FAILED_START)
    page.log.read()
    camera.settle()
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
    camera.session.edit("fault", FaultCase(), "New case")
    page.show_view(FORECAST)


def the_controls(camera: Camera) -> None:
    """A panel laid out."""
    window = camera.window
    window.open_operation(40)
    page = window.page(40)
    page.show_view(PANEL)
    page.panel._seats.setCurrentIndex(3)
    page.panel._on_lay_out()
    page.panel.view.picked.emit(1, "b2", False)
    camera.shoot("controls-panel")


def the_assembly(camera: Camera) -> None:
    """From a battery, in a case that is warm under demanding play; put back as it was."""
    window = camera.window
    before = camera.session.build.assembly
    for name, value in (("source", "battery"), ("fuse_a", 2.0), ("load", "demanding play"), ("case", "vented")):
        camera.session.edit(f"assembly.{name}", value)
    window.open_operation(80)
    page = window.page(80)
    for view, name in (
        (POWER, "assembly"),
        (HEAT, "assembly-heat"),
        (SPACE, "assembly-space"),
    ):
        if view == SPACE:  # a case that is too shallow
            for size, mm in (("inner_wide", 414.0), ("inner_deep", 154.0), ("inner_high", 84.0)):
                camera.session.edit(f"assembly.{size}", mm)
            page.space.drawing.current = "board"
            page.space.move_body("board", 48.0, 84.0)
        page.show_view(view)
        camera.settle()
        camera.pause(0.3)
        camera.shoot(name)
    page.show_view(POWER)
    camera.session.put("As it was", camera.session.build.model_copy(update={"assembly": before}))


def the_power_on(camera: Camera) -> None:
    window = camera.window
    window.run_bring_up()
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


if __name__ == "__main__":
    main()
