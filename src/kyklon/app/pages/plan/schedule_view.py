"""All steps of the build in the evenings that there are: the hands' lane and what runs by itself."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QInputDialog, QLineEdit, QSpinBox, QWidget

from kyklon.app.pages.plan.bench_day import BenchDays, Day, Mark
from kyklon.app.pages.tab_view import TabView
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import FigureRows, Sheet, button, column, label, row, scrolled
from kyklon.base.quantities import show_duration
from kyklon.model.build import edited
from kyklon.model.plan import Evening
from kyklon.operations.plan.schedule import Schedule, as_icalendar, schedule
from kyklon.operations.plan.steps import Step, expected, steps
from kyklon.operations.plan.way import way
from kyklon.operations.registry import operation
from kyklon.record.builds import steps_done

_DAY_MIN = 1440.0


class ScheduleView(TabView):
    """Evenings are typed at the right; a click on a step tells of it, and marks it done."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._made: Schedule | None = None
        self._steps: tuple[Step, ...] = ()
        self._elsewhere = steps_done(session.folder)
        self.instrument = self._days = BenchDays(self.theme)
        self._days.chosen.connect(self._on_chosen)
        bench = Sheet("Bench", "above: hands; below: by itself")
        bench.head.addWidget(button("Save as calendar…", self.ask_calendar, "quiet"))
        self._asks = label("", "caution", wrap=True)
        bench.add(scrolled(self._days), self._asks)
        bench.body.setStretch(0, 1)
        self._first = QLineEdit()
        self._first.setAccessibleName("First evening")
        self._first.setText(date.today().isoformat())
        self._count, self._minutes = QSpinBox(), QSpinBox()
        for box, name, low, high, value, suffix in (
            (self._count, "Evenings", 1, 60, 2, " evenings"),
            (self._minutes, "Minutes of each", 15, 720, 150, "\u202fmin"),
        ):
            box.setRange(low, high)
            box.setValue(value)
            box.setSuffix(suffix)
            box.setAccessibleName(name)
        times = Sheet("Time at the bench")
        times.add(
            label("From", "muted"),
            self._first,
            row(self._count, self._minutes),
            row(button("Fill them", self.fill, "primary"), button("No evenings", self.clear, "quiet"), 1),
        )
        self._figures = FigureRows(self.theme)
        sums = Sheet("In all")
        sums.add(self._figures)
        self._about = label("Choose a step.", wrap=True)
        self._done = button("Mark as done…", self.ask_done, "outline")
        self._done.setEnabled(False)
        chosen = Sheet("Step")
        chosen.add(self._about, row(self._done, 1), 1)
        beside = QWidget()
        layout = column(times, sums, chosen, spacing=12)
        layout.setStretch(2, 1)
        beside.setLayout(layout)
        if self.theme.scale == 1:
            beside.setFixedWidth(round(self.theme.px(276)))
        if self.theme.scale > 1:  # large text: one below the other
            beside.setMaximumWidth(9999)
            self._days.setMinimumHeight(round(self.theme.px(240)))
            self.setLayout(column(bench, beside, spacing=12))
        else:
            self.setLayout(row(bench, beside, spacing=14))
            self.layout().setStretch(0, 1)

    def refresh(self) -> None:
        """Override."""
        build = self.build
        self._steps = steps(build, self.session.catalogue, self.session.world, self._elsewhere)
        now = datetime.now().replace(second=0, microsecond=0)
        self._made = made = schedule(self._steps, build.plan.evenings, now)
        self._days.show_days(_days_of(made), tuple(step.title for step in made.left))
        left = sum(expected(step.hands) for step in made.left)
        half, most = made.likely
        done = sum(step.done for step in self._steps)
        rows = [
            ("Steps", f"{done} of {len(self._steps)} done"),
            ("Handwork", show_duration(round(made.hands) * 60)),
        ]
        if made.slots:
            rows.append(("Finished" if not made.left else "So far until", f"{made.at(made.finish):%d %b, %H:%M}"))
            rows += [
                ("With all day free", f"about {_long(half)}"),
                ("9 of 10 runs", f"under {_long(most)}"),
            ]
        if made.left:
            rows.append(("No evening yet", f"{len(made.left)}, {show_duration(round(left) * 60)}"))
        self._figures.set_rows(tuple(rows))
        asks = [
            f"{' and '.join(step.asks)}, to {step.what[:1].lower()}{step.what[1:]}"
            for step in way(build, self.session.catalogue, self.session.world)
            if step.asks
        ]
        self._asks.setText(f"▲ Still open: {'; '.join(asks)}." if asks else "")
        self._asks.setVisible(bool(asks))
        self._on_chosen(self._days.current)

    @property
    def step(self) -> Step | None:
        """The step that is chosen."""
        return next((step for step in self._steps if step.id == self._days.current), None)

    def _on_chosen(self, _step: str) -> None:
        step = self.step
        self._done.setEnabled(step is not None and not step.done)
        if step is None:
            self._about.setText(
                "Choose a step in the drawing. ◆ marks the longest chain: a delay there delays the finish."
            )
            return
        names = {other.id: other.title for other in self._steps}
        low, _usual, high = step.hands
        hands = f"{show_duration(round(low) * 60)} to {show_duration(round(high) * 60)} of your hands"
        runs = show_duration(round(expected(step.alone)) * 60)
        alone = f"Then it runs by itself for about {runs}." if any(step.alone) else ""
        learnt = "Learnt from your own steps." if step.learnt else "Common practice; your own times will correct it."
        after = [f"After “{names[name]}”: {why}." for name, why in step.after if name in names]
        lines = [f"{step.title}, in {operation(step.operation).name}: {hands}.", alone, learnt, *after]
        self._about.setText("\n".join(line for line in lines if line))

    def fill(self) -> None:
        """Fill so many evenings, one a day from the first on."""
        try:
            first = date.fromisoformat(self._first.text().strip())
        except ValueError:
            self.session.said.emit("The first evening: write it as 2027-03-01.")
            return
        minutes = self._minutes.value()
        rows = [
            Evening(day=(first + timedelta(days=number)).isoformat(), minutes=minutes).model_dump()
            for number in range(self._count.value())
        ]
        self.session.edit("plan.evenings", rows)

    def clear(self) -> None:
        """Without evenings the hands are always free."""
        self.session.edit("plan.evenings", [])

    def ask_done(self) -> None:
        """Mark the chosen step done, with the minutes it took; the rest is planned anew and learns from it."""
        step = self.step
        if step is None:
            return
        usual = round(expected(step.hands))
        minutes, agreed = QInputDialog.getInt(self, "Done", f"{step.title}: minutes of your hands", usual, 0, 10_000)
        if agreed:
            self.mark_done(step.id, minutes)

    def mark_done(self, step: str, minutes: float) -> None:
        rows = [row_.model_dump() for row_ in self.build.plan.done if row_.step != step]
        rows.append({"step": step, "minutes": minutes, "at": datetime.now(UTC).isoformat()})
        self.session.put("Step done", edited(self.build, "plan.done", rows))

    def ask_calendar(self) -> None:
        """Save the handwork as iCalendar."""
        if self._made is None:
            return
        start = str(self.session.folder / "issued" / "schedule.ics")
        path, _kind = QFileDialog.getSaveFileName(self, "Save the calendar", start, "iCalendar (*.ics)")
        if path:
            text = as_icalendar(self._made, self.build.name, datetime.now(UTC))
            self.session.keep_file(Path(path), text.encode(), f"The calendar is in {path}")


def _long(minutes: float) -> str:
    """Minutes in days and hours where they are many."""
    if minutes < _DAY_MIN * 2:
        return show_duration(round(minutes) * 60)
    days, hours = divmod(round(minutes / 60), 24)
    return f"{days} days {hours}\u202fh"


def _days_of(made: Schedule) -> tuple[Day, ...]:
    """The schedule as drawn: a row an evening, or a row a day where hands are always free."""
    rows: list[Day] = []
    always = len(made.windows) == 1 and made.windows[0][1] - made.windows[0][0] > _DAY_MIN * 60
    windows = list(made.windows)
    if always:
        end = made.finish
        used = sorted({int(low // _DAY_MIN) for slot in made.slots for low, _high in slot.pieces})
        windows = []
        for number in used:
            pieces = [piece for slot in made.slots for piece in slot.pieces if number == int(piece[0] // _DAY_MIN)]
            low, high = min(start for start, _end in pieces), max(end_ for _start, end_ in pieces)
            windows.append((low, min(max(high, low + 60), end + 60)))
    for low, high in windows:
        hands, alone = [], []
        for slot in made.slots:
            critical = slot.step.id in made.critical
            for start, end in slot.pieces:
                if start < high and end > low and end > start:
                    hands.append(Mark(slot.step.id, slot.step.title, max(start, low), min(end, high), critical))
            begin = slot.hands_end
            if slot.end > begin + 1 and begin < high and slot.end > low:
                # what begins here runs on beyond the evening: drawn to its edge, with an arrow
                alone.append(
                    Mark(slot.step.id, slot.step.title, max(begin, low), min(slot.end, high), critical, slot.end > high)
                )
        if hands or alone:
            rows.append(Day(f"{made.at(low):%a %d %b}", f"{made.at(low):%H:%M}", low, high, tuple(hands), tuple(alone)))
    return tuple(rows)
