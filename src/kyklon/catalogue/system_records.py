"""Systems with what plays them: emulators, panels, standard timings."""

from __future__ import annotations

from fractions import Fraction
from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from kyklon.catalogue.records import CataloguePart, Inside, Positive, Whole, _rate
from kyklon.model.controls import Control
from kyklon.model.library import SystemFile
from kyklon.model.record import Record
from kyklon.model.timing import Timing


class Input(Record):
    """An input of a system. place: where on the panel it belongs by preference (b1 is the nearest button). idea: what
    it is for, the same word in every system. use: how much of play it is down, 0 to 1. beside: an input of this system
    that its button must stand next to. side: a shoulder, on the outside of the machine's own pad."""

    id: str
    label: str
    place: str
    idea: str = ""
    use: float = Field(default=0.3, ge=0, le=1)
    beside: str = ""
    side: bool = False


def _in_rows(inputs: tuple[Input, ...]) -> tuple[Input, ...]:
    """The inputs, whose `beside` make rows: each input has at most one after it, and no row closes into a ring."""
    ids = [each.id for each in inputs]
    before = {each.id: each.beside for each in inputs if each.beside}
    for own, other in before.items():
        if other not in ids or own == other:
            raise ValueError(f"input {own} stands beside {other}, which is no other input")
        if list(before.values()).count(other) > 1:
            raise ValueError(f"two inputs stand beside {other}; a row has one after the other")
    for own in before:
        walked, at = {own}, own
        while at in before:
            at = before[at]
            if at in walked:
                raise ValueError(f"the row with {own} closes into a ring")
            walked.add(at)
    return inputs


class DumpHeader(Record):
    """What some copiers put before a dump, skipped before its checksum is taken. magic: the bytes that tell it, in
    hexadecimal; at: where they stand; size: of the whole header, bytes."""

    magic: str = Field(pattern=r"^([0-9a-f]{2}){1,32}$")
    at: int = Field(default=0, ge=0, le=65_536)
    size: int = Field(gt=0, le=65_536)


class TrackList(Record):
    """A text that names a disc's tracks. ending: of its file. word: what a line with a name begins with, '' where each
    line is a name."""

    ending: str = Field(pattern=r"^[a-z0-9]{1,12}$")
    word: str = Field(default="", max_length=20)


class System(CataloguePart):
    """headers: of its dumps. track_lists: beside cue sheets. folder_games: each game is a folder. disk_kinds: endings
    of hard-disk files that lie in a folder of the archive's name."""

    width: int = Field(gt=0, le=8192)
    height: int = Field(gt=0, le=8192)
    refresh: Annotated[str, Field(pattern=r"^\d{1,9}([./]\d{1,9})?$"), AfterValidator(_rate)]  # Hz, decimal or fraction
    aspect: tuple[Whole, Whole]
    vertical: bool = False
    folder: Inside
    extensions: tuple[str, ...]
    archives: bool
    multi_disc: bool = False
    system_files: tuple[SystemFile, ...] = ()
    inputs: Annotated[tuple[Input, ...], AfterValidator(_in_rows)]
    ways: Literal[0, 4, 8] = 0  # the lever that its games want; 0 for any
    chords: tuple[tuple[str, ...], ...] = ()  # inputs that its games want held together
    keyboard: str = ""  # the keyboard that it expects
    held: tuple[tuple[str, ...], ...] = ()  # keys of it that its games want held together
    emulator: str
    lag_frames: int = 1
    headers: tuple[DumpHeader, ...] = ()
    track_lists: tuple[TrackList, ...] = ()
    also: tuple[str, ...] = ()  # other emulators that play its games
    tolerance_ms: float = Field(default=90.0, gt=0, le=1000)  # from switch to glass, that its games stand, CP
    folder_games: bool = False
    disk_kinds: tuple[str, ...] = ()
    typical_bytes: int = Field(default=1_000_000, gt=0)  # of one of its games, the median

    @property
    def refresh_hz(self) -> Fraction:
        return Fraction(self.refresh)


class Emulator(CataloguePart):
    template: str  # id of the settings template
    map_template: str = ""  # id of the template for its buttons
    frames_ahead: bool  # can run frames ahead of what it shows
    render_queue_frames: int = 1
    frame_ms: float = Field(default=3.0, gt=0, le=1000)  # of a processor at 1 GHz, to make one frame
    spread: float = Field(default=0.15, ge=0, le=2)  # standard deviation of that, as a part of it
    heavy: tuple[str, ...] = ()  # games that take half as much again, by words of their titles
    saves: tuple[str, ...] = ()  # endings of what a game saves by itself
    states: tuple[str, ...] = ()  # endings of snapshots of the whole machine; * for a number
    saves_path: Inside = ""  # where they lie, a template with {folder}; '' beside the game


class Panel(CataloguePart):
    """seats: for each player the place of their board on the table and its turn in degrees."""

    width_mm: Positive
    height_mm: Positive
    players: int
    facing: bool
    controls: tuple[Control, ...]

    def switches(self) -> tuple[str, ...]:
        """Names of one player's switches: a lever has four."""
        return tuple(name for control in self.controls for name in control.switches)


class StandardTiming(Record):
    """A row of the VESA DMT or CTA-861 table."""

    id: int
    timing: Timing
    aspect: str
