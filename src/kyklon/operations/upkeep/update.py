"""A newer image: what it changes, what of this build's settings goes along, and what the first power-on will be."""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path

from kyklon.base import reading, scratch
from kyklon.base.errors import KyklonError
from kyklon.base.meter import Meter
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.quantities import show_bytes
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build
from kyklon.model.card import CardContents
from kyklon.model.world import World
from kyklon.operations.boot.acts import plan_boot_files
from kyklon.operations.card.observe import started_by
from kyklon.operations.card.sources.source import chunks, inspect
from kyklon.operations.card.volumes import contents, fsck
from kyklon.operations.checksums import of_file
from kyklon.operations.library.observe import look_at_games
from kyklon.operations.picture.observe import look_at_display
from kyklon.operations.poweron.bench import lay_out
from kyklon.operations.poweron.bringup import bring_up
from kyklon.operations.poweron.events import BringUp
from kyklon.operations.upkeep import saves
from kyklon.record.folder import resolve


@dataclass(frozen=True)
class Row:
    """what: boot file, kernel, service, program, size. change: new, gone, changed. detail: from what to what."""

    what: str
    name: str
    change: str
    detail: str = ""


@dataclass(frozen=True)
class Update:
    """old, new: what each image says it is. rows: what changes. kept: this build's boot files as they will be on it, as
    differences to the new image's own. lost: files of the build's card that the new image has no place for. run: the
    first power-on with them, None where the new image cannot be read so far. troubles: why it should not be written.
    sha256: of the new image, unpacked."""

    old: str
    new: str
    rows: tuple[Row, ...]
    kept: Mapping[str, str]
    lost: tuple[str, ...]
    run: BringUp | None
    troubles: tuple[str, ...]
    sha256: str = ""


def compare(
    build: Build, folder: Path, catalogue: Catalogue, path: Path, watch: Watch = UNWATCHED, world: World | None = None
) -> Update:
    """The build's image against a newer one. folder: of the build; path: of the newer image file. Raises KyklonError,
    Cancelled."""
    own = resolve(folder, build.source.path) if build.source.path else None
    old = _contents(own, build, catalogue, watch)[0] if own is not None else None
    watch.check()
    new, sha256 = _contents(path, build, catalogue, watch)
    watch.check()
    troubles = [each for each in (new.table_error, new.boot_error, new.not_read) if each]
    image = catalogue.find(Image, build.part("image"))
    rows = tuple(_rows(old, new)) if old is not None else ()
    if build.boot.kernel and not new.has(build.boot.kernel):
        troubles.append(f"It has no {build.boot.kernel}, the kernel that this build starts.")
    if build.boot.device_tree and not new.has(build.boot.device_tree):
        troubles.append(f"It has no {build.boot.device_tree}, the device tree that this build names.")
    services = [unit.name for unit in new.root.services] if new.root is not None else []
    for service in build.boot.services:
        if services and service not in services:
            troubles.append(f"Its system has no service {service}.")
    kept: Mapping[str, str] = {}
    run = None
    if not (new.table_error or new.boot_error or new.not_read):
        put = plan_boot_files(build, catalogue, new)
        kept = put.differences
        watch.check()
        run = _forecast(build, folder, catalogue, contents.with_files(new, put.files), watch, world)
        if run.failure is not None and run.failure.blocks:
            same = False
            if old is not None and not (old.table_error or old.boot_error or old.not_read):
                as_put = contents.with_files(old, plan_boot_files(build, catalogue, old).files)
                before = _forecast(build, folder, catalogue, as_put, watch, world).failure
                same = before is not None and before.code == run.failure.code
            lead = "As with the current image, the" if same else "The"
            troubles.append(f"{lead} first power-on will stop: {run.failure.cause}")
    known = set(image.reads) if image is not None else set()
    lost = tuple(name for name in known if old is not None and old.has(name) and not new.has(name))
    return Update(_release(old), _release(new), rows, kept, lost, run, tuple(troubles), sha256)


def _contents(path: Path, build: Build, catalogue: Catalogue, watch: Watch = UNWATCHED) -> tuple[CardContents, str]:
    """A whole image as its card would be, and its SHA-256: what is packed is unpacked for it. Raises KyklonError,
    Cancelled."""
    facts = inspect(path)
    wanted = started_by(build, catalogue)
    if facts.kind == "plain" and not facts.parts:
        with reading.opened(path) as file:
            return contents.observe(path, wanted), of_file(file, "SHA-256", watch.check)
    summed = hashlib.sha256()
    with scratch.folder("update") as held:
        free = shutil.disk_usage(held).free
        if facts.unpacked and facts.unpacked > free:
            raise KyklonError(
                f"{path.name} unpacks to {show_bytes(facts.unpacked)}; {show_bytes(free)} are free for it.",
                do="Make room where temporary files go, or unpack it elsewhere and choose the plain image.",
            )
        whole, meter, done = Path(held) / "image", Meter(f"Unpacking {path.name}", facts.unpacked, watch), 0
        with whole.open("wb") as out:
            for piece in chunks(facts):
                meter.wait()
                summed.update(piece)
                if piece.count(0) == len(piece):
                    out.seek(len(piece), os.SEEK_CUR)  # a hole: most of a fresh image is empty
                else:
                    out.write(piece)
                done += len(piece)
                meter.report(done)
            out.truncate(done)
        return contents.observe(whole, wanted), summed.hexdigest()


def _release(found: CardContents | None) -> str:
    return found.root.release.strip() if found is not None and found.root is not None else ""


def _rows(old: CardContents, new: CardContents) -> Iterable[Row]:
    yield from _named("boot file", _files(old), _files(new))
    yield from _named("service", _services(old), _services(new))
    yield from _named("program", _programs(old), _programs(new))
    if old.size != new.size:
        yield Row("size", "image", "changed", f"{old.size} to {new.size} bytes")


def _named(what: str, old: Mapping[str, str], new: Mapping[str, str]) -> Iterable[Row]:
    for name in sorted({*old, *new}):
        if name not in old:
            yield Row(what, name, "new")
        elif name not in new:
            yield Row(what, name, "gone")
        elif old[name] != new[name]:
            yield Row(what, name, "changed", _detail(old[name], new[name]))


def _detail(old: str, new: str) -> str:
    return f"{old} to {new}" if len(old) < 40 and len(new) < 40 else ""


def _files(found: CardContents) -> dict[str, str]:
    """Boot files by path: the sum of the small ones, the size of the others."""
    return {name: found.digests.get(name.lower(), f"{size} bytes") for name, size in found.sizes.items()}


def _services(found: CardContents) -> dict[str, str]:
    units = found.root.services if found.root is not None else ()
    return {unit.name: " ".join(filter(None, (unit.command, unit.kind, unit.user, unit.trouble))) for unit in units}


def _programs(found: CardContents) -> dict[str, str]:
    """Whether a kernel can start it, and who may; not its bytes, of which only the new image's own list tells."""
    programs = found.root.programs if found.root is not None else {}
    return {
        name: f"{each.machine} {each.why} {sorted(each.rights)} {'there' if each.there else 'missing'}"
        for name, each in programs.items()
    }


def _forecast(
    build: Build, folder: Path, catalogue: Catalogue, card: CardContents, watch: Watch, world: World | None
) -> BringUp:
    if world is None:
        world = look_at_display(build, folder, catalogue, World(), watch)
        world = look_at_games(build, folder, catalogue, world, watch)
    with fsck.asked(None) as complaints:
        told = complaints.told
    return bring_up(lay_out(build, catalogue, replace(card, fsck=told), replace(world, card=card)))


@dataclass(frozen=True)
class Step:
    """operation: where it is done."""

    title: str
    operation: int
    done: bool = False


def steps(build: Build, folder: Path, update: Update) -> tuple[Step, ...]:
    """The way to the newer image and, where it must be, back; with what the build knows to be done."""
    card, latest = build.card, saves.archives(folder)
    written = card.bootable and bool(update.sha256) and card.image_sha256 == update.sha256
    kept = bool(latest) and (written or build.upkeep.saves_at >= card.at)
    started = any(sign.operation == 90 and sign.at >= card.at for sign in build.sign_offs)
    named = f"; {latest[-1].when[:10]} is the latest" if latest else ""
    return (
        Step(f"Back up the saves{named}", 95, kept),
        Step("Back up the card: that is the way back", 20, _backed_up(build, written=written)),
        Step(f"Write {update.new or 'the newer image'} and prove it", 20, written),
        Step(f"Copy this build's boot files: {len(update.kept)} differ", 30, written and card.boot_files_at >= card.at),
        Step("First boot, and the checklist", 90, written and started),
        Step("Copy the games and restore the saves", 95),
        Step("If it does not start: restore the backup", 20),
    )


def _backed_up(build: Build, *, written: bool) -> bool:
    """Whether there is a way back: a backup of the card that is later than its last change, before the newer image was
    written over it; or the old card itself, where that is another one."""
    card = build.card
    known = build.known_card(card.drive)
    events = known.events if known is not None else ()
    if not written:
        changed = max(card.at, card.boot_files_at)
        return any(event.what == "backed up" and event.at >= changed for event in events)
    before = list(events)
    while before and not before[-1].what.startswith("written"):
        before.pop()
    earlier = before[:-1]
    if not any(event.what.startswith("written") for event in earlier):
        return len(build.cards) > 1
    while not earlier[-1].what.startswith(("written", "backed up")):
        earlier.pop()
    return earlier[-1].what == "backed up"


def with_image(build: Build, folder: Path, path: Path, sha256: str = "") -> Build:
    """A build whose source is the newer image. Raises KyklonError for a file that is not there."""
    if not path.is_file():
        raise KyklonError(f"{path} is not a file.", do="Choose the newer image file.")
    try:
        inside = path.resolve().relative_to(folder.resolve()).as_posix()
    except ValueError:
        inside = str(path.resolve())
    source = build.source.model_copy(update={"path": inside, "sha256": sha256 or None})
    return build.model_copy(update={"source": source})
