"""Boot files."""

from __future__ import annotations

from typing import Annotated

from kyklon.commands.line import Option
from kyklon.commands.shared import OK, CardName, Folder, open_folder
from kyklon.commands.targets import written_card


def apply(
    folder: Folder,
    card: CardName,
    dry_run: Annotated[bool, Option("--dry-run", help="Show the difference, change nothing.")] = False,
) -> int:
    """Put the build's boot files on a card."""
    from kyklon.operations.boot.acts import planned_for, put_boot_files

    build, parts = open_folder(folder)
    target = written_card(card, folder)
    put = planned_for(build, parts, target) if dry_run else put_boot_files(folder, build, parts, target)
    print("\n".join(put.differences.values()) or "The card already has this build's boot files.")
    return OK
