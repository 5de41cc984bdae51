"""The bench for writing: the image, the drive, the write and its proof."""

from __future__ import annotations

import statistics
from dataclasses import replace
from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QFileDialog, QWidget

from kyklon.app.pages.card.bench import Bench, spans_of
from kyklon.app.pages.card.card_strip import CardStrip, Span, Strip
from kyklon.app.pages.card.drive_book import DriveBook, Rows
from kyklon.app.pages.card.drive_list import DriveList, line_height
from kyklon.app.pages.card.image_sheet import ImageSheet
from kyklon.app.pages.card.proof_sheet import ProofSheet, sheet_of
from kyklon.app.pages.card.rate_curve import RateCurve
from kyklon.app.session.session import Session
from kyklon.app.theme.lamps import Lamp
from kyklon.app.widgets.basic import Sheet, button, column, label, row, scrolled, set_tip
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.errors import BadBlock, KyklonError, VerifyError
from kyklon.base.progress import Progress, Watch
from kyklon.base.quantities import show_bytes, show_duration
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.records import Card
from kyklon.devices.ports import Target
from kyklon.model.build import CardRecord, CardState
from kyklon.model.image_file import Stated
from kyklon.operations.card.acts import Written, write_card
from kyklon.operations.card.drives import judgement
from kyklon.operations.card.drives.outlook import estimate, expansion
from kyklon.operations.card.drives.writer import WriteReport
from kyklon.record.logbook import now

_LAMPS = {
    CardState.NEVER: ("never written", "not started"),
    CardState.WRITING: ("interrupted: not bootable", "stop"),
    CardState.CANCELLED: ("cancelled: not bootable", "stop"),
    CardState.FAILED: ("failed: not bootable", "stop"),
    CardState.UNPROVEN: ("written, not read back", "caution"),
    CardState.PROVEN: ("written and proven", "clear"),
}
_VERDICT_LAMPS = {"good": "clear", "slow": "caution", "worn": "caution", "cancelled": "note"}
_SLOW_SHARE = 0.4  # of the median speed: a place below it is marked
TITLE = "Writing the card"


class WriteBench(Bench):
    def __init__(self, session: Session, drives: DriveBook) -> None:
        super().__init__(session, drives)
        self.strip_view, self.curve = CardStrip(self.theme), RateCurve(self.theme)
        self.drive_list = DriveList(self.theme)
        self.drive_list.chosen.connect(drives.choose)
        self.image = ImageSheet(session)
        self.image.used.connect(self._on_image_used)
        self.write_button = button("Write the card", self._on_write_clicked, "primary")
        self.pause_button = button("Pause", self._on_pause_clicked)
        self.pause_button.hide()
        self.unmount_button = button("Unmount", self._on_unmount_clicked)
        self.unmount_button.hide()
        self._running = Strip("", 0, ())
        self._writing_to = ""
        self._record_before = session.build.card
        self._report: WriteReport | None = None
        self._places: list[tuple[int, float]] = []
        self._bad: tuple[int, ...] = ()
        self._rates: tuple[list[tuple[float, float]], list[tuple[float, float]]] = ([], [])
        self._lay_out()

    def _lay_out(self) -> None:
        card = Sheet("The card", "what is in the image, and where it goes")
        card.add(self.strip_view)
        self._drives_sheet = Sheet("Drives")
        look = button("Rescan", self._on_look_clicked)
        buttons = row(look, self.unmount_button, 1, self.pause_button, self.write_button)
        self._drives_sheet.add(scrolled(column(self.drive_list, 1), lambda: line_height(self.theme)), buttons)
        self._speed = Sheet("Speed")
        self._lamp, self._verdict = Lamp(self.theme, "note", 11), label("", "strong", wrap=True)
        self._proof_button = button("Proof sheet…", self._on_proof_clicked, "outline")
        self._remove_button = button("Remove safely", self._on_remove_clicked)
        told = row(self._lamp, self._verdict, self._remove_button, self._proof_button, spacing=8)
        told.setStretch(1, 1)
        self._told = QWidget()
        self._told.setLayout(told)
        self._speed.add(self.curve, self._told)
        layout = column(spacing=14)
        layout.addWidget(card, 30)
        layout.addLayout(row(self.image, self._drives_sheet, spacing=14), 42)
        layout.addWidget(self._speed, 26)
        self.setLayout(layout)
        self._speed.hide()
        self._told.hide()

    def instrument(self) -> Instrument | None:
        """Override."""
        return self.strip_view

    # --- showing -------------------------------------------------------------------------------------------------

    def rows(self) -> Rows:
        """The drives as last looked for, with the interlock's verdicts; the write judges once more."""
        return self.drives.rows()

    def refresh(self) -> None:
        """Override."""
        session = self.session
        rows = self.rows()
        known = {target.facts.identity: verdict for target, verdict in rows}
        target = self.drives.chosen
        if target is not None and not known[target.facts.identity].allowed and not self._writing_to:
            self.drives.let_go()
            return
        current = target.facts.identity if target else ""
        self.drive_list.show_drives(tuple((each.facts, verdict) for each, verdict in rows), current)
        self._drives_sheet.set_note(f"{self.drives.called}; refused ones cannot be chosen")
        source = session.world.source
        self.image.refresh()
        busy = bool(self._writing_to)
        self.pause_button.setVisible(busy)
        mounted = self._mounted()
        self.unmount_button.setVisible(mounted is not None and not busy)
        if mounted is not None:
            self.unmount_button.setText(f"Unmount {mounted.facts.name}")
        self.write_button.setEnabled(source is not None and target is not None and not busy)
        self.write_button.setText(f"Write to {target.facts.name}…" if target else "Choose a drive")
        if not busy:
            self._show_estimate()
        self._show_strip()

    def _show_estimate(self) -> None:
        target, source = self.drives.chosen, self.session.world.source
        found = (
            estimate(
                source,
                self.session.build.known_card(target.facts.identity),
                self.session.catalogue.find(Card, self.session.build.part("card")),
            )
            if target and source
            else None
        )
        if found is None or self._report is not None:
            return
        words = (
            f"about {show_duration(found.seconds)} with reading back, at {found.rate / 1e6:.0f} MB/s, {found.source}"
        )
        set_tip(self.write_button, words)
        self._drives_sheet.set_note(words)

    def verified_bytes(self) -> int:
        """How far the reading back of a running write is."""
        return self._running.verified

    def strip_state(self) -> str:
        """What the strip says of the card."""
        return self.strip_view.strip.state if self.strip_view.strip else ""

    def _show_strip(self) -> None:
        session, source = self.session, self.session.world.source
        target = self.drives.chosen
        verdict = next((verdict for each, verdict in self.rows() if target and each.facts == target.facts), None)
        size = (source.unpacked or 0) if source else 0
        own = target is not None and target.facts.identity in (session.build.card.drive, self._writing_to)
        words, lamp = _LAMPS[session.build.card.state] if own else ("", "")
        if self._writing_to and own:
            words, lamp = "being written: not bootable yet", "caution"
        elif own and session.build.card.verdict not in ("", "good", "cancelled"):
            words = f"{words} · {session.build.card.verdict}"
            lamp = lamp if lamp == "stop" else "caution"
        self.strip_view.show_strip(
            Strip(
                source.name if source else "",
                size,
                spans_of(session.world.source_contents),
                target.facts.name if target else "",
                target.facts.size if target else 0,
                verdict.loss if verdict else "",
                words,
                lamp,
                self._running.written,
                self._running.verified,
                self._there(),
                0 if lamp == "stop" else self._grows_to(),
                self._bad if own else (),
                self._slow_places() if own else (),
            )
        )

    def _there(self) -> tuple[Span, ...]:
        """What lies on the chosen drive now, while something of somebody's is on it."""
        contents = self.drives.contents
        if contents is None or self._writing_to:
            return ()
        return tuple(
            Span(volume.start, volume.start + volume.size, volume.words, "grid", volume.used)
            for volume in contents.volumes
        )

    def _grows_to(self) -> int:
        inside, target = self.session.world.source_contents, self.drives.chosen
        image = self.session.catalogue.find(Image, self.session.build.part("image"))
        if not inside or not inside.table or target is None or (image is not None and not image.grows):
            return 0
        root = inside.table.root()
        if root is None or root.end != inside.table.end:
            return 0
        grown = expansion(inside.table.end, root.start, target.facts.size)
        return grown.grown_end if grown else 0

    def _slow_places(self) -> tuple[int, ...]:
        if len(self._places) < 8:
            return ()
        median = statistics.median(rate for _at, rate in self._places)
        return tuple(at for at, rate in self._places if rate < median * _SLOW_SHARE)[:20]

    # --- choosing ------------------------------------------------------------------------------------------------

    def choose_drive(self, identity: str) -> bool:
        """Choose a drive as a click on its line does; False when the interlock refuses it."""
        verdict = next((v for target, v in self.rows() if target.facts.identity == identity), None)
        if verdict is None or not verdict.allowed:
            return False
        self.drives.choose(identity)
        return True

    def _on_look_clicked(self) -> None:
        self.drives.look(forget=True)

    def _on_image_used(self) -> None:
        self._report = None

    def _mounted(self) -> Target | None:
        """The first drive that only its mounts keep from being written."""
        return next((target for target, verdict in self.rows() if verdict.codes == ("mounted",)), None)

    def _on_unmount_clicked(self) -> None:
        target = self._mounted()
        if target is not None:
            identity = target.facts.identity
            self.run("Unmounting", lambda _watch: target.drives.unmount(identity), self.session.said.emit)

    # --- writing -------------------------------------------------------------------------------------------------

    def _on_write_clicked(self) -> None:
        target = self.drives.chosen
        found = next(((t, v) for t, v in self.rows() if target and t.facts.identity == target.facts.identity), None)
        if found is None:
            return
        dialog = self.ask_loss(*found)
        if dialog is not None:
            self.write(found[0], dialog.typed.text())

    def write(self, target: Target, typed: str) -> None:
        """Write and prove the card as one job; inside it the interlock judges the drive as it is then."""
        session, image = self.session, self.session.world.source
        if image is None:
            return
        build, identity, job = session.build, target.facts.identity, self.drives.job(target, typed)
        card = session.catalogue.find(Card, build.part("card"))
        speed_class = card.speed_class if card else ""
        stated = Stated("SHA-256", build.source.sha256) if build.source.sha256 else session.world.source_stated
        self._rates, self._places, self._bad, self._report = ([], []), [], (), None
        self._told.hide()
        self._writing_to = identity
        self._record_before = build.card
        session.card_happened(CardRecord(drive=identity, state=CardState.WRITING, at=now()))

        def work(watch: Watch) -> Written:
            session.flush()
            return write_card(job, image, stated=stated, speed_class=speed_class, watch=watch)

        session.jobs.start(TITLE, work, self._on_written, bad=self._on_refused)
        session.jobs.changed.connect(self._follow)
        self.refresh()

    def _job(self) -> Any:
        return next((job for job in self.session.jobs.running if job.title == TITLE), None)

    def _on_pause_clicked(self) -> None:
        job = self._job()
        if job is None:
            return
        if job.cancel.paused:
            job.cancel.resume()
        else:
            job.cancel.pause()
        self.pause_button.setText("Resume" if job.cancel.paused else "Pause")

    def _follow(self) -> None:
        job = self._job()
        report = job.progress if job else None
        if report is None:
            return
        if report.phase == "Writing":
            self._running = replace(self._running, written=report.done, verified=0)
            if report.rate_now:
                self._places.append((report.done, report.rate_now))
        elif report.phase == "Reading back":
            self._running = replace(self._running, written=report.total or 0, verified=report.done)
        self._add_rate(report)
        self._speed.show()
        self._speed.set_note("")
        self.curve.show_rates(tuple(self._rates[0]), tuple(self._rates[1]))
        self._show_strip()

    def _add_rate(self, report: Progress) -> None:
        """The speed since the report before, for the curve."""
        if report.phase not in ("Writing", "Reading back"):
            return
        kept = self._rates[0 if report.phase == "Writing" else 1]
        if report.rate_now and report.at_s is not None and (not kept or report.at_s > kept[-1][0]):
            kept.append((report.at_s, report.rate_now))

    def _stop_following(self) -> None:
        self.session.jobs.changed.disconnect(self._follow)
        self._running = Strip("", 0, ())
        self._writing_to = ""
        self.pause_button.setText("Pause")

    def _on_written(self, ended: Written) -> None:
        self._stop_following()
        session, identity = self.session, ended.record.drive
        size = next((target.facts.size for target in self.drives.targets if target.facts.identity == identity), 0)
        session.card_written(ended.record, size, ended.event)
        self._speed.show()
        self._told.show()
        self._report = ended.report
        if ended.report is not None:
            self._show_good(ended)
        else:
            bad = ended.bad
            self._bad = (bad.offset,) if isinstance(bad, (BadBlock, VerifyError)) else ()
            session.said.emit(f"{ended.record.state.value.capitalize()}: {bad}")
            words = ended.record.sentence or str(bad)
            self._say(_VERDICT_LAMPS.get(ended.record.verdict, "stop"), f"{_name(ended.record.verdict)}: {words}")
            self._lamp.set_state("note" if ended.record.verdict == "cancelled" else "stop")
        self._proof_button.setEnabled(ended.report is not None)
        self._remove_button.setEnabled(ended.report is not None)
        session.look("card", lambda: self.drives.look(then=self.drives.survey))  # one by one: they take turns with us
        self.refresh()

    def _show_good(self, ended: Written) -> None:
        report = ended.report
        assert report is not None
        self.curve.show_rates(report.write_rates, report.verify_rates)
        rate = show_bytes(report.size / report.seconds)
        self._speed.set_note(f"{show_bytes(report.size)} written and read back at {rate}/s")
        self._bad = report.retried
        self._say(
            _VERDICT_LAMPS.get(ended.record.verdict, "clear"), f"{_name(ended.record.verdict)}: {ended.record.sentence}"
        )
        self.session.said.emit(f"Card written and proven. SHA-256 {report.sha256[:16]}…")

    def _say(self, lamp: str, words: str) -> None:
        self._lamp.set_state(lamp)
        self._verdict.setText(words)

    def verdict_words(self) -> str:
        """What the last write said of the card."""
        return self._verdict.text()

    def _on_refused(self, bad: KyklonError) -> None:
        """The interlock said no inside the job: nothing was touched."""
        self._stop_following()
        self.session.card_happened(self._record_before)
        self.session.said.emit(str(bad))
        self.drives.look()
        self.refresh()

    # --- after ---------------------------------------------------------------------------------------------------

    def proof_sheet(self) -> ProofSheet | None:
        """The page that proves the last write."""
        target, source, report = self.drives.chosen, self.session.world.source, self._report
        if target is None or source is None or report is None:
            return None
        card = self.session.catalogue.find(Card, self.session.build.part("card"))
        promised = judgement.floor(card.speed_class) if card else 0.0
        facts = sheet_of(self.session.build, target.facts, source, report, self.strip_view.strip, promised)
        return ProofSheet(self.theme, facts)

    def _on_proof_clicked(self) -> None:
        sheet = self.proof_sheet()
        if sheet is None:
            return
        start = (
            self.session.folder / "issued" / f"proof-{self.drives.chosen.facts.name.strip('/').replace('/', '-')}.pdf"
        )
        path, _kind = QFileDialog.getSaveFileName(self, "Save the proof sheet", str(start), "Proof (*.pdf *.png)")
        if path:
            self.save_proof(Path(path))

    def save_proof(self, path: Path) -> None:
        """Write the proof sheet as PDF or PNG, by the ending."""
        sheet = self.proof_sheet()
        if sheet is None:
            return
        try:
            data = sheet.rendered(path.suffix)
        except KyklonError as bad:
            self.session.said.emit(str(bad))
            return
        self.session.keep_file(path, data, f"Proof sheet saved: {path}")
        self.session.log(20, f"Proof sheet saved: {path.name}", str(path))

    def _on_remove_clicked(self) -> None:
        target = self.drives.chosen
        if target is None:
            return
        identity = target.facts.identity
        self.run("Removing the card", lambda _watch: target.drives.remove(identity), self.session.said.emit)


def _name(verdict: str) -> str:
    return {"counterfeit?": "Reads back differently", "source": "The image failed"}.get(
        verdict, verdict.capitalize() or "Result"
    )
