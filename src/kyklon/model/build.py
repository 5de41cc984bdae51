"""One build: all that the user decided. Nothing derived is stored here."""

from __future__ import annotations

from enum import StrEnum
from fractions import Fraction
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Field, StringConstraints, ValidationError

from kyklon.model.assembly import AssemblySettings
from kyklon.model.controls import ControlSettings
from kyklon.model.described import described
from kyklon.model.fault import FaultCase
from kyklon.model.fields import describe
from kyklon.model.findings import Change, Remedy
from kyklon.model.library import ListFile, ListScheme, Route
from kyklon.model.plan import PlanSettings
from kyklon.model.record import Record
from kyklon.model.system import SystemSetup
from kyklon.model.timing import Mode
from kyklon.model.upkeep import UpkeepSettings

MOST_EVENTS = 200  # kept of a card; the logbook keeps all
VERSION = 7  # of build.json; record.folder migrates older ones


class Part(Record):
    """A part of the catalogue in its role in this build; roles are unique."""

    role: str
    part: str


class Link(Record):
    """A cable between two ports, each written role.port; cable is a part id of the catalogue. further: more pieces in
    series after it, towards the end. needs_m: how far the two are apart along the cable, 0 where nobody said."""

    start: str
    end: str
    cable: str
    further: tuple[str, ...] = ()
    needs_m: float = Field(default=0.0, ge=0, le=100)

    @property
    def ends(self) -> tuple[str, str]:
        return (self.start, self.end)

    @property
    def pieces(self) -> tuple[str, ...]:
        """The ids of all its pieces, in order from the start."""
        return (self.cable, *self.further)


class Source(Record):
    """The image file: a path relative to the build folder or absolute, and the checksum its maker states."""

    path: str = described("Image file", "")
    sha256: str | None = Field(default=None, title="Checksum", pattern=r"^[0-9a-f]{64}$")


class CardState(StrEnum):
    NEVER = "never written"
    WRITING = "being written"
    CANCELLED = "cancelled half-way"
    FAILED = "failed half-way"
    UNPROVEN = "written, not read back"
    PROVEN = "written and read back"


class CardRecord(Record):
    """What was last done to the card. `drive` is the identity given by the interlock.

    verdict and sentence: what the write said of the card itself (good, slow, worn, counterfeit, …).
    """

    drive: str = ""
    state: CardState = CardState.NEVER
    image_sha256: str = ""
    bytes_written: int = 0
    at: str = ""
    boot_files_at: str = ""
    verdict: str = ""
    sentence: str = ""

    @property
    def bootable(self) -> bool:
        return self.state in (CardState.UNPROVEN, CardState.PROVEN)


class CardEvent(Record):
    """Something that happened to a card. rate in bytes per second while writing, read_rate while it was read back; 0
    when nothing was measured."""

    at: str
    what: str
    detail: str = ""
    verdict: str = ""
    rate: float = Field(default=0.0, ge=0)
    read_rate: float = Field(default=0.0, ge=0)


class KnownCard(Record):
    """A card of this build with a name to write on it, and its history, oldest first. size in bytes."""

    identity: str
    name: str = Field(min_length=1, max_length=40)
    size: int = 0
    events: tuple[CardEvent, ...] = ()

    @property
    def last_rate(self) -> float:
        """Bytes per second of the last write that was measured, 0 for none."""
        return next((event.rate for event in reversed(self.events) if event.rate), 0.0)

    @property
    def last_read_rate(self) -> float:
        """The same of the last reading back."""
        return next((event.read_rate for event in reversed(self.events) if event.read_rate), 0.0)


class TriedSystem(Record):
    """What was seen of a system of a multi-boot card.

    bundle: its folder. kernel: what `uname -srm` says there, '' where nobody asked. returned: to the chooser's list.
    released: of the bundle that was tried. at: the day, ISO 8601.
    """

    bundle: str = Field(max_length=200)
    started: bool
    kernel: str = Field(default="", max_length=200)
    returned: bool = False
    released: str = Field(default="", max_length=40)
    at: str = Field(default="", max_length=40)


class FileSets(Record):
    """Unpacked sets for a bare-metal card and bundles for a multi-boot one: paths as in Source. chosen: folders of
    the bundles that go on, in order. tried: what was seen of them on the machine."""

    bare_metal: str = described("Bare-metal set", "")
    multi_boot: str = described("Multi-boot bundles", "")
    chosen: tuple[str, ...] = described("Chosen systems", ())
    tried: tuple[TriedSystem, ...] = described("Tried systems", ())


MachineSound = Annotated[str, StringConstraints(pattern=r"^[a-z0-9-]+:(analogue|digital|none)$")]


class BootSettings(Record):
    """The canonical boot settings, compiled to a dialect. Sizes in MB (10^6 bytes), overscan in % of an edge."""

    dialect: str = described("Boot file format")
    kernel: str = described("Kernel")
    device_tree: str = described("Device tree")
    force_output: bool = described("Forced output", True)
    mode_as: Literal["timing", "number"] = described(
        "Mode given as", "timing", choices=(("timing", "its own timing"), ("number", "a standard's number"))
    )
    link: Literal["auto", "hdmi", "dvi"] = described(
        "Link", "auto", choices=(("auto", "as the display says"), ("hdmi", "HDMI"), ("dvi", "DVI, without sound"))
    )
    ignore_identification: bool = described("Ignore EDID", False)
    signal_strength: int = described("HDMI drive strength", 5, ge=0, le=10)
    overscan_percent: float = described("Overscan", 0.0, unit="%", ge=0, le=20)
    inset_left: float = described("Overscan left", 0.0, unit="%", ge=0, le=20)
    inset_right: float = described("Overscan right", 0.0, unit="%", ge=0, le=20)
    inset_top: float = described("Overscan top", 0.0, unit="%", ge=0, le=20)
    inset_bottom: float = described("Overscan bottom", 0.0, unit="%", ge=0, le=20)
    frame_size: str = described("Frame size", "", pattern=r"^([1-9]\d{1,3}x[1-9]\d{1,3})?$", hint="640x480")
    turn: Literal["0", "90", "180", "270"] = described(
        "Turned", "0", choices=(("0", "upright"), ("90", "90° right"), ("180", "upside down"), ("270", "90° left"))
    )
    safe_start: bool = described("Safe start", False)
    sound: Literal["analogue", "digital", "none"] = described("Audio output", "analogue")
    machine_sound: tuple[MachineSound, ...] = described("Sound per machine", (), hint="elm-s:analogue")
    video_memory_mb: int = described(
        "GPU memory",
        256,
        unit="MB",
        ge=16,
        le=1024,
        choices=tuple((mb, f"{mb}\u202fMB") for mb in (64, 128, 256, 512)),
    )
    processor_mhz: int = described("CPU clock", 0, unit="MHz", ge=0, le=4000, hint="the board's own")
    overlays: tuple[str, ...] = described("On the GPIO header", (), hint="fan-switch:pin=36")  # controls/extras.py
    kernel_words: tuple[str, ...] = described("Extra kernel parameters", (), hint="quiet loglevel=3")
    user: str = described("User", "player", pattern=r"^[a-z_][a-z0-9_-]{0,31}$", hint="player")
    country: str = described("Wi-Fi country", "", pattern=r"^([A-Z]{2})?$", hint="GB")
    hostname: str = described("Hostname", "games", pattern=r"^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$", hint="games")
    services: tuple[str, ...] = described("Service order", ())


class SystemMode(Record):
    system: str
    mode: Mode


class Adjustment(Record):
    """How far the picture of a mode was moved on one display, right and down, in pixels and lines of that size.
    squeeze: width to height of a circle as it was measured there, 1 for a round one."""

    display: str
    size: tuple[int, int]
    right: int = Field(default=0, ge=-4096, le=4096)
    down: int = Field(default=0, ge=-4096, le=4096)
    squeeze: float = Field(default=1.0, gt=0.2, lt=5)


def _rate(text: str) -> str:
    if text.rpartition("/")[2].strip("0") == "" or not 1 <= Fraction(text) <= 1000:
        raise ValueError("a refresh is from 1 to 1000 Hz")
    return text


class GameRaster(Record):
    """A game whose picture is not that of its system. game: system/title. refresh: Hz, decimal or fraction."""

    game: str
    width: int = Field(gt=0, le=8192)
    height: int = Field(gt=0, le=8192)
    refresh: Annotated[str, Field(pattern=r"^\d{1,9}([./]\d{1,9})?$"), AfterValidator(_rate)]


School = Literal["own modes", "wide mode", "scaled"]
STANDS = ("turned with the game", "upright", "on its side")


class PictureSettings(Record):
    """school: own modes / wide mode / fixed mode with scaling. menu is the mode from power-on to the first game.

    stand: how the display stands to the games. display_on: switched on with the machine, or by hand once the menu's
    mode holds. most_modes: of the smallest set, 0 for as many as systems ask for. wishes: weight of a system in it."""

    school: School = "own modes"
    stand: Literal["turned with the game", "upright", "on its side"] = described(
        "Display stands", "turned with the game", choices=tuple((each, each) for each in STANDS)
    )
    display_on: Literal["with the machine", "once the mode holds"] = described(
        "Display power",
        "with the machine",
        choices=(("with the machine", "with the machine"), ("once the mode holds", "by hand, once the mode holds")),
    )
    most_modes: int = described("Maximum modes", 0, ge=0, le=64)
    wishes: dict[str, Annotated[float, Field(gt=0, le=1000)]] = {}
    games: tuple[GameRaster, ...] = described("Games with their own picture mode", ())
    adjustments: tuple[Adjustment, ...] = described("Adjustments", ())
    test_card: bool = described("Test pattern during boot", False)
    menu: Mode = described("Menu mode")
    systems: tuple[SystemMode, ...] = described("System modes", ())
    identification: str = described("EDID", "")  # path of the display's own
    issue_identification: bool = described("Own EDID file", False)  # handed to the kernel as firmware


class RightName(Record):
    """Put the system file found under `found` (path in the library folder) on the machine as `name`."""

    system: str
    found: str
    name: str


class LibrarySettings(Record):
    folder: str = described("Library folder", "")
    destination: str = described("Destination", "")
    regions: tuple[str, ...] = described("Region priority", ("Europe", "World", "America", "Japan"))
    languages: tuple[str, ...] = described("Language priority", ())
    keep_all_revisions: bool = described("All versions of a game", False)
    right_names: tuple[RightName, ...] = described("Firmware file on the machine", ())
    lists: tuple[ListFile, ...] = described("Lists of games", ())
    schemes: tuple[ListScheme, ...] = described("List formats", ())
    wrong_per_1000: float = described("False matches per 1000", 3.0, ge=0.1, le=200)
    pictures: str = described("Cover pictures", "")
    texts: str = described("Descriptions", "")
    plays: str = described("Play counts", "")
    must: tuple[str, ...] = described("Always include", ())
    never: tuple[str, ...] = described("Never include", ())
    favourites: tuple[str, ...] = described("Favourites", ())
    room_bytes: int = described("Space for games", 0, unit="B", ge=0)
    save_bytes: int = described("Space for saves, per game", 65_536, unit="B", ge=0)
    route: Route = described(
        "Transfer method", "folder", choices=(("folder", "stick, share or card"), ("secure copy", "secure copy"))
    )
    host: str = described("Machine's address", "", pattern=r"^[A-Za-z0-9.:_-]{0,253}$", hint="games.local")
    port: int = described("Port", 22, ge=1, le=65535)
    account: str = described("User on the machine", "player", pattern=r"^[a-z_][a-z0-9_-]{0,31}$", hint="player")
    key_file: str = described("Key file", "")
    host_key: str = described("Host key", "")
    remote_folder: str = described("Folder on the machine", "", hint="/home/player")
    lists_made: tuple[str, ...] = described("Game lists for the front end", ())


Value = bool | int | float | str


class CameraClip(Record):
    """Presses that were filmed: pictures from the one in which the switch closes to the one in which the glass answers,
    at so many pictures a second. values: of the settings then, that the film belongs to."""

    system: str
    per_second: float = Field(ge=24, le=2000)
    counts: tuple[Annotated[int, Field(ge=0, le=2000)], ...] = Field(min_length=1, max_length=500)
    at: str = ""


class FrameCost(Record):
    """What a frame took on a board, as the machine's own log told: mean and 99th percentile, ms at that clock."""

    board: str
    emulator: str
    mhz: float = Field(gt=0, le=100_000)
    mean_ms: float = Field(gt=0, le=1000)
    most_ms: float = Field(gt=0, le=5000)
    frames: int = Field(default=0, ge=0)


class TuningLayers(Record):
    """Settings by layer; a later layer wins: front end, emulator, system, folder (system/folder), game (system/title).
    clips: what a camera saw. costs: what frames took."""

    front_end: dict[str, Value] = {}
    emulators: dict[str, dict[str, Value]] = {}
    systems: dict[str, dict[str, Value]] = {}
    folders: dict[str, dict[str, Value]] = {}
    games: dict[str, dict[str, Value]] = {}
    clips: tuple[CameraClip, ...] = ()
    costs: tuple[FrameCost, ...] = ()


class Tick(Record):
    """A first-boot check signed off."""

    item: str
    at: str


class StageSeconds(Record):
    """How long a stage of the start took on a board, as its own log told."""

    board: str
    stage: str
    seconds: float = Field(ge=0, le=3600)


class PartCopy(Record):
    """A part of its user's own that the build uses, as it was when it was chosen. kind and id as in the catalogue, row:
    its values as a catalogue file holds them."""

    kind: str
    id: str
    row: dict[str, Any]

    @property
    def key(self) -> str:
        return f"{self.kind}/{self.id}"


class SignOff(Record):
    operation: int
    at: str
    inputs: str  # fingerprint of what the operation depends on; a different one makes the sign-off stale


class Build(Record):
    """The whole build, as saved in build.json."""

    format: Literal["kyklon-build"] = "kyklon-build"
    version: Literal[7] = 7
    name: str = Field(min_length=1)
    kind: str
    systems: tuple[str, ...]
    plan: PlanSettings = PlanSettings()
    parts: tuple[Part, ...] = described("Parts")
    links: tuple[Link, ...] = described("Cables")
    source: Source = Source()
    card: CardRecord = CardRecord()
    cards: tuple[KnownCard, ...] = ()
    medium: Literal["card", "disk"] = described(
        "Starts from", "card", choices=(("card", "from a card"), ("disk", "from a disk on USB"))
    )
    sets: FileSets = FileSets()
    boot: BootSettings
    system: SystemSetup = SystemSetup()
    picture: PictureSettings
    controls: ControlSettings
    library: LibrarySettings = LibrarySettings()
    tuning: TuningLayers = TuningLayers()
    assembly: AssemblySettings = AssemblySettings()
    upkeep: UpkeepSettings = UpkeepSettings()
    ticks: tuple[Tick, ...] = ()
    fault: FaultCase = FaultCase()
    measured: tuple[StageSeconds, ...] = described("Measured stage times", ())
    sign_offs: tuple[SignOff, ...] = ()
    copies: tuple[PartCopy, ...] = described("Own parts", ())

    @property
    def unkept_since(self) -> str:
        """Since when saves of this build's card were not kept, '' where none can be lost: it was never played on, or
        they were kept after it was written."""
        played = bool(self.ticks or self.upkeep.looked_at)
        return self.card.at if played and self.card.bootable and self.upkeep.saves_at < self.card.at else ""

    def part(self, role: str) -> str | None:
        """Catalogue id of the part in that role, or None."""
        return next((part.part for part in self.parts if part.role == role), None)

    def with_part(self, role: str, part: str) -> Build:
        """A Build with another part in that role (added when the role is new)."""
        if self.part(role) is None:
            parts = (*self.parts, Part(role=role, part=part))
        else:
            parts = tuple(Part(role=p.role, part=part if p.role == role else p.part) for p in self.parts)
        return edited(self, "parts", parts)

    def known_card(self, identity: str) -> KnownCard | None:
        return next((card for card in self.cards if card.identity == identity), None)

    def with_event(self, identity: str, size: int, event: CardEvent) -> Build:
        """A Build that remembers what happened to a card; a card seen first gets a name."""
        known = self.known_card(identity)
        if known is None:
            known = KnownCard(identity=identity, name=f"Card {len(self.cards) + 1}", size=size)
        if event in known.events:  # read back from disk already
            return self
        fresh = known.model_copy(update={"events": (*known.events, event)[-MOST_EVENTS:], "size": size or known.size})
        places = [card.identity for card in self.cards]
        cards = list(self.cards)
        if identity in places:
            cards[places.index(identity)] = fresh
        else:
            cards.append(fresh)
        return self.model_copy(update={"cards": tuple(cards)})

    def system_mode(self, system: str) -> Mode:
        """The mode chosen for a system; the menu's where none was chosen."""
        return next((choice.mode for choice in self.picture.systems if choice.system == system), self.picture.menu)


def edited(build: Build, path: str, value: Any) -> Build:
    """A new, validated Build with the value at a dotted path of field names replaced.

    Raises ValueError in words for a value that cannot be, KeyError for a path that is none.
    """
    data = build.model_dump()
    names = path.split(".")
    place = data
    for name in names[:-1]:
        place = place[name]
    if names[-1] not in place:
        raise KeyError(f"a build has no {path}")
    place[names[-1]] = _plain(value)
    try:
        return Build.model_validate(data)
    except ValidationError as bad:
        raise ValueError(_in_words(path, value, bad)) from bad


def _in_words(path: str, value: Any, bad: ValidationError) -> str:
    """What is wrong with a value, as the screen says it."""
    first = bad.errors()[0]
    try:
        field = describe(Build, path)
    except KeyError:
        return f"{path}: {first['msg']}"
    if first["type"] == "value_error":
        return str(first["ctx"]["error"])
    if first["type"] == "string_pattern_mismatch":
        shown = f"“{str(first['input'])[:40]}”"
        return f"{field.label} cannot be {shown}" + (f"; write it as {field.hint}" if field.hint else "")
    return f"{field.label}: {first['msg'][:1].lower()}{first['msg'][1:]}"


def _plain(value: Any) -> Any:
    """Records, alone or in a row, as plain data."""
    if isinstance(value, Record):
        return value.model_dump()
    return [_plain(each) for each in value] if isinstance(value, (tuple, list)) else value


def change_of(path: str, value: Any, before: str, after: str) -> Change:
    """A change of one field, under the field's own name."""
    return Change(path=path, value=value, label=describe(Build, path).label, before=before, after=after)


def remedied(build: Build, remedy: Remedy) -> Build:
    """The Build after a remedy's changes."""
    for change in remedy.changes:
        build = edited(build, change.path, change.value)
    return build
