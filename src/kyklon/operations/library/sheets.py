"""Texts that name other files: cue sheets, other lists of tracks, playlists. Names in them lead nowhere but down."""

from __future__ import annotations

from collections.abc import Container, Mapping
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from kyklon.base.errors import KyklonError
from kyklon.base.reading import bytes_of
from kyklon.catalogue.system_records import System

_LARGEST = 1 << 20  # bytes; a hundred tracks take ten thousand
_SECTOR = {"AUDIO": 2352, "MODE1/2048": 2048, "MODE1/2352": 2352, "MODE2/2336": 2336, "MODE2/2352": 2352}  # bytes


@dataclass(frozen=True)
class Track:
    """start: in bytes of its file, 0 where the sheet does not tell."""

    file: str
    number: int
    start: int


def text_in(path: Path) -> str:
    """A sheet's text, whatever bytes it has; '' for one that is far too large or cannot be read."""
    try:
        return sheet_text(bytes_of(path, _LARGEST))
    except KyklonError:
        return ""


def sheet_text(data: bytes) -> str:
    """UTF-8 or, where a mark says so, UTF-16; other bytes as they are, for names on a disk are bytes too."""
    for mark, coding in ((b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be")):
        if data.startswith(mark):
            return data[2:].decode(coding, "replace")
    return data.decode("utf-8-sig", "surrogateescape")


def tracks_of(path: Path, system: System) -> tuple[Track, ...]:
    """What a sheet names, by its ending: a cue sheet, a playlist, or a list that the system's rules describe."""
    ending = path.suffix.lower().removeprefix(".")
    if ending == "cue":
        return cue_tracks(text_in(path))
    if ending == "m3u":
        return tuple(Track(name, n, 0) for n, name in enumerate(lines_of(text_in(path)), 1))
    rule = next((track_list for track_list in system.track_lists if track_list.ending == ending), None)
    return listed_tracks(text_in(path), rule.word) if rule else ()


def lines_of(text: str) -> tuple[str, ...]:
    """What a playlist names, remarks left aside."""
    lines = (line.strip() for line in text.split("\n"))
    return tuple(line for line in lines if line and not line.startswith("#"))


def listed_tracks(text: str, word: str) -> tuple[Track, ...]:
    """Names behind a word, with or without quotes; without a word each line is one."""
    names = []
    for line in lines_of(text):
        first, _, rest = line.partition(" ")
        if not word:
            names.append(line.strip('"'))
        elif first.casefold() == word.casefold() and rest.strip():
            rest = rest.strip()
            names.append(rest[1:].partition('"')[0] if rest.startswith('"') else rest)
    return tuple(Track(name, number, 0) for number, name in enumerate(names, 1) if name)


def cue_tracks(text: str) -> tuple[Track, ...]:
    """The tracks of a cue sheet: FILE, TRACK and INDEX lines, in any case, names with or without quotes."""
    tracks: list[Track] = []
    file, binary, number, wide, begun = "", False, 0, 0, 0
    for line in text.split("\n"):
        word, _, rest = line.strip().replace("\t", " ").partition(" ")
        word, rest = word.upper(), rest.strip()
        if word == "FILE":
            name, _, kind = rest[1:].partition('"') if rest.startswith('"') else rest.rpartition(" ")
            file, binary, begun = name or kind, kind.strip().upper() == "BINARY", 0
            if file:
                tracks.append(Track(file, number + 1, 0))
        elif word == "TRACK" and file:
            told, _, mode = rest.partition(" ")
            number, wide = int(told) if told.isdecimal() and len(told) < 4 else 0, _SECTOR.get(mode.strip().upper(), 0)
        elif word == "INDEX" and file and binary and wide:
            index, _, time = rest.partition(" ")
            parts = time.strip().split(":")
            if index == "01" and len(parts) == 3 and all(part.isdecimal() and len(part) < 4 for part in parts):
                sectors = (int(parts[0]) * 60 + int(parts[1])) * 75 + int(parts[2])  # 75 frames a second: Red Book
                begun = max(begun, sectors * wide)
                tracks.append(Track(file, number, begun))
    return tuple(tracks)


def find(name: str, beside: PurePosixPath, there: Container[str], folded: Mapping[str, str]) -> str:
    """The path of a named file, '' when it is not there. folded: the paths by their case-folded form: sheets made where
    case does not count name files in any case. What leads out of the library matches no file of it."""
    path = normal(beside / name.replace("\\", "/"))
    if path in there or path.casefold() in folded:
        return path if path in there else folded[path.casefold()]
    if any("\udc80" <= letter <= "\udcff" for letter in path):  # a sheet in Latin-1 for names in UTF-8
        plain = path.encode("utf-8", "surrogateescape").decode("latin-1")
        return plain if plain in there else folded.get(plain.casefold(), "")
    return ""


def normal(path: PurePosixPath) -> str:
    """Without '.' and with '..' taken back."""
    parts: list[str] = []
    for part in path.parts:
        if part == ".." and parts and parts[-1] != "..":
            parts.pop()
        else:
            parts.append(part)
    return "/".join(parts)
