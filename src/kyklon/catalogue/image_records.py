"""Images, and the sets and choosers that are laid out for them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Literal, Protocol

from pydantic import Field

from kyklon.catalogue.records import CataloguePart, Inside, Rhythm
from kyklon.model.library import SystemFile
from kyklon.model.record import Record


class Kernel(Record):
    file: str
    instruction_set: str


class _File(Protocol):
    @property
    def path(self) -> str: ...
    @property
    def of_system(self) -> bool: ...


class HasFiles(Protocol):
    """A dialect, which is a record of another module."""

    @property
    def files(self) -> Sequence[_File]: ...


class StickRule(Record):
    """How an image takes games in from a stick. folder: at the stick's top. reads: file systems it mounts.
    makes_folders: it makes its folders on an empty one first. minutes: that its intake takes, least and most. lamp:
    the rhythm meanwhile. clears: the stick is empty afterwards."""

    folder: Inside
    reads: tuple[Literal["FAT32", "exFAT", "ext4"], ...] = Field(min_length=1)
    makes_folders: bool = True
    minutes: tuple[float, float] = (5.0, 10.0)
    lamp: Rhythm = "quick"
    clears: bool = False


class Image(CataloguePart):
    school: Literal["complete image", "base and installer", "bare metal", "multi-boot"]
    boards: tuple[str, ...]
    kernels: tuple[Kernel, ...] = ()
    least_card_bytes: int
    front_end: str
    front_end_program: str
    default_user: str
    games_path: Inside  # template with {folder}
    system_files_path: Inside
    pictures_path: Inside = "pictures/{folder}"  # cover pictures, template with {folder}
    texts_path: Inside = "texts/{folder}"  # descriptions, the same
    playlist_kinds: tuple[str, ...] = ("m3u",)
    services: tuple[str, ...] = ()
    foreground_service: str
    watcher_service: str = ""  # the one that shuts down at a button
    network_service: str = ""  # the one that joins the wireless network
    installer_service: str = ""  # the one that fetches the front end at the first start
    first_boot_script: str = ""  # on the boot partition, run once as root; '' where it runs none
    start_programs: tuple[str, ...] = ()  # what its init calls by name
    unattended_min: tuple[int, int] = (0, 0)
    files: tuple[str, ...] = ()  # names its image files have, with * for anything
    released: str = ""  # ISO 8601
    default_password: str = ""  # to be changed
    grows: bool = True  # the root partition grows at the first start
    reads: tuple[Inside, ...] = ()  # files on the boot partition from which its system sets itself up
    radio: bool = False  # without a system: it has a Bluetooth driver of its own
    stick: StickRule | None = None  # how it takes games in from a stick; None where it takes none

    def unread(self, dialect: HasFiles) -> frozenset[str]:
        """Of the files of a dialect that are for a system, those that this image's system does not read, in small
        letters."""
        read = {each.lower() for each in self.reads} if self.has_system else set()
        return frozenset(file.path.lower() for file in dialect.files if file.of_system) - read

    @property
    def pairs_radio(self) -> bool:
        """Whether Bluetooth controllers can connect: Linux has drivers, and a chooser's systems bring theirs."""
        return self.radio or self.school != "bare metal"

    @property
    def is_base(self) -> bool:
        """Whether a system is all there is: it shows no front end."""
        return self.has_system and not self.front_end_program

    @property
    def has_system(self) -> bool:
        """Whether a Linux system runs below the front end, with services and users."""
        return self.school in ("complete image", "base and installer")


class Machine(Record):
    """A machine that a bare-metal set can be. folder: in the set, where its files are. system: whose games it plays, ''
    where the catalogue has none."""

    id: str
    name: str
    folder: str
    files: tuple[SystemFile, ...]
    system: str = ""


class BareMetal(CataloguePart):
    """The layout of an unpacked bare-metal set. image: in the catalogue, with its kernels. needed: files by exact
    name. trees: folder of the device trees. remembered: the file in which it keeps the last machine, as an id."""

    image: str
    needed: tuple[str, ...]
    trees: str = ""
    remembered: str = ""
    games: str = ""
    machines: tuple[Machine, ...]


Key = Annotated[str, Field(max_length=200)]


class ManifestForm(Record):
    """How a chooser's manifests are written, and which of their keys carries what.

    A key within a key stands behind a dot; '' for what these manifests do not tell. partitions: the list of tables, or
    the table of tables, that the keys from label to grows are looked up in; of INI the beginning of their sections'
    names. size_bytes, unpacked_bytes: of one of their units. ending: of an archive's name, where the manifest leaves it
    off. kinds: its own words for file systems. least_order: the first place in the list. closed: any other key is an
    error.
    """

    grammar: Literal["TOML", "JSON", "INI"] = "TOML"
    name: Key = "name"
    order: Key = "order"
    boards: Key = "boards"
    released: Key = "released"
    partitions: Key = "partitions"
    label: Key = "label"
    kind: Key = "kind"
    size: Key = "mb"
    unpacked: Key = "unpacked_mb"
    archive: Key = "archive"
    sha256: Key = "sha256"
    grows: Key = "grows"
    size_bytes: int = Field(default=1_000_000, gt=0, le=1 << 30)
    unpacked_bytes: int = Field(default=1_000_000, gt=0, le=1 << 30)
    ending: Key = ""
    kinds: Mapping[str, str] = {}
    least_order: int = Field(default=1, ge=0, le=1)
    closed: bool = True


class Chooser(CataloguePart):
    """The layout of a multi-boot stick.

    image: in the catalogue. bundles: folder of the bundles, '' for the stick's top; each holds a manifest and a folder
    of pictures ('' where they lie beside it). about: a second file in the manifest's grammar, '' for none, that tells
    name, place, boards and day where the manifest does not. own_bytes: what the chooser keeps for itself. align_bytes:
    each partition starts on a multiple of it. makes: file systems for partitions. labels_repeat: its systems share
    labels and start all the same. reads: file systems of a stick that it can read. released: of the chooser itself,
    ISO 8601; a newer system may ask for more than it can do. board_names: the words of its manifests for boards of the
    shelf; None where they are the shelf's own.
    """

    form: ManifestForm = ManifestForm()
    board_names: Mapping[str, str] | None = None
    image: str
    reads: tuple[Literal["FAT32", "exFAT", "ext4"], ...] = Field(default=("FAT32",), min_length=1)
    released: str = ""
    bundles: Inside
    manifest: Inside
    about: Inside = ""
    pictures: Inside
    picture_kinds: tuple[str, ...]
    archive_kinds: tuple[str, ...]
    makes: tuple[str, ...] = ("FAT32", "ext4", "swap")
    labels_repeat: bool = False
    own_bytes: int
    align_bytes: int
    most_partitions: int
