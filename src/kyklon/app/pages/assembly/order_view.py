"""What comes before what when a machine is put together: steps with their reasons, screws and cautions."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPen

from kyklon.app.pages.tab_view import TabView, side_px
from kyklon.app.session.session import Session
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import FigureRows, Sheet, column, label, row, scrolled
from kyklon.app.widgets.instrument import Instrument
from kyklon.operations.assembly.order import Act, acts, screws

_PITCH, _LANES = 30, 92  # px: a step, and what its threads take at the left


class OrderDrawing(Instrument):
    """Steps from first to last; a thread from each to what waits for it. chosen: an id."""

    least = QSize(360, 300)
    chosen = pyqtSignal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Order of the assembly")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._acts: tuple[Act, ...] = ()
        self.current = ""

    def show_acts(self, found: tuple[Act, ...]) -> None:
        if not self.shows(found):
            return
        self._acts = found
        if self.current not in {act.id for act in found}:
            self.current = found[0].id if found else ""
        self.setAccessibleDescription("; ".join(f"{number} {act.title}" for number, act in enumerate(found, 1)))
        self.setMinimumHeight(round(self.theme.px(_PITCH * len(found) + 8)))
        self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        if event is not None:
            self._choose(int((event.position().y() - self.theme.px(4)) / self.theme.px(_PITCH)))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Override."""
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()), 0) if event is not None else 0
        if step:
            self._choose(next((n for n, act in enumerate(self._acts) if act.id == self.current), 0) + step)
        else:
            super().keyPressEvent(event)

    def _choose(self, number: int) -> None:
        if 0 <= number < len(self._acts):
            self.current = self._acts[number].id
            self.chosen.emit(self.current)
            self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        place = {act.id: number for number, act in enumerate(self._acts)}

        def y(number: int) -> float:
            return box.top() + px(4) + px(_PITCH) * (number + 0.5)

        left = box.left() + px(_LANES)
        own = next((act for act in self._acts if act.id == self.current), None)
        near = {name for name, _why in own.before} if own is not None else set()
        for act in self._acts:
            for name, _why in act.before:
                start, end = y(place[name]), y(place[act.id])
                shown = act.id == self.current
                bulge = min(px(_LANES - 14), px(10) + (end - start) * 0.16)
                path = QPainterPath(QPointF(left, start))
                path.cubicTo(QPointF(left - bulge, start), QPointF(left - bulge, end), QPointF(left, end))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(self.theme.color("teal" if shown else "hairline"), 2.2 if shown else 1.1))
                painter.drawPath(path)
        for number, act in enumerate(self._acts):
            middle = QPointF(left, y(number))
            chosen = act.id == self.current
            if chosen:
                line = QRectF(left - px(2), y(number) - px(13), box.right() - left, px(26))
                self.block(painter, line, "teal_soft", radius=3)
            painter.setPen(QPen(self.theme.color("teal"), 1.6))
            painter.setBrush(self.theme.color("teal" if chosen or act.id in near else "field"))
            painter.drawEllipse(middle, px(4.5), px(4.5))
            figure = QRectF(left + px(10), y(number) - px(10), px(22), px(20))
            right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            self.text(painter, figure, str(number + 1), font=self.theme.mono("small"), token="muted", align=right)
            words = QRectF(left + px(40), y(number) - px(10), box.right() - left - px(66), px(20))
            self.text(painter, words, act.title, font=self.theme.font("label", weight=600 if chosen else 400))
            if act.caution:
                at = QPointF(box.right() - px(12), y(number))
                self.text(painter, at, "▲", token="amber", align=Qt.AlignmentFlag.AlignHCenter)


class OrderView(TabView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.instrument = self._drawing = OrderDrawing(self.theme)
        self._drawing.chosen.connect(lambda _name: self._show_act())
        steps = Sheet("Assembly order", "lines show what must come first")
        steps.add(scrolled(self._drawing))
        self._title, self._why = label("", "section", wrap=True), label("", wrap=True)
        self._caution = label("", "caution", wrap=True)
        self._undo = label("", "muted", wrap=True)
        one = Sheet("Step")
        one.add(self._title, self._why, self._undo, self._caution, 1)
        self._screws = FigureRows(self.theme)
        all_screws = Sheet("Screws in all")
        all_screws.add(self._screws)
        side = column(one, all_screws, spacing=12)
        side.setStretch(0, 1)
        if self.theme.scale > 1:
            steps.setMinimumHeight(round(self.theme.px(420)))
            self.setLayout(column(steps, side, spacing=14))
            return
        for sheet in (one, all_screws):
            sheet.setFixedWidth(side_px(self.theme))
        layout = row(steps, side, spacing=14)
        layout.setStretch(0, 1)
        self.setLayout(layout)

    def refresh(self) -> None:
        """Override."""
        build, catalogue = self.build, self.session.catalogue
        self._drawing.show_acts(acts(build, catalogue))
        rows = screws(build, catalogue)
        self._screws.set_rows(tuple((kind, f"{count} ×") for kind, count in rows.items()))
        self._show_act()

    def _show_act(self) -> None:
        found = acts(self.build, self.session.catalogue)
        titles = {act.id: act.title for act in found}
        act = next((each for each in found if each.id == self._drawing.current), None)
        if act is None:
            return
        self._title.setText(act.title)
        told = [f"After “{titles[name]}”: {why}." for name, why in act.before]
        told += [f"{count} × {kind}." for kind, count in act.screws]
        self._why.setText("\n\n".join(told) or "Nothing comes before it.")
        self._undo.setText(f"If you take it apart: {act.undo}." if act.undo else "")
        self._caution.setText(f"▲ {act.caution}" if act.caution else "")
