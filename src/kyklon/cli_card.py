"""The source and interlock commands."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any

import typer

from kyklon import workshop
from kyklon.card import checksums, contents, source
from kyklon.card.interlock import judge
from kyklon.quantities import show_bytes
from kyklon.record import folder as store

Json = Annotated[bool, typer.Option("--json", help="One JSON document and nothing else.")]


def register(app: typer.Typer, source_app: typer.Typer) -> None:
    source_app.command("inspect")(inspect)
    app.command("interlock")(interlock)


def inspect(file: Path, as_json: Json = False) -> int:
    """What an image file is, without unpacking it to disk."""
    facts = source.inspect(file)
    inside = contents.observe_source(facts)
    table = inside.table
    told: dict[str, Any] = {
        "kind": facts.kind,
        "packed": facts.packed,
        "unpacked": facts.unpacked,
        "exact": facts.exact,
        "sha256_beside": checksums.beside(file) or None,
        "partitions": [
            {"number": part.number, "type": part.word, "start": part.start, "size": part.size}
            for part in (table.partitions if table else ())
        ],
        "kernels": [{"file": kernel.name, "instruction_set": kernel.instruction_set} for kernel in inside.kernels],
        "boot_files": sorted(inside.texts),
        "problem": inside.table_error or inside.boot_error or None,
    }
    if as_json:
        print(json.dumps(told, indent=1))
        return 0
    size = show_bytes(facts.unpacked) if facts.unpacked is not None else "size told by unpacking only"
    print(f"{file.name}: {facts.kind}, {show_bytes(facts.packed)} packed, {size}")
    for row in told["partitions"]:
        print(f"  {row['number']} {row['type']}, {show_bytes(row['size'])} from byte {row['start']}")
    for row in told["kernels"]:
        print(f"  kernel {row['file']} for {row['instruction_set']}")
    if told["problem"]:
        print(f"  {told['problem']}")
    return 0


def interlock(
    image: Path,
    target: str,
    folder: Annotated[Path | None, typer.Option(help="The build folder with the drives.")] = None,
    as_json: Json = False,
) -> int:
    """What the interlock says of writing an image to a drive. Exit 0 when it may be written, 1 when not."""
    facts = source.inspect(image)
    place = workshop.find_target(target, folder, facts.unpacked or 0)
    build = store.load(folder).build if folder else None
    verdict = judge(workshop.case_for(build, facts, place))
    told = {
        "drive": place.facts.name,
        "allowed": verdict.allowed,
        "refusals": verdict.refusals,
        "warnings": verdict.warnings,
        "lose": verdict.lose or None,
        "loss": verdict.loss or None,
    }
    if as_json:
        print(json.dumps(told, indent=1, ensure_ascii=False))
    else:
        print(" ".join(verdict.refusals) or verdict.loss or "Free to write: nothing is lost.")
    return 0 if verdict.allowed else 1
