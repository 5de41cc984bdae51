"""Identification data for a board that takes whole timings in no other way: in an initramfs of its own on the boot
partition, because the kernel asks for it before there is a root."""

from __future__ import annotations

import hashlib

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Display
from kyklon.catalogue.text_records import Dialect
from kyklon.model.build import Build
from kyklon.model.card import CardContents
from kyklon.operations.card.volumes import ramdisk
from kyklon.operations.picture import edid, testcard
from kyklon.operations.picture.sending import FIRMWARE, by_firmware, identification, unfit
from kyklon.operations.picture.signal_path import SignalPath

RAMDISK = "kyklon-picture.cpio"  # on the boot partition
TEST_CARD = "kyklon-card.png"  # on the boot partition


def files(build: Build, catalogue: Catalogue) -> dict[str, bytes]:
    """The files of bytes that go with the boot files, by their paths on the boot partition."""
    board, dialect = catalogue.find(Board, build.part("board")), catalogue.find(Dialect, build.boot.dialect)
    display = catalogue.find(Display, build.part("display"))
    found = _test_card(build, board, display, dialect)
    return found | _identification(build, board, display, dialect)


def _test_card(build: Build, board: Board | None, display: Display | None, dialect: Dialect | None) -> dict[str, bytes]:
    """The card for the menu's mode, where the firmware shows a picture while it starts."""
    if not build.picture.test_card or board is None or display is None:
        return {}
    if not SignalPath(display, board, dialect=dialect).shows_card:
        return {}
    return {TEST_CARD: testcard.png(testcard.card(build.picture.menu.timing, display))}


def _identification(
    build: Build, board: Board | None, display: Display | None, dialect: Dialect | None
) -> dict[str, bytes]:
    if board is None or not by_firmware(build, board, dialect) or unfit(build, display):
        return {}
    return {RAMDISK: ramdisk.write({f"lib/firmware/{FIRMWARE}": edid.write(identification(build, display))})}


def differing(build: Build, catalogue: Catalogue, card: CardContents | None) -> dict[str, bytes]:
    """Those of them that are not on the card as they are."""
    there = card.digests if card is not None else {}
    return {
        name: data
        for name, data in files(build, catalogue).items()
        if there.get(name.lower()) != hashlib.sha256(data).hexdigest()
    }
