"""The bench for bare metal: from an unpacked set to a minimal FAT card."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QFileDialog

from kyklon.app.pages.card.bench import Bench
from kyklon.app.pages.card.drive_book import DriveBook
from kyklon.app.pages.card.problem_list import ProblemLine, ProblemList
from kyklon.app.pages.card.set_map import SetLine, SetMap
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, Elided, Sheet, button, column, label, row, set_tip
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.errors import KyklonError
from kyklon.base.progress import Watch
from kyklon.base.quantities import counted, show_bytes
from kyklon.catalogue.image_records import BareMetal, Image
from kyklon.catalogue.records import Board
from kyklon.devices.ports import Target
from kyklon.operations.card.acts import bare_metal_card, set_record
from kyklon.operations.card.drives.interlock import Purpose
from kyklon.operations.card.sets import baremetal
from kyklon.operations.card.sets.problems import Problem, rename
from kyklon.record.folder import resolve

VOLUME = "TIDEPOOL"


class BareBench(Bench):
    def __init__(self, session: Session, drives: DriveBook) -> None:
        super().__init__(session, drives)
        self._map, self._list = SetMap(self.theme), ProblemList(self.theme)
        self._list.asked.connect(self._on_rename_asked)
        self._folder = Elided("strong")
        self._board = Choice(self.theme, "Board", lambda _board: self.look())
        boards = tuple((board.id, board.name) for board in session.catalogue.all(Board))
        self._board.set_choices(boards, session.build.part("board") or "")
        self._drive = Choice(self.theme, "Card", lambda _drive: self.refresh())
        self._drive.setMinimumContentsLength(15)
        self._make = button("Make the card…", self._on_make_clicked, "primary")
        self.plan: baremetal.Plan | None = None
        self._error = ""
        self._map_sheet = Sheet("From the set to the card", "only what this board needs")
        self._map_sheet.add(self._map)
        self._wrong = Sheet("Problems")
        self._wrong.add(self._list)
        self._wrong.setFixedWidth(round(self.theme.px(278)))
        top = row(self._map_sheet, self._wrong, spacing=14)
        top.setStretch(0, 1)
        foot = Sheet()
        line = row(
            label("Set", "muted"),
            self._folder,
            button("Choose…", self._on_choose_clicked),
            label("for", "muted"),
            self._board,
            label("onto", "muted"),
            self._drive,
            self._make,
            spacing=8,
        )
        line.setStretch(1, 1)
        foot.add(line)
        layout = column(spacing=14)
        layout.addLayout(top, 1)
        layout.addWidget(foot)
        self.setLayout(layout)
        self._looked = ""

    def instrument(self) -> Instrument | None:
        """Override."""
        return self._map

    @property
    def folder(self) -> Path | None:
        path = self.session.build.sets.bare_metal
        return resolve(self.session.folder, path) if path else None

    # --- showing -------------------------------------------------------------------------------------------------

    def look(self) -> None:
        """Read the set again, in the background."""
        folder, catalogue, board = self.folder, self.session.catalogue, self._board.value
        if folder is None:
            self.plan, self._error = None, ""
            self.refresh()
            return

        def work(_watch: Any) -> baremetal.Plan:
            images = {image.id: image for image in catalogue.all(Image)}
            layout = baremetal.layout_of(folder, catalogue.all(BareMetal), images)
            return baremetal.plan(folder, layout, images[layout.image], catalogue.get(Board, board))

        def done(found: baremetal.Plan) -> None:
            self.plan, self._error = found, ""
            self.refresh()

        def bad(error: KyklonError) -> None:
            self.plan, self._error = None, str(error)
            self.refresh()

        self.session.jobs.start("Reading the set", work, done, bad=bad, cancellable=False)

    def refresh(self) -> None:
        """Override."""
        path = self.session.build.sets.bare_metal
        if path and path != self._looked:
            self._looked = path
            self.look()
        self._folder.set_full(Path(path).name if path else "none chosen")
        set_tip(self._folder, path)
        self._show_drives()
        self._show_plan()

    def _show_drives(self) -> None:
        free = [target for target in self.drives.targets if self.drives.job(target).verdict(Purpose.PREPARE).allowed]
        current = self._drive.value or (self.drives.chosen.facts.identity if self.drives.chosen else "")
        choices = (
            ("", "choose a card"),
            *((e.facts.identity, f"{e.facts.name}, {show_bytes(e.facts.size)}") for e in free),
        )
        self._drive.set_choices(choices, current)

    def _target(self) -> Target | None:
        return next((target for target in self.drives.targets if target.facts.identity == self._drive.value), None)

    def _show_plan(self) -> None:
        plan = self.plan
        ready = plan is not None and plan.ready and self._target() is not None and not self.busy
        self._make.setEnabled(ready)
        if plan is None:
            self._map.show_lines((), 0)
            self._list.show_lines((), self._error or "Choose the folder of an unpacked set.")
            return
        stops = sum(problem.severity == "stop" for problem in plan.problems)
        set_tip(self._make, f"fix {stops} stops first" if stops else "")
        self._wrong.set_note(counted(stops, "stop") if stops else "no stops")
        bad = {problem.subject for problem in plan.problems if problem.severity == "stop"}
        lines = [
            SetLine(each.source, each.target, each.size, each.why, "stop" if each.source in bad else "clear")
            for each in plan.placed
        ]
        wrong = {problem.rename[0]: problem.sentence for problem in plan.problems if problem.rename}
        lines += [SetLine(name, "", 0, "wrong name", "stop") for name in wrong]
        lines += [SetLine(name, "", 0, why, "note") for name, why in plan.left_out]
        self._map.show_lines(tuple(lines), plan.size)
        machines = ", ".join(plan.machines) or "no machine yet"
        self._map_sheet.set_note(f"{counted(len(plan.placed), 'file')}; ready: {machines}")
        self._list.show_lines(
            tuple(
                ProblemLine(p.severity.value, p.sentence, p.why, "Rename" if p.rename else "", p) for p in plan.problems
            ),
            "No problems found in this set.",
        )

    # --- acting --------------------------------------------------------------------------------------------------

    def _on_choose_clicked(self) -> None:
        path = QFileDialog.getExistingDirectory(self, "The unpacked set", str(self.folder or self.session.folder))
        if path:
            self.session.edit("sets.bare_metal", path)

    def _on_rename_asked(self, problem: Problem) -> None:
        folder = self.folder
        if folder is not None:
            self.rename(lambda: rename(folder, problem), problem, folder.name)

    def _on_make_clicked(self) -> None:
        target = self._target()
        if target is None or self.plan is None:
            return
        verdict = self.drives.job(target).verdict(Purpose.PREPARE)
        dialog = self.ask_loss(target, verdict, act="Make the card on {}", volume=VOLUME)
        if dialog is not None:
            self.make(target, dialog.volume.text(), dialog.typed.text())

    def make(self, target: Target, name: str, typed: str) -> None:
        """A plain FAT card with the set's files, read back, as a job."""
        session, plan, folder = self.session, self.plan, self.folder
        assert plan is not None
        assert folder is not None
        identity, job = target.facts.identity, self.drives.job(target, typed)
        image = session.catalogue.find(Image, session.build.part("image"))
        own = image is not None and image.school == "bare metal"  # then this is the card that the build starts from

        def done(result: Any) -> None:
            found, event = result
            if own:
                session.card_written(set_record(target, plan), target.facts.size, event)
                session.look("card")
            else:
                session.card_event(identity, target.facts.size, event, emptied=True)
            session.said.emit(f"{found.same_files} files are on {target.facts.name}, read back and the same.")

        def work(watch: Watch) -> Any:
            session.flush()
            return bare_metal_card(job, folder, plan, name, watch, own=own)

        self.run("Making the bare-metal card", work, done)
