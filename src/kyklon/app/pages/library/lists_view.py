"""Lists: those that name the games, and those that the front end gets."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QGridLayout, QLineEdit, QVBoxLayout

from kyklon.app.pages.library.lists_drawing import ListLine, ListsDrawing
from kyklon.app.pages.tab_view import TabView, side_px
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, Sheet, TextBox, button, column, label, row
from kyklon.app.widgets.paper import pdf_of
from kyklon.app.widgets.tick import Tick
from kyklon.base.errors import KyklonError
from kyklon.catalogue.chosen import known_systems
from kyklon.catalogue.system_records import System
from kyklon.catalogue.text_records import SettingsTemplate
from kyklon.model.library import ListScheme
from kyklon.operations.library import contents
from kyklon.operations.library.list_guess import guess
from kyklon.operations.library.lists import sample
from kyklon.operations.library.naming import with_list
from kyklon.record.folder import resolve

_NAMES = (
    ("game", "one game is"),
    ("title", "its title"),
    ("parent", "version of"),
    ("part", "one file is"),
    ("part_name", "file name"),
    ("size", "bytes"),
    ("crc", "CRC-32"),
    ("md5", "MD5"),
    ("sha1", "SHA-1"),
    ("sha256", "SHA-256"),
    ("description", "description"),
    ("year", "year"),
    ("players", "players"),
    ("genre", "genre"),
)


class ListsView(TabView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._path: Path | None = None
        self._scheme: ListScheme | None = None
        self.drawing = ListsDrawing(self.theme)
        self.drawing.dropped.connect(self.drop)
        self.instrument = self.drawing
        self._known = Sheet("Lists that identify your games", "use only lists you have a right to")
        self._known.add(self.drawing)
        self._try = Sheet("A list to try", "field names in the file: correct any wrong guesses")
        self._names: dict[str, QLineEdit] = {}
        grid = QGridLayout()
        for index, (name, words) in enumerate(_NAMES):
            line = QLineEdit()
            line.setAccessibleName(f"In the list, {words}")
            line.editingFinished.connect(self._retry)
            line.setMaximumWidth(round(self.theme.px(86)))
            self._names[name] = line
            grid.addWidget(label(words, "small"), index // 2, index % 2 * 2)
            grid.addWidget(line, index // 2, index % 2 * 2 + 1)
        self.first = TextBox()
        self.first.setReadOnly(True)
        self.first.setLineWrapMode(TextBox.LineWrapMode.NoWrap)
        self.first.setAccessibleName("The first games of the list")
        self.first.setPlaceholderText("Open a list: checksums, CSV, XML or JSON.\nIts first games are shown here.")
        self._system = Choice(self.theme, "System of the list", lambda _value: None)
        self._add = button("Use this list", self.add, "primary")
        bar = row(button("Open a list…", self._on_open_clicked), label("for", "small"), self._system, 1, self._add)
        names = column(grid, 1)
        tried = row(names, self.first, spacing=14)
        tried.setStretch(1, 1)
        self._try.add(bar, tried)
        self._templates: dict[str, Tick] = {}
        self._boxes = QVBoxLayout()
        made = Sheet("For the front end")
        made.add(
            label("Written next to the games; your own changes there are kept.", "small", wrap=True),
            self._boxes,
            button("Contents page…", self._on_page_clicked),
            1,
            button("Covers…", self._on_pictures_clicked),
            button("Texts…", self._on_texts_clicked),
            button("Play counts…", self._on_plays_clicked),
        )
        made.setFixedWidth(side_px(self.theme))
        left = column(self._known, self._try, spacing=12)
        left.setStretch(0, 5)
        left.setStretch(1, 6)
        whole = row(left, made, spacing=14)
        whole.setStretch(0, 1)
        self.setLayout(whole)

    def refresh(self) -> None:
        """Override."""
        build, catalogue, scan = self.build, self.session.catalogue, self.session.world.scan
        systems = known_systems(build, catalogue)
        self._system.set_choices(tuple((each.id, each.name) for each in systems), self._system.value)
        lines = []
        for each in build.library.lists:
            system = catalogue.find(System, each.system)
            games = scan.of(each.system) if scan else ()
            known = sum(bool(game.naming and game.naming.how == "list") for game in games)
            error = next((told for told in (scan.list_errors if scan else ()) if Path(each.path).name in told), "")
            lines.append(
                ListLine(
                    Path(each.path).name,
                    system.name if system else each.system,
                    each.scheme or "checksums",
                    known,
                    len(games),
                    error,
                )
            )
        self.drawing.show_lists(tuple(lines))
        for template in catalogue.all(SettingsTemplate):
            if template.use == "list" and template.id not in self._templates:
                box = Tick(template.name)
                box.clicked.connect(lambda _on: self._on_template())
                self._templates[template.id] = box
                self._boxes.addWidget(box)
        for key, box in self._templates.items():
            box.setChecked(key in build.library.lists_made)
        self._add.setEnabled(self._path is not None)

    # --- acting --------------------------------------------------------------------------------------------------

    def _on_open_clicked(self) -> None:
        path, _kind = QFileDialog.getOpenFileName(self, "A list of games", str(self.session.folder))
        if path:
            self.open(Path(path))

    def open(self, path: Path) -> None:
        """Look at a list, and guess how it is written."""
        try:
            self._scheme = guess(path)
            self._path = path
        except KyklonError as bad:
            self.session.said.emit(str(bad))
            return
        for name, line in self._names.items():
            line.setText(str(getattr(self._scheme, name)) if self._scheme else "")
            line.setEnabled(self._scheme is not None)
        systems = known_systems(self.build, self.session.catalogue)
        meant = next((system.id for system in systems if system.folder in path.name), self._system.value)
        self._system.set_choices(tuple((system.id, system.name) for system in systems), meant)
        self._show_sample()

    def _retry(self) -> None:
        if self._scheme is None:
            return
        told = {name: line.text().strip() for name, line in self._names.items()}
        scheme = self._scheme.model_copy(update=told)
        if scheme != self._scheme:
            self._scheme = scheme
            self._show_sample()

    def _show_sample(self) -> None:
        assert self._path is not None
        try:
            rows = sample(self._path, self._scheme)
            text = "\n".join(
                f"{row.title}"
                + (f"  (of {row.parent})" if row.parent else "")
                + "".join(
                    f"\n    {part.name or '(no name)'}  {part.size if part.size >= 0 else '?'} B  "
                    + " ".join(f"{name} {digest[:12]}" for name, digest in part.sums.items())
                    for part in row.parts[:3]
                )
                for row in rows
            )
        except KyklonError as bad:
            rows, text = (), str(bad)
        self.first.setPlainText(text or "No games found with these field names. Correct them.")
        self._try.set_note(f"{self._path.name}: {'checksums' if self._scheme is None else self._scheme.kind}")
        self._add.setEnabled(bool(rows))

    def add(self) -> None:
        """Use the list that was tried."""
        if self._path is not None:
            library = with_list(self.build.library, str(self._path), self._system.value, self._scheme)
            self.session.edit("library", library, "List of games")
            self._path = None
            self.first.clear()

    def drop(self, place: int) -> None:
        """Use a list no more."""
        rest = tuple(each for index, each in enumerate(self.build.library.lists) if index != place)
        self.session.edit("library.lists", rest)

    def _on_template(self) -> None:
        chosen = tuple(key for key, box in self._templates.items() if box.isChecked())
        self.session.edit("library.lists_made", chosen)

    def _on_page_clicked(self) -> None:
        scan = self.session.world.scan
        if scan is None:
            return
        path, _kind = QFileDialog.getSaveFileName(self, "Contents page", str(self.session.folder / "contents.pdf"))
        if path:
            self.write_page(Path(path))

    def write_page(self, path: Path) -> None:
        """Write the contents page as .pdf, .svg or .txt."""
        scan, build, catalogue = self.session.world.scan, self.build, self.session.catalogue
        if scan is None:
            return
        if path.suffix == ".txt":
            data = contents.page_text(build, catalogue, scan).encode("utf-8", "replace")
        else:
            text = contents.page_svg(build, catalogue, scan)
            data = pdf_of(text) if path.suffix == ".pdf" else text.encode("utf-8", "replace")
        self.session.keep_file(path, data, f"Wrote {path.name}")

    def _folder_for(self, title: str, field: str) -> None:
        path = QFileDialog.getExistingDirectory(self, title, str(resolve(self.session.folder, ".")))
        if path:
            self.session.edit(f"library.{field}", path)

    def _on_pictures_clicked(self) -> None:
        self._folder_for("Folder with cover pictures", "pictures")

    def _on_texts_clicked(self) -> None:
        self._folder_for("Folder with descriptions", "texts")

    def _on_plays_clicked(self) -> None:
        path, _kind = QFileDialog.getOpenFileName(self, "Play counts: name and number, CSV", str(self.session.folder))
        if path:
            self.session.edit("library.plays", path)
