"""Kinds of the catalogue that say how files are written: dialects of boot files, templates, settings of emulators."""

from __future__ import annotations

from collections.abc import Container
from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from kyklon.catalogue.records import Board, CataloguePart, Fixed, Inside, NotNegative
from kyklon.model.record import Record


class Grammar(Record):
    """How a settings file is written. separator: between a word and its value; a blank for any blanks. remark: what a
    remark begins with; remark_behind: one may follow a value. prefix: the word before each word. ending: what stands
    behind each value. quote: what a value may stand in; quote_always: new ones do, else only those with blanks.
    joint: the separator with the blanks that are written round it, '' for one at each side. section: the line that
    begins one, with {section} where its name stands, '' where there are none; a word is then known as section/word;
    close: the line that ends a section, '' for none. kernel_line: the word whose value is the kernel line. bound: how
    a line is bound to boards, with {boards} where their ids stand, '' where a file has no such lines. first_line: the
    line that names the format, '' for none. wins: which of two lines for one word counts; a bound line always goes
    before an unbound one."""

    separator: str = Field(default="=", min_length=1, max_length=8)
    remark: str = Field(default="#", min_length=1, max_length=8)
    remark_behind: bool = False
    prefix: str = Field(default="", pattern=r"^\S{0,20}$")
    ending: str = Field(default="", pattern=r"^\S{0,8}$")
    quote: Literal["", '"', "'"] = ""
    quote_always: bool = True
    joint: str = Field(default="", max_length=40)
    section: str = Field(default="", pattern=r"^(.{0,20}\{section\}.{0,20})?$")
    close: str = Field(default="", max_length=20)
    kernel_line: str = Field(default="", max_length=80)
    bound: str = Field(default="", pattern=r"^(.+\{boards\}.+)?$")
    first_line: str = ""
    wins: Literal["first", "last"] = "last"


class DialectEntry(Record):
    """setting: a decision of the build, by its path. key: the word that carries it. value: a Jinja2 template over
    TEMPLATE_NAMES; an empty value leaves the line out. place: in the file, or as a word of the kernel line. needs:
    written only for boards that honour this. ours: a line of somebody else's stays as it is. words: how values are
    spelt in this file, by what they are called here; '' for a setting that is off."""

    setting: str
    key: str = Field(min_length=1)
    value: str
    place: Literal["file", "kernel line"] = "file"
    needs: str = ""
    ours: bool = False
    words: Annotated[dict[str, str], AfterValidator(Fixed)] = Fixed()

    def spelt(self, value: str) -> str:
        """A value as the file writes it."""
        return self.words.get(value, value)

    def meant(self, text: str) -> str:
        """What a value that stands in the file means."""
        return next((value for value, word in self.words.items() if word.lower() == text.lower()), text)


class DialectFile(Record):
    """kind: a module of operations.boot.dialects, `<kind>_file`. path: below the boot partition."""

    path: Inside = Field(min_length=1)
    kind: Literal["settings", "words", "lines", "extlinux"]
    longest_line: int = Field(default=0, ge=0)  # letters; 0: as the dialect says
    grammar: Grammar = Grammar()
    of_system: bool = False  # read by a system, not by the firmware: a bare-metal card has none
    entries: tuple[DialectEntry, ...] = ()


class Dialect(CataloguePart):
    """longest_line: letters; what is longer is cut by the board. The first file is the one the firmware looks for."""

    longest_line: int = Field(gt=0)
    overlays: str = ""  # folder of device tree overlays on the boot partition, '' where none are loaded
    files: tuple[DialectFile, ...] = Field(min_length=1)

    def longest_of(self, file: DialectFile) -> int:
        """Letters of a line of that file that are read."""
        return file.longest_line or self.longest_line

    def where(self, file: DialectFile, there: Container[str]) -> str:
        """Its path on a card that has these files, by lower-case path: a loader by labels looks for its own in / and
        then in /boot (U-Boot: boot_prefixes)."""
        other = f"boot/{file.path}"
        scanned = file.kind == "extlinux" and file is self.files[0]
        return other if scanned and file.path.lower() not in there and other.lower() in there else file.path

    def file_at(self, path: str) -> DialectFile | None:
        """The file that lies at a path of where()."""
        return next((file for file in self.files if path in (file.path, self.where(file, (path.lower(),)))), None)

    def taken(self, board: Board) -> frozenset[str]:
        """The settings that reach that board by these files."""
        return frozenset(
            entry.setting
            for file in self.files
            for entry in file.entries
            if not entry.needs or entry.needs in board.honours
        )

    def carries(self, setting: str) -> bool:
        """Whether a boot file has a line of its own for that setting."""
        return any(entry.setting == setting and entry.place == "file" for file in self.files for entry in file.entries)

    def file(self, kind: str) -> DialectFile | None:
        return next((file for file in self.files if file.kind == kind), None)


# what a template may name: of boot files, and of emulators' settings files
TEMPLATE_NAMES = frozenset(
    (
        "build",
        "board",
        "output",
        "timing",
        "timing_size",
        "inset",
        "firmware",
        "ramdisk",
        "number",
        "overlays",
        "overlay_files",
        "turn",
        "card",
    )
)
SETTINGS_NAMES = frozenset({"system", "emulator", "values", "origin", "picture"})
LIST_NAMES = frozenset({"system", "image", "games", "all_games", "favourites"})
MAP_NAMES = frozenset({"system", "emulator", "players", "hotkey", "hotkeys", "keys"})


class TuningSetting(CataloguePart):
    kind: Literal["switch", "count", "percent", "choice"]
    choices: tuple[str, ...] = ()
    low: int = 0
    high: int = 0
    unit: str = ""
    default: bool | int | str
    why: str
    cost_ms: NotNegative = 0.0  # of a processor at 1 GHz, for each million pixels shown, where it is on


class SettingsTemplate(CataloguePart):
    use: Literal["settings", "map", "list"] = "settings"
    path: str
    text: str  # Jinja2


class Workaround(CataloguePart):
    """A note on something that goes wrong, and the setting that avoids it. systems, emulators, boards, images: where it
    applies, each empty for any. when: the setting's value that brings it about, None for any but `value`."""

    systems: tuple[str, ...] = ()
    emulators: tuple[str, ...] = ()
    boards: tuple[str, ...] = ()
    images: tuple[str, ...] = ()
    setting: str
    when: bool | int | str | None = None
    value: bool | int | str
    effect: str
    source: str = ""
