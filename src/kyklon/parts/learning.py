"""One way in to every kind of learning from a file, a folder or a text: for the window and the commands."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path

from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.reading import bytes_of
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, CataloguePart
from kyklon.catalogue.system_records import Emulator
from kyklon.catalogue.text_records import Dialect
from kyklon.parts import add_on, bare_metal, board, chooser, device_tree, dialect, display, image, panel, system, trees
from kyklon.parts.draft import Draft

_MOST = 4 << 20  # bytes of a file that is not an image or a drawing

Learner = Callable[[Path, Catalogue, Watch], Draft]


def _display(path: Path, _catalogue: Catalogue, _watch: Watch) -> Draft:
    return display.learn(bytes_of(path, _MOST), path.name)


def _board(path: Path, catalogue: Catalogue, watch: Watch) -> Draft:
    """From a tree, a text, or the one tree of an image."""
    with_head = bytes_of(path, _MOST) if path.stat().st_size <= _MOST else b""
    if with_head[:4] == device_tree.MAGIC or path.name.lower().endswith((".dtb", ".dtbo")):
        return board.learn(with_head, catalogue, path.name)
    if with_head and b"\0" not in with_head.rstrip(b"\0")[:4096] and with_head[:2] not in (b"\x1f\x8b", b"BZ", b"PK"):
        return board.learn_text(with_head.decode("utf-8", "replace"), catalogue)
    found = trees.trees_in(path, watch)
    if len(found) > 1:
        names = ", ".join(tree_file.path for tree_file in found[:20])
        raise WrongUse(f"{path.name} has {len(found)} device trees.", do=f"Say which with --tree: {names}.")
    return board_of(found[0], catalogue)


def board_of(tree: trees.TreeFile, catalogue: Catalogue) -> Draft:
    """A draft from a tree that lies in an image."""
    return with_choices(board.learn(tree.data, catalogue, tree.path.rpartition("/")[2]), catalogue)


def _system(path: Path, catalogue: Catalogue, _watch: Watch) -> Draft:
    return system.learn(path, catalogue)


def _panel(path: Path, _catalogue: Catalogue, _watch: Watch) -> Draft:
    return panel.learn(path)


def _image(path: Path, catalogue: Catalogue, watch: Watch) -> Draft:
    if path.is_dir():
        return bare_metal.learn_image(path, catalogue)
    return image.learn(path, catalogue, watch)


def _dialect(path: Path, _catalogue: Catalogue, _watch: Watch) -> Draft:
    """A sample alone says which grammar; which line carries what is asked in the window."""
    sample = dialect.sample_of(bytes_of(path, dialect.LARGEST + 1), path.name)
    rows = tuple(
        (f"Line {line.number}", f"{line.kind}: {line.text.strip()[:60]}")
        for line in sample.lines
        if line.kind != "blank"
    )
    return replace(Draft("dialects"), about=rows)


LEARNERS: Mapping[str, Learner] = {
    "display": _display,
    "board": _board,
    "image": _image,
    "system": _system,
    "panel": _panel,
    "dialect": _dialect,
    "bare-metal": lambda path, catalogue, _watch: bare_metal.learn(path, catalogue),
    "chooser": lambda path, catalogue, _watch: chooser.learn(path, catalogue),
    "add-on": lambda path, _catalogue, _watch: add_on.learn(path),
}


def learn(what: str, path: Path, catalogue: Catalogue, watch: Watch = UNWATCHED) -> Draft:
    """A draft of a part from the thing at `path`. Raises WrongUse for a kind that is not learnt so, and what the
    learner raises."""
    learner = LEARNERS.get(what)
    if learner is None:
        raise WrongUse(f"A {what} is not learnt from a file.", do=f"These are: {', '.join(LEARNERS)}.")
    if not path.exists():
        raise KyklonError(f"{path} is not there.", do="Choose the file or folder again.")
    return with_choices(learner(path, catalogue, watch), catalogue)


def with_choices(draft: Draft, catalogue: Catalogue) -> Draft:
    """With what the shelf offers for fields that name other parts."""
    known: Mapping[str, Mapping[str, type[CataloguePart]]] = {
        "boards": {"dialects": Dialect},
        "images": {"boards": Board},
        "systems": {"emulator": Emulator},
        "choosers": {"image": Image},
        "bare_metal": {"image": Image},
    }
    offers = known.get(draft.kind, {})
    choices = {name: tuple((part.id, part.name) for part in catalogue.all(kind)) for name, kind in offers.items()}
    return replace(draft, choices=choices)
