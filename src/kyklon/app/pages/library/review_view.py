"""The review of doubtful titles, by keys: accept, another, none, type, later, back."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, Qt, QTimer
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QApplication, QCompleter, QLineEdit, QTabBar

from kyklon.app.pages.library.reliability_plot import ReliabilityPlot
from kyklon.app.pages.library.review_drawing import ReviewDrawing, Shown
from kyklon.app.pages.tab_view import TabView, side_px
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import FigureRows, Sheet, label, row
from kyklon.app.widgets.fields import FieldEditor
from kyklon.base.quantities import show_share
from kyklon.catalogue.system_records import System
from kyklon.model.library import Game
from kyklon.operations.library.match import shipped_reliability
from kyklon.operations.library.review import answer_key, answered, facts_of, proposals, queue
from kyklon.record.answers import Answers

_SCAN_MS = 4000  # after the last answer before the library is named anew


class ReviewView(TabView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._queue: list[Game] = []
        self._answered: list[tuple[Game, str]] = []
        self._seen: object = None
        self.drawing = ReviewDrawing(self.theme)
        self.drawing.chosen.connect(self.accept)
        self.drawing.installEventFilter(self)
        self.instrument = self.drawing
        self.title = QLineEdit()
        self.title.setPlaceholderText("Type a title of the list, then Enter")
        self.title.setAccessibleName("Title of the game")
        self.title.returnPressed.connect(self._on_typed)
        self.title.installEventFilter(self)
        self.title.hide()
        self._sheet = Sheet("Uncertain matches", "what differs from the file's name is underlined")
        self._sheet.add(self.drawing, self.title)
        self._plot = ReliabilityPlot(self.theme)
        self._plot.show_bins(*shipped_reliability())
        self._figures = FigureRows(self.theme)
        self._wrong = FieldEditor(self.theme, "library.wrong_per_1000", session.edit)
        side = Sheet("Match confidence")
        side.add(self._plot, self._figures, label("False matches per 1000", "small"), self._wrong.widget)
        side.setFixedWidth(side_px(self.theme, -36))
        whole = row(self._sheet, side, spacing=14)
        whole.setStretch(0, 1)
        self.setLayout(whole)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(_SCAN_MS)
        self._later.timeout.connect(self._name_anew)

    # --- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Override."""
        scan = self.session.world.scan
        self._wrong.show(self.build.library.wrong_per_1000)
        if scan is not self._seen:
            self._seen = scan
            told = {answer_key(game) for game, _title in self._answered}
            fresh = list(queue(scan)) if scan is not None else []
            self._queue = [game for game in fresh if answer_key(game) not in told]
        self._show()

    @property
    def current(self) -> Game | None:
        """The game whose title is asked for."""
        return self._queue[0] if self._queue else None

    @property
    def left(self) -> int:
        """How many wait."""
        return len(self._queue)

    def _show(self) -> None:
        game, scan = self.current, self.session.world.scan
        shown = None
        if game is not None:
            system = self.session.catalogue.find(System, game.system)
            where = ", ".join(each for each in (system.name if system else game.system, facts_of(game)) if each)
            shown = Shown(
                game.key.rpartition("/")[2], game.title, where, proposals(game), len(self._queue), len(self._answered)
            )
        lists = bool(self.build.library.lists)
        empty = (
            "No uncertain matches left." if lists else "Add a list of games under Lists: titles are matched against it."
        )
        self.drawing.show_title(shown, empty)
        accepted = sum(bool(g.naming and g.naming.how == "title" and not g.doubtful) for g in scan.games) if scan else 0
        by_sum = sum(bool(g.naming and g.naming.how == "list") for g in scan.games) if scan else 0
        self._figures.set_rows(
            (
                ("By checksum", f"{by_sum}"),
                ("By title", f"{accepted}"),
                ("To review", f"{len(self._queue)}"),
                (
                    "Accepted at or above",
                    show_share(scan.threshold, 1) if scan and scan.threshold <= 1 else "none",
                ),
            )
        )
        self._plot.show_threshold(scan.threshold if scan else 1.0)

    def shown(self) -> None:
        """Override: the keys are the drawing's, but for whoever walks along the tabs with the arrow keys."""
        if not isinstance(QApplication.focusWidget(), QTabBar):
            self.drawing.setFocus()

    def hidden(self) -> None:
        """Override."""
        if self._later.isActive():
            self._later.stop()
            self._name_anew()

    # --- answering -----------------------------------------------------------------------------------------------

    def accept(self, place: int = 0) -> None:
        """Take a proposal."""
        game = self.current
        if game is not None:
            told = proposals(game)
            if place < len(told):
                self._answer(told[place].title)

    def none(self) -> None:
        """It is none of the list's games."""
        self._answer("")

    def later(self) -> None:
        """Ask again at the end."""
        if self._queue:
            self._queue.append(self._queue.pop(0))
            self._show()

    def back(self) -> None:
        """Take the last answer back."""
        if not self._answered:
            return
        game, _title = self._answered.pop()
        self._queue.insert(0, game)
        self.session.aside(lambda: Answers(self.session.folder).forget(answer_key(game)))
        self._later.start()
        self._show()

    def _answer(self, title: str) -> None:
        game = self.current
        if game is None:
            return
        self._queue.pop(0)
        self._answered.append((game, title))
        told = answered(game, title)
        self.session.aside(lambda: Answers(self.session.folder).put(told))
        self._later.start()
        self._show()

    def type_title(self) -> None:
        """Ask for the title in words."""
        game = self.current
        if game is None:
            return
        titles = sorted({each.called for each in self.session.world.scan.games} | {p.title for p in proposals(game)})
        completer = QCompleter(titles, self.title)
        completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        completer.setFilterMode(Qt.MatchFlag.MatchContains)
        self.title.setCompleter(completer)
        self.title.setText(game.title)
        self.title.selectAll()
        self.title.show()
        self.title.setFocus()

    def _on_typed(self) -> None:
        if text := self.title.text().strip():
            self._leave_typing()
            self._answer(text)

    def _leave_typing(self) -> None:
        self.title.hide()
        self.drawing.setFocus()

    def _name_anew(self) -> None:
        self._answered.clear()
        self.session.look("library")

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Override: the keys of the review."""
        if event is not None and event.type() == QEvent.Type.ShortcutOverride and watched is self.title:
            event.accept()  # what is typed here is no key of the window's
            return True
        if event is None or event.type() != QEvent.Type.KeyPress:
            return super().eventFilter(watched, event)
        assert isinstance(event, QKeyEvent)
        if watched is self.title:
            if event.key() == Qt.Key.Key_Escape:
                self._leave_typing()
                return True
            return False
        return self._on_key(event)

    def _on_key(self, event: QKeyEvent) -> bool:
        if event.modifiers() & (Qt.KeyboardModifier.AltModifier | Qt.KeyboardModifier.ControlModifier):
            return False
        acts = {
            Qt.Key.Key_Return: self.accept,
            Qt.Key.Key_Enter: self.accept,
            Qt.Key.Key_N: self.none,
            Qt.Key.Key_T: self.type_title,
            Qt.Key.Key_Right: self.later,
            Qt.Key.Key_Backspace: self.back,
        }
        key = Qt.Key(event.key())
        if key in acts:
            acts[key]()
            return True
        place = event.key() - Qt.Key.Key_1
        if 0 <= place < 5:
            self.accept(place)
            return True
        return False
