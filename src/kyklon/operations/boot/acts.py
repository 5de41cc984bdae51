"""What is done with boot files: issued into a folder, put on a card."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from kyklon.base import durable
from kyklon.base.errors import TargetError
from kyklon.base.inside import inside
from kyklon.catalogue.loader import Catalogue
from kyklon.devices.ports import Target
from kyklon.model.build import Build, edited
from kyklon.model.card import CardContents, Partition
from kyklon.operations.boot.compile import compiled, difference
from kyklon.operations.boot.firmware import differing
from kyklon.operations.boot.first_boot import mode_of
from kyklon.operations.card.drives.ext_files import ExtFiles, NewFile
from kyklon.operations.card.drives.fat_files import FatFiles
from kyklon.operations.card.drives.interlock import OpenTarget, Purpose, Request, opened
from kyklon.operations.card.volumes import contents
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook, now


@dataclass(frozen=True)
class Put:
    """Boot files for a card: new bytes by path, and the difference of each to what is there."""

    files: dict[str, bytes]
    differences: dict[str, str]


def plan_boot_files(build: Build, catalogue: Catalogue, card: CardContents) -> Put:
    """The files of this build merged into those of the card; only those that differ."""
    files: dict[str, bytes] = {}
    differences: dict[str, str] = {}
    for name, data in differing(build, catalogue, card).items():  # before the boot file that names it
        files[name] = data
        differences[name] = f"{name}: EDID file for the kernel, {len(data)} bytes"
    texts = card.texts_meant
    for file in compiled(build, catalogue, texts, card):
        old = texts.get(file.path.lower(), "")
        if old != file.text or file.path.lower() not in card.texts:
            name = card.names.get(file.path.lower(), file.path)  # as it is spelt on the card
            files[name] = file.text.encode("utf-8", "surrogateescape")
            differences[name] = difference(old, file.text, file.path)
    return Put(files, differences)


def planned_for(build: Build, catalogue: Catalogue, target: Target) -> Put:
    """The same from the bytes on a drive. Raises TargetError for one without a boot partition."""
    card, _partition = _boot_partition(target.path, target.facts.name)
    return plan_boot_files(build, catalogue, card)


def _boot_partition(path: Path, name: str) -> tuple[CardContents, Partition]:
    """What is on a card, and its boot partition."""
    card = contents.observe(path)
    parts = card.table.partitions if card.table else ()
    boot = next((part for part in parts if part.number == card.boot_number), None)
    if boot is None or card.boot_error:
        raise TargetError(
            f"{name} has no boot partition for the files. {card.table_error or card.boot_error}".strip(),
            do="Write the image first.",
        )
    return card, boot


def _put_ext(place: OpenTarget, card: CardContents, number: int, files: dict[str, bytes]) -> None:
    """Files by their absolute paths onto an ext4 partition."""
    if not files or card.table is None:
        return
    part = next(part for part in card.table.partitions if part.number == number)
    new = [NewFile(path, data, mode_of(path)) for path, data in files.items()]
    ExtFiles(place, part.start, min(part.size, card.size - part.start)).replace(new)


def put_boot_files(folder: Path, build: Build, catalogue: Catalogue, target: Target) -> Put:
    """Put this build's boot files on a card's boot partition, keep a copy in issued/, and record it.

    Raises Refused, TargetError (no boot partition, one that cannot be written), TargetFull, ToolError, VerifyError.
    """
    if not planned_for(build, catalogue, target).files:
        return Put({}, {})
    with opened(Request(target, Purpose.EDIT, build=build)) as place:  # what is read is what is changed
        card, part = _boot_partition(place.path, place.facts.name)
        put = plan_boot_files(build, catalogue, card)
        of_root = {name: data for name, data in put.files.items() if name[0] == "/"}
        of_boot = {name: data for name, data in put.files.items() if name not in of_root}
        if card.exact_names:
            _put_ext(place, card, part.number, {f"/{name}": data for name, data in of_boot.items()})
        else:
            files = FatFiles(place, part.start)
            files.repair(card)
            files.replace(of_boot)
        _put_ext(place, card, card.root_number, of_root)
    for name, data in put.files.items():
        kept = "root" if name in of_root else "boot"
        durable.keep(inside(folder / "issued" / kept, name.lstrip("/")), data)
    if target.facts.identity == build.card.drive:
        store.update(folder, lambda kept: edited(kept, "card.boot_files_at", now()))
    Logbook(folder).add(30, f"Boot files copied to {target.facts.name}", "\n".join(put.differences.values()))
    return put
