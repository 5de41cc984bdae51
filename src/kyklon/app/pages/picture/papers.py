"""What operation 50 prints and hands on, chosen from a menu."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QApplication, QFileDialog, QMenu, QPushButton

from kyklon.app.session.session import Session
from kyklon.app.widgets.paper import pdf_of
from kyklon.base.inside import inside
from kyklon.base.quantities import counted
from kyklon.base.shown import visible
from kyklon.operations.picture.papers import issue


class PicturePapers:
    def __init__(self, session: Session) -> None:
        self.session = session

    def files(self) -> dict[str, bytes]:
        """Every file that the operation issues, by its path, and the sheet as a PDF beside its drawing."""
        made = issue(self.session.build, self.session.catalogue, self.session.world)
        found = {path: data.encode() if isinstance(data, str) else data for path, data in made.items()}
        found |= {
            f"{path.removesuffix('.svg')}.pdf": pdf_of(data.decode())
            for path, data in found.items()
            if path.endswith(".svg")
        }
        return found

    def open(self, under: QPushButton) -> None:
        """The menu below a button."""
        files, menu = self.files(), QMenu(under)
        copies = menu.addMenu("Copy")
        for path, words in (
            ("picture/modelines.conf", "X.Org Modelines"),
            ("picture/fb.modes", "fb.modes entries"),
            ("picture/kernel.words", "Kernel parameters"),
            ("picture/modes.csv", "Table of modes"),
        ):
            text = files.get(path, b"").decode("utf-8", "replace")
            if copies is not None and text:
                copies.addAction(words, lambda text=text: self._copy(text))
        for path, words in (
            ("picture/sheet.pdf", "Sheet for the inside of the cabinet…"),
            ("picture/card-measure.png", "Test pattern of the menu's mode…"),
            ("picture/issued.edid", "EDID of this build…"),
            ("picture/display.edid", "EDID of the display…"),
        ):
            if path in files:
                menu.addAction(words, lambda path=path: self._save(path, files[path]))
        menu.addSeparator()
        menu.addAction("Everything into a folder…", lambda: self.write_all(under))
        menu.exec(under.mapToGlobal(under.rect().bottomLeft()))

    def _copy(self, text: str) -> None:
        board = QApplication.clipboard()
        if board is not None:
            board.setText(text)
        self.session.said.emit(f"Copied: {visible(text.splitlines()[0])}")

    def _save(self, path: str, data: bytes) -> None:
        name = Path(path).name
        chosen, _kind = QFileDialog.getSaveFileName(None, "Save", str(self.session.folder / name))
        if chosen:
            self.session.keep_file(Path(chosen), data, f"Saved {visible(Path(chosen).name)}")

    def write_all(self, under: QPushButton, folder: Path | None = None) -> None:
        """Every file into a folder."""
        if folder is None:
            chosen = QFileDialog.getExistingDirectory(under, "Everything into a folder", str(self.session.folder))
            if not chosen:
                return
            folder = Path(chosen)
        files = self.files()
        for index, (path, data) in enumerate(files.items()):
            said = f"{counted(len(files), 'file')} in {visible(folder.name)}" if index == len(files) - 1 else ""
            self.session.keep_file(inside(folder, path.removeprefix("picture/")), data, said)
        self.session.log(50, "Exported", f"{counted(len(files), 'file')} into {folder.name}")
