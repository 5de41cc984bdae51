"""What operation 40 prints and hands on: papers at scale as PDF or SVG, lists, maps and rules, chosen from a menu."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtWidgets import QApplication, QFileDialog, QMenu, QPushButton

from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import unmarked
from kyklon.app.widgets.paper import pdf_of
from kyklon.base.inside import inside
from kyklon.base.quantities import counted
from kyklon.base.shown import visible
from kyklon.catalogue.chosen import systems_of
from kyklon.operations.controls import exports
from kyklon.operations.controls.hookup import hookup_of


class PapersMenu:
    def __init__(self, session: Session) -> None:
        self.session = session

    def papers(self) -> dict[str, str]:
        """Every file that the operation issues, by its path."""
        return exports.issue(self.session.build, self.session.catalogue, self.session.world)

    def open(self, under: QPushButton) -> None:
        """The menu below a button."""
        menu = QMenu(under)
        files = self.papers()
        names = {
            f"controls/legend-{system.id}.svg": f"Legend: {system.name}"
            for system in systems_of(self.session.build, self.session.catalogue)
        }
        drawings = menu.addMenu("Print at 1:1 as PDF")
        for path, text in files.items():
            if path.endswith(".svg") and drawings is not None:
                stem = Path(path).stem.replace("-", " ")
                words = names.get(path, stem[:1].upper() + stem[1:])
                drawings.addAction(
                    unmarked(visible(words)), self._saver(f"{Path(path).stem}.pdf", lambda text=text: pdf_of(text))
                )
        copies = menu.addMenu("Copy")
        hookup = hookup_of(self.session.build, self.session.catalogue)
        for path, words in (
            ("controls/sdl-mapping.txt", "SDL mapping lines"),
            ("controls/70-kyklon-controls.rules", "udev rules"),
            ("controls/wiring.csv", "Wiring list"),
            ("controls/harness.csv", "Wires to cut"),
        ):
            if copies is not None and (text := files.get(path, "")):
                copies.addAction(words, lambda text=text: self._copy(text))
        menu.addSeparator()
        menu.addAction("Everything into a folder…", lambda: self.write_all(under))
        if hookup is None and not files:
            menu.addAction("Choose a panel and an encoder first").setEnabled(False)
        menu.exec(under.mapToGlobal(under.rect().bottomLeft()))

    def _saver(self, name: str, make: Callable[[], bytes]) -> Callable[[], None]:
        def save() -> None:
            start = str(self.session.folder / name)
            chosen, _kind = QFileDialog.getSaveFileName(None, "Print at 1:1", start, "PDF (*.pdf)")
            if chosen:
                self.session.keep_file(Path(chosen), make(), f"{Path(chosen).name} saved; print it at 100 %")

        return save

    def _copy(self, text: str) -> None:
        board = QApplication.clipboard()
        if board is not None:
            board.setText(text)
        self.session.said.emit(f"Copied: {visible(text.splitlines()[0]) if text else 'nothing'}")

    def write_all(self, under: QPushButton, folder: Path | None = None) -> None:
        """Every file, and a PDF beside every drawing, into a folder."""
        if folder is None:
            chosen = QFileDialog.getExistingDirectory(under, "Everything into a folder", str(self.session.folder))
            if not chosen:
                return
            folder = Path(chosen)
        files = {path.removeprefix("controls/"): text.encode() for path, text in self.papers().items()}
        files |= {
            f"{path.removesuffix('.svg')}.pdf": pdf_of(data.decode())
            for path, data in files.items()
            if path.endswith(".svg")
        }
        last = len(files) - 1
        for index, (path, data) in enumerate(files.items()):
            said = f"{counted(len(files), 'file')} in {visible(folder.name)}" if index == last else ""
            self.session.keep_file(inside(folder, path), data, said)
        self.session.log(40, "Exported", f"{counted(len(files), 'file')} into {folder.name}")
