"""Compiles a build's boot settings to files in a dialect; every line knows its decision."""

from __future__ import annotations

import difflib
from collections.abc import Mapping
from dataclasses import dataclass

from jinja2 import Environment, StrictUndefined

from kyklon.boot import text
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Dialect, DialectFile, Encoder
from kyklon.errors import FormatError
from kyklon.model.build import Build
from kyklon.model.timing import Timing
from kyklon.picture import exports

OUTPUT = "HDMI-A-1"  # the kernel's name of the first HDMI connector (drm)
_JINJA = Environment(undefined=StrictUndefined, autoescape=False)


@dataclass(frozen=True)
class Line:
    """A line of an issued file. path: the decision in the build that put it there, '' for what was there before."""

    text: str
    path: str = ""
    label: str = ""


@dataclass(frozen=True)
class IssuedFile:
    path: str
    lines: tuple[Line, ...]

    @property
    def text(self) -> str:
        return "".join(f"{line.text}\n" for line in self.lines)


def encoder_quirk(encoder: Encoder | None) -> str:
    """The usbhid.quirks value an encoder needs: 0xVID:0xPID:0xFLAGS (kernel-parameters), or ''."""
    if encoder is None or not encoder.quirk_flags:
        return ""
    return f"0x{encoder.vendor:04x}:0x{encoder.product:04x}:0x{encoder.quirk_flags:02x}"


def _variables(build: Build, board: Board) -> dict[str, object]:
    timing = build.picture.menu.timing
    across, down = timing.size
    share = build.boot.overscan_percent / 100
    return {
        "build": build,
        "board": board,
        "output": OUTPUT,
        "timing": exports.timing_line(timing),
        "timing_size": exports.video_size(timing),
        "inset": f"{round(across * share)},{round(down * share)}",
    }


def _values(file: DialectFile, build: Build, board: Board) -> dict[str, str]:
    variables = _variables(build, board)
    return {entry.key: _JINJA.from_string(entry.value).render(variables).strip() for entry in file.entries}


def kernel_words(build: Build, board: Board, dialect: Dialect) -> tuple[str, ...]:
    """The words this build wants on the kernel line."""
    wanted = list(build.boot.kernel_words)
    if dialect.id == "extlinux" and "video=" in board.honours:
        wanted.append(exports.video_word(build.picture.menu.timing, OUTPUT, force=build.boot.force_output))
    return tuple(wanted)


def issue(build: Build, catalogue: Catalogue, on_card: Mapping[str, str]) -> tuple[IssuedFile, ...]:
    """The boot files, merged into those on the card (lower-case path -> text; {} for a card that is not known)."""
    board = catalogue.get(Board, build.part("board"))
    dialect = catalogue.get(Dialect, build.boot.dialect)
    return tuple(_issue_file(file, build, board, dialect, on_card.get(file.path.lower(), "")) for file in dialect.files)


def _issue_file(file: DialectFile, build: Build, board: Board, dialect: Dialect, old: str) -> IssuedFile:
    values = _values(file, build, board)
    words = kernel_words(build, board, dialect)
    decisions = {entry.key: (entry.setting, entry.label) for entry in file.entries}
    if file.kind == "keys":
        merged = text.set_keys(old, values, board.id)
        return IssuedFile(file.path, tuple(_told(line, values, decisions) for line in merged.splitlines()))
    if file.kind == "lines":
        return IssuedFile(
            file.path, tuple(Line(name, "boot.services", "Service order") for name in build.boot.services)
        )
    if file.kind == "words":
        line = text.set_words(old.replace("\n", " "), words)
        return IssuedFile(file.path, (Line(line, "boot.kernel_words" if words else "", "Kernel line words"),))
    entry_values = {key: value for key, value in values.items() if key.isupper()}
    merged = text.set_entry(old, entry_values, words)
    return IssuedFile(file.path, tuple(_told_entry(line, entry_values, decisions) for line in merged.splitlines()))


def _told(line: str, values: Mapping[str, str], decisions: Mapping[str, tuple[str, str]]) -> Line:
    key = line.partition("=")[0].strip()
    if key in values and line == f"{key}={values[key]}":
        return Line(line, *decisions[key])
    return Line(line)


def _told_entry(line: str, values: Mapping[str, str], decisions: Mapping[str, tuple[str, str]]) -> Line:
    keyword, _, value = line.strip().partition(" ")
    if keyword == "APPEND":
        return Line(line, "boot.kernel_words", "Kernel line words")
    if values.get(keyword) == value:
        return Line(line, *decisions[keyword])
    return Line(line)


def difference(old: str, new: str, name: str) -> str:
    """A unified difference, '' when there is none."""
    lines = difflib.unified_diff(
        old.splitlines(), new.splitlines(), f"{name} on the card", f"{name} of this build", lineterm=""
    )
    return "\n".join(lines)


# --- reading a card back -------------------------------------------------------------------------------------


@dataclass(frozen=True)
class CardSettings:
    """What the bytes on the card tell the machine to do. kernel_file, tree: '' when the firmware chooses itself.

    timing is None when none is set, timing_error says why one that is set cannot be read."""

    boot_file: str
    kernel_file: str
    tree: str
    timing: Timing | None
    timing_error: str
    forced: bool
    kernel_line: str
    line_breaks: int
    services: tuple[str, ...]
    user: str


def read_settings(dialect: Dialect, board: Board, texts: Mapping[str, str]) -> CardSettings | None:
    """The settings on a card, or None when its boot file is not there."""
    main = dialect.files[0]
    raw = texts.get(main.path.lower())
    if raw is None:
        return None
    services_file, words_file = dialect.file("lines"), dialect.file("words")
    services = texts.get(services_file.path.lower(), "") if services_file else ""
    line = texts.get(words_file.path.lower(), "") if words_file else ""
    if main.kind == "extlinux":
        entry = text.default_entry(raw)
        keys = dict(entry.values) if entry else {}
        line = keys.get("APPEND", "")
    else:
        keys = text.effective(raw, board.id)
    by_setting = {entry.setting: keys.get(entry.key, "") for entry in main.entries}
    timing, error = _read_timing(by_setting.get("picture.menu", "") if main.kind == "keys" else "")
    first_boot = text.effective(texts.get("first-boot.cfg", ""), board.id)
    return CardSettings(
        boot_file=main.path,
        kernel_file=by_setting.get("boot.kernel", "").lstrip("/"),
        tree=by_setting.get("boot.device_tree", "").lstrip("/"),
        timing=timing,
        timing_error=error,
        forced=by_setting.get("boot.force_output") == "on"
        or any("D" in v for v in text.word_values(line, "video")[:1]),
        kernel_line=line.strip(),
        line_breaks=line.strip().count("\n"),
        services=tuple(name.strip() for name in services.splitlines() if name.strip() and name[0] != "#"),
        user=first_boot.get("user.name", ""),
    )


def _read_timing(value: str) -> tuple[Timing | None, str]:
    if not value:
        return None, ""
    try:
        return exports.parse_timing_line(value), ""
    except FormatError as bad:
        return None, str(bad)
