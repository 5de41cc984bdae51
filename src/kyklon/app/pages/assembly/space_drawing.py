"""The case from above and in section, to scale; what stands in it is dragged, what collides is drawn in red."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFontMetricsF, QKeyEvent, QMouseEvent, QPainter, QPen

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.model.casework import Opening
from kyklon.operations.assembly.space import Box, Clash, Space

_ABOVE, _SECTION = (0, 1), (0, 2)  # axes that are drawn across and upwards
_STEPS = {
    Qt.Key.Key_Left: (0, -1.0),
    Qt.Key.Key_Right: (0, 1.0),
    Qt.Key.Key_Down: (1, -1.0),
    Qt.Key.Key_Up: (1, 1.0),
}


class SpaceDrawing(Instrument):
    """moved: id, and where its near corner goes, mm across and to the back. chosen: an id."""

    least = QSize(380, 320)
    moved = pyqtSignal(str, float, float)
    chosen = pyqtSignal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "The case from above and in section")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._space: Space | None = None
        self._clashes: tuple[Clash, ...] = ()
        self._openings: tuple[Opening, ...] = ()
        self.current = ""
        self._grip = QPointF()
        self._by = (0.0, 0.0)
        self._held = ""
        self._scale, self._above = 1.0, QRectF()

    def show_space(self, space: Space, found: tuple[Clash, ...], openings: tuple[Opening, ...] = ()) -> None:
        if not self.shows(space, found, openings):
            return
        self._space, self._clashes, self._openings = space, found, openings
        told = [f"{box.name} at {box.near[0]:.0f}, {box.near[1]:.0f}, {box.near[2]:.0f} mm" for box in space.boxes]
        told += [f"{opening.name}, opening in the {opening.wall} wall" for opening in openings]
        told += [f"{clash.one} and {clash.other}: {clash.missing:.0f} mm overlap" for clash in found]
        self.setAccessibleDescription("; ".join(told))
        self.update()

    # --- dragging --------------------------------------------------------------------------------------------------

    def _mm(self, at: QPointF) -> tuple[float, float]:
        return (at.x() - self._above.left()) / self._scale, (self._above.bottom() - at.y()) / self._scale

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        if event is None or self._space is None:
            return
        x, y = self._mm(event.position())
        under = [
            box
            for box in self._space.boxes
            if box.movable and not box.of and box.near[0] <= x <= box.far[0] and box.near[1] <= y <= box.far[1]
        ]
        box = max(under, key=lambda each: each.far[2], default=None)
        self._held, self._grip, self._by = (box.id if box else ""), event.position(), (0.0, 0.0)
        if box is not None and box.id != self.current:
            self.current = box.id
            self.chosen.emit(box.id)
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        if event is not None and self._held:
            by = event.position() - self._grip
            self._by = (round(by.x() / self._scale), round(-by.y() / self._scale))
            self.update()

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        """Override."""
        name, by = self._held, self._by
        self._held, self._by = "", (0.0, 0.0)
        box = self._space.box(name) if self._space is not None else None
        if box is not None and by != (0.0, 0.0):
            self.moved.emit(name, box.near[0] + by[0], box.near[1] + by[1])
        self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Override: Tab walks, arrows move by a millimetre, with Shift by ten."""
        key = Qt.Key(event.key()) if event is not None else Qt.Key.Key_unknown
        space = self._space
        if event is None or space is None:
            return
        box = space.box(self.current)
        if key in (Qt.Key.Key_N, Qt.Key.Key_Space):
            own = [each.id for each in space.boxes if each.movable and not each.of]
            if own:
                self.current = own[(own.index(self.current) + 1) % len(own)] if self.current in own else own[0]
                self.chosen.emit(self.current)
                self.update()
        elif key in _STEPS and box is not None:
            axis, by = _STEPS[key]
            by *= 10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
            near = [box.near[0], box.near[1]]
            near[axis] += by
            self.moved.emit(box.id, near[0], near[1])
        else:
            super().keyPressEvent(event)

    # --- drawing ---------------------------------------------------------------------------------------------------

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        space, px = self._space, self.theme.px
        if space is None:
            return
        wide, deep, high = space.inner
        gap = px(46)
        self._scale = min((box.width() - px(34)) / wide, (box.height() - gap - px(34)) / (deep + high))
        left = box.left() + px(10) + (box.width() - wide * self._scale) / 2
        spare = box.height() - gap - px(34) - (deep + high) * self._scale
        gap += spare * 0.3
        self._above = QRectF(left, box.top() + px(18) + spare * 0.3, wide * self._scale, deep * self._scale)
        section = QRectF(left, self._above.bottom() + gap, wide * self._scale, high * self._scale)
        for area, words in ((self._above, "Top view, back at the top"), (section, "Section, seen from the front")):
            self.text(painter, area.topLeft() - QPointF(0, px(9)), words, font=self.theme.font("small"), token="muted")
            self.block(painter, area, "field", "ink", radius=1, width=1.6)
        hit = {name for clash in self._clashes for name in (clash.one, clash.other)}
        shown = [self._shifted(each) for each in space.boxes]
        for each in sorted(shown, key=lambda each: each.far[2]):
            self._draw_box(painter, self._above, each, _ABOVE, red=each.id in hit)
        for each in sorted(shown, key=lambda each: -each.near[1]):
            self._draw_box(painter, section, each, _SECTION, red=each.id in hit)
        for opening in self._openings:
            self._draw_opening(painter, section, opening)
        figure = self.theme.mono("small")
        at = QPointF(self._above.center().x(), section.bottom() + px(10))
        self.text(painter, at, f"{wide:.0f}\u202fmm", font=figure, token="muted", align=Qt.AlignmentFlag.AlignHCenter)
        for area, value in ((self._above, deep), (section, high)):
            painter.save()
            painter.translate(area.left() - px(10), area.center().y())
            painter.rotate(-90)
            middle = Qt.AlignmentFlag.AlignHCenter
            self.text(painter, QPointF(0, 0), f"{value:.0f}\u202fmm", font=figure, token="muted", align=middle)
            painter.restore()

    def _draw_opening(self, painter: QPainter, section: QRectF, opening: Opening) -> None:
        """A gap in the wall from above; from the front the front's own, and the back's dashed."""
        px, scale, above = self.theme.px, self._scale, self._above
        half, thick = opening.wide / 2 * scale, px(5)
        along = {
            "front": QRectF(above.left() + opening.along * scale - half, above.bottom() - thick / 2, 2 * half, thick),
            "back": QRectF(above.left() + opening.along * scale - half, above.top() - thick / 2, 2 * half, thick),
            "left": QRectF(above.left() - thick / 2, above.bottom() - opening.along * scale - half, thick, 2 * half),
            "right": QRectF(above.right() - thick / 2, above.bottom() - opening.along * scale - half, thick, 2 * half),
        }
        covered = opening.purpose == ""
        edge = QPen(self.theme.color("muted" if covered else "teal"), 1.4)
        if opening.wall in along:
            self.block(painter, along[opening.wall], self.theme.color("field" if covered else "teal"), edge, radius=1)
        if opening.wall in ("front", "back"):
            if opening.wall == "back":
                edge.setStyle(Qt.PenStyle.DashLine)
            tall = opening.tall * scale
            left = section.left() + opening.along * scale - half
            place = QRectF(left, section.bottom() - opening.up * scale - tall / 2, 2 * half, tall)
            self.block(painter, place, QColor(0, 0, 0, 0), edge, radius=half if opening.round else 1)

    def _shifted(self, box: Box) -> Box:
        return box.moved((self._by[0], self._by[1], 0.0)) if self._held and box.whole == self._held else box

    def _draw_box(self, painter: QPainter, area: QRectF, box: Box, axes: tuple[int, int], *, red: bool) -> None:
        px, scale = self.theme.px, self._scale
        across, up = axes
        place = QRectF(
            area.left() + box.near[across] * scale,
            area.bottom() - box.far[up] * scale,
            box.size[across] * scale,
            box.size[up] * scale,
        )
        hanging = box.id.startswith("control-") or bool(box.of)
        style = Qt.PenStyle.DashLine if hanging else Qt.PenStyle.SolidLine
        chosen = box.id == self.current
        edge = QPen(
            self.theme.color("red" if red else "teal" if not hanging else "muted"), 2.4 if chosen else 1.2, style
        )
        fill = self.theme.color("red_soft" if red else "sheet" if hanging else "teal_soft")
        fill.setAlphaF(0.75)
        round_ = hanging and not box.of and axes == _ABOVE and abs(box.size[0] - box.size[1]) < 1
        self.block(painter, place, fill, edge, radius=place.width() / 2 if round_ else 1.5)
        words = ("▲ " if red else "") + box.name.removeprefix("Button ").removeprefix("Plug in ")
        font = self.theme.font("small", weight=500 if not hanging else 400)
        inner = place.adjusted(px(3), 0, -px(2), 0)
        fits = QFontMetricsF(font).horizontalAdvance(words) <= inner.width() or not hanging
        fits = fits and not (box.of and axes == _SECTION)
        if place.height() >= px(13) and fits:
            middle = Qt.AlignmentFlag.AlignCenter
            self.text(painter, inner, words, font=font, token="red" if red else "ink", align=middle)
