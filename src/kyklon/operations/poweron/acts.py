"""What is done at power-on: the bring-up is run from what is really there."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from kyklon.base.errors import WrongUse
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build
from kyklon.model.card import CardContents
from kyklon.model.world import World
from kyklon.operations.card.observe import card_target, started_by
from kyklon.operations.card.volumes import contents, fsck
from kyklon.operations.library.observe import look_at_games
from kyklon.operations.picture.observe import look_at_display
from kyklon.operations.poweron.bench import lay_out
from kyklon.operations.poweron.bringup import bring_up
from kyklon.operations.poweron.events import BringUp
from kyklon.operations.poweron.rehearsal import Rehearsal, Terms, rehearse


def rehearse_card(
    build: Build,
    folder: Path,
    catalogue: Catalogue,
    card: Path,
    terms: Terms,
    watch: Watch = UNWATCHED,
) -> tuple[BringUp, Rehearsal, str]:
    """The card foretold, and started on the desk; and the school of its image. Raises as rehearsal.rehearse."""
    world, run = foretell(build, folder, catalogue, card, watch)
    bench = lay_out(build, catalogue, world.card or NO_CARD, world)
    return run, rehearse(bench, card, terms, watch), bench.image.school


def rehearse_own(
    build: Build,
    folder: Path,
    catalogue: Catalogue,
    terms: Terms,
    watch: Watch = UNWATCHED,
) -> tuple[BringUp, Rehearsal, str]:
    """The same with the build's own card. Raises WrongUse, too, when none is plugged in."""
    target = card_target(build, folder)
    if target is None:
        raise WrongUse("This build's card is not connected.", do="Write one in Card, or connect it.")
    return rehearse_card(build, folder, catalogue, target.path, terms, watch)


NO_CARD = CardContents(table_error="no card connected, or none written yet")


def foretell(
    build: Build, folder: Path, catalogue: Catalogue, card: Path | None = None, watch: Watch = UNWATCHED
) -> tuple[World, BringUp]:
    """Look at card, display, library and machine now, and say what the first power-on will be.

    card: another one than the build's own. Of the world, only what was looked at here is filled.
    """
    world = look_at_display(build, folder, catalogue, World(), watch)
    world = look_at_games(build, folder, catalogue, world, watch)
    if card is None:
        target = card_target(build, folder)
        card = target.path if target else None
    with fsck.asked(card) as complaints:
        found = contents.observe(card, started_by(build, catalogue)) if card is not None else NO_CARD
    found = replace(found, fsck=complaints.told)
    world = replace(world, card=found if card is not None else None)
    return world, bring_up(lay_out(build, catalogue, found, world))
