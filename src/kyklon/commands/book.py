"""The book of a build, printed or published."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Annotated

from kyklon.base import durable
from kyklon.base.errors import WrongUse
from kyklon.base.inside import inside
from kyklon.base.quantities import show_bytes
from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import OK, Folder, Json, out, watching


def book(
    folder: Folder,
    to: Annotated[Path, Argument(help="A .pdf, or a folder for Markdown with its pictures.", metavar="TO")],
    card: Annotated[bool, Option("--card", help="The one page for the inside of the cabinet.")] = False,
    publish: Annotated[bool, Option("--publish", help="Without names, addresses, keys and passwords.")] = False,
    no_drawings: Annotated[bool, Option("--no-drawings", help="Without the drawings of the window.")] = False,
    as_json: Json = False,
) -> int:
    """Write the whole build as a book: parts, drawings, wiring, settings, modes, steps, log and photos."""
    if to.suffix and to.suffix.lower() != ".pdf":
        raise WrongUse(f"A book cannot be written as {to.suffix}.", do="Name a .pdf, or a folder for Markdown.")
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")  # no window is shown
    from kyklon.app.pages.logbook.book_of import finished, made
    from kyklon.operations.book.compose import markdown

    with watching() as watch:
        written = made(folder, card=card, publish=publish, drawn=not (no_drawings or card), watch=watch)
        sizes: dict[str, int] = {}
        if to.suffix:
            data = finished(written, watch)
            durable.keep(to, data)
            sizes[str(to)] = len(data)
        else:
            text, pictures = markdown(written)
            for name, data in {"book.md": text.encode("utf-8", "replace"), **pictures}.items():
                durable.keep(inside(to, name), data)
                sizes[str(to / name)] = len(data)
    out(
        {"files": sizes, "sections": [section.title for section in written.sections]},
        as_json,
        lambda: [f"{name}, {show_bytes(size)}" for name, size in sizes.items()],
    )
    return OK
