"""The drawings of a build for its book: each page's own, made aside of the window and never shown."""

from __future__ import annotations

from collections.abc import Iterator
from importlib import import_module
from typing import Any

from PyQt6.QtCore import QEvent
from PyQt6.QtWidgets import QApplication

from kyklon.app.session.session import Session
from kyklon.app.widgets.instrument import Instrument
from kyklon.operations.book.blocks import Picture
from kyklon.operations.registry import OPERATIONS

_SIZE = (900, 520)  # px of a drawing
# operation, view (-1 for a page without tabs), what it shows, and its height in px
_WANTED: tuple[tuple[int, int, str, int], ...] = (
    (10, 0, "What is connected to what", 520),
    (20, -1, "What lies where on the card", 200),
    (40, 0, "Control panel, to scale", 460),
    (50, 1, "From the socket to the glass", 420),
    (60, 0, "Games by system", 330),
    (80, 0, "Power, from the supply to the load", 480),
    (80, 1, "Heat", 400),
    (80, 2, "The case from above", 520),
    (80, 3, "Wires, contact by contact", 460),
)


def drawings(session: Session) -> Iterator[tuple[int, Picture]]:
    """One by one, so that the window goes on between them. On the window's thread."""
    pages: dict[int, Any] = {}
    try:
        for number, view, words, high in _WANTED:
            if number not in pages:
                operation = next(each for each in OPERATIONS if each.number == number)
                module, name = operation.page
                pages[number] = getattr(import_module(f"kyklon.app.pages.{module}"), name)(session)
                pages[number].resize(*_SIZE)
            page = pages[number]
            if view >= 0:
                page.show_view(view)
            page.refresh()
            made = page.instrument()
            if isinstance(made, Instrument):
                made.resize(_SIZE[0], high)
                QApplication.sendPostedEvents(made, QEvent.Type.LayoutRequest)
                yield number, Picture(made.rendered(".svg"), words)
    finally:
        for page in pages.values():
            page.deleteLater()
