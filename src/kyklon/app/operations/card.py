"""Operation 20: the image, the drive, the write and its proof."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QFileDialog, QLineEdit, QScrollArea, QWidget

from kyklon import workshop
from kyklon.app.operations.page import OperationPage
from kyklon.app.session import Session
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Elided, FigureRows, Sheet, button, column, label, row
from kyklon.app.widgets.card_strip import CardStrip, Span, Strip
from kyklon.app.widgets.drive_list import DriveList
from kyklon.app.widgets.instrument import Instrument
from kyklon.app.widgets.rate_curve import RateCurve
from kyklon.card.interlock import Verdict, grant
from kyklon.errors import KyklonError
from kyklon.model.build import CardRecord, CardState
from kyklon.progress import CancelToken, Progress, Sink
from kyklon.quantities import show_bytes
from kyklon.record.logbook import now

_LAMPS = {
    CardState.NEVER: ("never written", "not started"), CardState.WRITING: ("interrupted: not bootable", "stop"),
    CardState.CANCELLED: ("cancelled: not bootable", "stop"), CardState.FAILED: ("failed: not bootable", "stop"),
    CardState.UNPROVEN: ("written, not read back", "caution"), CardState.PROVEN: ("written and proven", "clear"),
}  # fmt: skip


class LossDialog(QDialog):
    """Says by name and size what a write destroys. What is lost must be typed, letter for letter."""

    def __init__(self, name: str, verdict: Verdict, theme: Theme, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Before the write")
        self.setMinimumWidth(round(theme.px(480)))
        self._lose = verdict.lose
        layout = column(spacing=10, margins=(20, 18, 20, 16))
        self.typed = QLineEdit()
        self.write = button(f"Write over {name}" if verdict.lose else f"Write to {name}", self.accept,
                            "danger" if verdict.lose else "primary")  # fmt: skip
        leave = button("Leave it as it is", self.reject)
        leave.setDefault(True)
        if verdict.lose:
            layout.addWidget(label(f"Everything on {name} will be lost", "section", wrap=True))
            layout.addWidget(label(verdict.loss, "stop", wrap=True))
            layout.addWidget(
                label(f"If that is what you want, type its name, letter for letter: {verdict.lose}", wrap=True)
            )
            self.typed.setAccessibleName("Name of what will be lost")
            self.typed.textChanged.connect(lambda text: self.write.setEnabled(text == self._lose))
            self.write.setEnabled(False)
            layout.addWidget(self.typed)
        else:
            layout.addWidget(
                label(f"{name} holds nothing of yours. Anything written to it earlier is gone.", wrap=True)
            )
        for warning in verdict.warnings:
            layout.addWidget(label(warning, "caution", wrap=True))
        layout.addWidget(
            label("When your desktop offers to format the card afterwards: never accept.", "muted", wrap=True)
        )
        layout.addSpacing(6)
        layout.addLayout(row(leave, 1, self.write))
        self.setLayout(layout)
        leave.setFocus()


class CardPage(OperationPage):
    number = 20
    cautions = (
        "Anything written over is gone for good.",
        "A desktop may say that the card must be formatted: it only cannot read the Linux partition.",
    )

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._chosen = session.build.card.drive
        self._strip, self._curve = CardStrip(self.theme), RateCurve(self.theme)
        self._drives = DriveList(self.theme)
        self._drives.chosen.connect(self._on_drive_chosen)
        self._file = Elided("strong", Qt.TextElideMode.ElideMiddle)
        self._facts = FigureRows(self.theme)
        self.write_button = button("Write the card", self._on_write_clicked, "primary")
        self._running = Strip("", 0, ())
        self._writing_to = ""
        self._record_before = session.build.card
        self._known: tuple[tuple[workshop.Target, Verdict], ...] = ()
        self._rates: tuple[list[tuple[float, float]], list[tuple[float, float]]] = ([], [])
        card = Sheet("The card", "what is in the image, and where it goes")
        card.add(self._strip)
        image = Sheet("Image")
        image.add(
            self._file,
            self._facts,
            1,
            row(button("Choose…", self._on_choose_clicked), button("Checksum…", self._on_checksum_clicked), 1),
        )
        image.setFixedWidth(round(self.theme.px(264)))
        holder = QScrollArea()
        holder.setWidgetResizable(True)
        holder.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inner = QWidget()
        inner.setLayout(column(self._drives, 1))
        holder.setWidget(inner)
        drives = Sheet("Drives", "a refused one cannot be chosen")
        drives.add(holder, row(button("Look again", self.refresh), 1, self.write_button))
        self._speed = Sheet("Speed")
        self._speed.add(self._curve)
        self.body.addWidget(card, 4)
        self.body.addLayout(row(image, drives, spacing=14), 5)
        self.body.addWidget(self._speed, 3)
        self._speed.hide()

    def instrument(self) -> Instrument | None:
        """Override."""
        return self._strip

    # --- showing -------------------------------------------------------------------------------------------------

    def rows(self) -> tuple[tuple[workshop.Target, Verdict], ...]:
        """The drives as last looked for, with the interlock's verdicts; the write judges once more."""
        return self._known

    def _look_for_drives(self) -> None:
        try:
            self._known = workshop.verdicts(self.session.folder, self.session.build, self.session.world.source)
        except KyklonError as bad:
            self.session.said.emit(str(bad))
            self._known = ()

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        session = self.session
        self._look_for_drives()
        rows = self.rows()
        known = {target.facts.identity: verdict for target, verdict in rows}
        if self._chosen not in known or not known[self._chosen].allowed:
            self._chosen = ""
        self._drives.show_drives(tuple((target.facts, verdict) for target, verdict in rows), self._chosen)
        source = session.world.source
        self._file.set_full(source.path.name if source else session.world.source_error or "No image is chosen")
        self._facts.set_rows(self._figures())
        target = self._target()
        busy = bool(self._writing_to)
        self.write_button.setEnabled(source is not None and target is not None and not busy)
        self.write_button.setText(f"Write to {target.facts.name}…" if target else "Choose a drive")
        self.set_subject(source.path.name if source else "")
        self._show_strip()

    def _figures(self) -> tuple[tuple[str, str], ...]:
        source, build = self.session.world.source, self.session.build
        if source is None:
            return ()
        known = build.source.sha256 or self.session.world.source_sha256
        size = show_bytes(source.unpacked) if source.unpacked is not None else "told by writing"
        rows = [
            ("Packed", f"{show_bytes(source.packed)}, {source.kind}"),
            ("Unpacked", size),
            ("SHA-256", f"{known[:8]}…" if known else "not known"),
        ]
        inside = self.session.world.source_contents
        if inside and inside.table:
            rows.append(("Partitions", f"{len(inside.table.partitions)}, MBR"))
            rows.append(
                ("Kernels for", " ".join(kernel.instruction_set.removeprefix("ARM") for kernel in inside.kernels))
            )
        return tuple(rows)

    def _target(self) -> workshop.Target | None:
        return next((target for target, _verdict in self.rows() if target.facts.identity == self._chosen), None)

    def verified_bytes(self) -> int:
        """How far the reading back of a running write is."""
        return self._running.verified

    def strip_state(self) -> str:
        """What the strip says of the card."""
        return self._strip.strip.state if self._strip.strip else ""

    def _show_strip(self) -> None:
        session, source = self.session, self.session.world.source
        target = self._target()
        verdict = next((verdict for each, verdict in self.rows() if target and each.facts == target.facts), None)
        inside = session.world.source_contents
        spans: tuple[Span, ...] = ()
        if inside and inside.table:
            fills = {True: ("boot, FAT32", "teal_soft"), False: ("root, Linux", "amber_soft")}
            spans = tuple(Span(part.start, part.end, *fills[part.is_fat]) for part in inside.table.partitions)
        size = (source.unpacked or 0) if source else 0
        own = target is not None and target.facts.identity in (session.build.card.drive, self._writing_to)
        words, lamp = _LAMPS[session.build.card.state] if own else ("", "")
        if self._writing_to and own:
            words, lamp = "being written: not bootable yet", "caution"
        self._strip.show_strip(
            Strip(
                source.path.name if source else "", size, spans, target.facts.name if target else "",
                target.facts.size if target else 0, verdict.loss if verdict else "", words, lamp,
                self._running.written, self._running.verified,
            )
        )  # fmt: skip

    # --- acting --------------------------------------------------------------------------------------------------

    def _on_drive_chosen(self, identity: str) -> None:
        self._chosen = identity
        self.refresh()

    def choose_drive(self, identity: str) -> bool:
        """Choose a drive as a click on its line does; False when the interlock refuses it."""
        verdict = next((v for target, v in self.rows() if target.facts.identity == identity), None)
        if verdict is None or not verdict.allowed:
            return False
        self._on_drive_chosen(identity)
        return True

    def _on_choose_clicked(self) -> None:
        kinds = "Images (*.img *.xz *.gz *.bz2 *.zst *.zip *.iso)"
        path, _kind = QFileDialog.getOpenFileName(self, "Choose the image", str(self.session.folder), kinds)
        if path:
            self.session.edit("Image", "source", {"path": path, "sha256": None})

    def _on_checksum_clicked(self) -> None:
        dialog = ChecksumDialog(self.session.build.source.sha256 or "", self)
        if dialog.exec() == QDialog.DialogCode.Accepted:
            self.session.edit("Checksum", "source.sha256", dialog.checksum or None)

    def _on_write_clicked(self) -> None:
        found = next(((t, v) for t, v in self.rows() if t.facts.identity == self._chosen), None)
        if found is None:
            return
        target, verdict = found
        dialog = LossDialog(target.facts.name, verdict, self.theme, self)
        if dialog.exec() == QDialog.DialogCode.Accepted:
            self.write(target, dialog.typed.text())

    def write(self, target: workshop.Target, typed: str) -> None:
        """Write and prove the card as one job; the interlock judges once more inside it."""
        session = self.session
        folder, build = session.folder, session.build
        try:
            grant(workshop.case_for(build, session.world.source, target), typed=typed)
        except KyklonError as bad:
            session.said.emit(str(bad))
            return
        self._rates = ([], [])
        self._writing_to = target.facts.identity
        self._record_before = build.card
        session.card_happened(CardRecord(drive=target.facts.identity, state=CardState.WRITING, at=now()))
        session.flush()

        def work(sink: Sink, cancel: CancelToken) -> Any:
            return workshop.write_card(folder, build, target, typed=typed, sink=sink, cancel=cancel)

        session.jobs.start("Writing the card", work, self._on_written, bad=self._on_refused)
        session.jobs.changed.connect(self._follow)
        self.refresh()

    def _follow(self) -> None:
        job = next((each for each in self.session.jobs.running if each.title == "Writing the card"), None)
        report = job.progress if job else None
        if report is None:
            return
        if report.phase == "Writing":
            self._running = replace(self._running, written=report.done, verified=0)
        else:
            self._running = replace(self._running, written=report.total or 0, verified=report.done)
        self._add_rate(report)
        self._speed.show()
        self._curve.show_rates(tuple(self._rates[0]), tuple(self._rates[1]))
        self._show_strip()

    def _add_rate(self, report: Progress) -> None:
        """The speed since the report before, for the curve."""
        kept = self._rates[0 if report.phase == "Writing" else 1]
        if report.rate_now and report.at_s is not None and (not kept or report.at_s > kept[-1][0]):
            kept.append((report.at_s, report.rate_now))

    def _stop_following(self) -> None:
        self.session.jobs.changed.disconnect(self._follow)
        self._running = Strip("", 0, ())
        self._writing_to = ""

    def _on_written(self, result: Any) -> None:
        record, bad, report = result
        self._stop_following()
        session = self.session
        session.card_happened(record)
        session.logged.emit()
        if report is not None:
            self._speed.show()
            self._curve.show_rates(report.write_rates, report.verify_rates)
            rate = show_bytes(report.size / report.seconds)
            self._speed.set_note(f"{show_bytes(report.size)} written and read back at {rate}/s")
            session.said.emit(f"Card written and proven. SHA-256 {report.sha256[:16]}…")
        else:
            session.said.emit(f"{record.state.value.capitalize()}: {bad}")
        session.look("card")
        self.refresh()

    def _on_refused(self, bad: KyklonError) -> None:
        """The interlock said no inside the job: nothing was touched."""
        self._stop_following()
        self.session.card_happened(self._record_before)
        self.session.said.emit(str(bad))
        self.refresh()


class ChecksumDialog(QDialog):
    """Takes a SHA-256 as its maker prints it."""

    def __init__(self, checksum: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Checksum of the image")
        self.setMinimumWidth(560)
        self._edit = QLineEdit(checksum)
        self._edit.setAccessibleName("SHA-256")
        self._keep = button("Keep it", self.accept, "primary")
        self._edit.textChanged.connect(lambda _text: self._keep.setEnabled(self._valid()))
        words = (
            "Paste the SHA-256 that the image's maker states, 64 letters and figures. The write stops when it differs."
        )
        self.setLayout(
            column(label("SHA-256 of the file", "section"), label(words, wrap=True), self._edit,
                   row(button("Leave it", self.reject), 1, self._keep), spacing=10, margins=(20, 18, 20, 16))
        )  # fmt: skip

    @property
    def checksum(self) -> str:
        """Lower case, without what is printed around it."""
        return self._edit.text().strip().lower().split(" ")[0]

    def _valid(self) -> bool:
        text = self.checksum
        return not text or (len(text) == 64 and all(letter in "0123456789abcdef" for letter in text))
