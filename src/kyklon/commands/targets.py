"""Which drive a name on the command line means."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from kyklon.base.errors import WrongUse

if TYPE_CHECKING:
    from kyklon.devices.ports import Target
    from kyklon.operations.card.acts import CardJob


def written_card(name: str, folder: Path | None) -> Target:
    """A drive or file that has been written. Raises WrongUse."""
    from kyklon.operations.card.drives.looking import find

    target = find(name, folder)
    if not target.path.exists():
        raise WrongUse(f"{name} is missing or was never written.", do="Write the image first.")
    return target


def card_job(name: str, folder: Path | None, lose: str = "") -> CardJob:
    """An act on a drive, recorded in the build of a folder where one is named."""
    from kyklon.operations.card.acts import CardJob
    from kyklon.operations.card.drives.interlock import Consent
    from kyklon.operations.card.drives.looking import find
    from kyklon.record import folder as store

    build = store.load(folder).build if folder else None
    return CardJob(find(name, folder), Consent(typed=lose), build, folder)
