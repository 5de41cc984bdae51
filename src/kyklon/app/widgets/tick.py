"""A box to tick whose words wrap."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QSize
from PyQt6.QtGui import QFontMetrics, QTextLayout, QTextOption
from PyQt6.QtWidgets import QCheckBox, QSizePolicy, QStyle, QStyleOptionButton, QWidget

_LEAST_EM = 8  # of the words, in heights of a line


class Tick(QCheckBox):
    """As tall as its words need in its width; text() stays what was set."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(text, parent)
        policy = QSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Minimum)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)

    def _beside_px(self) -> int:
        """Width of the box itself and what separates it from the words."""
        style = self.style()
        assert style is not None
        option = QStyleOptionButton()
        super().initStyleOption(option)
        box = style.pixelMetric(QStyle.PixelMetric.PM_IndicatorWidth, option, self)
        return box + style.pixelMetric(QStyle.PixelMetric.PM_CheckBoxLabelSpacing, option, self) + 2

    def _lines(self, width: int) -> list[str]:
        """The words in lines for a widget that many pixels wide."""
        layout = QTextLayout(self.text(), self.font())
        choice = QTextOption()
        choice.setWrapMode(QTextOption.WrapMode.WrapAtWordBoundaryOrAnywhere)
        layout.setTextOption(choice)
        layout.beginLayout()
        found = []
        while (line := layout.createLine()).isValid():
            line.setLineWidth(max(width - self._beside_px(), 1))
            found.append(self.text()[line.textStart() : line.textStart() + line.textLength()].rstrip())
        layout.endLayout()
        return found

    def hasHeightForWidth(self) -> bool:
        """Override."""
        return True

    def heightForWidth(self, width: int) -> int:
        """Override."""
        lines = max(1, len(self._lines(width)))
        return max(super().sizeHint().height(), lines * QFontMetrics(self.font()).lineSpacing() + 2)

    def sizeHint(self) -> QSize:
        """Override."""
        whole = super().sizeHint()
        return QSize(whole.width() + 2, whole.height())

    def minimumSizeHint(self) -> QSize:
        """Override."""
        whole = super().sizeHint()
        least = self._beside_px() + _LEAST_EM * QFontMetrics(self.font()).height()
        return QSize(min(whole.width(), least), whole.height())

    def hitButton(self, pos: QPoint) -> bool:
        """Override: anywhere in its row."""
        return self.rect().contains(pos)

    def initStyleOption(self, option: QStyleOptionButton | None) -> None:
        """Override."""
        super().initStyleOption(option)
        if option is not None:
            option.text = "\n".join(self._lines(self.width()))
