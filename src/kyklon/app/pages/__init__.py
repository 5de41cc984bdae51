"""One page per operation: its instrument, and the few inputs that drive it. Pages are imported when first opened."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING

from kyklon.operations.registry import operation

if TYPE_CHECKING:
    from kyklon.app.pages.page import OperationPage
    from kyklon.app.pages.shelf.page import ShelfPage


def page_class(number: int) -> type[OperationPage]:
    """The page of an operation. Raises KeyError for a number that is none."""
    module, name = operation(number).page
    found: type[OperationPage] = getattr(import_module(f"kyklon.app.pages.{module}"), name)
    return found


def shelf_page() -> type[ShelfPage]:
    """The page of the shelf."""
    from kyklon.app.pages.shelf.page import ShelfPage

    return ShelfPage
