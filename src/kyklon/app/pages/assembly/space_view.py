"""The case to scale: what is dragged where, what collides, what would make room; templates to print."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QBoxLayout, QDoubleSpinBox, QFileDialog, QGridLayout, QInputDialog, QVBoxLayout, QWidget

from kyklon.app.pages.assembly.openings_dialog import OpeningsDialog
from kyklon.app.pages.assembly.space_drawing import SpaceDrawing
from kyklon.app.pages.tab_view import TabView, side_px
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Sheet, button, column, label, row, scrolled
from kyklon.app.widgets.fields import FieldForm
from kyklon.app.widgets.kept import Kept, Make
from kyklon.app.widgets.paper import pdf_of
from kyklon.base.quantities import counted
from kyklon.model.assembly import Body
from kyklon.operations.assembly import templates
from kyklon.operations.assembly.reach import card_reach
from kyklon.operations.assembly.rooms import Room, rooms, with_body, with_own, with_turned, without_body
from kyklon.operations.assembly.space import Clash, clashes, leads, space_of

_CASE = ("inner_wide", "inner_deep", "inner_high", "wall")
_SIZES = (("wide", "Across"), ("deep", "Front to back"), ("high", "Height"), ("z", "Above the floor"))
_MOST = 4  # clashes with what would help; more are counted


class SpaceView(TabView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.instrument = self.drawing = SpaceDrawing(self.theme)
        self.drawing.moved.connect(self.move_body)
        self.drawing.chosen.connect(lambda _name: self._show_sizes())
        drawing = Sheet("Space", "drag a part")
        drawing.head.addWidget(button("Add…", self.ask_own, "quiet", tip="A hub, a post, a speaker"))
        drawing.head.addWidget(
            button("Openings…", self.ask_openings, "quiet", tip="Old holes, new ones, panel sockets")
        )
        drawing.head.addWidget(button("Templates…", self.save_templates, "outline", tip="Drill and cut at 1:1"))
        drawing.add(self.drawing)
        self._form = FieldForm(self.theme, tuple(f"assembly.{name}" for name in _CASE), self.session.edit)
        case = Sheet("Case")
        case.add(self._form)
        self._name = label("", "section", wrap=True)
        self._fields: dict[str, QDoubleSpinBox] = {}
        grid = QGridLayout()
        grid.setVerticalSpacing(5)
        for number, (name, words) in enumerate(_SIZES):
            field = QDoubleSpinBox()
            field.setRange(1 if name != "z" else 0, 2000)
            field.setDecimals(1)
            field.setSuffix("\u202fmm")
            field.setKeyboardTracking(False)
            field.setAccessibleName(words)
            field.valueChanged.connect(lambda value, name=name: self._on_size(name, value))
            self._fields[name] = field
            grid.addWidget(label(words, "small"), number // 2 * 2, number % 2)
            grid.addWidget(field, number // 2 * 2 + 1, number % 2)
        self._part = Sheet("Part")
        self._gone = button("Remove", self.remove, "quiet")
        self._turn = button("Rotate 90°", self.turn, "quiet", tip="To the left, seen from above")
        self._part.add(self._name, grid, row(1, self._turn, self._gone))
        self._list = QVBoxLayout()
        self._kept = Kept[QWidget](self._list)
        holder = QWidget()
        holder.setLayout(self._list)
        fits = Sheet("Collisions")
        fits.add(scrolled(holder))
        side = column(case, self._part, fits, spacing=12)
        side.setStretch(2, 1)
        if self.theme.scale > 1:
            drawing.setMinimumHeight(round(self.theme.px(420)))
            fits.setMinimumHeight(round(self.theme.px(220)))
            layout: QBoxLayout = column(drawing, side, spacing=14)
        else:
            for sheet in (case, self._part, fits):
                sheet.setFixedWidth(side_px(self.theme, 10))
            layout = row(drawing, side, spacing=14)
        layout.setStretch(0, 1)
        self.setLayout(layout)

    def refresh(self) -> None:
        """Override."""
        build, catalogue = self.build, self.session.catalogue
        self._form.show_build(build, {})
        space = space_of(build, catalogue)
        found = clashes(space)
        self.drawing.show_space(space, found, build.assembly.openings)
        self._show_sizes()
        rows: list[tuple[object, Make]] = []

        def say(words: str, role: str = "muted", *, wrap: bool = True) -> None:
            rows.append(((words, role), lambda: label(words, role, wrap=wrap)))

        for clash in found[:_MOST]:
            say(self._words(clash), "stop")
            for room in rooms(build, catalogue, clash)[:3]:
                words = room.words
                for name in (
                    space.box(clash.one),
                    space.box(space.box(clash.one).whole) if space.box(clash.one) else None,
                ):
                    words = words.replace(f" of {name.name}", "").replace(f" {name.name}", "") if name else words
                rows.append(
                    (
                        (words, room),
                        lambda words=words, room=room: button(words, lambda: self.take_room(room), "quiet"),
                    )
                )
        if len(found) > _MOST:
            say(f"and {len(found) - _MOST} more")
        if not found:
            say("Nothing collides.")
        for lead in leads(build, catalogue):
            words = f"{lead.name}: at least {lead.needs_mm:.0f}\u202fmm of cable"
            short = not lead.reaches
            say(f"▲ {words}; it has {lead.has_mm:.0f}\u202fmm" if short else words, "stop" if short else "muted")
        card = card_reach(build, catalogue)
        if card.reached is not None:
            say(card.words, "muted" if card.reached else "stop")
        if space.assumed:
            say(f"Assumed: {'; '.join(space.assumed)}.")
        self._kept.show(rows)
        self._list.addStretch(1)

    def _words(self, clash: Clash) -> str:
        space = space_of(self.build, self.session.catalogue)
        one, other = space.box(clash.one), space.box(clash.other)
        name = other.name if other is not None else f"the {clash.other}"
        return f"▲ {one.name if one else clash.one}, {name}: {clash.missing:.1f}\u202fmm overlap"

    def _show_sizes(self) -> None:
        box = space_of(self.build, self.session.catalogue).box(self.drawing.current)
        self._part.setVisible(box is not None)
        if box is None:
            return
        self._name.setText(box.name)
        for field in (*self._fields.values(), self._turn):
            field.setEnabled(not box.of)  # a plug moves with what it is plugged into
        self._gone.setEnabled(any(body.id == box.id for body in self.build.assembly.bodies))
        values = dict(zip(("wide", "deep", "high"), box.size, strict=True)) | {"z": box.near[2]}
        for name, field in self._fields.items():
            field.blockSignals(True)
            field.setValue(values[name])
            field.blockSignals(False)

    def _on_size(self, name: str, value: float) -> None:
        current = self.drawing.current
        if current:
            self.session.put("Size of a part", with_body(self.build, self.session.catalogue, current, **{name: value}))

    def move_body(self, name: str, x: float, y: float) -> None:
        """Put a part elsewhere, by its near corner in mm."""
        try:
            made = with_body(self.build, self.session.catalogue, name, x=x, y=y)
        except ValueError as bad:
            self.session.said.emit(str(bad))
            return
        self.session.put("Move a part", made)

    def turn(self) -> None:
        """The chosen part by 90° to the left, with its plugs."""
        try:
            made = with_turned(self.build, self.session.catalogue, self.drawing.current)
        except ValueError as bad:
            self.session.said.emit(str(bad))
            return
        self.session.put("Turn a part", made)

    def ask_openings(self) -> None:
        """Old and new openings of the case."""
        OpeningsDialog(self.session, self).exec()

    def ask_own(self) -> None:
        """A thing of the user's own, at the first free corner; its size is typed beside the drawing."""
        name, agreed = QInputDialog.getText(self, "In the case", "What is it?")
        if agreed and name.strip():
            self.add_own(name.strip()[:80])

    def add_own(self, name: str) -> None:
        """One more thing in the case, 40 by 30 by 20 mm until it is measured."""
        space = space_of(self.build, self.session.catalogue)
        number = next(n for n in range(1, 999) if space.box(f"own-{n}") is None)
        body = Body(id=f"own-{number}", name=name, x=0, y=0, wide=40, deep=30, high=20)
        self.drawing.current = body.id
        self.session.put("Something in the case", with_own(self.build, self.session.catalogue, body))

    def remove(self) -> None:
        """What was placed is not any more."""
        try:
            made = without_body(self.build, self.drawing.current)
        except ValueError as bad:
            self.session.said.emit(str(bad))
            return
        self.session.put("Taken out of the case", made)

    def take_room(self, room: Room) -> None:
        """Do what makes room."""
        self.session.put(room.words, room.build)

    def save_templates(self, folder: Path | None = None) -> None:
        """Every plate as DXF, SVG and PDF at 1:1, and in A4 pages."""
        if folder is None:
            chosen = QFileDialog.getExistingDirectory(self, "Templates into a folder", str(self.session.folder))
            if not chosen:
                return
            folder = Path(chosen)
        made = templates.plates(self.build, self.session.catalogue)
        files: dict[str, bytes] = {}
        for plate in made:
            text = templates.as_svg(plate)
            files |= {f"{plate.name}.svg": text.encode(), f"{plate.name}.pdf": pdf_of(text)}
            files[f"{plate.name}.dxf"] = templates.as_dxf(plate).encode()
            for number, page in enumerate(templates.as_pages(plate), 1):
                files[f"{plate.name}-page-{number}.pdf"] = pdf_of(page)
        last, count = len(files) - 1, counted(len(files), "file")
        for index, (name, data) in enumerate(files.items()):
            said = f"{count} in {folder.name}; print at 100 % and measure the ruler" if index == last else ""
            self.session.keep_file(folder / name, data, said)
        self.session.log(80, "Templates", f"{count} into {folder.name}")
