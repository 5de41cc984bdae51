"""Identification data put right: header, lengths, checksums, descriptors that contradict themselves; and edited.

What is repaired is what a kernel stumbles over (drm_edid_block_valid); what a display says of itself is kept.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from kyklon.base.errors import FormatError, WrongUse
from kyklon.model.display import Edid, Extension
from kyklon.model.timing import Timing
from kyklon.operations.picture import edid
from kyklon.operations.picture.edid import BLOCK, HEADER

LOST = "Colour points, standard timings and data blocks that Kyklon does not know are not in the new file."
_DUMMY = bytes([0, 0, 0, 0x10]) + bytes(14)  # EDID 1.4, 3.10.3.11: an unused descriptor
_RIGHT_OF_HEADER = 6  # bytes of eight that the kernel asks for before it repairs the rest (edid_fixup)


@dataclass(frozen=True)
class Repaired:
    """done: what was put right, a sentence each; none for data that were whole."""

    data: bytes
    done: tuple[str, ...]


def repaired(data: bytes) -> Repaired:
    """Data that `edid.read` takes. Raises FormatError for what is no identification data at all."""
    if len(data) < BLOCK or sum(a == b for a, b in zip(data, HEADER, strict=False)) < _RIGHT_OF_HEADER:
        raise FormatError(
            "the EDID",
            0,
            expected=f"{BLOCK} bytes that begin with {HEADER.hex(' ')}",
            got=f"{len(data)} bytes: {data[:8].hex(' ')}",
        )
    done: list[str] = []
    if data[:8] != HEADER:
        done.append("The header was repaired.")
    whole = len(data) // BLOCK * BLOCK
    if whole != len(data):
        done.append(f"{len(data) - whole} bytes after the last whole block were removed.")
    body = bytearray(HEADER + data[8:whole])
    extensions = whole // BLOCK - 1
    if body[126] > extensions:
        done.append(f"It announces {body[126]} extension blocks and has {extensions}: the number was corrected.")
        body[126] = extensions
    elif body[126] < extensions:
        done.append(f"{extensions - body[126]} blocks that it does not announce were removed.")
        del body[BLOCK * (1 + body[126]) :]
    _descriptors(body, range(54, 126, 18), done)
    for start in range(BLOCK, len(body), BLOCK):
        _extension(body, start, done)
    for start in range(0, len(body), BLOCK):
        right = -sum(body[start : start + BLOCK - 1]) % 256
        if body[start + BLOCK - 1] != right:
            done.append(f"The checksum of block {start // BLOCK} was corrected.")
            body[start + BLOCK - 1] = right
    return Repaired(bytes(body), tuple(done))


def _descriptors(body: bytearray, starts: range, done: list[str]) -> None:
    for start in starts:
        part = bytes(body[start : start + 18])
        try:
            if part[0] or part[1]:
                edid.detailed_at(part, start)
            elif part[3] == 0xFD:
                edid.ranges_at(part, start)
        except (FormatError, ValueError):
            what = "timing" if part[0] or part[1] else "rates"
            done.append(f"Byte {start}: an inconsistent {what} descriptor was removed.")
            body[start : start + 18] = _DUMMY


def _extension(body: bytearray, start: int, done: list[str]) -> None:
    """A CTA-861 block whose data blocks or timings run over their end; others are left as they are."""
    if body[start] == 0x10 and body[start + 1] == 1:
        _timings(body, range(start + 5, start + 5 + 18 * min(6, body[start + 2]), 18), done)
        return
    if body[start] != 2:
        return
    end = body[start + 2]
    if not (end == 0 or 4 <= end <= 127):
        done.append(f"Byte {start + 2}: the timings pointed outside the block.")
        body[start + 2] = end = 4
    stop = end or 127
    place = 4
    while place < stop:
        length = body[start + place] & 31
        if place + 1 + length > stop:
            done.append(f"Byte {start + place}: a data block running past its end was removed.")
            body[start + place : start + stop] = bytes(stop - place)
            break
        place += 1 + length
    if end:
        _timings(body, range(start + end, start + BLOCK - 18, 18), done)


def _timings(body: bytearray, starts: range, done: list[str]) -> None:
    """Detailed timings of an extension: a broken one ends the list, for zeros mean that none follows."""
    for start in starts:
        part = bytes(body[start : start + 18])
        if not (part[0] or part[1]):
            return
        try:
            edid.detailed_at(part, start)
        except (FormatError, ValueError):
            done.append(f"Byte {start}: an inconsistent timing and everything after it was removed.")
            body[start : starts.stop] = bytes(starts.stop - start)
            return


def with_timings(data: Edid, timings: tuple[Timing, ...]) -> Edid:
    """The data with other detailed timings, the preferred one first, over all blocks. Raises WrongUse for none."""
    if not timings:
        raise WrongUse("An EDID needs a timing; the first is the preferred one.")
    in_base = 2 if data.ranges else 3
    in_cta = 5 if data.extension else 0
    first, rest = timings[:in_base], timings[in_base:]
    extension = replace(data.extension, timings=rest[:in_cta]) if data.extension else None
    return replace(data, timings=first, extension=extension, further=rest[in_cta:])


def timings_of(data: Edid) -> tuple[Timing, ...]:
    """Every detailed timing in order."""
    return (*data.timings, *(data.extension.timings if data.extension else ()), *data.further)


def with_hdmi(data: Edid, *, on: bool, audio: bool) -> Edid:
    """The data with the HDMI vendor block, or without it: a link without one is driven as DVI and carries no sound."""
    old = data.extension or Extension()
    if not on and not audio and not old.codes:
        changed: Edid = replace(data, extension=None)
    else:
        changed = replace(data, extension=replace(old, hdmi=on, audio=audio, timings=()))
    return with_timings(changed, timings_of(data))
