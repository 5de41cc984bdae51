"""The panel editor: lay out from hand measures, drag, align, mirror, copy a seat; and what the measures say."""

from __future__ import annotations

from PyQt6.QtWidgets import QDoubleSpinBox, QGridLayout, QWidget

from kyklon.app.pages.controls.bench import BenchView
from kyklon.app.pages.controls.measures import MeasureList
from kyklon.app.pages.controls.table_drawing import Shown
from kyklon.app.pages.controls.table_view import TableView
from kyklon.app.pages.tab_view import side_px
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, Sheet, button, column, label, row, scrolled, set_tip
from kyklon.base.quantities import counted
from kyklon.catalogue.control_records import Arrangement
from kyklon.catalogue.system_records import Panel
from kyklon.model.controls import Layout
from kyklon.operations.controls import arrange
from kyklon.operations.controls.clearance import checks

_TURNS = (("0", "near side"), ("180", "far side"), ("90", "left side"), ("270", "right side"))
_OWN = "-"


class LayoutView(BenchView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._chosen: frozenset[tuple[int, str]] = frozenset()
        self._seat = 1
        self.view = TableView(self.theme, "The panel; drag a control to move it", editable=True)
        self.instrument = self.view
        self.view.picked.connect(self._on_picked)
        self.view.dragged.connect(self._on_dragged)
        sheet = Sheet("To scale", "drag a control; Shift picks more; arrows move by 1\u202fmm")
        sheet.add(self.view, self._make_tools())
        sheet.body.setStretch(0, 1)
        self.measures = MeasureList(self.theme)
        self.measures.asked.connect(self._on_measure)
        self._side = Sheet("Measures")
        self._side.add(scrolled(self.measures))
        side = QWidget()
        side.setLayout(column(self._make_start(), self._side, spacing=12))
        side.layout().setStretch(1, 1)
        side.setFixedWidth(side_px(self.theme))
        self.setLayout(row(sheet, side, spacing=14))
        self.layout().setStretch(0, 1)

    def _make_start(self) -> Sheet:
        self._panel = Choice(self.theme, "Panel", self._on_panel)
        self._arrangement = Choice(self.theme, "Arrangement", lambda _value: None)
        self._hand = Choice(self.theme, "Hand", lambda _value: self.refresh())
        hands = tuple((hand.name, f"{hand.name}, {hand.breadth:g}\u202fmm across") for hand in arrange.HANDS)
        self._hand.set_choices(hands, "middle")
        self._seats = Choice(self.theme, "Seats", lambda _value: None)
        self._seats.set_choices(tuple((str(n), counted(n, "seat")) for n in range(1, 5)), "2")
        self._facing = Choice(self.theme, "Seated", lambda _value: None)
        self._facing.set_choices((("side", "side by side"), ("facing", "facing")), "facing")
        self.lay_out = button("Lay out", self._on_lay_out, "outline", tip="Replaces the panel; undo brings it back")
        start = Sheet("Start from")
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(6)
        for line, (words, choice) in enumerate(
            (("panel", self._panel), ("or lay out", self._arrangement), ("for a hand", self._hand))
        ):
            grid.addWidget(label(words, "small"), line, 0)
            grid.addWidget(choice, line, 1)
        grid.setColumnStretch(1, 1)
        start.add(grid, row(self._seats, self._facing, self.lay_out, spacing=6))
        return start

    def _make_tools(self) -> QWidget:
        self._kind = Choice(self.theme, "Kind of control", lambda _value: None)
        self._kind.set_choices(tuple((kind, name) for kind, name in arrange.NAMES.items()), "button")
        self._add = button("Add", self._on_add)
        self._turn = Choice(self.theme, "Seat position", self._on_turn)
        self._turn.set_choices(_TURNS, "0")
        tools = [
            button("Row", lambda: self._align("row"), tip="Line up the selected controls in a row"),
            button("Column", lambda: self._align("column"), tip="One line from the far edge to the near"),
            button("Even", lambda: self._align("even"), tip="The same distance from each to the next"),
        ]
        self._copy = button("Copy seat", self._on_copy, tip="Copies to the next seat; adds one if needed")
        self._remove = button("Remove", self._on_remove)
        self._spins: dict[str, QDoubleSpinBox] = {}
        grid = QGridLayout()
        grid.setHorizontalSpacing(6)
        for index, (name, words, sign) in enumerate(
            (("x", "From the left edge", "x"), ("y", "From the far edge", "y"), ("bore", "Bore", "⌀"))
        ):
            spin = QDoubleSpinBox()
            spin.setRange(0 if name != "bore" else 8, 3000 if name != "bore" else 120)
            spin.setDecimals(1)
            spin.setPrefix(f"{sign} ")
            spin.setSuffix("\u202fmm")
            set_tip(spin, words)
            spin.setAccessibleName(words)
            spin.setKeyboardTracking(False)
            spin.valueChanged.connect(lambda value, name=name: self._on_typed(name, value))
            self._spins[name] = spin
            grid.addWidget(spin, 0, index)
        self._degrees = QDoubleSpinBox()
        self._degrees.setRange(-180, 359)
        self._degrees.setDecimals(0)
        self._degrees.setPrefix("↻ ")
        self._degrees.setSuffix("°")
        self._degrees.setKeyboardTracking(False)
        self._degrees.setAccessibleName("Seat rotation, clockwise")
        set_tip(self._degrees, "Seat rotation, clockwise")
        self._degrees.valueChanged.connect(lambda value: self._on_turn(str(value)))
        self._degrees.setMaximumWidth(round(self.theme.px(92)))
        self._ways = Choice(self.theme, "Restrictor gate", self._on_ways)
        self._ways.set_choices((("8", "8 ways"), ("4", "4 ways")), "8")
        grid.addWidget(self._ways, 0, 3)
        grid.setColumnStretch(4, 1)
        box = QWidget()
        mirror = button("Mirror", self._on_mirror, tip="For the other hand")
        near = row(label("seat at the", "small"), self._turn, self._degrees, mirror, self._copy, 1, spacing=6)
        box.setLayout(column(row(self._kind, self._add, *tools, 1, self._remove, spacing=6), near, grid, spacing=6))
        return box

    # --- showing -----------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Override."""
        settings, catalogue = self.settings, self.session.catalogue
        panels = tuple((each.id, each.name) for each in catalogue.all(Panel))
        own = ((_OWN, "custom"),) if settings.layout is not None else ()
        self._panel.set_choices((*own, *panels), _OWN if settings.layout is not None else settings.panel)
        if not self._arrangement.count():
            names = tuple((each.id, each.name) for each in catalogue.all(Arrangement))
            self._arrangement.set_choices(names, "curved-six")
        layout = self.layout_now
        self._chosen = frozenset((player, name) for player, name in self._chosen if _has(layout, player, name))
        if layout is not None and self._seat > len(layout.seats):
            self._seat = 1
        self.view.show_table(Shown(layout=layout))
        self.view.select(self._chosen)
        told = checks(layout, self._hand_now()) if layout is not None else ()
        self.measures.show_checks(told)
        bad = sum(not each.ok for each in told)
        self._side.set_note(f"{bad} of {len(told)} measures fail" if bad else f"all {len(told)} measures pass")
        self._show_choice(layout)

    def _show_choice(self, layout: Layout | None) -> None:
        one = next(iter(self._chosen)) if len(self._chosen) == 1 else None
        control = layout.seats[one[0] - 1].control(one[1]) if layout and one else None
        for name, spin in self._spins.items():
            spin.blockSignals(True)
            spin.setEnabled(control is not None)
            if control is not None:
                spin.setValue(getattr(control, name))
            spin.blockSignals(False)
        lever = control is not None and control.kind == "lever"
        self._ways.setVisible(lever)
        if control is not None and lever:
            self._ways.setCurrentIndex(0 if control.ways == 8 else 1)
        self._remove.setEnabled(bool(self._chosen))
        self._copy.setText(f"Copy seat {self._seat}")
        seat = layout.seat(self._seat) if layout else None
        if seat is not None:
            self._turn.setCurrentIndex(self._turn.findData(f"{seat.turn % 360:g}"))
            self._degrees.blockSignals(True)
            self._degrees.setValue(round(seat.turn % 360))
            self._degrees.blockSignals(False)

    def _hand_now(self) -> arrange.Hand:
        return next((hand for hand in arrange.HANDS if hand.name == self._hand.value), arrange.HANDS[1])

    # --- editing -----------------------------------------------------------------------------------------------

    def _take(self, layout: Layout, words: str) -> None:
        self.put(words, layout=layout)

    def _on_panel(self, value: str) -> None:
        if value != _OWN:
            self.put("Panel", panel=value, layout=None)

    def _on_lay_out(self) -> None:
        arrangement = self.session.catalogue.get(Arrangement, self._arrangement.value)
        seats, facing = int(self._seats.value), self._facing.value == "facing"
        width = 420.0 if facing else 560.0
        seat = arrange.layout_seat(arrangement, self._hand_now(), width, 150.0 if facing else 190.0)
        self._chosen, self._seat = frozenset(), 1
        self._take(arrange.table_of(seat, seats, facing=facing), f"Panel laid out: {arrangement.name}")

    def _on_picked(self, player: int, control: str, adds: bool) -> None:
        if player:
            self._seat = player
        if not control:
            self._chosen = frozenset()
        elif adds:
            same = frozenset(each for each in self._chosen if each[0] == player)
            self._chosen = same ^ {(player, control)}
        elif (player, control) not in self._chosen:
            self._chosen = frozenset({(player, control)})
        self.view.select(self._chosen)
        self._show_choice(self.layout_now)

    def _ids(self) -> tuple[str, ...]:
        return tuple(name for player, name in self._chosen if player == self._seat)

    def _on_dragged(self, player: int, dx: float, dy: float) -> None:
        layout = self.layout_now
        if layout is not None:
            self._take(arrange.moved(layout, player, self._ids(), dx, dy), "Control moved")

    def _on_typed(self, name: str, value: float) -> None:
        layout, one = self.layout_now, next(iter(self._chosen), None)
        control = layout.seats[one[0] - 1].control(one[1]) if layout and one else None
        if layout is None or one is None or control is None or getattr(control, name) == value:
            return
        try:
            made = arrange.with_control(layout, one[0], control.model_copy(update={name: round(value, 1)}))
        except ValueError as bad:
            self.session.said.emit(str(bad))
            self._show_choice(layout)
            return
        self._take(made, "Control moved" if name != "bore" else "Bore")

    def _on_ways(self, value: str) -> None:
        layout, one = self.layout_now, next(iter(self._chosen), None)
        control = layout.seats[one[0] - 1].control(one[1]) if layout and one else None
        if layout is not None and one is not None and control is not None:
            self._take(arrange.with_control(layout, one[0], control.model_copy(update={"ways": int(value)})), "Lever")

    def _align(self, along: str) -> None:
        layout = self.layout_now
        if layout is None or len(self._ids()) < 2:
            self.session.said.emit("Choose at least two controls of one seat first.")
            return
        self._take(arrange.aligned(layout, self._seat, self._ids(), along), "Controls aligned")

    def _on_add(self) -> None:
        layout = self.layout_now
        if layout is None:
            return
        seat = layout.seats[self._seat - 1]
        made, name = arrange.added(layout, self._seat, self._kind.value, seat.width_mm / 2, seat.height_mm / 2)  # type: ignore[arg-type]
        self._chosen = frozenset({(self._seat, name)})
        self._take(made, "Control added")

    def _on_remove(self) -> None:
        layout = self.layout_now
        if layout is not None and self._ids():
            self._take(arrange.removed(layout, self._seat, self._ids()), "Control removed")

    def _on_mirror(self) -> None:
        layout = self.layout_now
        if layout is not None:
            self._take(arrange.mirrored(layout, self._seat), f"Seat {self._seat} mirrored")

    def _on_copy(self) -> None:
        layout = self.layout_now
        if layout is None:
            return
        to = self._seat % max(2, len(layout.seats)) + 1 if len(layout.seats) >= 4 else len(layout.seats) + 1
        try:
            made = arrange.copied(layout, self._seat, to)
        except ValueError as bad:
            self.session.said.emit(str(bad))
            return
        self._take(made, f"Seat {self._seat} copied to seat {to}")

    def _on_turn(self, value: str) -> None:
        layout = self.layout_now
        if layout is not None:
            self._take(arrange.turned(layout, self._seat, float(value)), f"Seat {self._seat} turned")

    def _on_measure(self, player: int, ids: tuple[str, ...]) -> None:
        self._seat, self._chosen = player, frozenset((player, each) for each in ids)
        self.view.select(self._chosen)
        self._show_choice(self.layout_now)


def _has(layout: Layout | None, player: int, name: str) -> bool:
    seat = layout.seat(player) if layout else None
    return seat is not None and seat.control(name) is not None
