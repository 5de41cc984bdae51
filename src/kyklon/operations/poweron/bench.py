"""All that the machine meets when it is switched on."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Card, Display
from kyklon.catalogue.text_records import Dialect
from kyklon.model.build import Build
from kyklon.model.card import CardContents, Ramdisk
from kyklon.model.display import Edid
from kyklon.model.kernel_line import given
from kyklon.model.library import OnMachine, Scan
from kyklon.model.world import World
from kyklon.operations.boot.placing import sets_in_words, startable_sets, tree_in
from kyklon.operations.boot.read import CardSettings, read_settings
from kyklon.operations.card.disk import medium_mb_s
from kyklon.operations.card.volumes.ramdisk_files import kind_of
from kyklon.operations.controls.hookup import Device, devices_of
from kyklon.operations.library.transfer import on_root

_READ_MB_S = 20.0  # MB/s of what nobody chose, CP
_BEHIND = 8 << 20  # bytes that images leave behind their last partition, CP


@dataclass(frozen=True)
class Bench:
    """All that the machine meets. settings: what its boot files say, None without a boot file."""

    build: Build
    catalogue: Catalogue
    board: Board
    image: Image
    display: Display | None
    devices: tuple[Device, ...]
    card: Card | None
    contents: CardContents
    settings: CardSettings | None
    dialect: Dialect
    identification: Edid | None
    scan: Scan | None
    on_machine: OnMachine | None
    world: World
    as_read: CardContents  # as the bytes have it; contents: as this firmware takes them

    @property
    def tree(self) -> str:
        """The device tree that the kernel gets: the one that is named, or the board's own out of a folder; '' for the
        firmware's own."""
        told = self.settings
        if told is None:
            return ""
        return told.tree or (tree_in(told.tree_folder, self.board, self.contents) if told.tree_folder else "")

    @property
    def card_bytes(self) -> int:
        """Bytes of the whole card: its own, or the planned card's where no more than an image was seen."""
        end = self.contents.table.end if self.contents.table else 0
        only_image = self.contents.size <= end + _BEHIND
        return self.card.capacity_bytes if self.card and only_image else self.contents.size

    @property
    def read_bytes_s(self) -> float:
        """How fast the card or the disk is read in this machine, bytes per second."""
        found = medium_mb_s(self.build, self.catalogue)
        return (found[0] if found else _READ_MB_S) * 1e6

    @property
    def overlays(self) -> tuple[str, ...]:
        """The overlays that the card's boot file names, as files; none on a board that reads none."""
        told = self.settings.values.get("boot.overlays", "").split() if self.settings else []
        if "header" not in self.board.honours:
            return ()
        if self.by_label:
            return tuple(each.lstrip("/") for each in told)
        return tuple(f"{self.dialect.overlays}/{each.partition(':')[0]}.dtbo" for each in told)

    @property
    def kernel_name(self) -> str:
        """The kernel the boot file names, or the one the firmware looks for by itself."""
        if self.by_label or (self.settings and self.settings.kernel_file):
            return self.settings.kernel_file if self.settings else ""
        native = [k.file for k in self.image.kernels if k.instruction_set == self.board.native_set]
        return native[0] if native else ""

    @property
    def by_label(self) -> bool:
        """Whether the board's loader goes by labels (extlinux.conf)."""
        return self.dialect.files[0].kind == "extlinux"

    @property
    def ramdisk(self) -> Ramdisk | None:
        """The initramfs that the boot file names and that could be looked at."""
        name = self.settings.initramfs if self.settings else ""
        if not name:
            return None
        found, head = self.contents.ramdisk(name), self.contents.heads.get(name.lower())
        if found is None and head is not None and not kind_of(head):  # the kernel passes over what is none
            return Ramdisk(name, self.contents.sizes.get(name, 0), trouble=f"{name} is no initramfs")
        return found

    @property
    def initramfs_init(self) -> bool:
        """Whether an initramfs takes over: one that has an /init, or may have one."""
        found = self.ramdisk
        return bool(self.settings and self.settings.initramfs) and not (found is not None and found.goes_on_to_root)

    @property
    def sets(self) -> tuple[str, ...]:
        """The instruction sets of kernels that the firmware starts here."""
        return startable_sets(self.board, self.dialect)

    @property
    def kernel_line_words(self) -> tuple[str, ...]:
        """The firmware reads the first line only; then the kernel's own reading."""
        line = self.settings.kernel_line if self.settings else ""
        return given(line.split("\n")[0])

    def words_of(self, name: str) -> tuple[str, ...]:
        """Every value that the line gives a name, as a whole."""
        return tuple(word.partition("=")[2] for word in self.kernel_line_words if word.startswith(f"{name}="))


def why_not(values: Mapping[str, str], board: Board, dialect: Dialect, contents: CardContents) -> str:
    """Why a label's kernel is not started, '' when it is, in the order in which the loader finds out."""
    kernel = values.get("LINUX", "")
    if "LOCALBOOT" in values:
        return "it hands booting back to the firmware (LOCALBOOT), which has nothing else to boot"
    if not kernel:
        return "it names no kernel"
    for name in (values.get("INITRD", ""), kernel):
        if name and not contents.has(name):
            return f"{name} is not on the boot partition"
        if name.lower() in contents.loader_broken:
            return f"the boot loader treats the cluster chain of {name} as broken: reserved bits are set in the FAT"
    if len(values.get("APPEND", "")) > dialect.longest_line:
        return f"its kernel command line has more than {dialect.longest_line} characters"
    tree = values.get("FDT", "")
    if tree and tree != "-":
        found = contents.tree(tree)
        if not contents.has(tree):
            return f"the device tree {tree} is not on the boot partition"
        if found is None or found.trouble:
            return found.trouble if found else f"{tree} is not a device tree"
    image = contents.kernel(kernel)
    if image is None:
        return f"{kernel} is not a kernel"
    if image.instruction_set not in startable_sets(board, dialect):
        runs = sets_in_words(startable_sets(board, dialect))
        return f"{kernel} is a kernel for {image.instruction_set}; this boot loader starts {runs}"
    return ""


UNSEEN = World()


def _machine(build: Build, catalogue: Catalogue, contents: CardContents, there: OnMachine | None) -> OnMachine | None:
    """The games of the destination and those on the card's own root."""
    image, root = catalogue.get(Image, build.part("image")), contents.root
    if root is None or not root.files:
        return there
    own = on_root(root, systems_of(build, catalogue), image)
    if there is None:
        return own
    games = {
        system: tuple(dict.fromkeys((*there.games.get(system, ()), *own.games.get(system, ()))))
        for system in (*there.games, *own.games)
    }
    bad = {
        system: (*there.bad_games.get(system, ()), *own.bad_games.get(system, ()))
        for system in (*there.bad_games, *own.bad_games)
    }
    return OnMachine(
        games,
        there.system_files | own.system_files,
        there.unreadable,
        there.hidden,
        there.bad_files | own.bad_files,
        bad,
    )


def _as_scanned(contents: CardContents, dialect: Dialect) -> CardContents:
    """With a loader's own file under the name that it is looked for first."""
    path = dialect.files[0].path.lower()
    there = dialect.where(dialect.files[0], contents.texts).lower()
    return contents if there == path else replace(contents, texts={**contents.texts, path: contents.texts[there]})


def lay_out(build: Build, catalogue: Catalogue, contents: CardContents, world: World = UNSEEN) -> Bench:
    """Everything on the bench. world: the display, the library and the games on the machine are taken from it.

    Raises CatalogueError for a build without a known board, image or dialect.
    """
    board = catalogue.get(Board, build.part("board"))
    dialect = catalogue.get(Dialect, build.boot.dialect)
    image = catalogue.get(Image, build.part("image"))
    as_read, contents = contents, _as_scanned(contents, dialect)
    unread = image.unread(dialect)
    if contents.exact_names:  # the loader asks for small letters
        unread |= {name for name, spelt in contents.names.items() if spelt != spelt.lower()}
    texts = {name: text for name, text in contents.texts.items() if name not in unread}
    return Bench(
        build=build,
        catalogue=catalogue,
        board=board,
        image=image,
        display=catalogue.find(Display, build.part("display")),
        devices=devices_of(build, catalogue),
        card=catalogue.find(Card, build.part("card")),
        contents=contents,
        settings=read_settings(dialect, board, texts, lambda values: not why_not(values, board, dialect, contents)),
        dialect=dialect,
        identification=world.identification,
        scan=world.scan,
        on_machine=_machine(build, catalogue, contents, world.on_machine),
        world=world,
        as_read=as_read,
    )
