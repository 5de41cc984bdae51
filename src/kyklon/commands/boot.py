"""Boot files."""

from __future__ import annotations

from typing import Annotated

from kyklon.base import durable
from kyklon.base.inside import inside
from kyklon.catalogue.records import Board
from kyklon.catalogue.text_records import Dialect
from kyklon.commands.line import Option
from kyklon.commands.shared import OK, STOPS, CardName, Dir, Folder, Json, open_folder, out
from kyklon.commands.targets import written_card
from kyklon.operations import inspection
from kyklon.operations.boot.as_found import as_found
from kyklon.operations.boot.compile import issue as issued
from kyklon.operations.card.volumes import contents


def apply(
    folder: Folder,
    card: CardName,
    dry_run: Annotated[bool, Option("--dry-run", help="Show the difference, change nothing.")] = False,
    as_json: Json = False,
) -> int:
    """Copy the build's boot files to a card."""
    from kyklon.operations.boot.acts import planned_for, put_boot_files

    build, parts = open_folder(folder)
    target = written_card(card, folder)
    put = planned_for(build, parts, target) if dry_run else put_boot_files(folder, build, parts, target)
    data = {"put": not dry_run, "files": sorted(put.files), "differences": put.differences}
    out(data, as_json, lambda: ["\n".join(put.differences.values()) or "The card already has this build's boot files."])
    return OK


def diff(folder: Folder, card: CardName, as_json: Json = False) -> int:
    """Show how the build's boot files differ from those on a card."""
    return apply(folder, card, dry_run=True, as_json=as_json)


def read(folder: Folder, card: CardName, as_json: Json = False) -> int:
    """Read the boot files on a card, line by line.

    What they set, what is kept as found, and what is odd.
    """
    from dataclasses import asdict

    build, parts = open_folder(folder)
    seen = contents.observe(written_card(card, folder).path)
    lines = as_found(parts.get(Dialect, build.boot.dialect), parts.get(Board, build.part("board")), seen.texts)
    data = {"error": seen.table_error or seen.boot_error, "lines": [asdict(line) for line in lines]}

    def told() -> list[str]:
        shown = [
            f"{line.file}:{line.number}: {line.key} {line.value}".rstrip()
            + f"  [{line.setting or 'kept as found'}]"
            + (f"  {line.odd}" if line.odd else "")
            for line in lines
        ]
        return shown or [str(data["error"]) or "It has no boot files in this build's format."]

    out(data, as_json, told)
    return OK if lines else STOPS


def issue(folder: Folder, into: Dir, as_json: Json = False) -> int:
    """Write the build's boot files into a folder."""
    build, parts = open_folder(folder)
    files = issued(build, parts, inspection.observe(build, folder, parts))
    for name, body in files.items():
        data = body.encode("utf-8", "surrogateescape") if isinstance(body, str) else body
        durable.keep(inside(into, name.removeprefix("boot/")), data)
    names = [name.removeprefix("boot/") for name in files]
    out({"folder": str(into), "files": names}, as_json, lambda: names)
    return OK
