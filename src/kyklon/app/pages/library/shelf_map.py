"""The library as shelves, one a system: every game a spine as wide as it is large. What will not appear leans out."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QMouseEvent, QPainter, QPen

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import set_tip
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.quantities import show_bytes
from kyklon.model.library import Game


@dataclass(frozen=True)
class Shelf:
    """note: '' or what stands against the whole system."""

    name: str
    games: tuple[Game, ...]
    note: str


class ShelfMap(Instrument):
    least = QSize(420, 200)
    chosen = pyqtSignal(object)  # Game

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Shelf map of the library")
        self._shelves: tuple[Shelf, ...] = ()
        self._spines: list[tuple[QRectF, Game]] = []
        self._current: Game | None = None
        self.setMouseTracking(True)

    def show_shelves(self, shelves: tuple[Shelf, ...]) -> None:
        if not self.shows(shelves):
            return
        self._shelves = shelves
        told = [f"{s.name}: {sum(g.ready for g in s.games)} of {len(s.games)} ready" for s in shelves]
        self.setAccessibleDescription("; ".join(told))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        self._spines = []
        if not any(shelf.games for shelf in self._shelves):
            self.say(painter, box, "Choose a library folder to see its games here, shelf by shelf.")
            return
        largest = max(sum(game.size for game in shelf.games) for shelf in self._shelves)
        pitch = box.height() / len(self._shelves)
        left, right = px(118), px(88)
        for index, shelf in enumerate(self._shelves):
            board = QRectF(
                box.left() + left,
                box.top() + index * pitch + px(6),
                box.width() - left - right,
                pitch - px(14),
            )
            self.text(
                painter,
                QPointF(box.left(), board.center().y() - px(8)),
                shelf.name,
                font=self.theme.font("body", weight=600),
            )
            ready = sum(game.ready for game in shelf.games)
            token = "red" if shelf.note else "muted"
            words = shelf.note or f"{ready} of {len(shelf.games)} ready"
            self.text(
                painter,
                QPointF(box.left(), board.center().y() + px(9)),
                words,
                font=self.theme.font("small"),
                token=token,
            )
            size = sum(game.size for game in shelf.games)
            self.text(
                painter,
                QPointF(box.right(), board.center().y()),
                show_bytes(size),
                font=self.theme.mono("small"),
                align=Qt.AlignmentFlag.AlignRight,
            )
            self._draw_shelf(painter, board, shelf, largest)

    def _draw_shelf(self, painter: QPainter, board: QRectF, shelf: Shelf, largest: int) -> None:
        scale = board.width() / max(1, largest)
        x = board.left()
        ordered = sorted(shelf.games, key=lambda game: (not game.ready, game.title))
        for game in ordered:
            wide = max(1.5, game.size * scale)
            lean = 0.0 if game.ready else -self.theme.px(5)
            spine = QRectF(x, board.top() + self.theme.px(5) + lean, wide, board.height() - self.theme.px(6))
            self._draw_spine(painter, spine, game)
            self._spines.append((spine, game))
            x += wide
        self.line(painter, QPointF(board.left(), board.bottom()), QPointF(board.right(), board.bottom()), "ink", 1.6)

    def _draw_spine(self, painter: QPainter, spine: QRectF, game: Game) -> None:
        token = "teal" if game.ready else "red" if any(r.code == "system-file" for r in game.reasons) else "amber"
        current = game is self._current
        painter.setBrush(self.theme.color("ink") if current else self.theme.color(f"{token}_soft"))
        painter.setPen(QPen(self.theme.color(token, 200), 0.8))
        painter.drawRect(spine)
        if not game.ready and not current:
            painter.setBrush(QBrush(self.theme.color(token, 160), Qt.BrushStyle.BDiagPattern))
            painter.drawRect(spine)

    def game_at(self, at: QPointF) -> Game | None:
        return next((game for spine, game in self._spines if spine.adjusted(-0.5, 0, 0.5, 0).contains(at)), None)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        game = self.game_at(event.position())
        if game is None:
            set_tip(self, "")
            return
        why = " ".join(reason.text for reason in game.reasons) or "ready"
        set_tip(self, f"{game.title}, {show_bytes(game.size)}: {why}")

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        self._current = self.game_at(event.position())
        self.update()
        if self._current is not None:
            self.chosen.emit(self._current)
