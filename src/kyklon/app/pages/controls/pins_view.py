"""The pin header: tick what is to sit on it, and every wire gets its pin; or the reason why that cannot be."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtWidgets import QWidget

from kyklon.app.pages.controls.bench import BenchView
from kyklon.app.pages.controls.header_drawing import HeaderDrawing, Seated
from kyklon.app.pages.tab_view import side_px
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import FigureRows, Sheet, column, label, row, scrolled, set_role, set_tip, unmarked
from kyklon.app.widgets.tick import Tick
from kyklon.base.shown import visible
from kyklon.catalogue.control_records import Header
from kyklon.catalogue.records import Board, Overlay
from kyklon.operations.controls import pins
from kyklon.operations.controls.pins import Allocation, Wish


class PinsView(BenchView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._refused: tuple[str, Allocation] | None = None
        self._wire: tuple[str, str] | None = None
        self.view = HeaderDrawing(self.theme)
        self.view.pressed.connect(self._on_pin)
        self.instrument = self.view
        self._sheet = Sheet("The header", "seen from above; pick a wire, then another pin for it")
        self._sheet.add(self.view)
        self._wishes = Sheet("Hardware to connect")
        self.ticks: dict[str, Tick] = {}
        self._rows = column(spacing=4)
        holder = QWidget()
        holder.setLayout(column(self._rows, 1))
        self._wishes.add(scrolled(holder))
        self._wishes.body.setStretch(0, 1)
        told = Sheet("Result")
        self._why = label("", "", wrap=True)
        self._conflict = label("", "warning", wrap=True)
        self._figures = FigureRows(self.theme)
        self._notes = label("", "small", wrap=True)
        self._caution = label("Switch the board off first. 5 V on a signal pin kills the board.", "warning", wrap=True)
        told.add(self._why, self._conflict, self._figures, self._notes, self._caution)
        side = QWidget()
        side.setLayout(column(self._wishes, told, spacing=12))
        side.layout().setStretch(0, 1)
        side.setFixedWidth(side_px(self.theme))
        self.setLayout(row(self._sheet, side, spacing=14))
        self.layout().setStretch(0, 1)

    @property
    def header(self) -> Header | None:
        build, catalogue = self.session.build, self.session.catalogue
        board = catalogue.find(Board, build.part("board"))
        return catalogue.find(Header, board.header) if board is not None else None

    @property
    def wishes(self) -> tuple[Wish, ...]:
        return pins.wishes_of(self.session.build.boot.overlays, self.session.catalogue)

    def refresh(self) -> None:
        """Override."""
        header = self.header
        if not self.ticks:
            for overlay in self.session.catalogue.all(Overlay):
                tick = Tick(unmarked(visible(overlay.name)))
                set_tip(tick, overlay.note)
                tick.clicked.connect(lambda on, key=overlay.id: self.on_wish(key, on=on))
                self.ticks[overlay.id] = tick
                self._rows.addWidget(tick)
        placed = {wish.overlay.id for wish in self.wishes}
        asked = self._refused[0] if self._refused else ""
        for key, tick in self.ticks.items():
            tick.setChecked(key in placed or key == asked)
            tick.setEnabled(header is not None)
            set_role(tick, "refused" if key == asked and key not in placed else "")
        if header is None:
            self.view.show_header(Seated())
            self._why.setText("")
            self._conflict.hide()
            return
        self._show(header)

    def _show(self, header: Header) -> None:
        told = pins.allocate(self.wishes, header)
        wanted: dict[int, str] = {}
        wrong = ""
        if self._refused is not None:
            conflict = self._refused[1].conflict
            assert conflict is not None
            names = " and ".join(self._named(each) for each in conflict.wishes)
            wrong = f"{names} cannot be used together: {conflict.reason}."
            core = [wish for wish in self._with(self._refused[0]) if wish.overlay.name in conflict.wishes]
            users: dict[int, set[str]] = {}
            for wish in core:
                for line in wish.lines:
                    options = pins.allowed(wish, line, header)
                    if len(options) == 1:
                        users.setdefault(options[0], set()).add(f"{line.name}, {wish.overlay.name}")
            wanted = {number: " / ".join(sorted(who)) for number, who in users.items() if len(who) > 1}
        elif told.conflict is not None:
            wrong = f"{' and '.join(told.conflict.wishes)} cannot be used together: {told.conflict.reason}."
        count = len(told.pins)
        self._why.setText(f"{count} wires, each on a pin that suits it." if count else "Tick the hardware to connect.")
        self._why.setVisible(not wrong)
        self._conflict.setText(wrong)
        self._conflict.setVisible(bool(wrong))
        names_ = {wish.overlay.id: wish.overlay.name for wish in self.wishes}
        used = {pin: f"{line}, {names_[owner]}" for (owner, line), pin in told.pins.items()}
        picked = told.pins.get(self._wire, 0) if self._wire else 0
        self.view.show_header(Seated(header, used, wanted, picked, self._open(header, told) if picked else frozenset()))
        free = sum(1 for pin in header.pins if pin.kind == "signal" and pin.number not in used)
        self._figures.set_rows(
            (
                ("Pins free", f"{free} of {sum(1 for pin in header.pins if pin.kind == 'signal')}"),
                ("Current from the pins", f"{told.ma:g} of {header.most_ma[1]:g}\u202fmA"),
                ("Most per pin", f"{header.most_ma[0]:g}\u202fmA"),
            )
        )
        lines = ", ".join(self.session.build.boot.overlays)
        self._notes.setText("\n".join((*told.notes, f"For the boot file: {lines}" if lines else "")).strip())

    def _named(self, name: str) -> str:
        """A thing on the header, a bus with what needs it."""
        wishes = self._with(self._refused[0]) if self._refused else self.wishes
        bus = next((wish.overlay.is_bus for wish in wishes if wish.overlay.name == name), "")
        needs = [wish.overlay.name for wish in wishes if bus and wish.overlay.bus == bus]
        return f"{name} (for {' and '.join(needs)})" if needs else name

    def _open(self, header: Header, told: Allocation) -> frozenset[int]:
        """Free pins where the picked wire may go."""
        assert self._wire is not None
        wish = next((each for each in self.wishes if each.overlay.id == self._wire[0]), None)
        line = next((each for each in wish.lines if each.name == self._wire[1]), None) if wish else None
        if wish is None or line is None or not line.parameter:
            return frozenset()
        taken = set(told.pins.values())
        return frozenset(pins.allowed(Wish(wish.overlay, {}), line, header)) - taken

    def _with(self, overlay_id: str) -> tuple[Wish, ...]:
        overlay = self.session.catalogue.get(Overlay, overlay_id)
        return pins.with_buses((*self.wishes, Wish(overlay, {})), self.session.catalogue)

    # --- acting ------------------------------------------------------------------------------------------------

    def on_wish(self, overlay_id: str, *, on: bool) -> None:
        """Put a piece of hardware on the header, or take it off; what cannot be is explained and left out."""
        header = self.header
        if header is None:
            return
        self._refused, self._wire = None, None
        if not on:
            kept = tuple(wish for wish in self.wishes if wish.overlay.id != overlay_id)
            self._take(kept, header, "Removed from the header")
            return
        wishes = self._with(overlay_id)
        told = pins.allocate(wishes, header)
        if told.conflict is not None:  # what sits where it sits by choice may have to move
            free = tuple(Wish(wish.overlay, {}) for wish in wishes)
            again = pins.allocate(free, header)
            if again.conflict is not None:
                self._refused = overlay_id, again
                self.session.said.emit(f"{' and '.join(again.conflict.wishes)} cannot be used together")
                self.refresh()
                return
            self.session.said.emit("Some wires had to move; see the drawing")
            wishes = free
        self._take(wishes, header, "Put on the header")

    def _take(self, wishes: Sequence[Wish], header: Header, words: str) -> None:
        told = pins.allocate(wishes, header)
        if told.conflict is not None:
            self.session.said.emit(f"{' and '.join(told.conflict.wishes)} cannot be used together")
            self.refresh()
            return
        self.session.edit("boot.overlays", told.words, words)
        self.refresh()

    def _on_pin(self, number: int) -> None:
        header = self.header
        if header is None:
            return
        told = pins.allocate(self.wishes, header)
        owner = next((wire for wire, pin in told.pins.items() if pin == number), None)
        if owner is not None:
            self._wire = owner if owner != self._wire else None
            self._refused = None
            self.refresh()
            return
        if self._wire is None:
            return
        wish = next(each for each in self.wishes if each.overlay.id == self._wire[0])
        line = next(each for each in wish.lines if each.name == self._wire[1])
        pin = header.pin(number)
        why = pins.barred(line, pin, header) if pin is not None else ""
        if why or not line.parameter:
            self.session.said.emit(f"{line.name} cannot go there: {why or 'it is reserved for a fixed function'}")
            return
        fixed = {**wish.fixed, line.parameter: number}
        wishes = tuple(Wish(each.overlay, fixed) if each is wish else each for each in self.wishes)
        self._take(wishes, header, "Wire moved")
