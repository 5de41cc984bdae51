"""Learning a board: from its device tree or its own text; sockets are set right on the drawing."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QLineEdit, QWidget

from kyklon.app.pages.shelf.board_drawing import BoardDrawing
from kyklon.app.pages.shelf.walk import Walk
from kyklon.app.widgets.basic import Choice, Sheet, TextBox, button, column, label, row
from kyklon.parts import board, sockets
from kyklon.parts.draft import Draft
from kyklon.parts.learning import board_of
from kyklon.parts.trees import TreeFile, trees_in


class BoardWalk(Walk):
    kind = "boards"
    title = "Learn a board"
    first = (
        "Open its device tree, a file that ends in .dtb on its "
        "card; or paste what it prints about itself while it runs."
    )

    def make_side(self) -> QWidget:
        """Override."""
        self._current = 0
        self._text = TextBox()
        self._text.setPlaceholderText(
            "Paste here: cat /proc/cpuinfo /proc/meminfo, lsusb, uname -m, cat /proc/device-tree/model"
        )
        self._text.setAccessibleName("The board's own text")
        self._text.setFont(self.theme.mono("small"))
        self._text.setMaximumHeight(round(self.theme.px(72)))
        self._text.textChanged.connect(self._on_pasted)
        self._found: tuple[TreeFile, ...] = ()
        self._trees = Choice(self.theme, "Device tree in the image", self._on_tree)
        self._trees.setMinimumContentsLength(22)
        self._trees.setVisible(False)
        source = Sheet("Source")
        opening = row(
            button("Open a device tree…", self._ask, "outline"), button("From a card's image…", self._ask_image), 1
        )
        source.add(opening, self._trees, self._text)
        self.drawing = BoardDrawing(self.theme)
        self.drawing.chosen.connect(self._on_socket)
        self._label = QLineEdit()
        self._label.setAccessibleName("Label of the socket")
        self._label.setMaximumWidth(round(self.theme.px(120)))
        self._label.editingFinished.connect(lambda: self._change("label", self._label.text().strip()))
        self._connector = Choice(self.theme, "Connector", lambda value: self._change("connector", value))
        self._remove = button("Remove socket", self._on_remove, "quiet")
        self._editor = row(label("Socket", "small"), self._label, self._connector, self._remove, 1)
        adds = row(label("Add", "small"), spacing=6)
        for kind in sockets.KINDS:
            adds.addWidget(button(kind, lambda kind=kind: self._on_add(kind), "quiet"))
        adds.addStretch(1)
        sheet = Sheet("Sockets", "click one to change it")
        sheet.add(self.drawing, self._editor, adds)
        sheet.body.setStretch(0, 1)
        facts = Sheet("Also read")
        facts.add(self.about)
        side = QWidget()
        layout = column(source, sheet, facts, spacing=12)
        layout.setStretch(1, 1)
        side.setLayout(layout)
        return side

    def _ask(self) -> None:
        self.ask_file(
            "A device tree", "Device trees (*.dtb);;All files (*)", lambda path: self.learn_from("board", path)
        )

    def _ask_image(self) -> None:
        kinds = "Images (*.img *.iso *.bin *.xz *.gz *.bz2 *.zst *.zip *.7z);;All files (*)"
        self.ask_file("An image with the board's tree", kinds, self.look_into)

    def look_into(self, path: Path) -> None:
        """List the device trees in an image."""
        self.learn(f"Reading {path.name}", lambda watch: trees_in(path, watch), self._on_found)

    def _on_found(self, found: tuple[TreeFile, ...]) -> None:
        self._found = found
        rows = tuple((tree_file.path, f"{tree_file.model or 'no name'} ({tree_file.path})") for tree_file in found)
        first = "" if len(found) > 1 else found[0].path
        offered = (("", f"{len(found)} device trees: choose"), *rows) if len(found) > 1 else rows
        self._trees.set_choices(offered, first)
        self._trees.setVisible(True)
        if first:
            self._on_tree(first)

    def _on_tree(self, path: str) -> None:
        tree = next((each for each in self._found if each.path == path), None)
        if tree is not None:
            self._name.setModified(False)
            self.take(board_of(tree, self.session.catalogue))

    def _on_pasted(self) -> None:
        text = self._text.toPlainText()
        if text.strip():
            self.take(board.learn_text(text, self.session.catalogue, self.draft))

    # --- sockets -------------------------------------------------------------------------------------------------

    def _ports(self) -> list[dict[str, Any]]:
        draft = self.draft
        if draft is None:
            return []
        return [dict(each) for each in draft.row.get("ports") or draft.suggested.get("ports") or ()]

    def _put(self, ports: list[dict[str, Any]]) -> None:
        if self.draft is not None:
            self.draft = self.draft.with_value("ports", ports)
            self._show()

    def _on_socket(self, index: int) -> None:
        self._current = index
        self._show()

    def _change(self, key: str, value: str) -> None:
        ports = self._ports()
        if not 0 <= self._current < len(ports) or not value or ports[self._current][key] == value:
            return
        ports[self._current][key] = value
        if key == "connector" and value in sockets.VIDEO and ports[self._current]["direction"] == "out":
            ports[self._current]["signal"] = sockets.VIDEO[value]
        self._put(ports)

    def _on_remove(self) -> None:
        ports = self._ports()
        if 0 <= self._current < len(ports):
            del ports[self._current]
            self._current = max(0, self._current - 1)
            self._put(ports)

    def _on_add(self, kind: str) -> None:
        if self.draft is None:
            self._say("Open a device tree or paste its text first.")
            return
        ports = self._ports()
        usual = {
            "power in": "USB-C",
            "video out": "HDMI A",
            "USB out": "USB-A",
            "card": "microSD",
            "sound out": "3.5 mm jack",
        }
        taken = {port["id"] for port in ports}
        made = next(
            each
            for number in range(1, 100)
            if (each := sockets.board_port(kind, usual[kind], number))["id"] not in taken or number == 99
        )
        if made["id"] in taken:
            made["id"] = f"{made['id']}-{len(ports)}"
        self._current = len(ports)
        self._put([*ports, made])

    def show_draft(self, draft: Draft | None) -> None:
        """Override."""
        ports = self._ports()
        self._current = min(self._current, max(0, len(ports) - 1))
        self.drawing.show_ports(self._name.text(), tuple(ports), self._current if ports else -1)
        now = ports[self._current] if ports else None
        for each in (self._label, self._connector, self._remove):
            each.setEnabled(now is not None)
        if now is not None:
            if self._label.text() != now["label"]:
                self._label.setText(str(now["label"]))
            self._connector.set_choices(
                tuple((connector, connector) for connector in sockets.all_connectors()), str(now["connector"])
            )
