"""Rows of a list that stay the widgets they are while they say the same: a press that is under way is not lost, nor
is the place of the keyboard."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Generic, TypeVar

from PyQt6.QtWidgets import QLayout, QWidget

Make = Callable[[], QWidget]
W = TypeVar("W", bound=QWidget)


class Kept(Generic[W]):
    """The rows of one layout, by what they say; what the layout holds besides is taken out."""

    def __init__(self, layout: QLayout) -> None:
        self._layout = layout
        self._rows: list[tuple[object, W]] = []

    def show(self, rows: Iterable[tuple[object, Callable[[], W]]]) -> list[W]:
        """Show these rows in this order. A row: all that makes it what it is, and what makes its widget; one that
        was there with an equal key stays, the others go."""
        before, now = self._rows, list[tuple[object, W]]()
        while self._layout.takeAt(0) is not None:
            continue
        for key, make in rows:
            place = next((place for place, (known, _widget) in enumerate(before) if known == key), None)
            widget = make() if place is None else before.pop(place)[1]
            self._layout.addWidget(widget)
            now.append((key, widget))
        for _key, widget in before:
            widget.hide()
            widget.deleteLater()
        self._rows = now
        return [widget for _key, widget in now]


def emptied(layout: QLayout) -> None:
    """Take every widget out of a layout, and out of the layouts in it."""
    while (item := layout.takeAt(0)) is not None:
        if (inner := item.layout()) is not None:
            emptied(inner)
        if (widget := item.widget()) is not None:
            widget.hide()
            widget.deleteLater()
