"""Device trees and boot files where they mostly are: on the boot partition of an image, packed or not."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from kyklon.base.errors import FormatError, KyklonError
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.operations.card.sources import source
from kyklon.operations.card.volumes import contents
from kyklon.operations.card.volumes.fat_reader import FatReader
from kyklon.operations.card.volumes.partitions import read_table
from kyklon.parts import device_tree

MOST = 400  # trees of one image
_TRIED = 4000  # files that are looked at


@dataclass(frozen=True)
class TreeFile:
    """A device tree and its path on the boot partition. model: what it says of its board, '' where it is damaged."""

    path: str
    data: bytes
    model: str


def trees_in(path: Path, watch: Watch = UNWATCHED) -> tuple[TreeFile, ...]:
    """The trees on the first FAT partition that has some. Raises KyklonError when there are none, or why not."""
    facts = source.inspect(path)
    with contents.held(facts, watch) as held:
        table = read_table(held.read, held.size, strict=False)
        for part in table.partitions:
            if not part.is_fat:
                continue
            found = _on(FatReader(held.read, part.start), watch)
            if found:
                return found
    raise KyklonError(
        f"{facts.name} has no device tree on its boot partition.",
        do="Choose another image, or a file that ends in .dtb.",
    )


def _on(volume: FatReader, watch: Watch) -> tuple[TreeFile, ...]:
    found: list[TreeFile] = []
    for number, (file, is_folder) in enumerate(volume.everything([])):
        watch.check()
        if number > _TRIED or len(found) >= MOST:
            break
        if is_folder or not file.path.lower().endswith(".dtb") or file.size > device_tree.LARGEST:
            continue
        try:
            data = volume.read(file, file.size)
            model = device_tree.read(data).text("model")
        except FormatError:
            continue
        found.append(TreeFile(file.path, data, model))
    return tuple(sorted(found, key=lambda each: each.path))


@dataclass(frozen=True)
class TextFile:
    """A text and its path on the boot partition."""

    path: str
    data: bytes


def texts_in(path: Path, watch: Watch = UNWATCHED) -> tuple[TextFile, ...]:
    """The texts on an image's boot partition. Raises KyklonError when there are none, or why not."""
    facts = source.inspect(path)
    with contents.held(facts, watch) as held:
        inside = contents.observe_held(held)
    found = [
        TextFile(inside.names[key], text.encode("utf-8", "surrogateescape"))
        for key, text in inside.texts.items()
        if text
    ]
    if not found:
        why = inside.table_error or inside.boot_error or "There are no texts on its boot partition."
        raise KyklonError(f"{facts.name}: {why}", do="Choose another image, or the boot file itself.")
    return tuple(sorted(found, key=lambda each: each.path))
