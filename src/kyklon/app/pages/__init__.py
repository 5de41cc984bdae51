"""One page per operation: its instrument, and the few inputs that drive it. Pages are imported when first opened."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from kyklon.app.pages.page import OperationPage

PAGES: dict[int, tuple[str, str]] = {  # operation -> module and class
    10: ("plan", "PlanPage"),
    20: ("card", "CardPage"),
    30: ("boot", "BootPage"),
    40: ("controls", "ControlsPage"),
    50: ("picture", "PicturePage"),
    60: ("library", "LibraryPage"),
    70: ("tuning", "TuningPage"),
    80: ("assembly", "AssemblyPage"),
    90: ("poweron", "PowerOnPage"),
}


def page_class(number: int) -> type[OperationPage]:
    """The page of an operation. Raises KeyError for a number that is none."""
    module, name = PAGES[number]
    found: type[OperationPage] = getattr(import_module(f"kyklon.app.pages.{module}.page"), name)
    return found
