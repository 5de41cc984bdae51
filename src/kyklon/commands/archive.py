"""A build as one file, and two builds beside each other."""

from __future__ import annotations

import contextlib
import tempfile
from collections.abc import Iterator
from dataclasses import asdict
from pathlib import Path
from typing import Annotated

from kyklon.base.quantities import show_bytes
from kyklon.base.shown import visible
from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import OK, STOPS, Folder, Json, out, watching


def make(
    folder: Folder,
    to: Annotated[Path, Argument(help="The file, ending in .tar.", metavar="TO")],
    images: Annotated[bool, Option("--images", help="With the image files that lie in the folder.")] = False,
    as_json: Json = False,
) -> int:
    """Write a build as one archive, the same byte for byte whoever makes it."""
    from kyklon.record import archive

    with watching() as watch:
        done = archive.make(folder, to, images=images, watch=watch)

    def lines() -> list[str]:
        rows = [f"{to}: {done.files} files, {show_bytes(done.size)}", f"SHA-256 {done.digest}"]
        rows += ["It holds this build's keys and addresses: publish the book instead."] if done.private else []
        return [*rows, *(f"Not in it: {visible(name)}, SHA-256 {digest}" for name, digest in done.images)]

    out(asdict(done), as_json, lines)
    return OK


def check(
    file: Annotated[Path, Argument(help="The archive.", metavar="FILE")],
    as_json: Json = False,
) -> int:
    """Check an archive against its own checksums; exit 1 when something was changed."""
    from kyklon.record import archive

    with watching() as watch:
        wrong = archive.check(file, watch)
    out({"wrong": wrong}, as_json, lambda: list(wrong) or ["It is as it was made."])
    return STOPS if wrong else OK


def open_(
    file: Annotated[Path, Argument(help="The archive.", metavar="FILE")],
    to: Annotated[Path, Argument(help="A new folder.", metavar="TO")],
    as_new: Annotated[str, Option("--as-new", help="Begin another machine of that name from it.")] = "",
    as_json: Json = False,
) -> int:
    """Make the build folder of an archive."""
    from kyklon.record import archive, builds

    with watching() as watch:
        build = archive.open_into(file, to, watch)
    if as_new:
        build = archive.begun_anew(to, as_new)
    builds.remember(to)
    out({"folder": str(to), "name": build.name}, as_json, lambda: [f"{build.name} is in {to}."])
    return OK


def compare(
    first: Annotated[Path, Argument(help="A build folder or an archive.", metavar="A")],
    second: Annotated[Path, Argument(help="The other one.", metavar="B")],
    as_json: Json = False,
) -> int:
    """Show what differs between two builds; exit 1 when something does."""
    from kyklon.record import changes, revisions

    with _folder(first) as a, _folder(second) as b:
        old, new = revisions.state_of(a), revisions.state_of(b)
        held = {told.digest: place / path for place, state in ((a, old), (b, new)) for path, told in state.items()}
        found = changes.between(old, new, lambda each: held[each.digest].read_bytes())
    data = {"changes": [asdict(each) for each in found.changes], "files": found.files}
    out(data, as_json, lambda: found.lines or ["Nothing differs."])
    return STOPS if found.lines else OK


@contextlib.contextmanager
def _folder(path: Path) -> Iterator[Path]:
    from kyklon.record import archive
    from kyklon.record import folder as store

    if path.is_dir():
        store.load(path)
        yield path
        return
    with tempfile.TemporaryDirectory(prefix="kyklon-archive-") as held:
        archive.open_into(path, Path(held) / "build")
        yield Path(held) / "build"
