"""The first-boot checklist: what a person looks at, and what to do when it is not so."""

from __future__ import annotations

from dataclasses import dataclass

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Display, Encoder, Image
from kyklon.model.build import Build


@dataclass(frozen=True)
class Item:
    """key is stable. look: what to see. otherwise: what to do when it is not so."""

    key: str
    look: str
    otherwise: str


def items(build: Build, catalogue: Catalogue) -> tuple[Item, ...]:
    """The checks for this build, in the order they can be made."""
    board = catalogue.find(Board, build.part("board"))
    display = catalogue.find(Display, build.part("display"))
    encoder = catalogue.find(Encoder, build.part("encoder"))
    image = catalogue.find(Image, build.part("image"))
    found = [
        Item("keyboard", "A keyboard is plugged in: the first run may ask.", "Plug one in before switching on."),
        Item("power", f"The power lamp of {board.name if board else 'the board'} is steady.",
             "It blinks: measure the voltage at the board."),
    ]  # fmt: skip
    if display:
        held = "a steady picture, no rolling, no whine" if display.tube else "a picture in its native size"
        found.append(Item("picture", f"{display.name} shows {held}.", "Switch off at once and see Picture."))
    bare = image is not None and not image.has_system
    if image is None or image.grows:
        found.append(
            Item("expansion", "The first start ends with a restart: the card grows.", "Wait; do not pull the plug.")
        )
    if image is not None and image.installer_service:
        low, high = image.unattended_min
        found.append(Item("installer", f"{image.front_end} is fetched: leave it alone for {low} to {high} minutes.",
                          "Check the network and the free space, then start it again."))  # fmt: skip
    if image is not None and image.school == "multi-boot":
        found.append(Item("bundles", f"{image.front_end} lists every system that was chosen.", "See Card, multi-boot."))
    if build.system.remote_key:
        found.append(Item("remote", "You can log in from another computer with your key, and not without it.",
                          "See Boot, System."))  # fmt: skip
    if encoder:
        found.append(Item("controls", f"{encoder.name}: every seat moves the menu.", "See Controls, live test."))
    if image:
        found.append(Item("games", f"{image.front_end} lists the systems.", "Restart it; then see Library."))
    found.append(Item("sound", "You can hear a game.", "See Boot, sound route."))
    if bare:  # no users, and nothing that must be shut down
        return tuple(found)
    found += [
        Item(
            "password", f"The password of {build.boot.user} is changed.", "Change it now; everybody knows the default."
        ),
        Item("shutdown", "Shutting down from the menu turns the lamp off.", "Never pull the plug on a running system."),
    ]
    return tuple(found)
