"""What was observed of the world: the image, the card, the display, the library, the machine's games."""

from __future__ import annotations

from dataclasses import dataclass

from kyklon.model.card import CardContents
from kyklon.model.display import Edid
from kyklon.model.image_file import SourceFacts, Stated
from kyklon.model.library import OnMachine, Scan
from kyklon.model.sets import SeenSets


@dataclass(frozen=True)
class World:
    """None: not looked at, or not there. Each *_error is '' or says why it could not be read."""

    source: SourceFacts | None = None
    source_error: str = ""
    source_stated: Stated | None = None  # what a file beside the image states
    source_contents: CardContents | None = None
    card: CardContents | None = None
    sets: SeenSets | None = None
    sets_error: str = ""
    writing: bool = False  # a card is being written by this program now
    identification: Edid | None = None
    identification_error: str = ""
    scan: Scan | None = None
    scan_error: str = ""
    on_machine: OnMachine | None = None
