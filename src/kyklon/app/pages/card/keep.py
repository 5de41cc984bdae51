"""The bench for looking after cards: probe, prove, back up, restore, compare, prepare; and each card's history."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QFileDialog

from kyklon.app.pages.card.bench import Bench
from kyklon.app.pages.card.dialogs import NameDialog
from kyklon.app.pages.card.drive_book import DriveBook
from kyklon.app.pages.card.drive_list import DriveList, line_height
from kyklon.app.pages.card.history_view import HistoryView
from kyklon.app.pages.card.usage_map import Bar, Map, UsageMap
from kyklon.app.session.session import Session
from kyklon.app.theme.lamps import Lamp
from kyklon.app.widgets.basic import Sheet, button, column, label, row, scrolled
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.errors import KyklonError, ToolError
from kyklon.base.progress import Watch
from kyklon.base.quantities import counted, show_bytes, show_duration, show_share
from kyklon.devices.ports import Target
from kyklon.model.build import CardEvent
from kyklon.model.image_file import SourceFacts
from kyklon.operations import checksums
from kyklon.operations.card import changes
from kyklon.operations.card.acts import (
    Proven,
    Written,
    backup_card,
    compare_cards,
    prepare_card,
    prove_card,
    write_card,
)
from kyklon.operations.card.drives import prepare
from kyklon.operations.card.drives.interlock import Purpose, Verdict
from kyklon.operations.card.drives.prove import Proof
from kyklon.operations.card.sources.source import inspect
from kyklon.operations.card.volumes import compare, usage
from kyklon.operations.card.volumes.survey import Survey
from kyklon.record.logbook import now

_PROOF_LAMPS = {"good": "clear"}
_PLACE_WORDS = {"wraps": "not there", "lost": "not there", "changed": "changed", "fault": "fault"}


@dataclass(frozen=True)
class FaultWords:
    """What the last act said."""

    lamp: str
    title: str
    detail: str


class KeepBench(Bench):
    def __init__(self, session: Session, drives: DriveBook) -> None:
        super().__init__(session, drives)
        self._map = UsageMap(self.theme)
        self._history = HistoryView(self.theme)
        self.drive_list = DriveList(self.theme)
        self.drive_list.chosen.connect(drives.choose)
        self._lamp, self._title = Lamp(self.theme, "note", 11), label("", "strong")
        self._detail = label("", wrap=True)
        self._detail.setAlignment(Qt.AlignmentFlag.AlignTop)
        self._told: FaultWords | None = None
        self._usage: tuple[str, Survey, usage.Usage] | None = None
        self._proof: Proof | None = None
        self._acts = {
            "probe": button(
                "Probe…", lambda: self._on_prove_clicked(full=False), tip="Writes and reads back a few dozen blocks"
            ),
            "prove": button("Prove every byte…", lambda: self._on_prove_clicked(full=True)),
            "backup": button("Back up…", self._on_backup_clicked, "outline"),
            "restore": button("Restore…", self._on_restore_clicked),
            "compare": button("Compare with…", self._on_compare_clicked),
            "remember": button(
                "Remember it", self._on_remember_clicked, tip="To see later what somebody changed on it, line by line"
            ),
            "changed": button("What changed?", self._on_changed_clicked),
            "prepare": button("Format…", self._on_prepare_clicked),
        }
        self._lay_out()

    def _lay_out(self) -> None:
        held = Sheet("Contents", "partitions to scale, used space shaded")
        held.add(self._map)
        drives = Sheet("Drives", "reading changes nothing")
        drives.add(
            scrolled(column(self.drive_list, 1), lambda: line_height(self.theme)),
            row(button("Rescan", lambda: self.drives.look(forget=True)), 1),
        )
        acts = Sheet("Actions")
        acts.add(
            label("These only read", "caption"),
            row(self._acts["backup"], self._acts["compare"], spacing=6),
            row(self._acts["remember"], self._acts["changed"], spacing=6),
            label("These overwrite the card", "caption"),
            row(self._acts["probe"], self._acts["prove"], spacing=6),
            row(self._acts["restore"], self._acts["prepare"], spacing=6),
            1,
        )
        acts.setFixedWidth(round(self.theme.px(282)))
        self._result = Sheet("Result")
        told = row(self._lamp, self._title, 1, spacing=8)
        self._result.add(told, scrolled(self._detail))
        self._named = Sheet("History")
        self._rename = button("Name…", self._on_name_clicked, "quiet")
        self._named.head.addWidget(self._rename)
        self._named.add(self._history)
        layout = column(spacing=14)
        layout.addWidget(held, 26)
        layout.addLayout(row(drives, acts, spacing=14), 44)
        layout.addLayout(row(self._named, self._result, spacing=14), 28)
        self.setLayout(layout)
        self._result.hide()

    def instrument(self) -> Instrument | None:
        """Override."""
        return self._map

    # --- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Override."""
        target, build = self.drives.chosen, self.session.build
        current = target.facts.identity if target else ""
        rows = tuple((each.facts, self._verdict(each)) for each in self.drives.targets)
        self.drive_list.show_drives(rows, current, all_choosable=True)
        allowed = target is not None and self._verdict(target).allowed
        busy = bool(self.busy)
        for name, act in self._acts.items():
            reads = name in ("backup", "compare", "remember", "changed")
            act.setEnabled(target is not None and (reads or allowed) and not busy)
        known = build.known_card(current) if current else None
        self._named.set_title(f"History of “{known.name}”" if known else "History")
        self._named.set_note("" if target else "choose a drive")
        self._rename.setEnabled(known is not None)
        self._history.show_card(known)
        self._result.setVisible(self._told is not None)
        if self._told is not None:
            self._lamp.set_state(self._told.lamp)
            self._title.setText(self._told.title)
            self._detail.setText(self._told.detail)
        self._show_map(target)

    def _verdict(self, target: Target) -> Verdict:
        """What the interlock says of writing over a drive without an image."""
        return self.drives.job(target).verdict(Purpose.PROVE)

    def _show_map(self, target: Target | None) -> None:
        if target is None:
            self._map.show_map(None)
            return
        survey = self.drives.contents
        proof = self._proof if self._proof and self._proof.drive == target.facts.name else None
        bad = tuple((each.start, each.end, _PLACE_WORDS[each.kind]) for each in proof.bad) if proof else ()
        if survey is None:
            self._map.show_map(Map(target.facts.name, target.facts.size, (), "Reading…", bad))
            return
        if self._usage is None or self._usage[0] != target.facts.identity or self._usage[1] is not survey:
            self._usage = None
            self._look_closer(target, survey)
        used = self._usage[2] if self._usage else None
        self._map.show_map(map_of(target, survey, used, bad))

    def _look_closer(self, target: Target, survey: Survey) -> None:
        """The free maps, in the background."""
        size, identity = target.facts.size, target.facts.identity
        if survey.table is None and not survey.volumes:
            return

        def work(_watch: Any) -> usage.Usage | None:
            try:
                return usage.usage(target.path, size, survey)
            except (OSError, ToolError):
                return None

        def done(found: usage.Usage | None) -> None:
            self._usage = (identity, survey, found or usage.Usage(((0, size),), size))
            self.refresh()

        self._usage = (identity, survey, usage.Usage((), 0))
        self.session.jobs.start("Reading the allocation maps", work, done, cancellable=False)

    def result_words(self) -> str:
        """The last result, in words."""
        return f"{self._told.title}\n{self._told.detail}" if self._told else ""

    def _tell(self, lamp: str, title: str, detail: str) -> None:
        self._told = FaultWords(lamp, title, detail)
        self.session.said.emit(title)

    def _failed(self, title: str) -> Any:
        def failed(bad: KyklonError) -> None:
            self._tell("stop", f"{title} failed", str(bad))

        return failed

    def _event(self, target: Target, event: CardEvent, *, emptied: bool = False) -> None:
        self.session.card_event(target.facts.identity, target.facts.size, event, emptied=emptied)
        self.drives.survey()

    # --- acts that write over the card ---------------------------------------------------------------------------

    def _on_prove_clicked(self, *, full: bool) -> None:
        target = self.drives.chosen
        if target is None:
            return
        act = "Overwrite every byte of {}" if full else "Probe {}"
        dialog = self.ask_loss(target, self._verdict(target), act=act)
        if dialog is not None:
            self.prove(target, dialog.typed.text(), full=full)

    def prove(self, target: Target, typed: str, *, full: bool) -> None:
        """Probe or prove a card, as a job."""
        job = self.drives.job(target, typed)

        def done(result: Proven) -> None:
            proof = result.proof
            self._proof = proof
            rate = f"\n{show_bytes(proof.write_rate)}/s while writing" if proof.write_rate else ""
            words = f"{proof.sentence}{rate}, {show_duration(proof.seconds)}"
            self._tell(_PROOF_LAMPS.get(proof.verdict, "stop"), f"{target.facts.name}: {proof.verdict}", words)
            self._event(target, result.event, emptied=True)

        def work(watch: Watch) -> Proven:
            self.session.flush()
            return prove_card(job, full=full, watch=watch)

        self.run("Proving the card" if full else "Probing the card", work, done, self._failed("Proof"))

    def _on_restore_clicked(self) -> None:
        target = self.drives.chosen
        kinds = "Backups and images (*.img *.zst *.xz *.gz *.bz2 *.zip *.7z)"
        path, _kind = QFileDialog.getOpenFileName(self, "Restore from", str(self.session.folder), kinds)
        if path and target is not None:
            self.ask_restore(target, Path(path))

    def ask_restore(self, target: Target, path: Path) -> None:
        """Look into a backup, then ask what may be lost for it."""

        def ask(facts: SourceFacts) -> None:
            verdict = self.drives.job(target).verdict(Purpose.WRITE, facts)
            dialog = self.ask_loss(target, verdict, act="Restore onto {}")
            if dialog is not None:
                self.restore(target, facts, dialog.typed.text())

        self.session.jobs.start(
            "Reading the backup",
            lambda _watch: inspect(path),
            ask,
            bad=lambda bad: self.session.said.emit(str(bad)),
            cancellable=False,
        )

    def restore(self, target: Target, facts: SourceFacts, typed: str) -> None:
        """Write a backup to a card, as a job; its checksum beside it must be right."""
        session, job = self.session, self.drives.job(target, typed)

        def done(ended: Written) -> None:
            session.card_written(ended.record, target.facts.size, ended.event)
            self.drives.survey()
            if ended.bad is not None:
                self._tell("stop", f"Restore {ended.record.state.value}", f"{ended.bad} {ended.record.sentence}")
            else:
                words = f"{facts.name} is on it, read back and compared.\n{ended.record.sentence}"
                self._tell("clear", f"Restored onto {target.facts.name}", words)
            session.look("card")

        def work(watch: Watch) -> Written:
            session.flush()
            return write_card(job, facts, stated=checksums.beside(facts), watch=watch)

        self.run("Restoring", work, done, self._failed("Restore"))

    def _on_prepare_clicked(self) -> None:
        target = self.drives.chosen
        if target is None:
            return
        dialog = self.ask_loss(target, self._verdict(target), act="Format {}", volume="GAMES")
        if dialog is not None:
            self.prepare(target, dialog.volume.text(), dialog.typed.text(), dialog.wanted)

    def prepare(self, target: Target, name: str, typed: str, kind: prepare.Kind = "FAT") -> None:
        """A plain card, as a job."""
        job = self.drives.job(target, typed)

        def done(result: tuple[prepare.Prepared, CardEvent]) -> None:
            made, event = result
            cleared = f"\nCleared before: {'; '.join(made.cleared)}" if made.cleared else ""
            words = f"{made.kind}, {show_bytes(made.size)}, clusters of {made.cluster} bytes.{cleared}"
            self._tell("clear", f"{target.facts.name} formatted as {made.kind}, label “{made.label}”", words)
            self._event(target, event, emptied=True)

        def work(watch: Watch) -> tuple[prepare.Prepared, CardEvent]:
            self.session.flush()
            return prepare_card(job, name, watch, kind)

        self.run("Preparing the card", work, done, self._failed("Preparing the card"))

    # --- acts that read it ---------------------------------------------------------------------------------------

    def _on_backup_clicked(self) -> None:
        target = self.drives.chosen
        if target is None:
            return
        known = self.session.build.known_card(target.facts.identity)
        stem = (known.name if known else target.facts.name).strip("/").replace("/", "-").replace(" ", "-").lower()
        start = self.session.folder / "attachments" / f"{stem}.img.zst"
        path, _kind = QFileDialog.getSaveFileName(
            self, "Back up to", str(start), "Backups (*.img.zst *.img.xz *.img.gz)"
        )
        if path:
            self.backup(target, Path(path))

    def backup(self, target: Target, path: Path) -> None:
        """A card into a compressed image with its checksum, as a job."""
        job = self.drives.job(target)

        def done(result: Any) -> None:
            report, event = result
            share = report.read / max(1, report.size)
            words = (
                f"{show_bytes(report.read)} of {show_bytes(report.size)} in use ({show_share(share)}); the file takes "
                f"{show_bytes(report.packed)}. {show_duration(report.seconds)}.\nSHA-256 {report.sha256}"
            )
            self._tell("clear", f"{target.facts.name} is backed up as {path.name}", "\n".join((words, *report.notes)))
            self._event(target, event)

        def work(watch: Watch) -> Any:
            self.session.flush()
            return backup_card(job, path, watch)

        self.run("Backing up", work, done, self._failed("Backup"))

    def _on_compare_clicked(self) -> None:
        target = self.drives.chosen
        if target is None:
            return
        dialog = CompareDialog(self, target)
        if dialog.exec() == QDialog.DialogCode.Accepted and dialog.path is not None:
            self.compare(target, dialog.called, dialog.path)

    def compare(self, target: Target, name: str, path: Path) -> None:
        """The chosen card with another one or an image, as a job."""
        folder = self.session.folder

        def work(watch: Watch) -> compare.Comparison:
            first, second = compare.side(target.facts.name, target.path), compare.side(name, path)
            return compare_cards(first, second, folder, watch)

        def done(found: compare.Comparison) -> None:
            word = "are the same" if found.same else "differ"
            lamp = "clear" if found.same else "caution"
            self._tell(lamp, f"{target.facts.name} and {name} {word}", compare.in_words(found))
            self.session.acted()

        self.run("Comparing", work, done, self._failed("Compare"))

    def _on_remember_clicked(self) -> None:
        target, folder = self.drives.chosen, self.session.folder
        if target is None:
            return

        def work(watch: Watch) -> changes.Remembered:
            found = changes.look(target.path, now(), watch)
            changes.remember(folder, found)
            return found

        def done(found: changes.Remembered) -> None:
            words = f"{counted(len(found.files), 'file')} and {counted(len(found.packages), 'package')}."
            self._tell("clear", f"{target.facts.name} is remembered as it is", "\n".join((words, *found.not_read)))
            self.session.log(20, f"{target.facts.name} remembered as it is", words)

        self.run("Remembering the card", work, done, self._failed("Remembering"))

    def _on_changed_clicked(self) -> None:
        target, folder = self.drives.chosen, self.session.folder
        if target is None:
            return

        def done(found: changes.Since) -> None:
            rows = found.changes
            count = counted(len(rows), "change") if rows else "nothing changed"
            count += "" if found.whole else ", as far as it can be read"
            title = f"{target.facts.name} since {found.before.at[:10]}: {count}"
            words = "\n".join(filter(None, (changes.in_words(rows), *found.now.not_read)))
            self._tell("clear" if found.whole and not rows else "caution", title, words)

        self.run(
            "Reading what changed",
            lambda watch: changes.since(folder, target.path, now(), watch),
            done,
            self._failed("Reading"),
        )

    def _on_name_clicked(self) -> None:
        target = self.drives.chosen
        known = self.session.build.known_card(target.facts.identity) if target else None
        if known is None:
            return
        dialog = NameDialog(known.name, self.theme, self)
        if dialog.exec() == QDialog.DialogCode.Accepted:
            self.rename(known.identity, dialog.edit.text().strip())

    def rename(self, identity: str, name: str) -> None:
        """Give a card another name; one step of undo."""
        cards = [
            card.model_copy(update={"name": name}) if card.identity == identity else card
            for card in self.session.build.cards
        ]
        self.session.edit("cards", cards, "Name of the card")


def map_of(target: Target, survey: Survey, used: usage.Usage | None, bad: tuple[tuple[int, int, str], ...] = ()) -> Map:
    """The drawing's values. used: None while it is being read."""
    bars = []
    for volume in survey.volumes:
        start, end = volume.start, volume.start + volume.size
        inside = None
        if used is not None and used.end:
            inside = tuple((max(a, start) - start, min(b, end) - start) for a, b in used.used if a < end and b > start)
        number = f"{volume.number}  " if volume.number else ""
        kind = volume.kind or "not recognised"
        name = f"{number}{volume.label}, {kind}" if volume.label else f"{number}{kind}"
        bars.append(Bar(name, volume.size, inside))
    note = survey.error or ("; ".join(used.notes) if used else "")
    return Map(target.facts.name, target.facts.size, tuple(bars), note, bad)


class CompareDialog(QDialog):
    """What to compare a card with: another drive or an image file."""

    def __init__(self, bench: KeepBench, target: Target) -> None:
        super().__init__(bench)
        self.setWindowTitle("Compare with")
        self.setMinimumWidth(round(bench.theme.px(420)))
        self.path: Path | None = None
        self.called = ""
        self._bench = bench
        layout = column(label(f"Compare {target.facts.name} with", "section"), spacing=8, margins=(20, 18, 20, 16))
        for each in bench.drives.targets:
            path = bench.drives.written_path(each)
            if each.facts.identity != target.facts.identity and path is not None:
                words, called = f"{each.facts.name}, {show_bytes(each.facts.size)}", each.facts.name
                layout.addWidget(button(words, lambda called=called, path=path: self._choose(called, path)))
        facts = bench.session.world.source
        if facts is not None:
            layout.addWidget(button(f"The image {facts.name}", lambda: self._choose(facts.name, facts.path), "outline"))
        layout.addWidget(button("An image or backup file…", self._on_file_clicked))
        layout.addLayout(row(button("Cancel", self.reject), 1))
        self.setLayout(layout)

    def _choose(self, name: str, path: Path) -> None:
        self.called, self.path = name, path
        self.accept()

    def _on_file_clicked(self) -> None:
        kinds = "Images (*.img *.zst *.xz *.gz *.bz2 *.zip *.7z)"
        path, _kind = QFileDialog.getOpenFileName(self, "Compare with", str(self._bench.session.folder), kinds)
        if path:
            self._choose(Path(path).name, Path(path))
