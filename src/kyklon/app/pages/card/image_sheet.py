"""The image that goes onto the card: chosen from a file or from the shelf, with what is known of it."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QDialog, QFileDialog

from kyklon.app.pages.card.dialogs import ChecksumDialog, ShelfDialog
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Elided, FigureRows, Sheet, button, row
from kyklon.base.places import shelf_file
from kyklon.base.progress import Watch
from kyklon.base.quantities import counted, show_bytes
from kyklon.model.card import CardContents
from kyklon.operations.card.shelving import boards_served, shelf_entry
from kyklon.record.shelf import FILE as SHELF
from kyklon.record.shelf import Shelf, ShelfImage


class ImageSheet(Sheet):
    """used: another image was chosen."""

    used = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__("Image")
        self.session, self.theme = session, session.theme
        self._file = Elided("strong", Qt.TextElideMode.ElideMiddle)
        self._facts = FigureRows(self.theme)
        choose = button("Choose…", self._on_choose_clicked)
        shelf = button("Shelf…", self._on_shelf_clicked)
        checksum = button("Checksum…", self._on_checksum_clicked, tip="Checksum published with the image")
        self.add(self._file, self._facts, 1, row(choose, shelf, checksum, 1, spacing=6))
        self.setFixedWidth(round(self.theme.px(286)))

    def refresh(self) -> None:
        """The image and what is known of it."""
        source = self.session.world.source
        self._file.set_full(source.name if source else self.session.world.source_error or "No image chosen")
        self._facts.set_rows(self._figures())

    def _figures(self) -> tuple[tuple[str, str], ...]:
        source, build, world = self.session.world.source, self.session.build, self.session.world
        if source is None:
            return ()
        stated = world.source_stated
        known = (
            f"{build.source.sha256[:8]}…" if build.source.sha256 else f"{stated.digest[:8]}…" if stated else "not known"
        )
        parts = f", {counted(len(source.parts), 'part')}" if source.parts else ""
        about = "" if source.exact else "about "
        unpacked = about + show_bytes(source.unpacked) if source.unpacked else "unknown"
        rows = [
            ("Size", f"{unpacked}, {source.kind}{parts}"),
            (stated.algorithm if stated and not build.source.sha256 else "SHA-256", known),
        ]
        inside = world.source_contents
        if inside and inside.table:
            sets = " ".join(kernel.instruction_set.removeprefix("ARM") for kernel in inside.kernels)
            rows.append((f"{len(inside.table.partitions)} partitions", inside.table.scheme))
            rows.append((f"Kernels {sets}" if sets else "Kernels", self._serves(inside)))
        return tuple(rows)

    def _serves(self, inside: CardContents) -> str:
        board = self.session.build.part("board")
        return "fit your board" if board in boards_served(inside, self.session.catalogue) else "not for your board"

    def _on_choose_clicked(self) -> None:
        kinds = "Images (*.img *.xz *.gz *.bz2 *.zst *.zip *.7z *.iso *.001 *.part1 *.aa)"
        path, _kind = QFileDialog.getOpenFileName(self, "Choose the image", str(self.session.folder), kinds)
        if path:
            self.use_image(path)

    def use_image(self, path: str) -> None:
        """Make an image file the build's, and keep it on the shelf once it was looked into."""
        self.used.emit()
        self.session.edit("source", {"path": path, "sha256": None}, "Image")

    def _on_shelf_clicked(self) -> None:
        """Read the shelf, with the present image on it, in the background; then show it."""
        session = self.session
        folder, catalogue = session.folder, session.catalogue
        image, inside = session.world.source, session.world.source_contents

        def work(_watch: Watch) -> tuple[Shelf, tuple[ShelfImage, ...], frozenset[str]]:
            shelf = shelf_of(folder)
            if image is not None and image.place not in {each.path for each in shelf.images()}:
                shelf.put(shelf_entry(image, catalogue, boards_served(inside, catalogue) if inside else ()))
            images = shelf.images()
            return shelf, images, frozenset(each.path for each in images if Path(each.path).exists())

        session.jobs.start(
            "Reading the shelf",
            work,
            lambda found: self._show_shelf(*found),
            bad=lambda bad: session.said.emit(str(bad)),
            cancellable=False,
        )

    def _show_shelf(self, shelf: Shelf, images: tuple[ShelfImage, ...], there: frozenset[str]) -> None:
        dialog = ShelfDialog(images, there, self.theme, self)
        accepted = dialog.exec() == QDialog.DialogCode.Accepted
        if dialog.removed:
            self.session.jobs.start(
                "Updating the shelf",
                lambda _watch: shelf.remove(*dialog.removed),
                lambda _none: None,
                bad=lambda bad: self.session.said.emit(str(bad)),
                cancellable=False,
            )
        if accepted and dialog.chosen:
            self.use_image(dialog.chosen)

    def _on_checksum_clicked(self) -> None:
        dialog = ChecksumDialog(self.session.build.source.sha256 or "", self)
        if dialog.exec() == QDialog.DialogCode.Accepted:
            self.session.edit("source.sha256", dialog.checksum or None)


def shelf_of(folder: Path) -> Shelf:
    """A demo's own shelf, else the user's."""
    own = folder / SHELF
    return Shelf(own if own.exists() else shelf_file())
