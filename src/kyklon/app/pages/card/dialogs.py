"""The card's dialogs: what a write destroys, a checksum, the source shelf, a label, a name."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QLineEdit, QWidget

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Choice, Elided, FigureRows, Sheet, button, column, label, row, scrolled
from kyklon.base.errors import WrongUse
from kyklon.base.quantities import show_bytes
from kyklon.operations.card.drives.interlock import Verdict
from kyklon.operations.card.drives.prepare import KINDS, Kind, check_label
from kyklon.record.shelf import ShelfImage


class LossDialog(QDialog):
    """Says by name and size what an act destroys. What is lost must be typed, letter for letter.

    act: what the button does, with the drive's name in place of {}. volume: '' or a proposal for a volume's name.
    contents: a line for each partition that is on it now.
    """

    def __init__(
        self,
        name: str,
        verdict: Verdict,
        theme: Theme,
        parent: QWidget,
        *,
        act: str = "",
        volume: str = "",
        contents: tuple[str, ...] = (),
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Check before writing")
        self.setMinimumWidth(round(theme.px(480)))
        self._lose = verdict.lose
        layout = column(spacing=10, margins=(20, 18, 20, 16))
        self.typed, self.volume = QLineEdit(), QLineEdit(volume)
        self.kind = Choice(theme, "File system", lambda _value: self._judge())
        self.kind.set_choices(tuple((kind, kind) for kind in KINDS), "FAT")
        words = act or ("Overwrite {}" if verdict.lose else "Write to {}")
        self.write = button(words.format(name), self.accept, "danger" if verdict.lose else "primary")
        leave = button("Cancel", self.reject)
        leave.setDefault(True)
        if verdict.lose:
            layout.addWidget(label(f"Everything on {name} will be lost", "section", wrap=True))
            layout.addWidget(label(verdict.loss, "stop", wrap=True))
            for words in contents:
                layout.addWidget(label(words, "mono", wrap=True))
            layout.addWidget(
                label(f"If that is what you want, type its name exactly as shown: {verdict.lose}", wrap=True)
            )
            self.typed.setAccessibleName("Name of what will be lost")
            layout.addWidget(self.typed)
        else:
            layout.addWidget(
                label(f"Nothing of yours is on {name}. What this build wrote there before is replaced.", wrap=True)
            )
        if volume:
            layout.addWidget(label("Name of the volume, up to 11 letters and digits, and its file system:", wrap=True))
            self.volume.setAccessibleName("Name of the volume")
            layout.addLayout(row(self.volume, self.kind))
            layout.addWidget(
                label("FAT is read by everything; exFAT holds files over 4 GB; ext4 is for Linux.", "muted")
            )
        for warning in verdict.warnings:
            layout.addWidget(label(warning, "caution", wrap=True))
        layout.addWidget(label("If your desktop offers to format the card afterwards, decline.", "muted", wrap=True))
        layout.addSpacing(6)
        layout.addLayout(row(leave, 1, self.write))
        self.setLayout(layout)
        self.typed.textChanged.connect(self._judge)
        self.volume.textChanged.connect(self._judge)
        self._volume_wanted = bool(volume)
        self._judge()
        leave.setFocus()

    @property
    def wanted(self) -> Kind:
        """The file system that was chosen."""
        return next(kind for kind in KINDS if kind == self.kind.value)

    def _judge(self) -> None:
        right = self.typed.text() == self._lose
        if self._volume_wanted:
            try:
                check_label(self.volume.text(), self.wanted)
            except WrongUse:
                right = False
        self.write.setEnabled(right)


class ChecksumDialog(QDialog):
    """Takes a SHA-256 as its maker states it."""

    def __init__(self, checksum: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Checksum of the image")
        self.setMinimumWidth(560)
        self._edit = QLineEdit(checksum)
        self._edit.setAccessibleName("SHA-256")
        self._keep = button("Use it", self.accept, "primary")
        self._edit.textChanged.connect(lambda _text: self._keep.setEnabled(self._valid()))
        words = (
            "Paste the SHA-256 published with the image (64 hex digits). The write stops if it differs. "
            "A checksum file beside the image is found automatically."
        )
        self.setLayout(
            column(
                label("SHA-256 of the file", "section"),
                label(words, wrap=True),
                self._edit,
                row(button("Cancel", self.reject), 1, self._keep),
                spacing=10,
                margins=(20, 18, 20, 16),
            )
        )

    @property
    def checksum(self) -> str:
        """Lower case, without what is printed around it."""
        return self._edit.text().strip().lower().split(" ")[0]

    def _valid(self) -> bool:
        text = self.checksum
        return not text or (len(text) == 64 and all(letter in "0123456789abcdef" for letter in text))


class NameDialog(QDialog):
    """A card's name, as it is written on the card itself."""

    def __init__(self, name: str, theme: Theme, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Name of the card")
        self.setMinimumWidth(round(theme.px(400)))
        self.edit = QLineEdit(name)
        self.edit.setMaxLength(40)
        self.edit.setAccessibleName("Name of the card")
        keep = button("Rename", self.accept, "primary")
        self.edit.textChanged.connect(lambda text: keep.setEnabled(bool(text.strip())))
        words = "Write the same name on the card itself, and you will find its history again."
        self.setLayout(
            column(
                label("What is this card called?", "section"),
                label(words, wrap=True),
                self.edit,
                row(button("Cancel", self.reject), 1, keep),
                spacing=10,
                margins=(20, 18, 20, 16),
            )
        )


class ShelfDialog(QDialog):
    """The images on the shelf. there: paths of those that exist. chosen: the path of the one to use; removed: those to
    take off."""

    def __init__(self, images: tuple[ShelfImage, ...], there: frozenset[str], theme: Theme, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Source shelf")
        self.setMinimumSize(round(theme.px(620)), round(theme.px(440)))
        self._there = there
        self.chosen = ""
        self.removed: list[str] = []
        self._rows: dict[str, Sheet] = {}
        self._list = column(spacing=10)
        for image in images:
            self._list.addWidget(self._row(image, theme))
        if not images:
            words = "The shelf is empty. Choose an image in Write and prove; it is kept here with its checksum."
            self._list.addWidget(label(words, "muted", wrap=True))
        self._list.addStretch(1)
        self.setLayout(
            column(
                label("Your images", "section"),
                scrolled(self._list),
                row(1, button("Close", self.reject, "")),
                spacing=10,
                margins=(20, 18, 20, 16),
            )
        )

    def _row(self, image: ShelfImage, theme: Theme) -> Sheet:
        made = Sheet(image.name or Path(image.path).name, image.school or "unknown kind")
        there = image.path in self._there
        file = Elided("muted", Qt.TextElideMode.ElideMiddle)
        file.set_full(image.path if there else f"no longer there: {image.path}")
        figures = FigureRows(theme, _figures(image))
        use = button("Use this image", lambda: self._use(image.path), "outline")
        use.setEnabled(there)
        take = button("Remove from the shelf", lambda: self._remove(image.path), "quiet")
        made.add(file, figures, row(take, 1, use))
        self._rows[image.path] = made
        return made

    def _use(self, path: str) -> None:
        self.chosen = path
        self.accept()

    def _remove(self, path: str) -> None:
        self.removed.append(path)
        self._rows.pop(path).hide()


def _figures(image: ShelfImage) -> tuple[tuple[str, str], ...]:
    size = (
        f"{show_bytes(image.packed)}, {show_bytes(image.unpacked)} unpacked"
        if image.unpacked
        else show_bytes(image.packed)
    )
    login = f"{image.user}, {image.password}: change it at first boot" if image.password else image.user
    rows = [
        ("Size", size),
        ("Released", image.released),
        ("Boards", ", ".join(image.boards)),
        ("First login", login),
        ("Checksum", image.checksum[:26] + "…" if image.checksum else ""),
    ]
    return tuple((name, words or "not known") for name, words in rows)
