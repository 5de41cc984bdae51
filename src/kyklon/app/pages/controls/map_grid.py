"""Systems against buttons: what lies where, how well, and what is held fast. Pick an input, then the button for it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import set_tip
from kyklon.app.widgets.instrument import Instrument

NONE = ""  # the place of inputs without a button


@dataclass(frozen=True)
class Cell:
    """An input of a system on a place. cost in pitches. fixed: it lies on a small button of its name. own: a game's map
    has it elsewhere than its system's."""

    input: str
    label: str
    cost: float = 0.0
    locked: bool = False
    fixed: bool = False
    own: bool = False


@dataclass(frozen=True)
class Grid:
    """rows: system id and name. places: id and label. cells: by system and place, '' for no button."""

    rows: tuple[tuple[str, str], ...] = ()
    places: tuple[tuple[str, str], ...] = ()
    cells: Mapping[tuple[str, str], tuple[Cell, ...]] = field(default_factory=dict)


class MapGrid(Instrument):
    """picked carries system and input; put a system, an input and the place it is to go to."""

    least = QSize(420, 220)
    picked = pyqtSignal(str, str)
    put = pyqtSignal(str, str, str)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Systems and buttons; pick an input, then the button for it")
        self._grid = Grid()
        self._pick = ("", "")
        self._over = ("", "-")
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def show_grid(self, grid: Grid, pick: tuple[str, str]) -> None:
        if self.shows(grid, pick):
            self._grid, self._pick = grid, pick
            told = [
                f"{name}: "
                + ", ".join(
                    f"{cell.label} on {label or place or 'no button'}"
                    for place, label in (*grid.places, (NONE, ""))
                    for cell in grid.cells.get((row, place), ())
                )
                for row, name in grid.rows
            ]
            self.setAccessibleDescription("; ".join(told))
            self.update()

    # --- drawing -----------------------------------------------------------------------------------------------

    def _sizes(self, box: QRectF) -> tuple[float, float, float, float]:
        """Width of the names, of a column, height of the head and of a row."""
        px = self.theme.px
        columns = len(self._grid.places) + 1
        names = min(px(104), box.width() * 0.2)
        head = px(24)
        high = min(px(58), (box.height() - head) / max(1, len(self._grid.rows)))
        return names, (box.width() - names) / columns, head, high

    def cell_box(self, row: str, place: str) -> QRectF:
        """Where a cell is drawn."""
        names, wide, head, high = self._sizes(QRectF(self.rect()))
        rows = [each for each, _name in self._grid.rows]
        columns = [each for each, _label in self._grid.places] + [NONE]
        return QRectF(names + columns.index(place) * wide, head + rows.index(row) * high, wide, high)

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        if not self._grid.rows or not self._grid.places:
            self.say(painter, box, "Choose systems in Plan, and lay out a panel first.")
            return
        px = self.theme.px
        names, wide, head, high = self._sizes(box)
        small = self.theme.font("small", weight=600)
        for index, (_place, words) in enumerate((*self._grid.places, (NONE, "no button"))):
            at = QRectF(names + index * wide, 0, wide, head)
            self.text(painter, at, words, font=small, token="muted", align=Qt.AlignmentFlag.AlignCenter)
        for line, (row, name) in enumerate(self._grid.rows):
            top = head + line * high
            if line % 2 == 0:
                self.block(painter, QRectF(0, top, box.width(), high), "grid", radius=0)
            token = "teal" if row == self._pick[0] else "ink"
            self.text(
                painter,
                QRectF(px(4), top, names - px(6), high),
                name,
                font=self.theme.font("label", weight=600),
                token=token,
            )
            for place, _label in (*self._grid.places, (NONE, "")):
                self._draw_cell(painter, row, place)

    def _draw_cell(self, painter: QPainter, row: str, place: str) -> None:
        px = self.theme.px
        cells = self._grid.cells.get((row, place), ())
        box = self.cell_box(row, place).adjusted(px(2), px(2), -px(2), -px(2))
        over = self._over == (row, place) and self._pick[0] == row
        if not cells:
            if over:
                pen = QPen(self.theme.color("teal"), 1.2, Qt.PenStyle.DashLine)
                self.block(painter, box, "field", pen)
            else:
                self.line(painter, box.center() - QPointF(3, 0), box.center() + QPointF(3, 0), "hairline")
            return
        picked = any((row, cell.input) == self._pick for cell in cells)
        dear = max(cell.cost for cell in cells)
        fill = "grid" if cells[0].fixed else "red_soft" if place == NONE else _shade(dear)
        edge = "teal" if picked else "amber" if any(cell.own for cell in cells) else "hairline"
        self.block(painter, box, fill, edge, width=2.2 if picked else 1.4 if edge == "amber" else 1.0)
        words = ", ".join(cell.label for cell in cells)
        deep = box.height() > px(32) and not cells[0].fixed
        upper = QRectF(box.left() + 3, box.top(), box.width() - 6, box.height() * (0.6 if deep else 1.0))
        self.text(painter, upper, words, font=self.theme.font("label"), align=Qt.AlignmentFlag.AlignCenter)
        lock = "held " if any(cell.locked for cell in cells) else ""
        if deep:
            lower = QRectF(box.left() + 3, upper.bottom() - px(3), box.width() - 6, box.height() * 0.4)
            token = "teal" if lock else "muted"
            self.text(
                painter,
                lower,
                f"{lock}{dear:.1f}",
                font=self.theme.mono("small"),
                token=token,
                align=Qt.AlignmentFlag.AlignCenter,
            )

    # --- hitting -----------------------------------------------------------------------------------------------

    def _under(self, at: QPointF) -> tuple[str, str] | None:
        for row, _name in self._grid.rows:
            for place, _label in (*self._grid.places, (NONE, "")):
                if self.cell_box(row, place).contains(at):
                    return row, place
        return None

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        over = self._under(event.position()) or ("", "-")
        if over != self._over:
            self._over = over
            cells = self._grid.cells.get(over, ())
            words = "; ".join(f"{cell.label}: {cell.cost:.2f} button spacings" for cell in cells if not cell.fixed)
            set_tip(self, words)
            self.update()

    def leaveEvent(self, event: object) -> None:
        """Override."""
        self._over = ("", "-")
        self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        self.setFocus()
        found = self._under(event.position())
        if found is None:
            return
        row, place = found
        cells = self._grid.cells.get(found, ())
        if self._pick[0] == row and self._pick[1] and not any(cell.input == self._pick[1] for cell in cells):
            if not (cells and cells[0].fixed):
                self.put.emit(row, self._pick[1], place)
            return
        own = [cell for cell in cells if not cell.fixed]
        if own:
            inputs = [cell.input for cell in own]
            after = (inputs.index(self._pick[1]) + 1) % len(inputs) if self._pick[1] in inputs else 0
            self.picked.emit(row, inputs[after])
        else:
            self.picked.emit(row, "")

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Override: Escape lets go of what is picked."""
        if event.key() == Qt.Key.Key_Escape and self._pick[1]:
            self.picked.emit(self._pick[0], "")
        else:
            super().keyPressEvent(event)


def _shade(cost: float) -> str:
    """A cell's ground by what it costs."""
    return "teal_soft" if cost < 0.5 else "field" if cost < 1.2 else "amber_soft"
