"""Add-ons of a build without a window."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from kyklon.base import durable
from kyklon.base.errors import WrongUse
from kyklon.commands.line import Option
from kyklon.commands.shared import OK, Folder, Json, open_folder, out, tell
from kyklon.operations.boot.add_ons import of_build, script


def add_ons(
    folder: Folder,
    to: Annotated[
        Path | None, Option("--script", help="Write a script that installs them; run it on the machine, as root.")
    ] = None,
    as_json: Json = False,
) -> int:
    """Show a build's add-ons and what they need; --script writes what installs them on a running machine."""
    build, catalogue = open_folder(folder)
    known = of_build(build, catalogue)
    rows = [
        {
            "id": each.id,
            "name": each.name,
            "needs": [question.split(":", 1)[1] for question in each.questions if not question.startswith("file:")],
            "files": [f"/{file.path.strip('/')}" for file in each.files],
            "starts": each.starts,
            "command": each.started,
            "user": each.user or "root",
            "minutes": list(each.minutes),
        }
        for each in known
    ]
    if to is not None:
        if not known:
            raise WrongUse("The build has no add-ons.", do="Add one: `kyklon plan use FOLDER add-on ID`.")
        place = to.absolute()
        durable.keep(place, script(known).encode())
        tell(f"Written: {place}. Copy it to the machine and run it there: sudo sh {place.name}")

    def lines() -> list[str]:
        found = []
        for row, each in zip(rows, known, strict=True):
            found.append(f"{each.id:24} {each.name}: {each.started or 'started by hand'} as {row['user']}")
            needs = [question.split(":", 1)[1] for question in each.questions if not question.startswith("file:")]
            found.append(f"{'':24} needs {', '.join(needs) or 'nothing more'}")
        return found or ["No add-ons: `kyklon plan use FOLDER add-on ID` adds one."]

    out({"add_ons": rows}, as_json, lines)
    return OK
