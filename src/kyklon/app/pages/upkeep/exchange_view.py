"""The card exchanged before it dies: for a copy, for one that is written anew, or for a disk; step by step."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QBoxLayout, QCheckBox, QVBoxLayout, QWidget

from kyklon.app.pages.tab_view import TabView, side_px
from kyklon.app.pages.upkeep.way_drawing import HERE, MACHINE, Station, WayDrawing
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, FigureRows, Sheet, button, column, label, row, scrolled, set_role
from kyklon.app.widgets.kept import Kept
from kyklon.app.widgets.tick import Tick
from kyklon.base.quantities import show_duration
from kyklon.model.build import Build
from kyklon.model.fields import describe
from kyklon.operations.card import disk
from kyklon.operations.registry import OPERATIONS
from kyklon.operations.upkeep import exchange
from kyklon.record.logbook import now


class ExchangeView(TabView):
    """leads: called with the operation that a step is done in."""

    def __init__(self, session: Session, leads: Callable[[int], object]) -> None:
        super().__init__(session)
        self._leads = leads
        self.instrument = self.drawing = WayDrawing(self.theme, "The way to another card or a disk")
        way = Sheet("Card exchange")
        way.add(scrolled(self.drawing))
        self.by = Choice(self.theme, "Exchange for", self._on_way)
        self.act = button("Begin", self._on_act, "primary")
        self._state = label("", wrap=True)
        begin = Sheet("Exchange the card for")
        begin.add(row(self.by, 1), self._state, row(1, self.act))
        self._next = label("", "section", wrap=True)
        self._why = label("", wrap=True)
        self.go = button("Open", self._on_go, "outline")
        following = Sheet("Next")
        following.add(self._next, self._why, row(self.go, 1))
        self._figures = FigureRows(self.theme)
        self._gain = Sheet("What a disk gains", "reading only")
        self._gain.add(self._figures)
        self._ticks = QVBoxLayout()
        self._kept = Kept[QCheckBox](self._ticks)
        self.ticks: dict[str, QCheckBox] = {}
        holder = QWidget()
        holder.setLayout(self._ticks)
        by_hand = Sheet("Done by hand", "no file shows these")
        by_hand.add(scrolled(holder))
        side = column(begin, following, self._gain, by_hand, spacing=12)
        side.setStretch(3, 1)
        if self.theme.scale > 1:
            way.setMinimumHeight(round(self.theme.px(420)))
            by_hand.setMinimumHeight(round(self.theme.px(220)))
            layout: QBoxLayout = column(way, side, spacing=14)
        else:
            for sheet in (begin, following, self._gain, by_hand):
                sheet.setFixedWidth(side_px(self.theme, 40))
            layout = row(way, side, spacing=14)
        layout.setStretch(0, 1)
        self.setLayout(layout)
        self._target = 0

    def refresh(self) -> None:
        """Override."""
        own = self.build.upkeep
        self.by.set_choices(describe(Build, "upkeep.exchange_by").choices, own.exchange_by)
        under_way = bool(own.exchange_since)
        rows = exchange.steps(self.build, self.session.catalogue, self.session.world)
        waiting = next((number for number, step in enumerate(rows) if not step.done), len(rows))
        self.drawing.show_way(
            tuple(
                Station(
                    step.title,
                    "done" if step.done else "next" if number == waiting and under_way else "open",
                    MACHINE if step.machine else HERE,
                    f"operation {step.operation}",
                )
                for number, step in enumerate(rows)
            )
        )
        done = under_way and waiting == len(rows)
        set_role(self.act, "outline" if under_way and not done else "primary", "kind")
        self.act.setText("Begin" if not under_way else "Finish" if done else "Stop the exchange")
        self._state.setText(
            f"Begun on {own.exchange_since[:10]}. Steps are marked by what happened since."
            if under_way
            else "A card wears out with writing. Exchange it while it can still be read."
        )
        step = rows[waiting] if waiting < len(rows) else None
        self._next.setText(("All steps are done." if step is None else step.title) if under_way else "Begin first.")
        self._why.setText(step.why if step and under_way else "")
        self._target = step.operation if step else 0
        self.go.setVisible(bool(step and under_way and step.operation != 95))
        if step is not None:
            name = next(each.name for each in OPERATIONS if each.number == step.operation)
            self.go.setText(f"Open {name}")
        self._show_gain()
        self._show_ticks(tuple(each for each in rows if each.ticked), on=under_way)

    def _show_gain(self) -> None:
        found = disk.outlook(self.build, self.session.catalogue)
        read = disk.readings(found, self.build, self.session.world) if found else ()
        self._gain.setVisible(self.build.upkeep.exchange_by == "disk" and bool(read))
        self._figures.set_rows(
            tuple(
                (each.what, f"{'about ' * each.guessed}{show_duration(each.disk_s)}, not {show_duration(each.card_s)}")
                for each in read
            )
        )

    def _show_ticks(self, rows: tuple[exchange.Step, ...], *, on: bool) -> None:
        made = self._kept.show(((each.name, each.title), lambda each=each: self._tick(each)) for each in rows)
        self.ticks = {each.name: tick for each, tick in zip(rows, made, strict=True)}
        for each, tick in zip(rows, made, strict=True):
            tick.blockSignals(True)
            tick.setChecked(each.done)
            tick.blockSignals(False)
            tick.setEnabled(on)
        self._ticks.addStretch(1)

    def _tick(self, step: exchange.Step) -> QCheckBox:
        made = Tick(step.title)
        made.setToolTip(step.why)
        made.toggled.connect(lambda on: self._on_tick(step, on=on))
        return made

    def _on_tick(self, step: exchange.Step, *, on: bool) -> None:
        self.session.put(step.title, exchange.with_tick(self.build, step.name, on=on))

    def _on_way(self, way: str) -> None:
        self.session.edit("upkeep.exchange_by", way)

    def _on_act(self) -> None:
        own = self.build.upkeep
        if own.exchange_since:
            rows = exchange.steps(self.build, self.session.catalogue, self.session.world)
            words = "Card exchanged" if all(step.done for step in rows) else "Card exchange stopped"
            self.session.put(words, exchange.ended(self.build))
        else:
            words = "Card exchange begun"
            self.session.put(words, exchange.begun(self.build, now()))
        self.session.log(95, words, describe(Build, "upkeep.exchange_by").words(own.exchange_by))

    def _on_go(self) -> None:
        self._leads(self._target)
