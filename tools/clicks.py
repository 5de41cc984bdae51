"""A hand that clicks, types, drags and chooses at random in the real window, and notes every fault with its traceback.

Usage: .venv/bin/python tools/clicks.py [ACTS [SEED [BUILD ...]]]   builds: lighthouse, camper, school-fair, empty
Each build is a fresh one in a folder that is thrown away. Nothing is touched but stand-ins: a build without some is
given an empty list of drives, and file dialogs answer with files of that folder. A run prints its seed; the same seed
draws the same acts, though threads may end in another order. Exit code 1 when there was a fault.
"""

from __future__ import annotations

import os
import random
import sys
import tempfile
import threading
import traceback
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
BUILDS = ("lighthouse", "camper", "school-fair", "empty")
_BETWEEN_MS = 0
_LONGEST_MODAL = 25  # acts in one dialog, until it is closed


@dataclass
class Hand:
    """faults: tracebacks, each once. done: acts so far."""

    folder: Path
    seed: int
    acts: int
    faults: list[str] = field(default_factory=list)
    done: int = 0
    last: list[str] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.chance = random.Random(self.seed)
        self._modal: Any = None
        self._in_modal = 0

    # --- what it sees ----------------------------------------------------------------------------------------------

    def fault(self, kind: type[BaseException], error: BaseException, trace: Any) -> None:
        told = "".join(traceback.format_exception(kind, error, trace))
        lines = [line for line in told.splitlines() if line.startswith("  File")]
        if not any(
            lines[-1:] == [line for line in each.splitlines() if line.startswith("  File")][-1:]
            and type(error).__name__ in each
            for each in self.faults
        ):
            self.faults.append(f"after {self.done} acts, the last: {'; '.join(self.last[-6:])}\n{told}")
            print(self.faults[-1], flush=True)

    def some_path(self, *_told: object, **_more: object) -> str:
        """A file of the build's folder, a new name in it, or nothing."""
        files = [path for path in self.folder.rglob("*") if path.is_file()][:400]
        pick = self.chance.random()
        if pick < 0.25 or not files:
            return ""
        if pick < 0.6:
            return str(self.chance.choice(files))
        return str(
            self.folder / f"made-{self.chance.randrange(20)}.{self.chance.choice(('pdf', 'svg', 'png', 'csv', 'md'))}"
        )

    def some_folder(self, *_told: object, **_more: object) -> str:
        folders = [path for path in self.folder.rglob("*") if path.is_dir()][:100]
        pick = self.chance.random()
        if pick < 0.25:
            return ""
        return str(
            self.chance.choice(folders) if pick < 0.6 and folders else self.folder / f"out-{self.chance.randrange(9)}"
        )

    # --- what it does ----------------------------------------------------------------------------------------------

    def act(self, window: Any) -> None:
        """One act in whatever is in front."""
        from PyQt6.QtCore import Qt
        from PyQt6.QtTest import QTest
        from PyQt6.QtWidgets import QApplication, QDialog, QMenu

        self.done += 1
        popup = QApplication.activePopupWidget()
        modal = QApplication.activeModalWidget()
        if popup is not None:
            if isinstance(popup, QMenu) and self.chance.random() < 0.7:
                actions = [action for action in popup.actions() if action.isEnabled() and not action.isSeparator()]
                if actions:
                    chosen = self.chance.choice(actions)
                    self.note(f"menu {chosen.text()!r}")
                    QTest.mouseClick(popup, Qt.MouseButton.LeftButton, pos=popup.actionGeometry(chosen).center())
                    return
            QTest.keyClick(popup, self.chance.choice((Qt.Key.Key_Down, Qt.Key.Key_Return, Qt.Key.Key_Escape)))
            return
        if modal is not self._modal:
            self._modal, self._in_modal = modal, 0
        if modal is not None:
            self._in_modal += 1
            if self._in_modal > _LONGEST_MODAL and isinstance(modal, QDialog):
                self.note("dialog closed")
                modal.reject()
                return
        self.on_widget(modal if modal is not None else window)

    def note(self, words: str) -> None:
        self.last = [*self.last[-11:], words]

    def on_widget(self, top: Any) -> None:
        from PyQt6.QtCore import QPoint, Qt
        from PyQt6.QtTest import QTest
        from PyQt6.QtWidgets import QAbstractButton, QApplication, QComboBox, QLineEdit, QWidget

        pick = self.chance.random()
        if pick < 0.12:
            self.keys(top)
            return
        seen = [
            each
            for each in top.findChildren(QWidget)
            if each.isVisible() and each.isEnabled() and each.width() > 3 and each.window() is top.window()
        ]
        acting = [each for each in seen if isinstance(each, (QAbstractButton, QComboBox, QLineEdit))]
        target = self.chance.choice(acting if acting and pick < 0.6 else seen or [top])
        words = target.text() if isinstance(target, (QAbstractButton, QLineEdit)) else target.accessibleName()
        name = f"{type(target).__name__} {words!r}"[:60]
        spot = QPoint(self.chance.randrange(max(1, target.width())), self.chance.randrange(max(1, target.height())))
        kind = self.chance.random()
        button = Qt.MouseButton.RightButton if self.chance.random() < 0.08 else Qt.MouseButton.LeftButton
        if isinstance(target, QLineEdit) and kind < 0.7:
            self.note(f"type in {name}")
            self.type_in(target)
        elif kind < 0.65:
            self.note(f"click {name}")
            if button is Qt.MouseButton.RightButton:
                self.context(target, spot)
            QTest.mouseClick(target, button, pos=spot)
        elif kind < 0.75:
            self.note(f"double click {name}")
            QTest.mouseDClick(target, button, pos=spot)
        elif kind < 0.9:
            self.note(f"drag {name}")
            QTest.mousePress(target, Qt.MouseButton.LeftButton, pos=spot)
            for _ in range(self.chance.randrange(1, 5)):
                spot = QPoint(
                    self.chance.randrange(-20, target.width() + 20), self.chance.randrange(-20, target.height() + 20)
                )
                QTest.mouseMove(target, spot)
            QTest.mouseRelease(target, Qt.MouseButton.LeftButton, pos=spot)
        elif kind < 0.95:
            self.note(f"wheel {name}")
            self.wheel(target, spot)
        else:
            self.note(f"shown {name}")
            target.grab()
        QApplication.processEvents()

    def context(self, target: Any, spot: Any) -> None:
        from PyQt6.QtGui import QContextMenuEvent
        from PyQt6.QtWidgets import QApplication

        event = QContextMenuEvent(QContextMenuEvent.Reason.Mouse, spot, target.mapToGlobal(spot))
        QApplication.postEvent(target, event)

    def wheel(self, target: Any, spot: Any) -> None:
        from PyQt6.QtCore import QPoint, QPointF, Qt
        from PyQt6.QtGui import QWheelEvent
        from PyQt6.QtWidgets import QApplication

        turn = QPoint(0, self.chance.choice((-240, -120, 120, 240)))
        event = QWheelEvent(
            QPointF(spot),
            QPointF(target.mapToGlobal(spot)),
            QPoint(),
            turn,
            Qt.MouseButton.NoButton,
            self.chance.choice((Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ControlModifier)),
            Qt.ScrollPhase.NoScrollPhase,
            False,
        )
        QApplication.sendEvent(target, event)

    def type_in(self, target: Any) -> None:
        from PyQt6.QtCore import QEvent, Qt
        from PyQt6.QtGui import QKeyEvent
        from PyQt6.QtTest import QTest
        from PyQt6.QtWidgets import QApplication

        words = (
            "",
            "1",
            "0",
            "-1",
            "60",
            "1e999",
            "5 V",
            "12 mm",
            "a",
            "NL",
            "../x",
            "x" * 300,
            "\u202e",
            "<b>x</b>",
            "{{ 1 }}",
            "4,7 k",
            "nan",
            "blank-card",
            "games",
            "\u00e9\u00df",
            "1 2 3 4",
            "320 240 60",
            "9" * 40,
        )
        target.setFocus()
        if self.chance.random() < 0.6:
            target.selectAll()
        for letter in self.chance.choice(words)[:60]:  # QTest.keyClicks() takes ASCII only
            QApplication.sendEvent(target, QKeyEvent(QEvent.Type.KeyPress, 0, Qt.KeyboardModifier.NoModifier, letter))
        if self.chance.random() < 0.8:
            QTest.keyClick(target, self.chance.choice((Qt.Key.Key_Return, Qt.Key.Key_Tab, Qt.Key.Key_Escape)))

    def keys(self, top: Any) -> None:
        from PyQt6.QtCore import Qt
        from PyQt6.QtTest import QTest
        from PyQt6.QtWidgets import QApplication

        key, mod = Qt.Key, Qt.KeyboardModifier
        plain = (
            key.Key_Tab,
            key.Key_Return,
            key.Key_Space,
            key.Key_Escape,
            key.Key_Up,
            key.Key_Down,
            key.Key_Left,
            key.Key_Right,
            key.Key_Delete,
            key.Key_Backspace,
            key.Key_Home,
            key.Key_End,
            key.Key_F1,
            key.Key_F3,
            key.Key_F6,
            key.Key_F7,
            key.Key_F8,
            key.Key_F9,
            key.Key_F10,
            key.Key_N,
            key.Key_T,
            key.Key_2,
            key.Key_Plus,
        )
        with_control = (
            key.Key_Plus,
            key.Key_Minus,
            key.Key_0,
            key.Key_Z,
            key.Key_S,
            key.Key_F,
            key.Key_L,
            key.Key_P,
            key.Key_A,
            key.Key_C,
            key.Key_V,
            key.Key_X,
            key.Key_D,
        )
        target = QApplication.focusWidget() or top
        pick = self.chance.random()
        if pick < 0.45:
            pressed, held = self.chance.choice(plain), mod.NoModifier
        elif pick < 0.75:
            pressed, held = Qt.Key(int(key.Key_1) + self.chance.randrange(9)), mod.AltModifier
        else:
            pressed, held = self.chance.choice(with_control), mod.ControlModifier
            if self.chance.random() < 0.2:
                held |= mod.ShiftModifier
        self.note(f"key {pressed.name} {held.name}")
        QTest.keyClick(target, pressed, held)


def _replaced(hand: Hand) -> None:
    """File dialogs answer with files of the folder, and nothing leaves it."""
    from PyQt6.QtGui import QDesktopServices
    from PyQt6.QtWidgets import QFileDialog, QInputDialog

    kept: Any = QFileDialog
    kept.getOpenFileName = staticmethod(lambda *a, **k: (hand.some_path(), ""))
    kept.getOpenFileNames = staticmethod(lambda *a, **k: ([hand.some_path()], ""))
    kept.getSaveFileName = staticmethod(lambda *a, **k: (hand.some_path(), ""))
    kept.getExistingDirectory = staticmethod(hand.some_folder)
    asked: Any = QInputDialog
    asked.getText = staticmethod(lambda *a, **k: (hand.chance.choice(("My part", "", "x" * 200, "Überall")), True))
    opened: Any = QDesktopServices
    opened.openUrl = staticmethod(lambda _url: True)


def made(build: str, folder: Path) -> Path:
    """A fresh build of that name below `folder`."""
    from kyklon.catalogue import loader
    from kyklon.demo import camper, lighthouse, school_fair
    from kyklon.devices.simulated.drives import SimulatedDrives
    from kyklon.operations.plan.acts import start_build

    if build != "empty":
        makers = {"lighthouse": lighthouse, "camper": camper, "school-fair": school_fair}
        return makers[build].make(folder / build, loader.load())
    place = start_build(folder / build, "Mine", loader.load())
    SimulatedDrives(place / "drives").save(())  # none, rather than this computer's own
    return place


def run(build: str, acts: int, seed: int) -> Hand:
    """Act on a fresh build until `acts` are done; nothing may run any more after the window has closed."""
    from PyQt6.QtCore import QTimer

    with tempfile.TemporaryDirectory(prefix="kyklon-clicks-") as held:
        for name in ("XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_CACHE_HOME"):
            os.environ[name] = str(Path(held) / name.lower())
        folder = made(build, Path(held))
        hand = Hand(folder, seed, acts)
        from kyklon.app.start import make_application, open_window
        from kyklon.app.theme.tokens import Theme

        application = make_application()
        _replaced(hand)
        window = open_window(folder, Theme())
        before = sys.excepthook, threading.excepthook
        sys.excepthook = hand.fault
        threading.excepthook = lambda told: hand.fault(
            told.exc_type, told.exc_value or SystemExit(), told.exc_traceback
        )
        window.session.jobs.crashed.connect(lambda bad: hand.fault(type(bad), bad, bad.__traceback__))
        window.resize(1280, 800)
        window.show()
        window.session.look_at_everything()

        def step() -> None:
            if hand.done >= acts:
                _close_all(window)
                return
            QTimer.singleShot(_BETWEEN_MS, step)  # first: an act may open a dialog, whose loop it goes on in
            try:
                hand.act(window)
            except RuntimeError as gone:  # a widget that the act itself has taken away
                if "has been deleted" not in str(gone) or "/kyklon/" in traceback.format_exc():
                    hand.fault(type(gone), gone, gone.__traceback__)
            except Exception as bad:
                hand.fault(type(bad), bad, bad.__traceback__)

        window.closed.connect(application.quit)
        QTimer.singleShot(0, step)
        application.exec()
        window.session.end()
        sys.excepthook, threading.excepthook = before
        window.deleteLater()
        application.processEvents()
    return hand


def _close_all(window: Any) -> None:
    from PyQt6.QtCore import QTimer
    from PyQt6.QtWidgets import QApplication, QDialog

    def close() -> None:
        front = QApplication.activePopupWidget() or QApplication.activeModalWidget()
        if front is None:
            window.close()
            return
        front.reject() if isinstance(front, QDialog) else front.close()
        QTimer.singleShot(10, close)

    QTimer.singleShot(0, close)


def main(done: Callable[[int], object] = sys.exit) -> None:
    words = sys.argv[1:]
    acts = int(words[0]) if words else 1800
    seed = int(words[1]) if len(words) > 1 else random.SystemRandom().randrange(10**6)
    faults = 0
    for build in words[2:] or BUILDS:
        hand = run(build, acts, seed)
        faults += len(hand.faults)
        print(f"{build}: seed {seed}, {hand.done} acts, {len(hand.faults)} faults", flush=True)
    done(1 if faults else 0)


if __name__ == "__main__":
    main()
