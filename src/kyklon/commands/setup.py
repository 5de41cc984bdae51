"""What a build sets up on its machine beside the boot files, without a window."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from kyklon.base import durable
from kyklon.base.errors import WrongUse
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.records import Display
from kyklon.commands.line import Option
from kyklon.commands.shared import OK, Folder, Json, open_folder, out, tell
from kyklon.model.build import Build
from kyklon.model.fields import describe
from kyklon.operations.boot.add_ons import of_build
from kyklon.operations.boot.first_boot import by_hand


def setup(
    folder: Folder,
    to: Annotated[
        Path | None, Option("--script", help="Write it as a script for an image that runs none at its first boot.")
    ] = None,
    as_json: Json = False,
) -> int:
    """Show what a build sets up on its machine, its add-ons included; --script writes it for a running machine."""
    build, catalogue = open_folder(folder)
    image, known = catalogue.find(Image, build.part("image")), of_build(build, catalogue)
    named = [name for name in type(build.system).model_fields if name != "key_for" and getattr(build.system, name)]
    fields = {name: describe(Build, f"system.{name}") for name in named}
    decided = {field.label: field.words(getattr(build.system, name)) for name, field in fields.items()}
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
        text = by_hand(build, image, catalogue.find(Display, build.part("display")), known)
        if not text and image is not None and image.first_boot_script:
            words = f"{image.name} runs {image.first_boot_script} at its first boot, which sets all of it up."
            raise WrongUse(words, do="Put the boot files on the card: `kyklon apply`.")
        if not text:
            raise WrongUse("Nothing of it is decided.", do="`kyklon set FOLDER system.time_zone Europe/Dublin`.")
        place = to.absolute()
        durable.keep(place, text.encode())
        tell(f"Written: {place}. Copy it to the machine and run it there: sudo sh {place.name}")

    def lines() -> list[str]:
        found = [f"{label:24} {words}" for label, words in decided.items() if label != "Add-ons"]
        for row, each in zip(rows, known, strict=True):
            found.append(f"{each.name:24} {each.started or 'started by hand'} as {row['user']}")
            needs = [question.split(":", 1)[1] for question in each.questions if not question.startswith("file:")]
            found.append(f"{'':24} needs {', '.join(needs) or 'nothing more'}")
        return found or ["Nothing: see Boot, System and Network, or `kyklon fields`."]

    out({"settings": decided, "add_ons": rows}, as_json, lines)
    return OK
