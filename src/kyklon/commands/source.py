"""Image files and their shelf."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any

from kyklon.base.errors import WrongUse
from kyklon.base.places import shelf_file
from kyklon.base.quantities import counted, show_bytes
from kyklon.commands.line import Option
from kyklon.commands.shared import OK, Json, catalogue, out
from kyklon.operations import checksums
from kyklon.operations.card.shelving import boards_served, shelf_entry
from kyklon.operations.card.sources import source
from kyklon.operations.card.volumes import contents
from kyklon.record.shelf import Shelf

Place = Annotated[Path | None, Option("--shelf", help="A shelf other than your own.")]


def inspect(file: Path, as_json: Json = False) -> int:
    """Describe an image file without unpacking it to disk."""
    facts = source.inspect(file)
    inside = contents.observe_source(facts)
    stated = checksums.beside(facts)
    table = inside.table
    told: dict[str, Any] = {
        "kind": facts.kind,
        "parts": [part.name for part in facts.parts] or None,
        "packed": facts.packed,
        "unpacked": facts.unpacked,
        "exact": facts.exact,
        "stated": asdict(stated) if stated else None,
        "scheme": table.scheme if table else None,
        "partitions": [
            {"number": part.number, "type": part.word, "start": part.start, "size": part.size}
            for part in (table.partitions if table else ())
        ],
        "volumes": [asdict(volume) for volume in inside.volumes],
        "boot_free": inside.boot_free,
        "kernels": [{"file": kernel.name, "instruction_set": kernel.instruction_set} for kernel in inside.kernels],
        "boards": list(boards_served(inside, catalogue())),
        "boot_files": sorted(inside.texts),
        "problem": inside.table_error or inside.boot_error or None,
    }

    def lines() -> list[str]:
        text = [f"{facts.name}: {facts.kind}, {show_bytes(facts.packed)} packed, {facts.size_words} unpacked"]
        if facts.parts:
            text.append(f"  joined from {counted(len(facts.parts), 'part')}")
        if stated:
            text.append(f"  {stated.algorithm} beside it: {stated.digest}")
        text += [f"  {each.number} {each.words}, from byte {each.start}" for each in inside.volumes if each.number]
        text += [f"  kernel {row['file']} for {row['instruction_set']}" for row in told["kernels"]]
        if told["boards"]:
            text.append(f"  starts on {', '.join(told['boards'])}")
        return [*text, f"  {told['problem']}"] if told["problem"] else text

    out(told, as_json, lines)
    return OK


def shelf(place: Place = None, as_json: Json = False) -> int:
    """List the images on the source shelf."""
    images = Shelf(place or shelf_file()).images()
    lines = [
        f"{image.name or Path(image.path).name}: {show_bytes(image.packed)}, {image.school or 'kind not known'}, "
        f"{image.released or 'no date'}, {image.checksum or 'no checksum'}\n  {image.path}"
        for image in images
    ]
    empty = ["The shelf is empty. Put an image on it: kyklon source keep FILE"]
    out({"images": [image.model_dump(mode="json") for image in images]}, as_json, lambda: lines or empty)
    return OK


def keep(file: Path, place: Place = None) -> int:
    """Add an image to the source shelf."""
    facts, parts = source.inspect(file), catalogue()
    entry = shelf_entry(facts, parts, boards_served(contents.observe_source(facts), parts))
    Shelf(place or shelf_file()).put(entry)
    print(f"{entry.name or facts.name} is on the shelf.")
    return OK


def forget(file: str, place: Place = None) -> int:
    """Remove an image from the source shelf; the file stays."""
    shelf_ = Shelf(place or shelf_file())
    known = [image for image in shelf_.images() if file in (image.path, image.name, Path(image.path).name)]
    if not known:
        raise WrongUse(f"{file} is not on the shelf.", do="`kyklon source shelf` lists what is.")
    for each in known:
        shelf_.remove(each.path)
        print(f"{each.path} is removed from the shelf.")
    return OK
