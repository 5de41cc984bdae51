"""The latency to the glass and to the ear, what a camera says of it, and what makes it shorter."""

from __future__ import annotations

from PyQt6.QtWidgets import QDoubleSpinBox, QLineEdit, QVBoxLayout, QWidget

from kyklon.app.pages.tab_view import SystemView, side_px
from kyklon.app.pages.tuning.latency_plot import LatencyPlot
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, FigureRows, Sheet, button, label, row
from kyklon.app.widgets.kept import Kept, Make
from kyklon.base.errors import KyklonError
from kyklon.base.quantities import signed
from kyklon.catalogue.system_records import System
from kyklon.model.build import CameraClip
from kyklon.operations.tuning.camera import Measured, counts_in, fit
from kyklon.operations.tuning.latency import ear_shares, shares, total
from kyklon.operations.tuning.remedies import Shorter, case_of, shorter, suits
from kyklon.record.logbook import now

_SHOWN = 4  # remedies
_PLACES = (("", "anywhere on the screen"), ("0", "at the top"), ("0.5", "in the middle"), ("1", "at the bottom"))


class LatencyView(SystemView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.tips: tuple[Shorter, ...] = ()
        self.measured: Measured | None = None
        self.plot = LatencyPlot(self.theme)
        self.instrument = self.plot
        self._sheet = Sheet("From switch to screen")
        self._place = Choice(self.theme, "Where on the screen", lambda _value: self.refresh())
        self._place.set_choices(_PLACES, "")
        self._place.setMinimumContentsLength(20)
        self._sheet.add(self.plot, row(label("seen", "small"), self._place, 1))
        self._sheet.body.setStretch(0, 1)
        self._side = Sheet("Ways to reduce it", "the best first")
        self._tips = QVBoxLayout()
        self._tips.setSpacing(8)
        self._kept = Kept[QWidget](self._tips)
        self._figures = FigureRows(self.theme)
        self.counts = QLineEdit()
        self.counts.setAccessibleName("Frames counted for each press")
        self.counts.setPlaceholderText("12 14 13 12 15 …")
        self.counts.returnPressed.connect(self.add_film)
        self.per_second = QDoubleSpinBox()
        self.per_second.setRange(24, 2000)
        self.per_second.setDecimals(0)
        self.per_second.setValue(240)
        self.per_second.setSuffix(" per second")
        self.per_second.setAccessibleName("Camera frame rate (fps)")
        film = Sheet("Filmed")
        film.add(
            label(
                "Film button and screen together and press ten times. Count the frames from the switch closing "
                "to the screen reacting.",
                "small",
                wrap=True,
            ),
            row(self.counts, self.per_second),
            self._figures,
            row(button("Fit it", self.add_film), button("Delete measurements", self.forget, "quiet")),
        )
        self._side.add(self._tips)
        right = QVBoxLayout()
        right.setSpacing(12)
        right.addWidget(self._side, 1)
        right.addWidget(film)
        holder = QWidget()
        right.setContentsMargins(0, 0, 0, 0)
        holder.setLayout(right)
        holder.setFixedWidth(side_px(self.theme, 40))
        whole = row(self._sheet, holder, spacing=14)
        whole.setStretch(0, 1)
        self.setLayout(whole)

    def refresh(self) -> None:
        """Override."""
        build, catalogue, world = self.build, self.session.catalogue, self.session.world
        system = catalogue.find(System, self.system_id)
        case = case_of(build, catalogue, system) if system is not None else None
        if system is None or case is None:
            self.plot.show_latency(None)
            self._kept.show(())
            self._sheet.set_note("")
            self.tips, self.measured = (), None
            return
        place = float(self._place.value) if self._place.value else None
        seen = total(shares(case.way, case.values, case.rate, place))
        heard = total(ear_shares(case.way, case.values, case.rate))
        self.plot.show_latency(seen)
        self._sheet.set_note(
            f"seen {seen.percentile(50):.0f}\u202fms, heard {heard.percentile(50):.0f}\u202fms; "
            f"{suits(system, seen.mean)}"
        )
        self.tips = shorter(build, catalogue, world, system)
        rows: list[tuple[object, Make]] = [(tip, lambda tip=tip: self._tip(tip)) for tip in self.tips[:_SHOWN]]
        none = "Kyklon knows no way to reduce it further."
        self._kept.show(rows or [(none, lambda: label(none, "small", wrap=True))])
        self._tips.addStretch(1)
        clips = [clip for clip in build.tuning.clips if clip.system == system.id]
        self.measured = None
        if not clips:
            self._figures.set_rows((("Films", "none yet"),))
            return
        try:
            per_second = clips[-1].per_second
            counts = [count for clip in clips if clip.per_second == per_second for count in clip.counts]
            told = self.measured = fit(counts, per_second, seen)
        except KyklonError as bad:
            self.session.said.emit(str(bad))
            return
        self._figures.set_rows(
            (
                ("Presses", f"{told.presses}"),
                ("Filmed", f"{told.mean_ms:.1f}\u202fms"),
                ("Calculated", f"{seen.mean:.1f}\u202fms"),
                ("Unexplained", f"{signed(told.unknown_ms)}\u202fms"),
                ("95 % range", f"{signed(told.low_ms, 0)} to {signed(told.high_ms, 0)}\u202fms"),
            )
        )

    def _tip(self, tip: Shorter) -> QWidget:
        holder = QWidget()
        inside = QVBoxLayout(holder)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(2)
        words = f"{tip.words}: {tip.won_ms:.1f}\u202fms"
        remedy = tip.remedy
        if remedy is not None:
            inside.addWidget(button(words, lambda: self.take(remedy, tip.words), "outline"))
        else:
            inside.addWidget(label(words, "", wrap=True))
        inside.addWidget(label(f"Cost: {tip.cost}. Risk: {tip.risk}.", "small", wrap=True))
        return holder

    def add_film(self) -> None:
        """Keep a film, and fit it."""
        try:
            counts = counts_in(self.counts.text())
            if len(counts) < 5:
                counts_in("")
        except KyklonError as bad:
            self.session.said.emit(str(bad))
            return
        clip = CameraClip(system=self.system_id, per_second=self.per_second.value(), counts=counts, at=now())
        self.counts.clear()
        self.session.edit("tuning.clips", [*self.build.tuning.clips, clip], "Latency measured on film")

    def forget(self) -> None:
        """Drop the films of this system."""
        rest = [clip for clip in self.build.tuning.clips if clip.system != self.system_id]
        self.session.edit("tuning.clips", rest, "Latency measured on film")
