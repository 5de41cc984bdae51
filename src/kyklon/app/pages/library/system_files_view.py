"""The system files: by exact name, size and checksum, where they must lie, and which games wait for each."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPen, QPolygonF

from kyklon.app.pages.tab_view import TabView
from kyklon.app.session.session import Session
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Sheet, column, label
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.quantities import show_bytes
from kyklon.catalogue.chosen import known_systems
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.system_records import Emulator
from kyklon.operations.library.findings import right_name_remedy


@dataclass(frozen=True)
class Needed:
    """A file that an emulator needs. where: on the machine. found: in the library, '' for nowhere. state: 'good',
    'name', 'missing' or 'optional'. waits: games that do. there: whether it is on the machine, None when nobody looked.
    """

    name: str
    facts: str
    who: str
    where: str
    found: str
    state: str
    waits: int
    there: bool | None


_SAYS = {
    "good": "found, right name",
    "name": "found, wrong name",
    "missing": "not in the library",
    "optional": "missing; some games do not need it",
}
_TOKEN = {"good": "teal", "name": "red", "missing": "red", "optional": "amber"}


class SystemFilesDrawing(Instrument):
    """`renamed` carries the place of a file that is to be copied under its right name."""

    least = QSize(460, 240)
    renamed = pyqtSignal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Firmware files")
        self._files: tuple[Needed, ...] = ()
        self._buttons: list[tuple[QRectF, int]] = []

    def show_files(self, files: tuple[Needed, ...]) -> None:
        if not self.shows(files):
            return
        self._files = files
        self.setAccessibleDescription("; ".join(f"{e.name} {_SAYS[e.state]}, {e.waits} games" for e in files))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        self._buttons = []
        if not self._files:
            self.say(painter, box, "No system in this build needs a firmware file.")
            return
        pitch = min(px(96), box.height() / len(self._files))
        for index, each in enumerate(self._files):
            y = box.top() + index * pitch
            if index:
                self.line(painter, QPointF(box.left(), y), QPointF(box.right(), y), "grid")
            self._draw_file(painter, QRectF(box.left(), y, box.width(), pitch), index, each)

    def _draw_file(self, painter: QPainter, box: QRectF, index: int, each: Needed) -> None:
        px = self.theme.px
        left = QRectF(box.left(), box.top() + px(8), box.width() * 0.42, px(20))
        self.text(painter, left, each.name, font=self.theme.mono("body", 500))
        self.text(painter, left.translated(0, px(21)), each.who, font=self.theme.font("label"))
        self.text(painter, left.translated(0, px(41)), each.facts, font=self.theme.mono("small"), token="muted")
        at = QPointF(box.left() + box.width() * 0.44 + px(6), box.top() + px(18))
        self._draw_mark(painter, at, each.state)
        right = QRectF(at.x() + px(14), box.top() + px(8), box.right() - at.x() - px(14), px(20))
        self.text(painter, right, _SAYS[each.state], font=self.theme.font("label", weight=600))
        where = f"to {each.where}" + ("" if each.there is None else ", found" if each.there else ", not copied yet")
        self.text(painter, right.translated(0, px(21)), where, font=self.theme.mono("small"), token="muted")
        waits = f"{each.waits} games need it" if each.state in ("name", "missing") else f"{each.waits} games use it"
        self.text(painter, right.translated(0, px(41)), waits, font=self.theme.font("small"), token="muted")
        if each.state == "name":
            said = "Copy with the right name"
            place = QRectF(box.right() - px(160), box.bottom() - px(34), px(158), px(26))
            self._buttons.append((place, index))
            self.block(painter, place, "field", "teal", radius=3, width=1.4)
            self.text(
                painter,
                place.center(),
                said,
                font=self.theme.font("label", weight=500),
                token="teal",
                align=Qt.AlignmentFlag.AlignHCenter,
            )

    def _draw_mark(self, painter: QPainter, at: QPointF, state: str) -> None:
        px, token = self.theme.px, _TOKEN[state]
        painter.setPen(QPen(self.theme.color(token), 1.2))
        painter.setBrush(self.theme.color(token))
        if state == "good":
            painter.drawEllipse(at, px(5), px(5))
        elif state == "optional":
            painter.drawPolygon(
                QPolygonF([at + QPointF(0, -px(5)), at + QPointF(px(5.5), px(4.5)), at + QPointF(-px(5.5), px(4.5))])
            )
        else:
            painter.drawRect(QRectF(at.x() - px(5), at.y() - px(5), px(10), px(10)))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        for place, index in self._buttons:
            if place.contains(event.position()):
                self.renamed.emit(index)
                return


class SystemFilesView(TabView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.drawing = SystemFilesDrawing(self.theme)
        self.drawing.renamed.connect(self.rename)
        self.instrument = self.drawing
        sheet = Sheet("Firmware files", "known by name, size and checksum; those in the library's system-files folder")
        sheet.add(self.drawing)
        hint = label(
            "Use only files you have the right to. A copy with the right name goes onto the machine; your "
            "library is not changed.",
            "small",
            wrap=True,
        )
        whole = column(sheet, hint, spacing=10)
        whole.setStretch(0, 1)
        self.setLayout(whole)

    def refresh(self) -> None:
        """Override."""
        build, catalogue, world = self.build, self.session.catalogue, self.session.world
        scan, there = world.scan, world.on_machine
        image = catalogue.find(Image, build.part("image"))
        files = []
        names = {each.id: each for each in known_systems(build, catalogue)}
        for each in scan.system_files if scan else ():
            system = names.get(each.system)
            if system is None:
                continue
            emulator = catalogue.find(Emulator, system.emulator)
            wanted = each.wanted
            missing = "missing" if wanted.required else "optional"
            state = "good" if each.usable else "name" if each.found else missing
            facts = f"{show_bytes(wanted.size)}, SHA-256 {wanted.sha256[:8]}…" + (
                f", {wanted.region}" if wanted.region else ""
            )
            who = f"{system.name} in {emulator.name if emulator else system.emulator}"
            where = f"{image.system_files_path}/" if image else ""
            files.append(
                Needed(
                    wanted.name,
                    facts,
                    who,
                    where,
                    each.found,
                    state,
                    len(scan.of(system.id)) if scan else 0,
                    None if there is None else wanted.name in there.system_files,
                )
            )
        self.drawing.show_files(tuple(files))

    def rename(self, place: int) -> None:
        """Copy a file under its right name onto the machine."""
        scan = self.session.world.scan
        known = {system.id for system in known_systems(self.build, self.session.catalogue)}
        found = [file for file in scan.system_files if file.system in known]
        self.take(right_name_remedy(self.build, found[place]), "Right name of a firmware file")
