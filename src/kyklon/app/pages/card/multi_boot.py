"""The bench for multi-boot: bundles checked, summed against a target, laid out on a stick."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtWidgets import QCheckBox, QFileDialog, QWidget

from kyklon.app.pages.card.bench import Bench
from kyklon.app.pages.card.drive_book import DriveBook
from kyklon.app.pages.card.problem_list import ProblemLine, ProblemList
from kyklon.app.pages.card.space_bar import Share, Space, SpaceBar
from kyklon.app.pages.card.tried_dialog import TriedDialog
from kyklon.app.session.session import Session
from kyklon.app.theme.lamps import Lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Choice, Elided, Sheet, button, column, label, row, scrolled, unmarked
from kyklon.app.widgets.instrument import Instrument
from kyklon.app.widgets.kept import Kept
from kyklon.app.widgets.tick import Tick
from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.progress import Watch
from kyklon.base.quantities import counted, show_bytes, show_minutes
from kyklon.catalogue.image_records import Chooser
from kyklon.catalogue.records import Card
from kyklon.model.build import Build, TriedSystem
from kyklon.model.fields import describe
from kyklon.operations.card.disk import unpacking_speeds
from kyklon.operations.card.sets import multiboot
from kyklon.operations.card.sets.bundle import Bundle
from kyklon.operations.card.sets.lay_out import lay_out
from kyklon.operations.card.sets.problems import Problem, rename
from kyklon.operations.card.sets.tried import in_words, problems_of, with_tried
from kyklon.operations.card.sets.unpacking import Speeds, seconds
from kyklon.record.folder import resolve

_TOKENS = ("teal_soft", "amber_soft")


class BundleRow(QWidget):
    """One bundle: its lamp, a tick, its size."""

    def __init__(self, bundle: Bundle, theme: Theme, note: Callable[[], object]) -> None:
        super().__init__()
        self.bundle = bundle
        self._seen = label("", "small", wrap=True)
        self._note = button("Tried…", note, "quiet", tip="What you saw of it on the machine")
        self._note.setAccessibleName(f"What you saw of {bundle.name}")
        self._note.setVisible(bundle.readable)
        self.tick, self._lamp = Tick(unmarked(bundle.name)), Lamp(theme, "clear", 10)
        self.tick.setEnabled(bundle.readable)
        size = show_bytes(bundle.need) if bundle.readable else "not readable"
        head = row(self._lamp, self.tick, label(size, "mono"), spacing=10)
        head.setStretch(1, 1)
        under = row(self._seen, self._note, spacing=10, margins=(round(theme.px(20)), 0, 0, 0))
        under.setStretch(0, 1)
        self.setLayout(column(head, under, spacing=0, margins=(2, 4, 8, 4)))

    def show_check(self, found: multiboot.Check, speeds: Speeds, tried: TriedSystem | None) -> None:
        """Whether it is chosen, the worst of its problems, how long it unpacks, and what was seen of it."""
        if self.bundle.readable:
            words = in_words(tried) if tried else "not tried yet"
            self._seen.setText(f"unpacks in about {show_minutes(seconds(self.bundle, speeds) / 60)} · {words}")
        self.tick.blockSignals(True)
        self.tick.setChecked(self.bundle.folder in found.chosen)
        self.tick.blockSignals(False)
        own = [problem.severity.value for problem in found.problems if problem.bundle == self.bundle.folder]
        self._lamp.set_state("stop" if "stop" in own else "caution" if "caution" in own else "clear")


class MultiBench(Bench):
    def __init__(self, session: Session, drives: DriveBook) -> None:
        super().__init__(session, drives)
        self._bar, self._list = SpaceBar(self.theme), ProblemList(self.theme)
        self._list.asked.connect(self._on_rename_asked)
        self._folder = Elided("strong")
        self._target = Choice(self.theme, "Target", lambda _size: self.look())
        self.boxes: dict[str, QCheckBox] = {}
        self._rows = column(spacing=2)
        self._kept = Kept[BundleRow](self._rows)
        self.check: multiboot.Check | None = None
        self._error = ""
        self._looked: tuple[object, ...] = ()
        space = Sheet("Space on the target", "boot menu, selected systems, free space")
        space.add(self._bar)
        systems = Sheet("Systems", "in the order of the chooser's list")
        systems.add(scrolled(self._rows))
        self._wrong = Sheet("Problems")
        self._wrong.add(self._list)
        self._lay = button("Copy to a stick…", self._on_lay_clicked, "primary")
        foot = Sheet()
        line = row(
            label("Bundles", "muted"),
            self._folder,
            button("Choose…", self._on_choose_clicked),
            label("for", "muted"),
            self._target,
            self._lay,
            spacing=8,
        )
        line.setStretch(1, 1)
        foot.add(line)
        middle = row(systems, self._wrong, spacing=14)
        middle.setStretch(0, 1)
        middle.setStretch(1, 1)
        layout = column(spacing=14)
        layout.addWidget(space, 26)
        layout.addLayout(middle, 74)
        layout.addWidget(foot)
        self.setLayout(layout)

    def instrument(self) -> Instrument | None:
        """Override."""
        return self._bar

    @property
    def folder(self) -> Path | None:
        path = self.session.build.sets.multi_boot
        return resolve(self.session.folder, path) if path else None

    @property
    def chooser(self) -> Chooser:
        image = self.session.build.part("image") or ""
        found = self.session.catalogue.all(Chooser)
        try:
            return multiboot.chooser_for(found, image, self.folder)
        except WrongUse:
            return found[0]

    # --- showing -------------------------------------------------------------------------------------------------

    def target_bytes(self) -> int:
        return int(self._target.value or 0)

    def look(self) -> None:
        """Check the bundles again, in the background."""
        folder, chooser, size = self.folder, self.chooser, self.target_bytes()
        board, build = self.session.build.part("board") or "", self.session.build
        if folder is None:
            self.check, self._error = None, ""
            self._show_check()
            return
        chosen = build.sets.chosen or None

        def work(watch: Watch) -> multiboot.Check:
            return multiboot.check(folder, chooser, size, board=board, chosen=chosen, watch=watch)

        def done(found: multiboot.Check) -> None:
            self.check, self._error = found, ""
            self._show_check()

        def bad(error: KyklonError) -> None:
            self.check, self._error = None, str(error)
            self._show_check()

        self.session.jobs.start("Checking the bundles", work, done, bad=bad)

    def refresh(self) -> None:
        """Override."""
        sets = self.session.build.sets
        self._folder.set_full(Path(sets.multi_boot).name if sets.multi_boot else "none chosen")
        self._show_targets()
        asked = (sets.multi_boot, sets.chosen, sets.tried, self._target.value)
        if asked != self._looked:
            self._looked = asked
            self.look()
        self._lay.setEnabled(self.check is not None and self.check.ready and not self.busy)

    def _show_targets(self) -> None:
        cards = [(str(card.capacity_bytes), card.name) for card in self.session.catalogue.all(Card)]
        drives = [
            (str(e.facts.size), f"{e.facts.name}, {show_bytes(e.facts.size)}")
            for e in self.drives.targets
            if e.facts.removable and not e.facts.read_only
        ]
        current = self._target.value
        if not current:
            card = self.session.catalogue.find(Card, self.session.build.part("card"))
            current = str(card.capacity_bytes) if card else cards[0][0]
        self._target.set_choices(tuple(dict((*drives, *cards)).items()), current)

    def _show_check(self) -> None:
        found = self.check
        self._lay.setEnabled(found is not None and found.ready and not self.busy)
        if found is None:
            self._kept.show(())
            self.boxes = {}
            self._bar.show_space(None)
            self._list.show_lines((), self._error or "Choose the folder that holds the bundles.")
            return
        tried = {each.bundle: each for each in self.session.build.sets.tried}
        speeds = unpacking_speeds(self.session.build, self.session.catalogue)
        rows = self._kept.show((bundle, lambda bundle=bundle: self._row(bundle)) for bundle in found.bundles)
        self.boxes = {bundle.folder: line.tick for bundle, line in zip(found.bundles, rows, strict=True)}
        for line in rows:
            line.show_check(found, speeds, tried.get(line.bundle.folder))
        self._rows.addStretch(1)
        going = [bundle for bundle in found.bundles if bundle.folder in found.chosen]
        shares = [Share("chooser", self.chooser.own_bytes, "grid")]
        shares += [Share(b.name, b.need, _TOKENS[index % 2], b.grows) for index, b in enumerate(going)]
        self._bar.show_space(Space(f"{self._target.currentText()}", self.target_bytes(), tuple(shares)))
        problems = (*found.problems, *problems_of(found.bundles, self.session.build.sets.tried))
        stops = len(found.stops)
        self._wrong.set_note(
            f"{counted(stops, 'stop')}; the stick needs {found.stick}" if stops else f"the stick needs {found.stick}"
        )
        self._list.show_lines(
            tuple(
                ProblemLine(
                    p.severity.value,
                    f"{p.bundle + ': ' if p.bundle else ''}{p.sentence}",
                    p.why,
                    "Rename" if p.rename else "",
                    p,
                )
                for p in sorted(problems, key=_weight)
            ),
            "No problems found in these bundles.",
        )

    def _row(self, bundle: Bundle) -> BundleRow:
        made = BundleRow(bundle, self.theme, lambda: self._on_tried(bundle))
        made.tick.toggled.connect(self._on_ticked)
        return made

    # --- acting --------------------------------------------------------------------------------------------------

    def _on_ticked(self, _on: bool) -> None:
        chosen = [name for name, tick in self.boxes.items() if tick.isChecked()]
        self.session.edit("sets.chosen", chosen)

    def _on_tried(self, bundle: Bundle) -> None:
        known = next((each for each in self.session.build.sets.tried if each.bundle == bundle.folder), None)
        dialog = TriedDialog(bundle.name, known, self.theme, self)
        if dialog.exec():
            seen = dialog.seen(bundle.folder, bundle.released)
            tried = with_tried(self.session.build, seen).sets.tried
            self.session.edit("sets.tried", tried, f"{bundle.name}: {in_words(seen)}")

    def _on_choose_clicked(self) -> None:
        path = QFileDialog.getExistingDirectory(
            self, "The folder of the bundles", str(self.folder or self.session.folder)
        )
        if path:
            sets = self.session.build.sets.model_copy(update={"multi_boot": path, "chosen": (), "tried": ()})
            self.session.edit("sets", sets, describe(Build, "sets.multi_boot").label)

    def _on_rename_asked(self, problem: Problem) -> None:
        folder, chooser = self.folder, self.chooser
        if folder is not None:
            self.rename(lambda: rename(multiboot.top_of(folder, chooser), problem), problem, problem.bundle)

    def _on_lay_clicked(self) -> None:
        path = QFileDialog.getExistingDirectory(self, "The stick", str(self.session.folder))
        if path:
            self.lay_out(Path(path))

    def lay_out(self, to: Path) -> None:
        """The chosen bundles onto a stick's folder, read back, as a job."""
        found, folder, chooser, session = self.check, self.folder, self.chooser, self.session
        assert found is not None
        assert folder is not None

        def done(result: tuple[int, int]) -> None:
            files, size = result
            systems = counted(len(found.chosen), "system")
            words = f"{systems}, {files} files, {show_bytes(size)} copied to {to.name} and read back"
            session.log(20, "Multi-boot bundles copied", words)
            session.said.emit(f"{words}.")

        self.run(
            "Copying the bundles",
            lambda watch: lay_out(folder, chooser, found, to, watch),
            done,
        )


def _weight(problem: Problem) -> tuple[int, bool]:
    """Stops first, and first of them what the drawing shows."""
    return ("stop", "caution", "note").index(problem.severity.value), problem.code != "too-much"
