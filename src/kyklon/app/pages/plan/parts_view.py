"""The parts list: what is needed, ordered, arrived and there, with what is still to be paid."""

from __future__ import annotations

from html import escape
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QAbstractTableModel, QBuffer, QIODevice, QModelIndex, Qt
from PyQt6.QtGui import QPageSize, QPdfWriter, QTextDocument
from PyQt6.QtWidgets import QAbstractItemView, QFileDialog, QHeaderView, QInputDialog, QTableView

from kyklon.app.pages.plan.socket_drawing import SocketDrawing
from kyklon.app.pages.tab_view import TabView
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import FigureRows, Sheet, button, column, row
from kyklon.base.quantities import show_money
from kyklon.base.shown import visible
from kyklon.operations.plan.parts_list import STATES, Line, PartsList, as_csv, noted, parts_list, socket_use

_MARKS = {"need": "○ need", "ordered": "◐ ordered", "arrived": "● arrived", "have": "● have"}
_HEADS = ("", "Part", "Count", "For one", "To pay", "Shop, date", "Why")
_COUNT, _ONE, _PAY = 2, 3, 4


class PartsModel(QAbstractTableModel):
    """The lines of a list."""

    def __init__(self) -> None:
        super().__init__()
        self.lines: tuple[Line, ...] = ()

    def show_lines(self, lines: tuple[Line, ...]) -> None:
        if lines == self.lines:
            return
        same = len(lines) == len(self.lines)
        if not same:
            self.beginResetModel()
        self.lines = lines
        if same:
            self.dataChanged.emit(self.index(0, 0), self.index(len(lines) - 1, len(_HEADS) - 1))
        else:
            self.endResetModel()

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        """Override."""
        return 0 if parent is not None and parent.isValid() else len(self.lines)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        """Override."""
        return 0 if parent is not None and parent.isValid() else len(_HEADS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> Any:
        """Override."""
        if orientation is Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return _HEADS[section]
        return None

    def data(self, index: QModelIndex, role: int = 0) -> Any:
        """Override."""
        line = self.lines[index.row()]
        if role == Qt.ItemDataRole.TextAlignmentRole and index.column() in (_COUNT, _ONE, _PAY):
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role not in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole, Qt.ItemDataRole.ToolTipRole):
            return None
        money = "?" if line.price is None else show_money(line.price, 2)
        words = (
            _MARKS[line.state],
            line.name if line.essential else f"{line.name} (optional)",
            f"{line.count}\u202f{line.unit}" if line.unit else f"{line.count}",
            money,
            "" if line.owned else "?" if line.price is None else show_money(line.cost, 2),
            " · ".join(text for text in (line.shop, line.day, line.serial) if text),
            line.why,
        )
        return visible(words[index.column()])


class PartsView(TabView):
    """A line is chosen and ticked off, priced or noted with the buttons below."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._list = PartsList(())
        self._model = PartsModel()
        self._table = table = QTableView()
        table.setAccessibleName("Parts list")
        table.setModel(self._model)
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        table.setShowGrid(False)
        table.setWordWrap(False)
        table.setTabKeyNavigation(False)
        heads = table.horizontalHeader()
        assert heads is not None
        for number, wide in enumerate((84, 220, 50, 72, 72, 96)):
            table.setColumnWidth(number, round(self.theme.px(wide)))
        heads.setStretchLastSection(True)
        heads.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        heads.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        side = table.verticalHeader()
        assert side is not None
        side.setVisible(False)
        side.setDefaultSectionSize(round(self.theme.px(26)))
        selection = table.selectionModel()
        assert selection is not None
        selection.selectionChanged.connect(lambda _new, _old: self._show_buttons())
        self._buttons = {
            state: button(words, lambda state=state: self.mark(state), "outline") for state, words in _WORDS
        }
        self._price = button("Price…", self.ask_price, "quiet")
        self._shop = button("Shop…", self.ask_shop, "quiet")
        self._serial = button("Serial number…", self.ask_serial, "quiet")
        sheet = Sheet("Parts list", "counted from the plan and the wiring list")
        sheet.head.addWidget(button("Print as PDF…", self.ask_pdf, "quiet"))
        sheet.head.addWidget(button("Save as CSV…", self.ask_csv, "quiet"))
        sheet.add(table, row(*self._buttons.values(), 1, self._price, self._shop, self._serial))
        sheet.body.setStretch(0, 1)
        self._figures = FigureRows(self.theme)
        totals = Sheet("Still to buy")
        totals.add(self._figures, 1)
        self.instrument = self._sockets = SocketDrawing(self.theme)
        sockets = Sheet("USB sockets", "what is drawn at the set-up and in play")
        sockets.add(self._sockets)
        below = row(totals, sockets, spacing=14)
        below.setStretch(0, 1)
        below.setStretch(1, 1)
        layout = column(sheet, below, spacing=12)
        layout.setStretch(0, 1)
        self.setLayout(layout)

    def refresh(self) -> None:
        """Override."""
        build, catalogue = self.build, self.session.catalogue
        self._list = made = parts_list(build, catalogue)
        self._model.show_lines(made.lines)
        there = sum(line.owned for line in made.lines)
        rows = [
            ("Lines", f"{len(made.lines)}"),
            ("There", f"{there}"),
            ("Ordered", f"{sum(line.state == 'ordered' for line in made.lines)}"),
            ("Essential, to pay", show_money(made.total, 2)),
        ]
        if made.unpriced:
            rows.append(("Without a price", f"{made.unpriced}"))
        if build.plan.budget:
            rows.append(("Left of the budget", show_money(build.plan.budget - made.total, 2)))
        self._figures.set_rows(tuple(rows))
        self._sockets.show_sockets(socket_use(build, catalogue))
        self._show_buttons()

    @property
    def selected(self) -> tuple[Line, ...]:
        selection = self._table.selectionModel()
        rows = sorted({index.row() for index in selection.selectedRows()}) if selection is not None else []
        return tuple(self._model.lines[number] for number in rows if number < len(self._model.lines))

    def _show_buttons(self) -> None:
        lines = self.selected
        for state, made in self._buttons.items():
            made.setEnabled(any(line.state != state for line in lines))
        for made in (self._price, self._shop, self._serial):
            made.setEnabled(len(lines) == 1)

    def mark(self, state: str) -> None:
        """Note the state of the chosen lines."""
        build = self.build
        for line in self.selected:
            build = noted(build, line.key, state=state)
        self.session.put(f"Parts: {state}", build)

    def ask_price(self) -> None:
        """Type what one of the chosen line costs."""
        (line,) = self.selected
        price, agreed = QInputDialog.getDouble(self, "Price", f"{line.name}, for one:", line.price or 0.0, 0, 1e6, 2)
        if agreed:
            self.session.put("Price", noted(self.build, line.key, price=price))

    def ask_shop(self) -> None:
        (line,) = self.selected
        text, agreed = QInputDialog.getText(self, "Shop", f"{line.name}, from:", text=line.shop)
        if agreed:
            self.session.put("Shop", noted(self.build, line.key, shop=text.strip()[:120]))

    def ask_serial(self) -> None:
        (line,) = self.selected
        text, agreed = QInputDialog.getText(self, "Serial number", f"{line.name}:", text=line.serial)
        if agreed:
            self.session.put("Serial number", noted(self.build, line.key, serial=text.strip()[:120]))

    def ask_pdf(self) -> None:
        """Save the list as a PDF to tick off on paper."""
        start = str(self.session.folder / "issued" / "parts.pdf")
        path, _kind = QFileDialog.getSaveFileName(self, "Print the parts list", start, "PDF (*.pdf)")
        if path:
            self.session.keep_file(Path(path), self.as_pdf(), f"The parts list is in {path}")

    def as_pdf(self) -> bytes:
        """The list on A4, with a box to tick for each line."""
        cell = '<td style="padding: 2px 8px">{}</td>'
        rows = [
            "<tr>"
            + "".join(
                cell.format(escape(visible(text)))
                for text in (
                    "☑" if line.owned else "☐",
                    line.name,
                    f"{line.count} {line.unit}".strip(),
                    "" if line.price is None else show_money(line.price, 2),
                    "" if line.owned or line.price is None else show_money(line.cost, 2),
                    line.shop or line.why,
                )
            )
            + "</tr>"
            for line in self._list.lines
        ]
        total = show_money(self._list.total, 2)
        document = QTextDocument()
        document.setHtml(
            f"<h2>{escape(visible(self.build.name))}: parts list</h2><table>{''.join(rows)}</table>"
            f"<p>Still to pay for what is essential: {escape(total)}</p>"
        )
        buffer = QBuffer()
        buffer.open(QIODevice.OpenModeFlag.WriteOnly)
        writer = QPdfWriter(buffer)
        writer.setPageSize(QPageSize(QPageSize.PageSizeId.A4))
        writer.setTitle(f"{self.build.name}: parts list")
        document.print(writer)
        del writer  # it writes its end when it goes
        return bytes(buffer.data().data())

    def ask_csv(self) -> None:
        """Save the list for a spreadsheet."""
        start = str(self.session.folder / "issued" / "parts.csv")
        path, _kind = QFileDialog.getSaveFileName(self, "Save the parts list", start, "CSV (*.csv)")
        if path:
            self.session.keep_file(Path(path), as_csv(self._list).encode(), f"The parts list is in {path}")


_WORDS = tuple(zip(STATES, ("Need", "Ordered", "Arrived", "Have it"), strict=True))
