"""Compiles a build's boot settings to files in a dialect; every line knows its decision."""

from __future__ import annotations

import difflib
from collections.abc import Mapping
from dataclasses import dataclass, replace

from kyklon.base.secrets import without_secrets
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Display
from kyklon.catalogue.templates import render
from kyklon.catalogue.text_records import Dialect, DialectEntry, DialectFile
from kyklon.model.build import Build
from kyklon.model.card import SETUP_SCRIPT, CardContents
from kyklon.model.fields import describe
from kyklon.model.world import World
from kyklon.operations.boot import first_boot
from kyklon.operations.boot.add_ons import of_build
from kyklon.operations.boot.dialects.codec import Wanted, split_lines
from kyklon.operations.boot.dialects.kinds import codec_of
from kyklon.operations.boot.firmware import RAMDISK, TEST_CARD
from kyklon.operations.boot.firmware import files as binaries
from kyklon.operations.boot.header import overlay_files
from kyklon.operations.boot.placing import KERNEL, TREE, TREE_FOLDER, Placing
from kyklon.operations.picture import exports
from kyklon.operations.picture.names import standard_number
from kyklon.operations.picture.sending import FIRMWARE
from kyklon.operations.picture.video_word import video_size

OUTPUT = "HDMI-A-1"  # the kernel's name of the first HDMI connector (drm)


@dataclass(frozen=True)
class Line:
    """A line of an issued file. path: the decision in the build that put it there, '' for what was there before."""

    text: str
    path: str = ""

    @property
    def label(self) -> str:
        """The decision's name."""
        return describe(Build, self.path).label if self.path else ""


@dataclass(frozen=True)
class IssuedFile:
    """remark: what a remark begins with in it, for the screen."""

    path: str
    lines: tuple[Line, ...]
    remark: str = "#"

    @property
    def text(self) -> str:
        return "".join(f"{line.text}\n" for line in self.lines)


def _variables(build: Build, board: Board, dialect: Dialect, *, firmware: bool) -> dict[str, object]:
    """What the templates of a dialect may name: catalogue.text_records.TEMPLATE_NAMES."""
    timing = build.picture.menu.timing
    across, down = timing.size
    boot = build.boot
    edges = ((boot.inset_left, across), (boot.inset_right, across), (boot.inset_top, down), (boot.inset_bottom, down))
    inset = [round(size * (boot.overscan_percent + own) / 100) for own, size in edges]
    return {
        "build": build,
        "board": board,
        "output": OUTPUT,
        "timing": exports.timing_line(timing),
        "timing_size": video_size(timing),
        "inset": ",".join(map(str, inset)) if any(inset) else "",
        "number": standard_number(timing) if boot.mode_as == "number" else "",
        "overlays": " ".join(boot.overlays),
        "overlay_files": " ".join(f"/{name}" for name in overlay_files(build, dialect)),
        "turn": boot.turn if boot.turn != "0" and "turn" in board.honours else "",
        "firmware": FIRMWARE if firmware else "",
        "ramdisk": RAMDISK if firmware else "",
        "card": TEST_CARD if build.picture.test_card else "",
    }


def wanted_of(
    file: DialectFile, dialect: Dialect, build: Build, board: Board, text: str = "", *, firmware: bool = False
) -> Wanted:
    """What a file of the dialect is to say for this build. text: the file as it is. firmware: identification data goes
    with the boot files."""
    variables = _variables(build, board, dialect, firmware=firmware)
    now = codec_of(file).read(text, board.id)

    def value(entry: DialectEntry) -> str:
        if entry.needs and entry.needs not in board.honours:
            return ""
        where = f"dialects.toml: {dialect.id}: {file.path}: {entry.key}"
        return entry.spelt(render(entry.value, variables, where).strip())

    words = {
        entry.key: value(entry)
        for each in dialect.files
        for entry in each.entries
        if entry.place == "kernel line" and (not entry.needs or entry.needs in board.honours)
    }
    own = [entry for entry in file.entries if entry.place == "file"]
    own = [entry for entry in own if not entry.ours or now.get(entry.key, "").lstrip("/") in ("", RAMDISK)]
    return Wanted(
        board=board.id,
        values={entry.key: value(entry) for entry in own},
        settings={entry.key: entry.setting for entry in own},
        words=(*build.boot.kernel_words, *(f"{key}={word}" for key, word in words.items() if word)),
        without=tuple(f"{key}={OUTPUT}:{FIRMWARE}" for key, word in words.items() if not word),
        services=build.boot.services,
    )


def _where_they_are(wanted: Wanted, now: Mapping[str, str], place: Placing) -> Wanted:
    """With kernel and device tree named where they are on the card; what stands there and fits is left alone. now: what
    the file says."""
    values = dict(wanted.values)
    for key, setting in wanted.settings.items():
        if setting in (KERNEL, TREE) and values.get(key):
            there = place.placed(setting, values[key], now.get(key, ""), now.get(TREE_FOLDER, ""))
            if there is None:
                del values[key]
            else:
                values[key] = there
    return replace(wanted, values=values)


def compiled(
    build: Build, catalogue: Catalogue, on_card: Mapping[str, str], seen: CardContents | None = None
) -> tuple[IssuedFile, ...]:
    """The boot files, merged into those on the card (lower-case path -> text; {} for a card that is not known). seen:
    what else is on it, None where nothing is known. Files that the image's system does not read are left out."""
    board = catalogue.get(Board, build.part("board"))
    dialect = catalogue.get(Dialect, build.boot.dialect)
    image = catalogue.find(Image, build.part("image"))
    firmware = bool(binaries(build, catalogue))
    files = []
    unread = image.unread(dialect) if image is not None else frozenset()
    for file in dialect.files:
        if file.path.lower() in unread:
            continue
        path, codec = dialect.where(file, on_card), codec_of(file)
        old = on_card.get(path.lower(), "")
        wanted = wanted_of(file, dialect, build, board, old, firmware=firmware)
        if seen is not None:
            wanted = _where_they_are(
                wanted, codec.read(old, board.id), Placing(board, dialect, replace(seen, texts=on_card))
            )
        text = codec.compile(old, wanted)
        lines = tuple(Line(line, codec.explain(line, wanted)) for line in text.removesuffix("\n").split("\n"))
        files.append(IssuedFile(path, lines, file.grammar.remark))
    display = catalogue.find(Display, build.part("display"))
    parts = first_boot.parts(build, image, display, of_build(build, catalogue))
    root = seen.root if seen is not None else None
    own = first_boot.on_root(build, image, root, display, of_build(build, catalogue))
    rows = first_boot.decided(build, image, display, of_build(build, catalogue)) if own and image is not None else ()
    return (*files, *_script(build, image, on_card, parts), *(_of_root(file, rows) for file in own))


def _script(
    build: Build, image: Image | None, on_card: Mapping[str, str], parts: tuple[first_boot.Part, ...]
) -> tuple[IssuedFile, ...]:
    """The script of the first start. One of another hand stays; ours that is needed no more does nothing."""
    old = on_card.get(image.first_boot_script.lower(), "") if image and image.first_boot_script else ""
    if image is None or (old and not first_boot.is_ours(old)) or not (parts or old):
        return ()
    head = tuple(Line(text) for text in first_boot.HEAD.removesuffix("\n").split("\n"))
    body = (Line(text, part.path if text else "") for part in parts for text in f"\n{part.text}"[:-1].split("\n"))
    return (IssuedFile(image.first_boot_script, (*head, *body)),)


def _of_root(file: first_boot.RootFile, rows: tuple[first_boot.Part, ...]) -> IssuedFile:
    texts = file.text.removesuffix("\n").split("\n")
    paths = [""] * len(texts)
    for row in rows if file.path == SETUP_SCRIPT else ():
        first = file.text[: file.text.index(row.text)].count("\n")
        count = row.text.count("\n")
        paths[first : first + count] = [row.path] * count
    return IssuedFile(file.path, tuple(Line(text, path) for text, path in zip(texts, paths, strict=True)))


def issue(build: Build, catalogue: Catalogue, world: World) -> dict[str, str | bytes]:
    """The boot files, merged into those on the card, or in the image."""
    on_card = world.card or world.source_contents
    made = compiled(build, catalogue, on_card.texts if on_card else {}, on_card)
    texts = {f"{'root' if file.path[0] == '/' else 'boot/'}{file.path}": file.text for file in made}
    return {**texts, **{f"boot/{name}": data for name, data in binaries(build, catalogue).items()}}


def difference(old: str, new: str, name: str, there: str = "on the card") -> str:
    """A unified difference, '' when there is none; keys and passwords are not in it."""
    lines = list(
        difflib.unified_diff(
            split_lines(without_secrets(old)),
            split_lines(without_secrets(new)),
            f"{name} {there}",
            f"{name} of this build",
            lineterm="",
        )
    )
    if not lines and old != new:
        return f"{name}: a key or a password differs"
    return "\n".join(lines)
