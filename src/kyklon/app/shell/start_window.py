"""The first page: a machine from wishes, from nothing, from one of the demos, or one that was begun before."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QCloseEvent, QKeyEvent, QKeySequence, QMouseEvent, QPainter, QPen, QShortcut
from PyQt6.QtWidgets import QFileDialog, QLineEdit, QWidget

from kyklon.app.pages.plan.columns_of import answer, columns_of
from kyklon.app.pages.plan.plan_columns import PlanColumns
from kyklon.app.pages.plan.wish_form import WishForm
from kyklon.app.pages.shelf.bring_in import BringInDialog
from kyklon.app.session.jobs import Jobs
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Sheet, button, column, label, row, scrolled, set_role
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.errors import KyklonError
from kyklon.base.places import catalogue_folder
from kyklon.base.progress import Watch
from kyklon.catalogue import loader
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build
from kyklon.operations.plan import planned
from kyklon.operations.plan.acts import keep_new
from kyklon.operations.plan.solve import Answer
from kyklon.operations.plan.wishes import Wish, wish_of
from kyklon.parts import exchange
from kyklon.parts.store import Store
from kyklon.record import builds

if TYPE_CHECKING:
    from kyklon.app.shell.help_window import HelpWindow

DEMOS = (("lighthouse", "Café table"), ("camper", "Camper console"), ("school-fair", "School fair"))
_MOST_RECENT = 8


@dataclass(frozen=True)
class Recent:
    """A build that was begun before. tube: of its display, None where none is chosen. signed: operations of nine."""

    folder: Path
    name: str
    kind: str
    tube: bool | None
    signed: int
    card: str


class RecentBuilds(Instrument):
    """A line a build with a drawing of it. opened: the folder of the one that was clicked."""

    least = QSize(240, 120)
    opened = pyqtSignal(object)  # Path

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Builds begun before")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._rows: tuple[Recent, ...] = ()
        self.current = 0

    def show_builds(self, rows: tuple[Recent, ...]) -> None:
        if not self.shows(rows):
            return
        self._rows = rows
        self.setAccessibleDescription(
            "; ".join(f"{row_.name}, {row_.kind}, {row_.signed} of 9 signed off, {row_.card}" for row_ in rows)
        )
        self.setMinimumHeight(round(self._pitch() * max(1, len(rows))))
        self.update()

    def _pitch(self) -> float:
        return self.theme.px(62)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        number = int(event.position().y() / self._pitch()) if event is not None else -1
        if 0 <= number < len(self._rows):
            self.current = number
            self.opened.emit(self._rows[number].folder)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Override."""
        key = Qt.Key(event.key()) if event is not None else Qt.Key.Key_unknown
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(key, 0)
        if step and self._rows:
            self.current = max(0, min(len(self._rows) - 1, self.current + step))
            self.update()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space) and self._rows:
            self.opened.emit(self._rows[self.current].folder)
        else:
            super().keyPressEvent(event)

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        if not self._rows:
            self.text(painter, QRectF(box.left(), box.top(), box.width(), px(24)), "None yet.", token="muted")
            return
        for number, recent in enumerate(self._rows):
            place = QRectF(
                box.left() + 1, box.top() + number * self._pitch() + 1, box.width() - 2, self._pitch() - px(6)
            )
            chosen = number == self.current and self.hasFocus()
            edge = QPen(self.theme.color("teal" if chosen else "hairline"), 2 if chosen else 1)
            self.block(painter, place, "field", edge)
            self._draw_glass(painter, QRectF(place.left() + px(8), place.top() + px(9), px(48), px(36)), recent)
            left = place.left() + px(66)
            wide = place.right() - left - px(8)
            head, under = (QRectF(left, place.top() + px(y), wide, px(17)) for y in (3, 19))
            self.text(painter, head, recent.name, font=self.theme.font("label", weight=600))
            self.text(painter, under, recent.kind, font=self.theme.font("small"), token="muted")
            words = f"{recent.signed} of 9 done · {recent.card}"
            self.text(painter, QRectF(left, place.top() + px(35), wide, px(16)), words, font=self.theme.font("small"))

    def _draw_glass(self, painter: QPainter, box: QRectF, recent: Recent) -> None:
        """Its display: bulged for a tube, flat for a panel, dashed for none; a light for each operation signed off."""
        if recent.tube is None:
            edge = QPen(self.theme.color("hairline"), 1.2, Qt.PenStyle.DashLine)
            self.block(painter, box, "sheet", edge)
            return
        self.block(painter, box, "bezel", radius=3)
        inner = box.adjusted(3, 3, -3, -3)
        self.block(painter, inner, "glass", radius=9 if recent.tube else 1)
        pitch = inner.width() / 9
        for number in range(9):
            x = inner.left() + pitch * (number + 0.5)
            if number < recent.signed:
                painter.setBrush(self.theme.color("phosphor"))
                painter.setPen(Qt.PenStyle.NoPen)
                painter.drawEllipse(QPointF(x, inner.center().y()), pitch * 0.28, pitch * 0.28)


def _rows(value: object) -> list[dict[str, Any]]:
    """The records of a list as it was read, whatever else stands there."""
    return [each for each in value if isinstance(each, dict)] if isinstance(value, list) else []


def recent_builds(catalogue: Catalogue) -> tuple[Recent, ...]:
    """The builds of this machine, the latest first."""
    found = []
    displays = catalogue.parts["displays"]
    for folder, data in reversed(builds.known().items()):
        parts, signed, card = _rows(data.get("parts")), _rows(data.get("sign_offs")), data.get("card")
        display = next((str(part.get("part")) for part in parts if part.get("role") == "display"), "")
        state = card.get("state", "never written") if isinstance(card, dict) else "never written"
        found.append(
            Recent(
                folder,
                str(data.get("name", folder.name))[:120],
                str(data.get("kind", ""))[:120],
                bool(getattr(displays.get(display), "tube", False)) if display else None,
                min(9, len({sign.get("operation") for sign in signed})),
                str(state)[:40],
            )
        )
    return tuple(found[:_MOST_RECENT])


class StartWindow(QWidget):
    """opened: the folder of a build to open; demo: the name of one to make. closed: it is gone."""

    opened = pyqtSignal(object)  # Path
    demo = pyqtSignal(str)
    closed = pyqtSignal()

    def __init__(self, theme: Theme, catalogue: Catalogue, near: Path | None = None) -> None:
        super().__init__()
        self.theme, self._catalogue = theme, catalogue
        self.jobs = Jobs()
        self._wish: Wish | None = None
        self._help: HelpWindow | None = None
        self._answer = Answer(())
        self.setWindowTitle("A new machine – Kyklon")
        self.setObjectName("centre")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground, True)
        self._form = WishForm(theme)
        self._form.changed.connect(self.solve)
        self._form.show_wishes(self._form.settings, (), catalogue)
        wishes = Sheet("Wishes")
        wishes.add(self._form)
        wishes.setFixedWidth(round(theme.px(330)))
        self._columns = PlanColumns(theme)
        self._columns.chosen.connect(lambda _number: self._show_button())
        plans = Sheet("Plans", "three ways to build it; each answer changes them at once")
        plans.add(self._columns)
        self._name, self._place = QLineEdit(), QLineEdit()
        self._place.setText(str((near or Path.home() / "Kyklon") / "my-machine"))
        self._start = button("Start from this plan", self.start, "primary")
        self._empty = button("Start empty", self.start_empty, "outline", tip="Nothing is chosen yet; parts come later")
        self._said = label("", "stop", wrap=True)
        self._said.setVisible(False)
        self._recent = RecentBuilds(theme)
        QShortcut(QKeySequence("F1"), self, self.show_help)
        QShortcut(QKeySequence("F2"), self, self.show_doctor)
        middle = column(plans, self._begin_sheet(), spacing=12)
        middle.setStretch(0, 1)
        body = row(wishes, middle, self._aside(), spacing=14)
        body.setStretch(1, 1)
        head = row(
            label("What machine shall it be?", "title"),
            label("Tick what shall be played; everything else can stay open.", "muted"),
            1,
            spacing=14,
        )
        whole = column(head, body, spacing=12, margins=(20, 14, 20, 16))
        whole.setStretch(1, 1)
        self.setLayout(whole)
        self._show_button()
        self.resize(1280, 800)

    def _begin_sheet(self) -> Sheet:
        """Name and folder of the build, and the two ways to begin it."""
        self._name.setAccessibleName("Name of the machine")
        self._name.setText("My machine")
        self._name.textEdited.connect(self._on_named)
        self._place.setAccessibleName("Folder")
        begin = Sheet("Begin")
        choose = button("Choose…", self.ask_folder, "quiet")
        begin.add(
            row(label("Name", "muted"), self._name, label("Folder", "muted"), self._place, choose),
            row(self._said, 1, self._empty, self._start),
        )
        begin.body.itemAt(1).layout().setStretch(0, 3)
        begin.body.itemAt(0).layout().setStretch(1, 2)
        begin.body.itemAt(0).layout().setStretch(3, 4)
        return begin

    def _aside(self) -> QWidget:
        """Builds begun before, and the demos."""
        self._recent.opened.connect(self._open)
        self._recent.show_builds(recent_builds(self._catalogue))
        before = Sheet("Begun before")
        before.add(scrolled(self._recent), button("Open another…", self.ask_open, "quiet"))
        before.body.setStretch(0, 1)
        demos = Sheet("Or look at a demo")
        for name, words in DEMOS:
            demos.add(button(words, lambda name=name: self._show_demo(name), "outline"))
        check = button("Check this computer…", self.show_doctor, "quiet", tip="What it lacks for Kyklon (F2)")
        explain = button("Help", self.show_help, "quiet", tip="What this page is for, and whole jobs (F1)")
        aside = column(before, demos, row(explain, check, 1), spacing=12)
        aside.setStretch(0, 1)
        holder = QWidget()
        holder.setLayout(aside)
        holder.setFixedWidth(round(self.theme.px(270)))
        return holder

    # --- plans -----------------------------------------------------------------------------------------------------

    def solve(self) -> None:
        """The plans for what was answered so far, off the window's thread."""
        self._form.show_wishes(self._form.settings, self._form.systems, self._catalogue)
        draft = planned.empty_build(self._name.text() or "My machine", self._catalogue)
        draft = draft.model_copy(update={"systems": self._form.systems, "plan": self._form.settings})
        wish = self._wish = wish_of(draft, self._catalogue)
        catalogue, bundles = self._catalogue, self._form.settings.bundles

        def work(_watch: Watch) -> Answer:
            return answer(wish, catalogue, {}, bundles)

        def done(found: Answer) -> None:
            if wish is self._wish:
                self._answer = found
                words = tuple(planned.in_words(found, wish, catalogue)) if wish.systems else ()
                self._columns.show_plans(columns_of(found, wish, catalogue), words)
                self._show_button()

        self.jobs.start("Looking for plans", work, done, cancellable=False, bad=lambda bad: self._say(str(bad)))

    def _show_button(self) -> None:
        plans = self._answer.plans
        self._start.setEnabled(bool(plans))
        self._start.setText(f"Start from plan {self._columns.current + 1}" if plans else "Start from a plan")

    def _say(self, words: str, *, good: bool = False) -> None:
        self._said.setText(f"{'●' if good else '■'} {words}" if words else "")
        set_role(self._said, "good" if good else "stop")
        self._said.setVisible(bool(words))

    def show_help(self) -> None:
        """What this page is for; whoever is new reads the jobs from here, too."""
        from kyklon.app.shell.help_window import HelpWindow

        if self._help is None:
            self._help = HelpWindow(self.theme, lambda _topic: None)
        self._help.show_topic("start")

    def show_doctor(self) -> None:
        """What this computer lacks."""
        from kyklon.app.shell.doctor_dialog import DoctorDialog

        DoctorDialog(self.theme, self.jobs, self).exec()

    # --- files that were opened ------------------------------------------------------------------------------------

    def bring_in(self, path: Path) -> None:
        """Read a part's file, show what it brings, and put it on the shelf when its user agrees."""
        shelf = self._catalogue

        def done(found: tuple[exchange.Incoming, ...]) -> None:
            if BringInDialog(path.name, found, self.theme, self).exec():
                self.jobs.start(
                    f"Importing {path.name}", lambda _watch: take(found), taken, cancellable=False, bad=self._told
                )

        def take(found: tuple[exchange.Incoming, ...]) -> Catalogue:
            exchange.bring_in(found, Store(catalogue_folder()), replace=True)
            return loader.load(catalogue_folder(), strict=False)

        def taken(found: Catalogue) -> None:
            self._catalogue = found
            self._form.show_wishes(self._form.settings, self._form.systems, found)
            self._say(f"{path.name} is on your shelf now.", good=True)
            self.solve()

        def work(_watch: Watch) -> tuple[exchange.Incoming, ...]:
            return exchange.incoming(path, shelf)

        self.jobs.start(f"Reading {path.name}", work, done, cancellable=False, bad=self._told)

    def _told(self, bad: KyklonError) -> None:
        self._say(str(bad))

    # --- beginnings ------------------------------------------------------------------------------------------------

    def _on_named(self, name: str) -> None:
        """The folder follows the name until it was typed itself."""
        if not self._place.isModified():
            plain = "-".join("".join(letter if letter.isalnum() else " " for letter in name.lower()).split())
            self._place.setText(str(Path(self._place.text()).parent / (plain or "my-machine")))

    def ask_folder(self) -> None:
        path = QFileDialog.getExistingDirectory(
            self, "An empty folder for the new build", str(Path(self._place.text()).parent)
        )
        if path:
            self._place.setText(path)
            self._place.setModified(True)

    def ask_open(self) -> None:
        path = QFileDialog.getExistingDirectory(self, "Open a build folder", str(Path.home()))
        if path:
            self._open(Path(path))

    def start(self) -> None:
        """A new build of the chosen plan."""
        plans = self._answer.plans
        if plans:
            plan, settings, systems = plans[self._columns.current], self._form.settings, self._form.systems
            catalogue, name = self._catalogue, self._named()
            self._make(lambda: planned.started(name, plan, systems, settings, catalogue))

    def start_empty(self) -> None:
        """A new build with nothing chosen, but with the answers that were given."""
        name, settings, systems, catalogue = self._named(), self._form.settings, self._form.systems, self._catalogue
        self._make(
            lambda: planned.empty_build(name, catalogue).model_copy(update={"systems": systems, "plan": settings})
        )

    def _named(self) -> str:
        return self._name.text().strip() or "My machine"

    def _make(self, made: object) -> None:
        folder = Path(self._place.text().strip()).expanduser()
        if not folder.is_absolute():
            self._say("Write the folder with its whole path, from / on.")
            return

        def work(_watch: Watch) -> Path:
            build: Build = made()  # type: ignore[operator]
            return keep_new(folder, build)

        def bad(error: KyklonError) -> None:
            self._start.setEnabled(True)
            self._say(str(error))

        self._start.setEnabled(False)
        self.jobs.start("Starting the build", work, self._open, cancellable=False, bad=bad)

    def _open(self, folder: Path) -> None:
        self.opened.emit(folder)
        self.close()

    def _show_demo(self, name: str) -> None:
        self.demo.emit(name)
        self.close()

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Override."""
        if self._help is not None:
            self._help.close()
        self.closed.emit()
        super().closeEvent(event)
