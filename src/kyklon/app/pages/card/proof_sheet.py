"""The proof of a card on one page: what was written, from what, how it read back, how fast, and what it says."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter

from kyklon.app.pages.card.card_strip import CardStrip, Strip
from kyklon.app.pages.card.rate_curve import RateCurve, Rates
from kyklon.app.theme.lamps import paint_lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.quantities import show_bytes, show_duration
from kyklon.devices.ports import DriveFacts
from kyklon.model.build import Build
from kyklon.model.image_file import SourceFacts
from kyklon.operations.card.drives.writer import WriteReport

A4 = QSize(794, 1123)  # pixels at 96 dpi of 210 mm x 297 mm (ISO 216)


@dataclass(frozen=True)
class ProofFacts:
    """rows: name and figure, in groups with a heading. history: lines, newest last."""

    title: str
    subtitle: str
    lamp: str
    verdict: str
    groups: tuple[tuple[str, tuple[tuple[str, str], ...]], ...]
    strip: Strip | None
    write_rates: Rates
    verify_rates: Rates
    history: tuple[str, ...]


def sheet_of(
    build: Build, drive: DriveFacts, source: SourceFacts, report: WriteReport, strip: Strip | None, promised: float
) -> ProofFacts:
    """promised: MB/s of the card's class, 0 for none."""
    known = build.known_card(drive.identity)
    name = known.name if known else drive.name
    good = build.card.verdict in ("", "good")
    rate = f"{report.target_rate / 1e6:.1f} MB/s" + (f", class promises {promised:.0f} MB/s" if promised else "")
    card = (
        ("Name", name),
        ("Drive", f"{drive.name}, {drive.model}, {drive.bus_shown}"),
        ("Serial", drive.serial or "not reported"),
        ("Size", f"{show_bytes(drive.size)} = {drive.size / 2**30:.2f} GiB"),
    )
    image = (
        ("File", source.name),
        ("Packed", f"{show_bytes(source.packed)}, {source.kind}"),
        ("Written", f"{report.size} bytes = {show_bytes(report.size)}"),
        ("Published checksum", f"{report.checked}, matches" if report.checked else "not known"),
    )
    proof = (
        ("Read back", "every byte, compared with what was written"),
        ("Time", show_duration(report.seconds)),
        ("Speed of the card", rate),
        ("Retries", f"{len(report.retried)} places" if report.retried else "none"),
    )
    events = known.events[-7:] if known else ()
    return ProofFacts(
        f"Proof of the card “{name}”",
        f"{build.name} · {build.card.at.replace('T', ' ')[:16]}",
        "clear" if good else "caution",
        build.card.sentence or "Everything was read back as written.",
        (("The card", card), ("The image", image), ("The proof", proof)),
        strip,
        report.write_rates,
        report.verify_rates,
        tuple(f"{event.at.replace('T', ' ')[:16]}  {event.what}: {event.detail.splitlines()[0]}" for event in events),
    )


class ProofSheet(Instrument):
    """Always the size of a page, in ink on paper whatever the window's theme."""

    least = A4

    def __init__(self, theme: Theme, facts: ProofFacts) -> None:
        super().__init__(Theme(), f"{facts.title}")
        self._facts = facts
        self._strip, self._curve = CardStrip(self.theme), RateCurve(self.theme)
        if facts.strip is not None:
            self._strip.show_strip(facts.strip)
        self._curve.show_rates(facts.write_rates, facts.verify_rates)
        self.setFixedSize(A4)

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        facts = self._facts
        painter.fillRect(box, self.theme.color("sheet"))
        page = box.adjusted(56, 52, -56, -48)
        font = self.theme.font("title", weight=600)
        self.text(painter, QRectF(page.left(), page.top(), page.width(), 32), facts.title, font=font)
        self.text(painter, QRectF(page.left(), page.top() + 32, page.width(), 20), facts.subtitle, token="muted")
        paint_lamp(painter, QRectF(page.left(), page.top() + 70, 14, 14), facts.lamp, self.theme)
        words = self.theme.font("section", weight=600)
        self.text(painter, QRectF(page.left() + 24, page.top() + 64, page.width() - 24, 26), facts.verdict, font=words)
        top = page.top() + 110
        for title, rows in facts.groups:
            top = self._group(painter, page, top, title, rows)
        self.text(painter, QPointF(page.left(), top + 8), "Layout", font=words)
        self._strip.draw(painter, QRectF(page.left(), top + 24, page.width(), 190))
        top += 236
        self.text(painter, QPointF(page.left(), top), "Speed against time", font=words)
        self._curve.draw(painter, QRectF(page.left(), top + 12, page.width(), 170))
        self._history(painter, page, top + 204)

    def _group(
        self, painter: QPainter, page: QRectF, top: float, title: str, rows: tuple[tuple[str, str], ...]
    ) -> float:
        self.text(painter, QPointF(page.left(), top), title, font=self.theme.font("section", weight=600))
        for index, (name, figure) in enumerate(rows):
            line = QRectF(page.left() + 150, top - 11 + index * 22, page.width() - 150, 22)
            self.text(painter, line, name, token="muted")
            self.text(painter, line.adjusted(140, 0, 0, 0), figure, font=self.theme.mono("label"))
            self.line(painter, line.bottomLeft(), line.bottomRight(), "grid")
        return top + len(rows) * 22 + 20

    def _history(self, painter: QPainter, page: QRectF, top: float) -> None:
        self.text(painter, QPointF(page.left(), top), "History", font=self.theme.font("section", weight=600))
        for index, words in enumerate(self._facts.history):
            line = QRectF(page.left(), top + 12 + index * 19, page.width(), 19)
            if line.bottom() > page.bottom() - 18:
                break
            self.text(
                painter,
                line,
                words,
                font=self.theme.mono("small"),
                token="muted",
                align=Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter,
            )
        self.text(
            painter, QPointF(page.left(), page.bottom()), "Made by Kyklon from what was read back.", token="muted"
        )
