"""Learning a panel: the circles of a drawing become its holes, and each is given its use by clicking it."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from kyklon.app.pages.shelf.walk import Walk
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Choice, Sheet, button, column, label, row
from kyklon.app.widgets.instrument import Instrument
from kyklon.parts import panel
from kyklon.parts.draft import Draft

_WORDS = {"button": "a button", "lever": "the joystick", "start": "start", "select": "select", "nothing": "no control"}


class HoleDrawing(Instrument):
    """The panel to scale, with every hole, its use and its diameter."""

    least = QSize(340, 220)
    chosen = pyqtSignal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Holes of the panel")
        self._holes: tuple[dict[str, Any], ...] = ()
        self._size = (0.0, 0.0)
        self._current = -1
        self._places: list[tuple[QPointF, float]] = []

    def show_holes(self, holes: tuple[dict[str, Any], ...], size: tuple[float, float], current: int) -> None:
        """size: of the panel in mm."""
        if not self.shows(str(holes), size, current):
            return
        self._holes, self._size, self._current = holes, size, current
        self.setAccessibleDescription("; ".join(f"{hole['label']} {hole['bore']:g} mm" for hole in holes))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        if not self._holes:
            self.say(painter, box, "Open a drawing of the panel; its holes appear here.")
            return
        room = box.adjusted(px(8), px(8), -px(8), -px(26))
        wide, high = self._size
        scale = min(room.width() / wide, room.height() / high)
        plate = QRectF(room.center().x() - wide * scale / 2, room.top(), wide * scale, high * scale)
        self.block(painter, plate, "field", "ink", radius=px(3), width=1.5)
        self._places = []
        for index, each in enumerate(self._holes):
            at = QPointF(plate.left() + each["x"] * scale, plate.top() + each["y"] * scale)
            radius = max(4.0, each["bore"] / 2 * scale)
            self._places.append((at, radius))
            out = each["kind"] == "nothing"
            painter.setBrush(self.theme.color("teal" if index == self._current else "sheet" if out else "teal_soft"))
            painter.setPen(
                QPen(
                    self.theme.color("muted" if out else "teal"),
                    1.5,
                    Qt.PenStyle.DashLine if out else Qt.PenStyle.SolidLine,
                )
            )
            painter.drawEllipse(at, radius, radius)
            inside = radius > px(18)
            token = "on_teal" if index == self._current else "ink"
            middle = at - QPointF(0, px(6)) if inside else at
            self.text(
                painter,
                middle,
                "" if out else str(each["label"]),
                font=self.theme.font("label", weight=600),
                token=token,
                align=Qt.AlignmentFlag.AlignHCenter,
            )
            below = at + QPointF(0, px(8) if inside else radius + px(8))
            self.text(
                painter,
                below,
                f"{each['bore']:g}\u202fmm",
                font=self.theme.mono("small"),
                token="on_teal" if inside and index == self._current else "muted",
                align=Qt.AlignmentFlag.AlignHCenter,
            )
        self.text(
            painter,
            QPointF(plate.center().x(), plate.bottom() + px(13)),
            f"{wide:g} × {high:g}\u202fmm",
            font=self.theme.mono("small"),
            token="muted",
            align=Qt.AlignmentFlag.AlignHCenter,
        )

    def place_of(self, index: int) -> QPointF:
        """Where a hole is drawn."""
        self._drawn()
        return self._places[index][0]

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        for index, (at, radius) in enumerate(self._places):
            if (event.position() - at).manhattanLength() <= radius * 1.4:
                self.chosen.emit(index)
                return


class PanelWalk(Walk):
    kind = "panels"
    title = "Learn a panel"
    first = "Open the SVG or DXF drawing of a panel you bought. Its circles become holes; say what each one is for."

    def make_side(self) -> QWidget:
        """Override."""
        self._current = -1
        self.drawing = HoleDrawing(self.theme)
        self.drawing.chosen.connect(self._on_hole)
        self._use = Choice(self.theme, "What the hole is for", self.use_as)
        self._use.set_choices(tuple((kind, _WORDS[kind]) for kind in panel.KINDS), "button")
        self._hole = label("Click a hole", "small")
        source = Sheet("Source")
        source.add(row(button("Open a drawing…", self._ask, "outline"), 1))
        sheet = Sheet("One seat's panel, to scale", "seen by its player")
        sheet.add(self.drawing, row(self._hole, self._use, 1))
        sheet.body.setStretch(0, 1)
        facts = Sheet("Also read")
        facts.add(self.about)
        side = QWidget()
        layout = column(source, sheet, facts, spacing=12)
        layout.setStretch(1, 1)
        side.setLayout(layout)
        return side

    def _ask(self) -> None:
        self.ask_file("A drawing of the panel", "Drawings (*.svg *.dxf)", lambda path: self.learn_from("panel", path))

    def _on_hole(self, index: int) -> None:
        self._current = index
        self._show()

    def use_as(self, kind: str) -> None:
        """The chosen hole is for this."""
        if self.draft is not None and self._current >= 0:
            controls = panel.with_kind(self.draft.row["controls"], self._current, kind)
            self.draft = self.draft.with_value("controls", controls)
            self._show()

    def show_draft(self, draft: Draft | None) -> None:
        """Override."""
        holes = tuple(draft.row.get("controls", ())) if draft else ()
        size = (0.0, 0.0)
        if draft:
            size = tuple(
                float(draft.row.get(name) or draft.suggested.get(name) or 1.0) for name in ("width_mm", "height_mm")
            )  # type: ignore[assignment]
        self.drawing.show_holes(holes, size, self._current)
        now = holes[self._current] if 0 <= self._current < len(holes) else None
        self._use.setEnabled(now is not None)
        self._hole.setText(
            f"The hole of {now['bore']:g}\u202fmm is" if now else "Click a hole, then say what it is for"
        )
        if now is not None:
            self._use.set_choices(tuple((kind, _WORDS[kind]) for kind in panel.KINDS), str(now["kind"]))
