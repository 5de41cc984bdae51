"""What is told of one game, and by what right it is there."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtWidgets import QDialog, QGridLayout, QLineEdit, QWidget

from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import TextBox, button, column, label, row
from kyklon.model.library import Game, GameText
from kyklon.operations.library.texts import key_of_game
from kyklon.record.texts import Texts

_LINES = (
    ("year", "Year", "1991"),
    ("players", "Players", "1–2"),
    ("genre", "Genre", "puzzle"),
    ("origin", "Origin", "my own dump, a download from its author"),
    ("licence", "Licence", "bought; free to share"),
    ("receipt", "Receipt", "number, date, or where it is kept"),
)


class TextDialog(QDialog):
    """Filled with what is known; an empty field is the list's."""

    def __init__(self, session: Session, game: Game, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Description and rights")
        self.session, self.game = session, game
        self.description = TextBox(game.text.description)
        self.description.setAccessibleName("Description")
        self.description.setPlaceholderText("What the front end shows beside the game")
        self.description.setTabChangesFocus(True)
        self.lines: dict[str, QLineEdit] = {}
        grid = QGridLayout()
        grid.setColumnStretch(1, 1)
        for number, (name, words, hint) in enumerate(_LINES):
            line = QLineEdit(getattr(game.text, name))
            line.setAccessibleName(words)
            line.setPlaceholderText(hint)
            self.lines[name] = line
            grid.addWidget(label(words, "small"), number, 0)
            grid.addWidget(line, number, 1)
        self.setLayout(
            column(
                label(game.called, "section", wrap=True),
                label("Description", "small"),
                self.description,
                grid,
                label("Go to the machine with the list “elements with descriptions”.", "muted", wrap=True),
                row(1, button("Cancel", self.reject, "quiet"), button("Save", self.accept, "primary")),
                spacing=10,
                margins=(20, 18, 20, 16),
            )
        )
        self.setMinimumWidth(round(session.theme.px(460)))

    @property
    def text(self) -> GameText:
        """As it stands in the fields."""
        told = {name: line.text().strip() for name, line in self.lines.items()}
        return replace(self.game.text, description=self.description.toPlainText().strip(), **told)

    def accept(self) -> None:
        """Override."""
        text, session = self.text, self.session
        if text != self.game.text:
            keys = {key_of_game(self.game): text}
            session.aside(lambda: Texts(session.folder).put(keys), lambda: session.look("library"))
        super().accept()
