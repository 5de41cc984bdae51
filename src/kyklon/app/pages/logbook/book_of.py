"""The book of a build folder without its window."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QApplication

from kyklon.app.pages.logbook.book_drawings import drawings
from kyklon.app.pages.logbook.book_pdf import pdf_of_book
from kyklon.app.session.jobs import Jobs
from kyklon.app.session.session import Session, load
from kyklon.app.theme.style import load_fonts
from kyklon.app.theme.tokens import Theme
from kyklon.base.errors import KyklonError
from kyklon.base.places import catalogue_folder
from kyklon.base.progress import UNWATCHED, Progress, Watch
from kyklon.catalogue import loader
from kyklon.operations import inspection
from kyklon.operations.book.blocks import Book, Picture
from kyklon.operations.book.compose import Material, compose
from kyklon.operations.book.compose import card as one_page
from kyklon.operations.poweron.acts import foretell
from kyklon.operations.poweron.events import BringUp
from kyklon.parts.view import inspect
from kyklon.record.logbook import Logbook

_kept: list[QApplication] = []  # an application must outlive what was drawn with it


def _application() -> None:
    running = QApplication.instance()
    if running is None:
        _kept.append(QApplication(["kyklon"]))
    load_fonts()


def made(folder: Path, *, card: bool, publish: bool, drawn: bool, watch: Watch = UNWATCHED) -> Book:
    """Read the folder, look at its world, foretell, draw and compose. Raises KyklonError, Cancelled."""
    _application()
    loaded = load(folder, loader.load(catalogue_folder(), strict=False))
    session = Session(loaded, Jobs(), Theme())
    try:
        catalogue = session.catalogue
        world = inspection.observe(session.build, folder, catalogue, watch)
        session.set_world(world)
        run = foretold(session)
        found: dict[int, tuple[Picture, ...]] = {}
        for number, picture in drawings(session) if drawn else ():
            watch.check()
            watch.sink(Progress(f"Drawing: {picture.caption}", 0, 0))
            found[number] = (*found.get(number, ()), picture)
        told = inspect(session.build, catalogue, world, ())
        entries = Logbook(folder).entries()
        material = Material(session.build, catalogue, world, folder, told, entries, found, run, publish)
        return one_page(material) if card else compose(material)
    finally:
        session.end()


def foretold(session: Session) -> BringUp | None:
    """The forecast of the build's card; None where there is none to foretell from."""
    try:
        return foretell(session.build, session.folder, session.catalogue)[1]
    except KyklonError:
        return None


def finished(book: Book, watch: Watch = UNWATCHED) -> bytes:
    """The book as PDF. Raises Cancelled."""
    _application()
    return pdf_of_book(book, Theme(), watch)
