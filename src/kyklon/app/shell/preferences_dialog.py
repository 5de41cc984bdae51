"""Preferences: how the window looks, the currency, and where the user's things are."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import Qt, QUrl
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import QApplication, QCheckBox, QDialog, QGridLayout, QLineEdit, QWidget

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Choice, Sheet, button, column, label, row
from kyklon.base import preferences
from kyklon.base.errors import KyklonError
from kyklon.base.places import catalogue_folder, data_folder
from kyklon.base.quantities import currency

PAPERS = (("", "as the desktop has it"), ("light", "light"), ("dark", "dark"))
SIZES = tuple((f"{percent}", f"{percent}\u202f%") for percent in range(100, 201, 25))


class PreferencesDialog(QDialog):
    """Each takes effect at once. changed: called when figures on the pages are to be shown anew."""

    def __init__(self, theme: Theme, changed: Callable[[], object], parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Preferences")
        self._theme, self._changed = theme, changed
        self.paper = Choice(theme, "Colours", self._on_paper)
        self.text_size = Choice(theme, "Text size", lambda percent: theme.set_scale(int(percent) / 100))
        self.contrast = QCheckBox("more contrast")
        self.sign = QLineEdit(preferences.currency())
        self.sign.setAccessibleName("Currency")
        self.sign.setMaxLength(preferences.MOST_SIGN)
        self.sign.setPlaceholderText(currency())
        self._wrong = label("", "small", wrap=True)
        self._wrong.hide()
        self.setLayout(
            column(self._look(), self._money(), self._places(), self._foot(), spacing=12, margins=(20, 18, 20, 16))
        )
        self.show_theme()
        theme.tell(self, PreferencesDialog.show_theme)
        self.contrast.toggled.connect(theme.set_contrast)
        self.sign.editingFinished.connect(self._on_sign)

    def _look(self) -> Sheet:
        look = Sheet("Look", "in every window")
        grid = QGridLayout()
        for number, (words, widget) in enumerate(
            (("Colours", self.paper), ("Text size", self.text_size), ("", self.contrast))
        ):
            grid.addWidget(label(words, "muted"), number, 0)
            grid.addWidget(widget, number, 1)
        grid.setColumnStretch(1, 1)
        look.body.addLayout(grid)
        look.add(label("Nothing moves by itself where the desktop asks for no animations.", "small", wrap=True))
        return look

    def _money(self) -> Sheet:
        money = Sheet("Currency", "for prices, in every build")
        money.add(row(self.sign, label("empty: the desktop's own", "small"), 1), self._wrong)
        self.sign.setFixedWidth(round(self._theme.px(90)))
        return money

    def _places(self) -> Sheet:
        places = Sheet("Places")
        for words, folder in (("Your parts", catalogue_folder()), ("Demos, image shelf, log", data_folder())):
            where = label(_short(folder), "small")
            where.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            opens = button("Open", lambda folder=folder: _open(folder), "quiet")
            opens.setAccessibleName(f"Open: {words}")
            places.add(row(label(words, "muted"), where, 1, opens))
        return places

    def _foot(self) -> QWidget:
        foot = QWidget()
        foot.setLayout(row(1, button("Close", self.accept, "primary")))
        return foot

    def show_theme(self) -> None:
        """The choices as they are in force."""
        theme = self._theme
        self.paper.set_choices(PAPERS, ("dark" if theme.dark else "light") if theme.own else "")
        self.text_size.set_choices(SIZES, f"{round(theme.scale * 4) * 25}")
        self.contrast.blockSignals(True)
        self.contrast.setChecked(theme.contrast)
        self.contrast.blockSignals(False)

    def _on_paper(self, wanted: str) -> None:
        self._theme.own = bool(wanted)
        hints = QApplication.styleHints()
        desktop = hints is not None and hints.colorScheme() == Qt.ColorScheme.Dark
        self._theme.set_dark(wanted == "dark" if wanted else desktop)

    def _on_sign(self) -> None:
        if self.sign.text().strip() == preferences.currency():
            return
        try:
            preferences.keep_currency(self.sign.text())
        except KyklonError as bad:
            self._wrong.setText(str(bad))
            self._wrong.show()
            return
        self._wrong.hide()
        currency.cache_clear()
        self.sign.setPlaceholderText(currency())
        self._changed()


def _short(folder: Path) -> str:
    home = Path.home()
    return f"~/{folder.relative_to(home)}" if folder.is_relative_to(home) else str(folder)


def _open(folder: Path) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    QDesktopServices.openUrl(QUrl.fromLocalFile(str(folder)))
