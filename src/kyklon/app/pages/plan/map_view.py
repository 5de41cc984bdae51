"""The parts of a build on a map with every socket and cable, and the steps to the first game."""

from __future__ import annotations

from PyQt6.QtWidgets import QGridLayout, QInputDialog, QMenu

from kyklon.app.pages.plan.connection_map import Block, ConnectionMap, PortMark, Wire
from kyklon.app.pages.tab_view import TabView
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, FigureRows, Sheet, button, column, label, row, set_tip, unmarked
from kyklon.base.quantities import show, show_money
from kyklon.catalogue.control_records import Keyboard
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.records import Adapter, Board, Card, CataloguePart, Display, Encoder, Supply
from kyklon.model.build import Build, Link
from kyklon.operations.assembly.budget import Budget, budget
from kyklon.operations.controls.hookup import ROLE
from kyklon.operations.plan.acts import with_part_used, without_part
from kyklon.operations.plan.connections import (
    Connection,
    cables_for,
    connections,
    cost,
    helps_between,
    longer_by,
    port_of,
    sockets_for,
    unconnected,
    with_cable,
    with_length,
    without_cable,
)

ROLES: tuple[tuple[str, str, type[CataloguePart]], ...] = (
    ("board", "Board", Board),
    ("supply", "Power supply", Supply),
    ("card", "Card", Card),
    ("display", "Display", Display),
    ("adapter", "Adapter", Adapter),
    ("encoder", "Encoder", Encoder),
    ("image", "System software", Image),
    ("keyboard", "Keyboard", Keyboard),
)


def columns_of(build: Build) -> dict[str, int]:
    """How far each part is from the board along its cables: 0 feeds it, 1 is it, 2 and more hang on it."""
    columns = {"board": 1}
    for _ in range(len(build.links)):
        for link in build.links:
            start, end = link.start.split(".")[0], link.end.split(".")[0]
            if end == "board" and start not in columns:
                columns[start] = 0
            elif start in columns and end not in columns:
                columns[end] = columns[start] + 1
    return columns


class MapView(TabView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.instrument = self._map = ConnectionMap(self.theme)
        self._map.joined.connect(self.join)
        sheet = Sheet("Connections", "drag from socket to socket to plug a cable in")
        sheet.add(self._map)
        self._cables = button("Cables…", self.show_cables, "quiet", tip="Choose, pull out or connect a cable")
        sheet.head.addWidget(self._cables)
        self._choices: dict[str, Choice] = {}
        grid = QGridLayout()
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(6)
        for index, (role, name, _kind) in enumerate(ROLES):
            choice = Choice(self.theme, name, lambda part, role=role: self._on_part_chosen(role, part))
            self._choices[role] = choice
            grid.addWidget(label(name, "muted"), index // 2, index % 2 * 2)
            grid.addWidget(choice, index // 2, index % 2 * 2 + 1)
        grid.setColumnStretch(1, 1)
        grid.setColumnStretch(3, 1)
        parts = Sheet("Parts")
        parts.add(grid, 1)
        self._figures = FigureRows(self.theme)
        figures = Sheet("Totals")
        figures.add(self._figures, 1)
        figures.setFixedWidth(round(self.theme.px(232)))
        below = (column if self.theme.scale > 1 else row)(parts, figures, spacing=14)
        layout = column(sheet, below, spacing=14)
        layout.setStretch(0, 1)
        self.setLayout(layout)

    def refresh(self) -> None:
        """Override."""
        build, catalogue = self.session.build, self.session.catalogue
        for role, _name, kind in ROLES:
            offered = tuple((part.id, part.name) for part in catalogue.all(kind))
            if build.part(role) is None or role in ("adapter", "keyboard"):
                offered = (("", "none"), *offered)
            self._choices[role].set_choices(offered, build.part(role) or "")
            chosen = catalogue.find(kind, build.part(role))
            set_tip(self._choices[role], chosen.note if chosen else "")
        power = budget(build, catalogue)
        links = connections(build, catalogue)
        self._map.show_values(self._blocks(build), tuple(self._wire(link, power) for link in links))
        total = sum(price for _name, _count, price in cost(build, catalogue))
        rows: list[tuple[str, str]] = [
            ("Parts and cables", f"{len(cost(build, catalogue))}"),
            ("Price", show_money(total, 2)),
        ]
        if power:
            rows += [
                ("Peak current", show(power.peak_a, "A")),
                ("Power supply, usable", show(power.usable_a, "A")),
            ]
            if power.board_v is not None:
                rows.append(("At the board", show(power.board_v, "V")))
        self._figures.set_rows(tuple(rows))

    # --- cables --------------------------------------------------------------------------------------------------

    def cable_menu(self) -> QMenu:
        """Every cable with those that fit in its place, and every open plug with the sockets that feed it."""
        build, catalogue = self.session.build, self.session.catalogue
        menu = QMenu(self)
        for connection in connections(build, catalogue):
            link = connection.link
            name = connection.cable.name if connection.cable else " + ".join(link.pieces)
            inner = menu.addMenu(unmarked(f"{self._spoken(link.start)} to {self._spoken(link.end)}: {name}"))
            assert inner is not None
            for cable in cables_for(build, link.start, link.end, catalogue):
                act = inner.addAction(unmarked(cable.name))
                assert act is not None
                act.setCheckable(True)
                act.setChecked(link.pieces == (cable.id,))
                act.triggered.connect(
                    lambda _on=False, link=link, cable=cable: self._connect(link.start, link.end, cable.id, cable.name)
                )
            inner.addSeparator()
            self._offer_pieces(inner, connection)
            pull = inner.addAction("Disconnect")
            assert pull is not None
            pull.triggered.connect(lambda _on=False, link=link: self._disconnect(link.end))
        open_plugs = unconnected(build, catalogue)
        if open_plugs and not menu.isEmpty():
            menu.addSeparator()
        for plug in open_plugs:
            inner = menu.addMenu(unmarked(f"{self._spoken(plug)}: not connected"))
            assert inner is not None
            for socket in sockets_for(build, plug, catalogue):
                for cable in cables_for(build, socket, plug, catalogue):
                    act = inner.addAction(unmarked(f"to {self._spoken(socket)} by {cable.name}"))
                    assert act is not None
                    act.triggered.connect(
                        lambda _on=False, socket=socket, plug=plug, cable=cable: self._connect(
                            socket, plug, cable.id, cable.name
                        )
                    )
            if inner.isEmpty():
                nothing = inner.addAction("No free socket and no cable on the shelf fit")
                assert nothing is not None
                nothing.setEnabled(False)
        return menu

    def _offer_pieces(self, menu: QMenu, connection: Connection) -> None:
        """One piece more in series, one less, and how far apart the two are."""
        link = connection.link
        longer = longer_by(self.session.build, link.start, link.end, self.session.catalogue)
        if longer:
            inner = menu.addMenu("Add a piece")
            assert inner is not None
            for piece in longer:
                act = inner.addAction(unmarked(piece.name))
                assert act is not None
                pieces = (*link.pieces, piece.id)
                act.triggered.connect(
                    lambda _on=False, link=link, pieces=pieces, piece=piece: self._connect(
                        link.start, link.end, pieces, piece.name
                    )
                )
        if link.further:
            act = menu.addAction("Take the last piece out")
            assert act is not None
            act.triggered.connect(
                lambda _on=False, link=link: self._connect(link.start, link.end, link.pieces[:-1], "one piece less")
            )
        far = menu.addAction("Length needed…")
        assert far is not None
        far.triggered.connect(lambda _on=False, link=link: self._ask_length(link))

    def _ask_length(self, link: Link) -> None:
        between = f"{self._spoken(link.start)} to {self._spoken(link.end)}"
        length, agreed = QInputDialog.getDouble(
            self, "Length needed", f"{between}, along the cable, in metres:", link.needs_m, 0.0, 100.0, 1
        )
        if agreed:
            self.session.put("Length needed", with_length(self.session.build, link.start, link.end, length))

    def _spoken(self, socket: str) -> str:
        """A socket by its part's name and its own."""
        part, port = port_of(socket, self.session.build, self.session.catalogue)
        return f"{part.name}, {port.label}" if part and port else socket

    def show_cables(self) -> None:
        self.cable_menu().exec(self._cables.mapToGlobal(self._cables.rect().bottomLeft()))

    def _connect(self, start: str, end: str, cable: str | tuple[str, ...], name: str) -> None:
        self.session.put(
            f"Connect by {name}", with_cable(self.session.build, start, end, cable, self.session.catalogue)
        )

    def join(self, start: str, end: str) -> None:
        """Plug a cable in between two sockets; where none fits it is said why, and what would help."""
        build, catalogue = self.session.build, self.session.catalogue
        try:
            made = with_cable(build, start, end, "", catalogue)
        except ValueError as bad:
            self.session.said.emit(f"{bad}. {helps_between(build, start, end, catalogue)}".rstrip())
            return
        faults = [fault for each in connections(made, catalogue) if start in each.link.ends for fault in each.faults]
        if faults:
            self.session.said.emit(f"{' '.join(faults)} {helps_between(build, start, end, catalogue)}".rstrip())
            return
        self.session.put("Plug a cable in", made)

    def _disconnect(self, socket: str) -> None:
        self.session.put("Disconnect a cable", without_cable(self.session.build, socket))

    def _blocks(self, build: Build) -> tuple[Block, ...]:
        columns = columns_of(build)
        last = max(columns.values())
        blocks = []
        for part in build.parts:
            record = self.session.catalogue.any(part.part)
            if record is None:
                continue
            column = columns.get(part.role, 2 if part.role.startswith((ROLE, "keyboard")) else last + 1)
            marks = tuple(PortMark(port.id, f"{port.label} · {port.connector}") for port in record.ports)
            if isinstance(record, Keyboard) and record.pins and not marks:
                marks = (PortMark("", "Ribbon · board's header"),)
            blocks.append(Block(part.role, record.name, record.note or part.role, marks, column))
        return tuple(blocks)

    def _wire(self, each: Connection, power: Budget | None) -> Wire:
        start, end = each.link.start.split("."), each.link.end.split(".")
        is_power = bool(each.start and each.start.signal == "power")
        tag = each.start.signal if each.start else ""
        if is_power and power and each.link.end == "board.power" and power.board_v is not None:
            tag = f"{show(power.peak_a, 'A')}\n{show(power.board_v, 'V')}"
        elif each.end and each.end.draws_a:
            tag = f"{each.start.signal if each.start else ''}\n{show(each.end.draws_a, 'A', prefix='')}"
        name = each.cable.name if each.cable else " + ".join(each.link.pieces)
        return Wire((start[0], start[1]), (end[0], end[1]), name, tag, " ".join(each.faults), is_power)

    def _on_part_chosen(self, role: str, part: str) -> None:
        build = self.session.build
        name = next(name for each, name, _kind in ROLES if each == role)
        if role == "keyboard":
            before, catalogue = build.part(role), self.session.catalogue
            made = with_part_used(build, "keyboards", part, catalogue) if part else build
            made = without_part(build, "keyboards", before, catalogue) if before and not part else made
            self.session.put(name, made)
        elif part:
            self.session.put(name, build.with_part(role, part))
        else:
            rest = [each for each in build.parts if each.role != role]
            self.session.edit("parts", rest, name)
