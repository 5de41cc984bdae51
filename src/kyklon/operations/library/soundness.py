"""Whether what lies on the machine can be played: names alone say nothing of bytes.

System files are compared with what is wanted, archives are looked at by their ends (where their list of contents
stands), sheets and playlists by whether what they name is there. Nothing is read through.
"""

from __future__ import annotations

import struct
from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from pathlib import PurePosixPath

from kyklon.catalogue.image_records import Image
from kyklon.catalogue.system_records import System
from kyklon.operations.library.sheets import cue_tracks, find, lines_of, listed_tracks

TAIL = 65_557  # bytes: the end of a ZIP with the longest remark (APPNOTE 4.3.16: 22 + 65 535)
_END, _ENTRY = b"PK\x05\x06", b"PK\x01\x02"
_END_64 = 0xFFFFFFFF  # the true place stands in a ZIP64 record (APPNOTE 4.4.1.4)
_SEVEN = b"7z\xbc\xaf\x27\x1c"  # 7zFormat.txt: signature
LARGEST_SHEET = 1 << 20  # bytes


@dataclass(frozen=True)
class There:
    """files: sizes by path. text: of a small file. ends: the first 32 bytes of a file and its last TAIL, None where
    looking costs too much. digest: SHA-256 of a small file, '' where it is not known."""

    files: Mapping[str, int]
    text: Callable[[str], str]
    ends: Callable[[str], tuple[bytes, bytes]] | None
    digest: Callable[[str], str]


def bad_system_files(there: There, systems: Iterable[System], image: Image) -> dict[str, str]:
    """System files that are there and are not what is wanted, by name, each with why."""
    shelf, found = image.system_files_path.strip("/"), {}
    for system in systems:
        for wanted in system.system_files:
            path = f"{shelf}/{wanted.name}"
            size = there.files.get(path)
            if size is None:
                continue
            if size not in wanted.sizes:
                found[wanted.name] = f"{wanted.name} has {size} bytes instead of {wanted.sizes_told}"
            elif wanted.rank(size, there.digest(path)) is None:
                found[wanted.name] = f"{wanted.name} has the right size but different contents"
    return found


def bad_games(there: There, systems: Iterable[System], image: Image) -> dict[str, tuple[str, ...]]:
    """Files that the front end lists and that will not start, by system, each in a sentence."""
    folded = {path.casefold(): path for path in there.files}
    found: dict[str, list[str]] = defaultdict(list)
    for system in systems:
        top = image.games_path.replace("{folder}", system.folder).strip("/") + "/"
        for path, size in there.files.items():
            if path.startswith(top) and (why := _trouble(path, size, system, there, folded)):
                found[system.id].append(f"{path.removeprefix(top)} {why}")
    return {system: tuple(sorted(told)) for system, told in found.items()}


def _trouble(path: str, size: int, system: System, there: There, folded: Mapping[str, str]) -> str:
    ending = PurePosixPath(path).suffix.lower().removeprefix(".")
    if not size and ending in (*system.extensions, "zip", "7z"):
        return "is empty"
    if ending in ("zip", "7z") and there.ends is not None:
        return _packed_trouble(ending, size, *there.ends(path))
    if size > LARGEST_SHEET:
        return ""
    rule = next((track_list for track_list in system.track_lists if track_list.ending == ending), None)
    if ending == "cue":
        named = tuple(dict.fromkeys(track.file for track in cue_tracks(there.text(path))))
    elif ending == "m3u":
        named = lines_of(there.text(path))
    elif rule is not None:
        named = tuple(track.file for track in listed_tracks(there.text(path), rule.word))
    else:
        return ""
    if not named:
        return "names no track"
    beside = PurePosixPath(path).parent
    absent = [name for name in named if not find(name, beside, there.files, folded)]
    return f"names {absent[0]}, which is missing" if absent else ""


def _packed_trouble(kind: str, size: int, head: bytes, tail: bytes) -> str:
    """Whether an archive's own list of contents is whole, by its first bytes and its last."""
    if kind == "7z":
        if head[:6] != _SEVEN or len(head) < 32:
            return "is no 7z archive"
        at, length = struct.unpack_from("<QQ", head, 12)  # of the header behind the packed streams
        return "is cut short" if 32 + at + length > size else ""
    at = tail.rfind(_END)
    if at < 0 or len(tail) - at < 22:
        return "is truncated or not a ZIP archive"
    length, place = struct.unpack_from("<II", tail, at + 12)
    end = size - len(tail) + at
    if place != _END_64 and (
        place + length > end
        or (end - length >= size - len(tail) and length and tail[at - length : at - length + 4] != _ENTRY)
    ):
        return "is damaged: its directory is not where it says"
    return ""
