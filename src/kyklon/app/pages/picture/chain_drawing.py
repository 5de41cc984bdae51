"""The chain as it is plugged, from the board's socket to the glass: parts, plugs, cables, and their sync."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen

from kyklon.app.theme.lamps import paint_lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument


@dataclass(frozen=True)
class PlaceDrawn:
    """kind: board, adapter, tube or panel. facts: lines below it. fault: 'stop', 'caution' or ''."""

    kind: str
    name: str
    enters: str
    leaves: str
    facts: tuple[str, ...]
    fault: str = ""


@dataclass(frozen=True)
class LeadDrawn:
    """words: above and below the cable."""

    signal: str
    length: str
    rate: str
    fault: str = ""


class ChainDrawing(Instrument):
    least = QSize(520, 230)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "The chain from the board to the screen")
        self._places: tuple[PlaceDrawn, ...] = ()
        self._leads: tuple[LeadDrawn, ...] = ()

    def show_chain(self, places: tuple[PlaceDrawn, ...], leads: tuple[LeadDrawn, ...]) -> None:
        if not self.shows(places, leads):
            return
        self._places, self._leads = places, leads
        told = [f"{place.name}: {', '.join(place.facts)}" for place in places]
        self.setAccessibleDescription("; ".join(told))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        if len(self._places) < 2:
            words = "No cable leads into the display. Connect the parts in Plan."
            self.say(painter, box, words)
            return
        scale, count = self.theme.scale, len(self._places)
        share = 0.56 if count <= 3 else 0.62
        wide = box.width() * share / count
        gap = (box.width() - wide * count) / (count - 1) - 0.5
        high = min(150 * scale, box.height() * 0.52)
        top = box.top() + 20 * scale
        spots = [QRectF(box.left() + index * (wide + gap), top, wide, high) for index in range(count)]
        for index, lead in enumerate(self._leads):
            self._draw_lead(painter, spots[index], spots[index + 1], lead)
        for place, spot in zip(self._places, spots, strict=True):
            self._draw_place(painter, spot, place, box.bottom())

    def _draw_lead(self, painter: QPainter, one: QRectF, other: QRectF, lead: LeadDrawn) -> None:
        scale, y = self.theme.scale, one.center().y()
        left, right = one.right(), other.left()
        plug = 9 * scale
        token = {"stop": "red", "caution": "amber"}.get(lead.fault, "teal")
        style = Qt.PenStyle.DashLine if lead.fault else Qt.PenStyle.SolidLine
        pen = QPen(self.theme.color(token), 4 * scale, style)
        painter.setPen(pen)
        painter.drawLine(QPointF(left + plug, y), QPointF(right - plug, y))
        for x in (left, right - plug):
            self.block(painter, QRectF(x, y - 6 * scale, plug, 12 * scale), "ink", radius=1)
        room = QRectF(left + 2, y - 36 * scale, right - left - 4, 17 * scale)
        centre = Qt.AlignmentFlag.AlignCenter
        self.text(painter, room, lead.signal, font=self.theme.font("label", weight=600), token=token, align=centre)
        self.text(
            painter,
            room.translated(0, 46 * scale),
            lead.length,
            font=self.theme.mono("small"),
            token="muted",
            align=centre,
        )
        self.text(
            painter,
            room.translated(0, 62 * scale),
            lead.rate,
            font=self.theme.mono("small"),
            token="muted",
            align=centre,
        )

    def _draw_display(self, painter: QPainter, spot: QRectF, place: PlaceDrawn, edge: str) -> None:
        scale = self.theme.scale
        self.block(painter, spot, "bezel", radius=10 if place.kind == "tube" else 3)
        rim = 9 * scale
        glass = spot.adjusted(rim, rim, -rim, -rim)
        self.block(painter, glass, "glass", radius=9 if place.kind == "tube" else 1)
        font = self.theme.font("label", weight=600)
        name = glass.adjusted(4, 0, -4, 0)
        painter.setPen(self.theme.color("phosphor"))
        painter.setFont(font)
        painter.drawText(name, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, place.name)
        if place.fault:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(self.theme.color(edge), 2 * scale))
            painter.drawRoundedRect(spot, 10, 10)

    def _draw_box(self, painter: QPainter, spot: QRectF, place: PlaceDrawn, edge: str) -> None:
        """Whatever is no display: its name, and the signals in and out."""
        scale = self.theme.scale
        self.block(painter, spot, "field", edge, radius=4, width=2 * scale if place.fault else 1.2)
        painter.setPen(self.theme.color("ink"))
        painter.setFont(self.theme.font("label", weight=600))
        inner = spot.adjusted(6, 6, -6, -spot.height() * 0.36)
        painter.drawText(inner, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, place.name)
        small = self.theme.font("small")
        half = QRectF(spot.left() + 6, spot.bottom() - 24 * scale, spot.width() - 12, 18 * scale)
        if place.enters:
            self.text(
                painter,
                half.adjusted(0, -15 * scale, 0, -15 * scale),
                f"in: {place.enters}",
                font=small,
                token="muted",
            )
        if place.leaves:
            self.text(
                painter,
                half,
                f"out: {place.leaves}",
                font=small,
                token="muted",
                align=Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            )

    def _draw_place(self, painter: QPainter, spot: QRectF, place: PlaceDrawn, bottom: float) -> None:
        scale = self.theme.scale
        edge = {"stop": "red", "caution": "amber"}.get(place.fault, "hairline")
        draw = self._draw_display if place.kind in ("tube", "panel") else self._draw_box
        draw(painter, spot, place, edge)
        if place.fault:
            side = 13 * scale
            paint_lamp(
                painter, QRectF(spot.right() - side / 2, spot.top() - side / 2, side, side), place.fault, self.theme
            )
        y = spot.bottom() + 16 * scale
        for index, fact in enumerate(place.facts):
            if y > bottom - 8 * scale:
                break
            font = self.theme.font("label", weight=600) if index == 0 else self.theme.font("label")
            room = QRectF(spot.left() - 14 * scale, y - 9 * scale, spot.width() + 28 * scale, 18 * scale)
            self.text(
                painter,
                room,
                fact,
                font=font,
                token="ink" if index == 0 else "muted",
                align=Qt.AlignmentFlag.AlignCenter,
            )
            y += 17 * scale
