"""A boot file as issued: every line with the decision behind it, and the difference to what is on the card."""

from __future__ import annotations

import difflib
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.operations.boot.compile import IssuedFile
from kyklon.operations.boot.dialects.codec import split_lines


@dataclass(frozen=True)
class Shown:
    """kind: ' ' on the card already, '+' new, '-' goes. label: the decision, '' for what was there before."""

    kind: str
    number: int
    text: str
    label: str
    remark: bool = False


def shown_lines(file: IssuedFile, on_card: str) -> tuple[Shown, ...]:
    """The issued lines with those that they replace in between."""
    old, new = split_lines(on_card), [line.text for line in file.lines]
    rows: list[Shown] = []
    for tag, a, b, c, d in difflib.SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
        if tag in ("delete", "replace"):
            rows += [Shown("-", 0, text, "") for text in old[a:b]]
        kind = " " if tag == "equal" else "+"
        rows += [Shown(kind, index + 1, new[index], file.lines[index].label) for index in range(c, d)]
    return tuple(rows)


def broken(text: str, letters: int) -> list[str]:
    """A line in pieces of at most that many letters, broken behind a space where there is one; joined they are the
    line again."""
    pieces = []
    while len(text) > letters:
        at = text.rfind(" ", 1, letters) + 1 or letters
        pieces.append(text[:at])
        text = text[at:]
    return [*pieces, text]


class FileView(Instrument):
    """Painted lines; put it into a scroll area."""

    least = QSize(300, 120)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Boot file")
        self._rows: tuple[Shown, ...] = ()
        self._remark = "#"

    def show_file(self, rows: tuple[Shown, ...], remark: str) -> None:
        """remark: what a remark begins with in this kind of file."""
        if not self.shows(rows, remark):
            return
        self._rows, self._remark = rows, remark
        self.setAccessibleDescription("\n".join(f"{row.kind}{row.text}" for row in rows))
        self.setMinimumHeight(round(self.pitch() * len(self._wrapped(self.width()))))
        self.update()

    @property
    def rows(self) -> tuple[Shown, ...]:
        return self._rows

    def resizeEvent(self, event: object) -> None:
        """Override: wrapped lines take more height."""
        self.setMinimumHeight(round(self.pitch() * len(self._wrapped(self.width()))))

    def pitch(self) -> float:
        return self.theme.px(21)

    def _wrapped(self, width: float) -> list[Shown]:
        """Long lines broken for the screen only; the continuation has no number."""
        rows: list[Shown] = []
        for row in self._rows:
            room = width - self.theme.px(62 + (44 + 6.6 * len(row.label) if row.label else 0))
            letters = max(20, int(room / self.theme.px(7.25)))
            pieces = broken(row.text, letters)
            remark = row.text.lstrip().startswith(self._remark)
            rows.append(Shown(row.kind, row.number, pieces[0], row.label, remark))
            rows += [Shown(row.kind, -1, piece, "", remark) for piece in pieces[1:]]
        return rows

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px, pitch = self.theme.px, self.pitch()
        mono = self.theme.mono("label")
        for index, row in enumerate(self._wrapped(box.width())):
            line = QRectF(box.left(), box.top() + index * pitch, box.width(), pitch)
            if row.kind != " ":
                painter.fillRect(line, self.theme.color("teal_soft" if row.kind == "+" else "red_soft"))
            y = line.center().y()
            sign = {"+": "+", "-": "−"}.get(row.kind, "")
            self.text(
                painter, QPointF(box.left() + px(6), y), sign, font=mono, token="teal" if row.kind == "+" else "red"
            )
            number = str(row.number) if row.number > 0 else "…" if row.number < 0 else ""
            self.text(
                painter,
                QPointF(box.left() + px(40), y),
                number,
                font=self.theme.mono("small"),
                token="muted",
                align=Qt.AlignmentFlag.AlignRight,
            )
            words = QRectF(box.left() + px(50), line.top(), box.width() - px(52), pitch)
            faint = row.remark or row.kind == "-"
            self.text(painter, words, row.text, font=mono, token="muted" if faint else "ink")
            if row.label:
                self._draw_label(painter, line, row.label)
        if not self._rows:
            self.say(painter, box, "This file is empty.")

    def _draw_label(self, painter: QPainter, line: QRectF, words: str) -> None:
        px = self.theme.px
        font = self.theme.font("small", weight=500)
        spot = QPointF(line.right() - px(10), line.center().y())
        drawn = self.text(painter, spot, words, font=font, token="teal", align=Qt.AlignmentFlag.AlignRight)
        self.line(painter, QPointF(drawn.left() - px(14), spot.y()), QPointF(drawn.left() - px(4), spot.y()), "teal")
