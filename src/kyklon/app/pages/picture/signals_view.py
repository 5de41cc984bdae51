"""From the switch to the game: every signal in order of time, and the order in which to switch things on."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QWidget

from kyklon.app.pages.picture.light import LightView
from kyklon.app.pages.picture.signals_drawing import SignalsDrawing, Step
from kyklon.app.pages.tab_view import side_px
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, FigureRows, Sheet, column, label, row, scrolled
from kyklon.base.quantities import show, show_duration
from kyklon.catalogue.records import Display
from kyklon.operations.picture.signals import Signal, signals
from kyklon.operations.picture.waking import steps_of


class _Clickable(SignalsDrawing):
    def __init__(self, view: SignalsView) -> None:
        super().__init__(view.theme)
        self._view = view
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        if event is not None:
            self._view.choose(self.step_at(event.position().x()))


class SignalsView(LightView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._chosen = -1
        self.drawing = _Clickable(self)
        self.instrument = self.drawing
        self._sheet = Sheet("Signals sent to the display", "in order of time; green bands show what it accepts")
        self._sheet.add(self.drawing)
        self._facts = Sheet("Selected signal")
        self._rows = FigureRows(self.theme)
        self._why = label("", "", wrap=True)
        self._facts.add(self._rows, self._why, 1)
        self._order = Sheet("Order of switching")
        self._when = Choice(self.theme, "When the display is switched on", self._on_when)
        self._when.set_choices(
            (("with the machine", "display on with the machine"), ("once the mode holds", "display by hand, later")),
            "with the machine",
        )
        self._steps = label("", "", wrap=True)
        self._steps.setAlignment(Qt.AlignmentFlag.AlignTop)
        self._order.add(self._when, scrolled(self._steps))
        side = QWidget()
        side.setLayout(column(self._facts))
        side.setFixedWidth(side_px(self.theme))
        below = row(self._order, side, spacing=12)
        below.setStretch(0, 1)
        whole = column(self._sheet, below, spacing=12)
        whole.setStretch(0, 5)
        whole.setStretch(1, 3)
        self.setLayout(whole)

    @property
    def found(self) -> tuple[Signal, ...]:
        return signals(self.build, self.session.catalogue, self.session.world)

    def choose(self, place: int) -> None:
        """Look at the signal at a place of the time line."""
        self._chosen = place
        self.refresh()

    def refresh(self) -> None:
        """Override."""
        found, signal_path = self.found, self.signal_path
        wrong = next((index for index, each in enumerate(found) if each.harms), None)
        chosen = self._chosen if 0 <= self._chosen < len(found) else wrong if wrong is not None else 0
        self.drawing.show_steps(
            tuple(self._step(each) for each in found), signal_path.ranges if signal_path else (), chosen
        )
        count = sum(1 for each in found if each.harms)
        self._sheet.set_note(
            "in order of time; green bands show what it accepts"
            if not count
            else f"{count} of them must not reach the display"
        )
        self._when.set_choices(
            (
                ("with the machine", "display on with the machine"),
                ("once the mode holds", "display by hand, once the mode holds"),
            ),
            self.build.picture.display_on,
        )
        self._show_order(found)
        if found:
            self._show(found[chosen])

    @staticmethod
    def _step(signal: Signal) -> Step:
        timing = signal.timing
        line = float(timing.horizontal_hz) / 1000 if timing else None
        return Step(
            signal.title, line, float(timing.vertical_hz) if timing else 0.0, bool(signal.wrong), signal.guarded
        )

    def _show(self, signal: Signal) -> None:
        timing = signal.timing
        self._facts.set_title(signal.title)
        rows = [("Signal", "none")]
        if timing is not None:
            rows = [
                ("Size", f"{timing.size[0]} × {timing.size[1]}{' interlaced' if timing.interlaced else ''}"),
                ("Line", show(float(timing.horizontal_hz), "Hz", 3, prefix="k")),
                ("Field" if timing.interlaced else "Frame", show(float(timing.vertical_hz), "Hz", 3)),
                ("Pixel clock", show(timing.clock_hz, "Hz", 2, prefix="M")),
            ]
        rows.append(("Lasts", f"about {show_duration(signal.seconds)}" if signal.seconds else "as long as you play"))
        self._rows.set_rows(tuple(rows))
        verdict = f"Must not be sent: {signal.wrong}." if signal.wrong else ""
        if signal.wrong and signal.guarded:
            verdict = f"The display is off then. The signal is {signal.wrong}."
        origin = signal.origin[:1].upper() + signal.origin[1:]
        self._why.setText(f"{origin}." + (f"\n{verdict}" if verdict else ""))

    def _show_order(self, found: tuple[Signal, ...]) -> None:
        display = self.session.catalogue.find(Display, self.build.part("display"))
        if display is None:
            self._steps.setText("")
            return
        later = self.build.picture.display_on == "once the mode holds"
        lines = ["Plug everything in with the power off."]
        if later:
            menu = next((signal for signal in found if signal.key == "menu"), None)
            seconds = sum(signal.seconds for signal in found if signal.key in ("firmware", "kernel"))
            lines.append(f"Switch the machine on; leave {display.name} off.")
            lines.append(
                f"Wait until the menu's mode holds, {seconds:.0f}\u202fs at least"
                f"{'; its sound tells' if menu else ''}. Then switch {display.name} on."
            )
            lines.append(f"When you finish: switch {display.name} off first, then shut the machine down.")
        else:
            lines.append(f"Switch {display.name} on with the machine.")
            lines.append("When you finish: shut down from the menu, then unplug.")
        lines += steps_of(display)
        if display.tube:
            lines.append("A picture that rolls or a tube that whines: off at once.")
        self._steps.setText("\n".join(f"{index}. {line}" for index, line in enumerate(lines, 1)))

    def _on_when(self, value: str) -> None:
        if value != self.build.picture.display_on:
            self.session.edit("picture.display_on", value)
