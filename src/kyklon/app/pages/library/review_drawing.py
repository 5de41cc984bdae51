"""A title in doubt: the file's name, what it may be side by side with what differs, and the queue below."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPen

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import set_tip
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.quantities import show_share
from kyklon.operations.library.review import Proposal

KEYS = (
    ("Enter", "accept the first"),
    ("1 to 5", "accept that one"),
    ("N", "none of them"),
    ("T", "type the title"),
    ("→", "later"),
    ("Backspace", "undo the last answer"),
)


_SIDE_BY_SIDE = 2  # proposals with a card of their own


@dataclass(frozen=True)
class Shown:
    """file: its name. title: what the name says. where: its system and what else is known. proposals: the likeliest
    first. left, done: of the queue."""

    file: str
    title: str
    where: str
    proposals: tuple[Proposal, ...]
    left: int
    done: int


class ReviewDrawing(Instrument):
    """`chosen` carries the place of a proposal that was clicked."""

    least = QSize(480, 260)
    chosen = pyqtSignal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Uncertain match")
        self._shown: Shown | None = None
        self._boxes: list[QRectF] = []
        self._empty = ""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def show_title(self, shown: Shown | None, empty: str = "") -> None:
        """empty: what is said where no title waits."""
        if not self.shows(shown, empty):
            return
        self._shown, self._empty = shown, empty
        told = (
            ", ".join(f"{proposal.title} {show_share(proposal.share)}" for proposal in shown.proposals)
            if shown
            else empty
        )
        self.setAccessibleDescription(f"{shown.file}: {told}; {shown.left} left" if shown else told)
        set_tip(self, shown.file if shown else "")
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px, shown = self.theme.px, self._shown
        self._boxes = []
        if shown is None:
            self.say(painter, box, self._empty)
            return
        head = QRectF(box.left() + px(8), box.top() + px(6), box.width() - px(16), px(34))
        self.text(painter, head, shown.title, font=self.theme.head("title"))
        line = QRectF(head.left(), head.bottom(), head.width(), px(22))
        self.text(painter, line, f"{shown.file}   {shown.where}", font=self.theme.mono("small"), token="muted")
        cards = QRectF(box.left() + px(8), line.bottom() + px(12), box.width() - px(16), px(150))
        large = shown.proposals[:_SIDE_BY_SIDE]
        wide = (cards.width() - px(10) * (len(large) - 1)) / max(1, len(large))
        for index, proposal in enumerate(large):
            card = QRectF(cards.left() + index * (wide + px(10)), cards.top(), wide, cards.height())
            self._boxes.append(card)
            self._draw_card(painter, card, index, proposal)
        top = cards.bottom() + px(12)
        pitch = min(px(38), (box.bottom() - px(96) - top) / max(1, len(shown.proposals) - _SIDE_BY_SIDE))
        for index, proposal in enumerate(shown.proposals[_SIDE_BY_SIDE:], _SIDE_BY_SIDE):
            place = QRectF(cards.left(), top + (index - _SIDE_BY_SIDE) * pitch, cards.width(), pitch - px(4))
            self._boxes.append(place)
            self._draw_line(painter, place, index, proposal)
        self._draw_queue(painter, QRectF(cards.left(), box.bottom() - px(66), cards.width(), px(10)), shown)
        self._draw_keys(painter, QRectF(cards.left(), box.bottom() - px(46), cards.width(), px(42)))

    def _draw_card(self, painter: QPainter, card: QRectF, index: int, proposal: Proposal) -> None:
        px = self.theme.px
        first = index == 0
        self.block(
            painter,
            card,
            "teal_soft" if first else "field",
            "teal" if first else "hairline",
            radius=4,
            width=1.6 if first else 1.0,
        )
        key = "Enter or 1" if first else str(index + 1)
        head = QRectF(card.left() + px(12), card.top() + px(6), card.width() - px(24), px(22))
        self.text(painter, head, key, font=self.theme.mono("small"), token="teal" if first else "muted")
        self._draw_words(painter, card.adjusted(px(12), px(34), -px(12), -px(44)), proposal, "section")
        bar = QRectF(card.left() + px(12), card.bottom() - px(18), card.width() - px(24), px(7))
        self.block(painter, bar, "sheet", "hairline", radius=2)
        self.block(painter, QRectF(bar.left(), bar.top(), bar.width() * proposal.share, bar.height()), "teal", radius=2)
        self.text(
            painter, QPointF(bar.left(), bar.top() - px(11)), "confidence", font=self.theme.font("small"), token="muted"
        )
        self.text(
            painter,
            QPointF(bar.right(), bar.top() - px(11)),
            _share(proposal.share),
            font=self.theme.mono("label", 500),
            align=Qt.AlignmentFlag.AlignRight,
        )

    def _draw_line(self, painter: QPainter, place: QRectF, index: int, proposal: Proposal) -> None:
        """A less likely one, on a line of its own."""
        px = self.theme.px
        self.block(painter, place, "field", "hairline", radius=3)
        self.text(
            painter,
            QRectF(place.left() + px(12), place.top(), px(20), place.height()),
            str(index + 1),
            font=self.theme.mono("small"),
            token="muted",
        )
        high = place.height() / 2 - px(10)
        self._draw_words(painter, place.adjusted(px(38), high, -px(90), 0), proposal, "body")
        self.text(
            painter,
            QRectF(place.right() - px(90), place.top(), px(80), place.height()),
            _share(proposal.share),
            font=self.theme.mono("small"),
            token="muted",
            align=Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
        )

    def _draw_words(self, painter: QPainter, box: QRectF, proposal: Proposal, role: str) -> None:
        """The title word by word; what the file's name does not have is underlined and in amber."""
        font = self.theme.font(role, weight=500)
        painter.setFont(font)
        metrics = painter.fontMetrics()
        x, y, pitch = box.left(), box.top(), metrics.height() * 1.3
        for word in _words(proposal.own):
            wide = sum(metrics.horizontalAdvance(piece) for piece, _differs in word)
            if x + metrics.horizontalAdvance("".join(piece for piece, _d in word).rstrip()) > box.right() and (
                x > box.left()
            ):
                x, y = box.left(), y + pitch
            if y + pitch * 0.8 > box.bottom():
                return
            at = x
            for piece, differs in word:
                long = metrics.horizontalAdvance(piece)
                painter.setFont(font)
                painter.setPen(self.theme.color("amber" if differs else "ink"))
                painter.drawText(QPointF(at, y + metrics.ascent()), piece)
                if differs and piece.strip():
                    painter.setPen(QPen(self.theme.color("amber"), 1.4))
                    low = y + metrics.ascent() + self.theme.px(3)
                    painter.drawLine(QPointF(at, low), QPointF(at + metrics.horizontalAdvance(piece.rstrip()), low))
                at += long
            x += wide

    def _draw_queue(self, painter: QPainter, bar: QRectF, shown: Shown) -> None:
        whole = shown.left + shown.done
        self.block(painter, bar, "grid", radius=3)
        if whole:
            done = QRectF(bar.left(), bar.top(), bar.width() * shown.done / whole, bar.height())
            self.block(painter, done, "teal", radius=3)
        self.text(
            painter,
            QPointF(bar.right(), bar.top() - self.theme.px(11)),
            f"{shown.done} done, {shown.left} left",
            font=self.theme.font("small"),
            token="muted",
            align=Qt.AlignmentFlag.AlignRight,
        )

    def _draw_keys(self, painter: QPainter, box: QRectF) -> None:
        """The keys, as caps with a word behind each."""
        px = self.theme.px
        x, y = box.left(), box.top() + px(4)
        for key, words in KEYS:
            painter.setFont(self.theme.mono("small"))
            wide = painter.fontMetrics().horizontalAdvance(key) + px(12)
            painter.setFont(self.theme.font("small"))
            long = painter.fontMetrics().horizontalAdvance(words)
            if x + wide + px(6) + long > box.right():
                x, y = box.left(), y + px(22)
            cap = QRectF(x, y, wide, px(18))
            self.block(painter, cap, "field", "hairline", radius=3)
            self.text(painter, cap.center(), key, font=self.theme.mono("small"), align=Qt.AlignmentFlag.AlignHCenter)
            said = self.text(
                painter,
                QPointF(cap.right() + px(6), cap.center().y()),
                words,
                font=self.theme.font("small"),
                token="muted",
            )
            x = said.right() + px(14)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        self.setFocus()
        for index, each in enumerate(self._boxes):
            if each.contains(event.position()):
                self.chosen.emit(index)
                return


def _words(stretches: tuple[tuple[str, bool], ...]) -> list[list[tuple[str, bool]]]:
    """The stretches put together to words, each with the blank behind it."""
    found: list[list[tuple[str, bool]]] = [[]]
    for stretch, differs in stretches:
        for number, piece in enumerate(stretch.split(" ")):
            if number:
                found[-1].append((" ", False))
                found.append([])
            if piece:
                found[-1].append((piece, differs))
    return [word for word in found if word]


def _share(share: float) -> str:
    return show_share(share, 1) if share >= 0.001 else "under 0.1 %"
