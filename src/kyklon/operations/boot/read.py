"""Reads the boot files of a card back into settings."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from kyklon.base.errors import FormatError, WrongUse
from kyklon.catalogue.records import Board
from kyklon.catalogue.text_records import Dialect
from kyklon.model.kernel_line import word_values
from kyklon.model.timing import Timing
from kyklon.operations.boot.dialects.codec import VOID, WAITS, Works
from kyklon.operations.boot.dialects.kinds import codec_of
from kyklon.operations.boot.dialects.lines_file import SERVICES
from kyklon.operations.boot.dialects.settings_file import SettingsFile
from kyklon.operations.boot.dialects.words_file import LINE
from kyklon.operations.boot.placing import TREE_FOLDER
from kyklon.operations.picture import exports, names


@dataclass(frozen=True)
class CardSettings:
    """What the bytes on the card tell the machine to do. kernel_file, tree: '' when the firmware chooses itself.

    sound, hostname, user, country: '' when the card does not say. void: why the firmware takes nothing from the file.
    waits: a menu waits for a key. values: every setting as it is written, by its path. initramfs: '' for none.
    append_length: of a label's kernel line as written. recognised: whether the boot file names its format. timing is
    None when none is set, timing_error says why one that is set cannot be read. tree_folder: where the loader looks
    for the board's own tree by itself, '' for none."""

    boot_file: str
    recognised: bool
    kernel_file: str
    tree: str
    timing: Timing | None
    timing_error: str
    forced: bool
    kernel_line: str
    line_breaks: int
    services: tuple[str, ...]
    user: str
    sound: str = ""
    hostname: str = ""
    void: str = ""
    waits: bool = False
    initramfs: str = ""
    append_length: int = 0
    country: str = ""
    values: Mapping[str, str] = field(default_factory=dict)
    tree_folder: str = ""


def read_settings(
    dialect: Dialect, board: Board, texts: Mapping[str, str], works: Works | None = None
) -> CardSettings | None:
    """The settings on a card, or None when its boot file is not there. works: as for Codec.read."""
    main = dialect.files[0]
    raw = texts.get(main.path.lower())
    if raw is None:
        return None
    settings: dict[str, str] = {}
    line, services, main_found = "", "", None
    for file in dialect.files:
        text = cut(texts.get(file.path.lower(), ""), 0 if file.kind == "extlinux" else dialect.longest_of(file))
        found = codec_of(file).read(text, board.id, works)
        main_found = found if main_found is None else main_found
        settings |= {
            entry.setting: entry.meant(found.get(entry.key, "")) for entry in file.entries if entry.place == "file"
        }
        line, services = found.get(LINE, line), found.get(SERVICES, services)
    codec = codec_of(main)
    timing, error = _read_timing(settings.get("picture.menu", ""), settings.get("boot.mode_as", ""))
    return CardSettings(
        boot_file=main.path,
        recognised=not isinstance(codec, SettingsFile) or codec.recognised(raw),
        kernel_file=settings.get("boot.kernel", "").lstrip("/"),
        tree=settings.get("boot.device_tree", "").lstrip("/"),
        timing=timing,
        timing_error=error,
        forced=settings.get("boot.force_output") == "on" or any("D" in each for each in word_values(line, "video")[:1]),
        kernel_line=line.rstrip(),
        line_breaks=line.rstrip().count("\n"),
        services=tuple(name for name in services.split("\n") if name),
        user=settings.get("boot.user", ""),
        sound=settings.get("boot.sound", ""),
        hostname=settings.get("boot.hostname", ""),
        country=settings.get("boot.country", ""),
        void=(main_found or {}).get(VOID, ""),
        waits=WAITS in (main_found or {}),
        initramfs=(main_found or {}).get("INITRD", "") or settings.get("picture.issue_identification", "").lstrip("/"),
        append_length=len((main_found or {}).get("APPEND", "")),
        values=settings,
        tree_folder=(main_found or {}).get(TREE_FOLDER, ""),
    )


def cut(text: str, longest: int) -> str:
    """A text as a firmware reads it that takes no more than `longest` characters of a line; 0: all."""
    return "\n".join(line[:longest] for line in text.split("\n")) if longest else text


def _read_timing(value: str, number: str) -> tuple[Timing | None, str]:
    """A whole timing goes before a standard's number."""
    try:
        if value:
            return exports.parse_timing_line(value), ""
        if number:
            table, _, row = number.partition(" ")
            if table not in ("cta", "dmt"):
                return None, f"{number!r} names no table of modes: cta or dmt."
            return names.standard(table, row), ""
    except (FormatError, WrongUse) as bad:
        return None, str(bad)
    return None, ""
