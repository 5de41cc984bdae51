"""What is done with a plan: a new build is started, the parts list issued."""

from __future__ import annotations

import re
from pathlib import Path

from kyklon.base.errors import BuildFolderError, CatalogueError
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue, standard_timings
from kyklon.catalogue.records import Board, Card, Display, Encoder, Supply
from kyklon.catalogue.system_records import Panel, System
from kyklon.model.build import BootSettings, Build, Part, PictureSettings, edited
from kyklon.model.controls import ControlSettings, Hotkey
from kyklon.model.timing import Mode
from kyklon.operations.controls.acts import wired, with_encoder, with_safest_hotkeys
from kyklon.operations.picture.findings import menu_mode
from kyklon.operations.picture.ranges import carried
from kyklon.operations.plan.connections import connect
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook

HOTKEYS = (  # CP: select held, with start to leave, the near button to reset, the shoulders to save and load
    Hotkey(action="leave", control="start"),
    Hotkey(action="reset", control="b1"),
    Hotkey(action="save", control="b3"),
    Hotkey(action="load", control="b6"),
)
KIND = "Console · one player · flat panel"


def fresh_build(name: str, catalogue: Catalogue) -> Build:
    """A small console with a flat panel, for its owner to change. Raises CatalogueError for an empty catalogue."""
    image = catalogue.all(Image)[0]
    board = next((each for each in catalogue.all(Board) if each.id in image.boards and len(each.ports) > 4), None)
    display = next((each for each in catalogue.all(Display) if not each.tube), None)
    panel = next((each for each in catalogue.all(Panel) if each.players == 1), None)
    encoder = next((each for each in catalogue.all(Encoder) if each.players == 1), None)
    supply = max(catalogue.all(Supply), key=lambda each: each.amps)
    if board is None or display is None or panel is None or encoder is None:
        raise CatalogueError("The catalogue has no board, flat display, panel or encoder to start with.")
    native = [kernel.file for kernel in image.kernels if kernel.instruction_set == board.native_set]
    vga = Mode(name="CTA 1", timing=standard_timings("cta")[1].timing)
    mode = menu_mode(display, carried(board, display=display), display.ranges) or vga
    build = Build(
        name=name,
        kind=KIND,
        systems=tuple(system.id for system in catalogue.all(System) if not system.vertical),
        parts=tuple(
            Part(role=role, part=part)
            for role, part in (
                ("board", board.id),
                ("supply", supply.id),
                ("card", catalogue.all(Card)[1].id),
                ("display", display.id),
                ("encoder", encoder.id),
                ("image", image.id),
            )
        ),
        links=(),
        boot=BootSettings(
            dialect=board.dialects[0],
            kernel=native[0] if native else "",
            device_tree=board.device_tree,
            user=image.default_user,
            services=image.services,
            sound="digital",
        ),
        picture=PictureSettings(school="scaled", menu=mode),
        controls=ControlSettings(
            panel=panel.id,
            hotkeys=HOTKEYS,
        ),
    )
    return with_safest_hotkeys(wired(edited(build, "links", connect(build, catalogue)), catalogue), catalogue)


ROLES = {  # kinds of part that a build has one of, and its role
    "boards": "board",
    "supplies": "supply",
    "cards": "card",
    "displays": "display",
    "adapters": "adapter",
    "encoders": "encoder",
    "images": "image",
    "disks": "disk",
    "bridges": "bridge",
    "keyboards": "keyboard",
}


def is_usable(kind: str) -> bool:
    """Whether a part of this kind is put into a build as one; the others are chosen where they are needed."""
    return kind in ROLES or kind in _ELSEWHERE


_ELSEWHERE = {"systems": "", "add_ons": "", "dialects": "boot.dialect", "panels": "controls.panel"}


def with_part_used(build: Build, kind: str, part_id: str, catalogue: Catalogue, role: str = "") -> Build:
    """A Build that uses a part of the shelf: in its role, wired anew where nothing fits any more; a system is added.

    role: where a build may have several of a kind, such as encoder-2; '' for the first. Raises ValueError for a kind
    that is chosen elsewhere, or a role of another kind.
    """
    if kind == "systems":
        return edited(build, "systems", (*build.systems, part_id)) if part_id not in build.systems else build
    if kind == "add_ons":
        have = build.system.add_ons
        return edited(build, "system.add_ons", (*have, part_id)) if part_id not in have else build
    if kind == "dialects":
        return edited(build, "boot.dialect", part_id)
    if kind == "panels":
        return wired(edited(build, "controls.panel", part_id), catalogue)
    made = build.with_part(_role_of(kind, role), part_id)
    made = edited(made, "links", connect(made, catalogue))
    if kind == "displays":  # the data of another display say nothing of this one
        made = edited(made, "picture.identification", "")
    if kind == "keyboards":
        made = edited(made, "controls.keyboard.layout", part_id)
    if kind in ("boards", "images"):
        made = _boot_fitted(made, catalogue, image_changed=kind == "images")
    return wired(made, catalogue) if kind == "encoders" else made


def without_part(build: Build, kind: str, part_id: str, catalogue: Catalogue, role: str = "") -> Build:
    """A Build without a part, its cables pulled. Raises ValueError where it is not in it or cannot be left out."""
    if kind == "systems":
        if part_id not in build.systems or len(build.systems) == 1:
            raise ValueError(f"{part_id} is not in this build" if part_id not in build.systems else _ONE_SYSTEM)
        return edited(build, "systems", tuple(system for system in build.systems if system != part_id))
    if kind == "add_ons":
        if part_id not in build.system.add_ons:
            raise ValueError(f"{part_id} is not in this build")
        return edited(build, "system.add_ons", tuple(each for each in build.system.add_ons if each != part_id))
    if kind == "panels":
        if build.controls.panel != part_id:
            raise ValueError(f"{part_id} is not in this build")
        return edited(build, "controls.panel", "")
    wanted = _role_of(kind, role) if role else None
    gone = [part for part in build.parts if part.part == part_id and wanted in (None, part.role)]
    if not gone:
        raise ValueError(f"{part_id} is not in this build")
    if kind in ("boards", "images"):
        raise ValueError(f"A build needs {'a board' if kind == 'boards' else 'an image'}; use another one instead")
    roles = {part.role for part in gone}
    if kind == "keyboards" and build.controls.keyboard.layout == part_id:
        build = edited(build, "controls.keyboard.layout", "")
    made = edited(build, "parts", tuple(part for part in build.parts if part.role not in roles))
    rest = tuple(link for link in made.links if not roles & {_part_of(link.start), _part_of(link.end)})
    made = edited(made, "links", rest)
    return edited(made, "links", connect(made, catalogue))


_ONE_SYSTEM = "A build needs at least one system"


def _part_of(socket: str) -> str:
    return socket.partition(".")[0]


def _role_of(kind: str, role: str) -> str:
    if kind not in ROLES:
        raise ValueError(f"A part of {kind} is chosen where it is needed")
    own = ROLES[kind]
    if role and role != own and not re.fullmatch(rf"{own}-[2-9]", role):
        raise ValueError(f"{role!r} is no role for one of {kind}; write {own} or {own}-2")
    return role or own


def with_another_encoder(build: Build, encoder_id: str, catalogue: Catalogue) -> Build:
    """With one encoder more, plugged in where a socket is free. Raises ValueError where there are eight."""
    made = with_encoder(build, encoder_id, catalogue)
    return edited(made, "links", connect(made, catalogue))


def _boot_fitted(build: Build, catalogue: Catalogue, *, image_changed: bool) -> Build:
    """With the boot settings that follow from the board and the image: dialect, device tree, kernel, user, services."""
    board, image = catalogue.find(Board, build.part("board")), catalogue.find(Image, build.part("image"))
    made = build
    if board is not None and made.boot.dialect not in board.dialects and board.dialects:
        made = edited(made, "boot.dialect", board.dialects[0])
    if board is not None and board.device_tree:
        made = edited(made, "boot.device_tree", board.device_tree)
    if board is not None and image is not None:
        fitting = [kernel.file for kernel in image.kernels if kernel.instruction_set in (board.native_set, *board.runs)]
        if fitting and made.boot.kernel not in fitting:
            made = edited(made, "boot.kernel", fitting[0])
    if image is not None and image_changed:
        made = edited(made, "boot.user", image.default_user)
        made = edited(made, "boot.services", image.services)
    return made


def start_build(folder: Path, name: str, catalogue: Catalogue) -> Path:
    """A new build folder. Only an empty or missing folder is taken."""
    return keep_new(folder, fresh_build(name, catalogue))


def keep_new(folder: Path, build: Build) -> Path:
    """Save a new build. Only an empty or missing folder is taken. Raises BuildFolderError."""
    try:
        if folder.exists() and any(folder.iterdir()):
            raise BuildFolderError(f"{folder} is not empty.", do="Choose an empty folder; nothing was changed.")
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as bad:
        raise BuildFolderError(f"{folder} cannot be made: {bad.strerror}.", do="Choose another folder.") from bad
    store.save(folder, build)
    Logbook(folder).add(0, "Build started", build.name)
    return folder
