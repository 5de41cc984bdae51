"""Identification data of a display as it is found: everything that can be read of it, whatever else is broken.

Layout: VESA E-EDID A2 (EDID 1.4), sections 3.4 to 3.11; CTA-861-H, 7.3 to 7.5; HDMI 1.4b, 8.3.2 (vendor block). The
serial number is looked at to say that there is one, and is never kept.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from fractions import Fraction

from kyklon.base.errors import FormatError
from kyklon.base.quantities import counted
from kyklon.catalogue.loader import standard_timings
from kyklon.model.display import RangeLimits
from kyklon.model.timing import Timing
from kyklon.operations.picture import edid
from kyklon.operations.picture.edid import BLOCK, HDMI_OUI, HEADER

FORUM_OUI = bytes([0xD8, 0x5D, 0xC4])  # IEEE id C4-5D-D8 (HDMI 2.1, 10.3.2)
MOST_TEXT = 1 << 20  # characters of a pasted dump
# E-EDID A2, table 3.18: bits of bytes 35 to 37, highest first; None for the two that no DMT row has
ESTABLISHED: tuple[tuple[int, int, float] | None, ...] = (
    (720, 400, 70),
    (720, 400, 88),
    (640, 480, 60),
    (640, 480, 67),
    (640, 480, 72),
    (640, 480, 75),
    (800, 600, 56),
    (800, 600, 60),
    (800, 600, 72),
    (800, 600, 75),
    (832, 624, 75),
    (1024, 768, 87),
    (1024, 768, 60),
    (1024, 768, 70),
    (1024, 768, 75),
    (1280, 1024, 75),
    (1152, 870, 75),
)
_RATIOS = {0: (16, 10), 1: (4, 3), 2: (5, 4), 3: (16, 9)}  # table 3.19, from version 1.3 on
_BITS = (0, 6, 8, 10, 12, 14, 16, 0)  # table 3.11: of each colour
_LINKS = ("", "DVI", "HDMI A", "HDMI B", "MDDI", "DisplayPort")  # table 3.11


@dataclass(frozen=True)
class Named:
    """A mode that is only named: its size and field rate."""

    width: int
    height: int
    hz: float


@dataclass(frozen=True)
class Identification:
    """troubles: offset and what is wrong there. detailed: the first is preferred. codes: CTA-861 video codes. most_mhz:
    the most its HDMI block says, 0 where it does not. colour: red, green, blue, white as CIE x and y. has_serial: one
    is there, and not kept. version as '1.4'. sync: of an analogue input, separate or composite. size_mm: (0, 0) where
    it is not said."""

    vendor: str
    product: int
    year: int
    week: int
    version: str
    name: str = ""
    digital: bool = True
    link: str = ""
    bits: int = 0
    sync: str = "digital"
    size_mm: tuple[int, int] = (0, 0)
    gamma: float = 0.0
    colour: tuple[tuple[float, float], ...] = ()
    ranges: RangeLimits | None = None
    detailed: tuple[Timing, ...] = ()
    established: tuple[Named, ...] = ()
    standard: tuple[Named, ...] = ()
    codes: tuple[int, ...] = ()
    hdmi: bool = False
    audio: bool = False
    most_mhz: int = 0
    address: str = ""
    has_serial: bool = False
    extensions: int = 0
    troubles: tuple[tuple[int, str], ...] = ()
    detailed_at: tuple[int, ...] = ()

    @property
    def native(self) -> tuple[int, int] | None:
        """The size of the first detailed timing of a digital display (3.10.2: the preferred, and from 1.3 on
        always)."""
        return self.detailed[0].size if self.digital and self.detailed else None


class _Reader:
    """Takes what is there; what is broken is told and passed over."""

    def __init__(self, data: bytes) -> None:
        self.data = data
        self.troubles: list[tuple[int, str]] = []

    def tell(self, offset: int, words: str) -> None:
        self.troubles.append((offset, words))

    def detailed(self, offset: int) -> Timing | None:
        try:
            timing = edid.detailed_at(self.data[offset : offset + 18], offset)
        except FormatError as bad:
            self.tell(bad.offset, f"a detailed timing that cannot be: {bad.got}")
            return None
        except ValueError as bad:  # figures that no timing can have
            self.tell(offset, f"a detailed timing that cannot be: {str(bad).splitlines()[0]}")
            return None
        return timing


def look(data: bytes) -> Identification:
    """Everything in a block and its extensions. Raises FormatError with the offset for what is no identification data.

    data: binary; what stands behind the extensions is left aside.
    """
    if len(data) < BLOCK:
        raise FormatError(
            "the EDID",
            len(data),
            expected=f"{BLOCK} bytes",
            got=f"an end after {len(data)}",
            do="Copy the whole of it.",
        )
    reader = _Reader(data)
    wrong = [at for at in range(8) if data[at] != HEADER[at]]
    if len(wrong) > 2:
        raise FormatError(
            "the EDID",
            0,
            expected=f"the header {HEADER.hex(' ')}",
            got=data[:8].hex(" "),
            do="Choose the file or the dump again.",
        )
    for at in wrong:
        reader.tell(at, f"the header has {data[at]:#04x} in place of {HEADER[at]:#04x}")
    _checksum(reader, 0)
    found = _base(reader)
    count = data[126]
    for number in range(1, count + 1):
        start = BLOCK * number
        if len(data) < start + BLOCK:
            reader.tell(126, f"it announces {counted(count, 'extension block')}; {number - 1} came with it")
            break
        _checksum(reader, start)
        if data[start] == 2:
            found = _cta(reader, found, start)
        elif data[start] != 0xF0:  # a map of blocks says nothing by itself
            reader.tell(start, f"an extension of the kind {data[start]:#04x}, which is not read")
    return replace(found, extensions=count, troubles=tuple(reader.troubles))


def _checksum(reader: _Reader, start: int) -> None:
    block = reader.data[start : start + BLOCK]
    if sum(block) % 256:
        right = -sum(block[:-1]) % 256
        reader.tell(
            start + 127,
            f"the checksum is {block[-1]:#04x} and should be {right:#04x}: the block was read wrong or changed, "
            "so compare what was taken with the display's manual",
        )


def _base(reader: _Reader) -> Identification:
    data = reader.data
    vendor = int.from_bytes(data[8:10], "big")
    letters = "".join(chr(64 + (vendor >> shift & 31)) for shift in (10, 5, 0))
    if not letters.isalpha() or vendor >> 15:
        reader.tell(8, f"the maker's letters are {data[8:10].hex(' ')}, which are none")
        letters = ""
    minor = data[19]
    if data[18] != 1:
        reader.tell(18, f"version {data[18]}.{minor}, which is read as 1.4")
    digital = bool(data[20] & 0x80)
    name, ranges = "", None
    timings: list[tuple[int, Timing]] = []
    for start in range(54, 126, 18):
        if data[start] or data[start + 1]:
            timing = reader.detailed(start)
            if timing is not None:
                timings.append((start, timing))
        elif data[start + 3] == 0xFC:
            name = _text(reader, start)
        elif data[start + 3] == 0xFD:
            try:
                ranges = edid.ranges_at(data[start : start + 18], start)
            except FormatError as bad:
                reader.tell(bad.offset, f"range limits that cannot be: {bad.got}")
    year = data[17] + 1990
    return Identification(
        vendor=letters,
        product=int.from_bytes(data[10:12], "little"),
        year=year,
        week=data[16],
        version=f"{data[18]}.{minor}",
        name=name,
        digital=digital,
        link=_LINKS[data[20] & 15] if digital and minor >= 4 and data[20] & 15 < len(_LINKS) else "",
        bits=_BITS[data[20] >> 4 & 7] if digital and minor >= 4 else 0,
        sync="digital" if digital else "separate" if data[20] & 8 else "composite" if data[20] & 6 else "",
        size_mm=_size(data, timings),
        gamma=0.0 if data[23] == 255 else (data[23] + 100) / 100,
        colour=_colour(data),
        ranges=ranges,
        detailed=tuple(timing for _at, timing in timings),
        detailed_at=tuple(at for at, _timing in timings),
        established=_established(data),
        standard=_standard(reader, minor),
        has_serial=any(data[12:16])
        or any(data[at] == data[at + 1] == 0 and data[at + 3] == 0xFF for at in range(54, 126, 18)),
    )


def _text(reader: _Reader, start: int) -> str:
    raw = reader.data[start + 5 : start + 18].split(b"\n")[0]
    text = raw.decode("cp437").strip()
    if any(byte < 0x20 for byte in raw):
        reader.tell(start + 5, "the name holds bytes that are no letters")
        text = "".join(each for each in text if each.isprintable())
    return text


def _size(data: bytes, timings: list[tuple[int, Timing]]) -> tuple[int, int]:
    """In mm: the first detailed timing holds millimetres, the header whole centimetres; both 0 for one that has none.
    Where they differ by more than a centimetre and a half, the timing's may be an aspect only: the header counts."""
    coarse = (data[21] * 10, data[22] * 10) if data[21] and data[22] else (0, 0)
    if timings:
        at = timings[0][0]
        fine = (data[at + 12] | (data[at + 14] >> 4) << 8, data[at + 13] | (data[at + 14] & 15) << 8)
        if all(fine) and (coarse == (0, 0) or all(abs(a - b) <= 15 for a, b in zip(fine, coarse, strict=True))):
            return fine
    return coarse


def _colour(data: bytes) -> tuple[tuple[float, float], ...]:
    """Chromaticity (3.7): ten bits each, eight in bytes 27 to 34 and two in bytes 25 and 26."""
    if not any(data[25:35]):
        return ()
    low = (data[25] >> 6, data[25] >> 4, data[25] >> 2, data[25], data[26] >> 6, data[26] >> 4, data[26] >> 2, data[26])
    values = [(data[27 + index] << 2 | low[index] & 3) / 1024 for index in range(8)]
    return tuple((round(values[at], 4), round(values[at + 1], 4)) for at in range(0, 8, 2))


def _established(data: bytes) -> tuple[Named, ...]:
    bits = int.from_bytes(data[35:38], "big")
    found = []
    for index, row in enumerate(ESTABLISHED):
        if row is not None and bits >> (23 - index) & 1:
            found.append(Named(row[0], row[1], row[2]))
    return tuple(found)


def _standard(reader: _Reader, minor: int) -> tuple[Named, ...]:
    data, found = reader.data, []
    for at in range(38, 54, 2):
        first, second = data[at], data[at + 1]
        if (first, second) in ((1, 1), (0, 0)):
            continue
        if first <= 1:  # 01 with anything but 01 is none either
            reader.tell(at, f"a standard timing of {data[at : at + 2].hex(' ')}, which is none")
            continue
        width = (first + 31) * 8
        across, down = _RATIOS[second >> 6] if second >> 6 or minor >= 3 else (1, 1)
        found.append(Named(width, width * down // across, (second & 63) + 60))
    return tuple(found)


def _cta(reader: _Reader, found: Identification, start: int) -> Identification:
    data = reader.data
    revision, end = data[start + 1], data[start + 2]
    if end and not 4 <= end <= 127:
        reader.tell(start + 2, f"detailed timings begin at {end}, which is outside the block")
        return found
    audio = found.audio or (revision >= 2 and bool(data[start + 3] & 0x40))
    codes, hdmi, most, address = list(found.codes), found.hdmi, found.most_mhz, found.address
    place = start + 4
    while revision >= 3 and end and place < start + end:
        tag, length = data[place] >> 5, data[place] & 31
        if place + 1 + length > start + end:
            reader.tell(place, f"a data block of {length} bytes that does not fit; the rest of them are left out")
            break
        body = data[place + 1 : place + 1 + length]
        if tag == 2:
            codes += [code & 0x7F if 129 <= code <= 192 else code for code in body if code & 0x7F]
        elif tag == 3 and body[:3] == HDMI_OUI:
            hdmi = True
            if length >= 5:
                address = ".".join(str(each) for each in (body[3] >> 4, body[3] & 15, body[4] >> 4, body[4] & 15))
            if length >= 7 and body[6]:
                most = max(most, body[6] * 5)
        elif tag == 3 and body[:3] == FORUM_OUI and length >= 5 and body[4]:
            most = max(most, body[4] * 5)
        place += 1 + length
    timings, places = list(found.detailed), list(found.detailed_at)
    if end:
        for at in range(start + end, start + BLOCK - 18, 18):
            if not (data[at] or data[at + 1]):
                break
            timing = reader.detailed(at)
            if timing is not None:
                timings.append(timing)
                places.append(at)
    return replace(
        found,
        codes=tuple(dict.fromkeys(codes)),
        hdmi=hdmi,
        most_mhz=most,
        address=address,
        audio=audio,
        detailed=tuple(timings),
        detailed_at=tuple(places),
    )


def named_timings(found: Identification) -> tuple[Timing, ...]:
    """Every mode as a timing: detailed ones as they are, named ones by the VESA DMT and CTA-861 tables."""
    timings = list(found.detailed)
    rows = tuple(standard_timings("dmt").values())
    for named in (*found.established, *found.standard):
        match = next(
            (
                row.timing
                for row in rows
                if row.timing.size == (named.width, named.height) and abs(float(row.timing.vertical_hz) - named.hz) < 1
            ),
            None,
        )
        if match is not None:
            timings.append(match)
    cta = standard_timings("cta")
    timings += [cta[code].timing for code in found.codes if code in cta]
    return tuple(dict.fromkeys(timings))


def rates_of(timings: tuple[Timing, ...]) -> RangeLimits | None:
    """The range that those modes span, in whole kHz, Hz and MHz, rounded outwards."""
    if not timings:
        return None
    lines = [timing.horizontal_hz / 1000 for timing in timings]
    fields = [timing.vertical_hz for timing in timings]
    clock = max(timing.clock_hz for timing in timings)
    return RangeLimits(
        (_floor(min(fields)), _ceiling(max(fields))), (_floor(min(lines)), _ceiling(max(lines))), -(-clock // 1_000_000)
    )


def _floor(value: Fraction) -> int:
    return int(value)


def _ceiling(value: Fraction) -> int:
    return -int(-value // 1)


# --- dumps ---------------------------------------------------------------------------------------------------------

_HEX = re.compile(r"(?:0x)?([0-9a-fA-F]+)")


def bytes_in(data: bytes) -> bytes:
    """Identification data from a file's bytes: binary as it is, else a hex dump in text.

    Raises FormatError for neither.
    """
    at = data.find(HEADER)
    if at >= 0:
        return data[at:]
    try:
        text = data.decode("ascii")
    except UnicodeDecodeError:
        return data  # binary with a damaged header: look() says what is wrong with it
    return from_dump(text)


def from_dump(text: str) -> bytes:
    """The bytes of a hex dump as tools print them: with or without addresses, 0x, commas and a column of letters.

    Lines that are none are passed over. Raises FormatError when there are too few bytes.
    """
    if len(text) > MOST_TEXT:
        raise FormatError("the dump", MOST_TEXT, expected="a dump of some kilobytes", got="more")
    lines = [_tokens(line) for line in text.splitlines()]
    addressed = any(address is not None for address, _tokens_of in lines)
    found = bytearray()
    last, again = b"", False
    for address, tokens in lines:
        if addressed and address is None:  # a star: the line before is repeated up to the next one's address
            again = again or tokens == ["*"]
            continue
        if again and last and address is not None and len(found) < address <= edid.LARGEST:
            found += (last * (address // len(last) + 1))[: address - len(found)]
        again = False
        last = bytes.fromhex("".join(tokens))
        found += last
    at = bytes(found).find(HEADER)
    if at > 0:
        del found[:at]
    if len(found) < BLOCK:
        raise FormatError(
            "the dump",
            len(found),
            expected=f"{BLOCK} bytes in hexadecimal",
            got=f"{len(found)}",
            do="Paste the whole dump, as 00 ff ff ff ff ff ff 00 …",
        )
    return bytes(found[: edid.LARGEST])


def _tokens(line: str) -> tuple[int | None, list[str]]:
    """The address that a line begins with, None for none, and its bytes in hexadecimal; none for a line of something
    else."""
    line = line.partition("|")[0].strip()
    head, colon, rest = line.partition(":")
    words = re.split(r"[\s,]+", line.strip(' "{};'))
    address = None
    if colon and _HEX.fullmatch(head.strip()) and len(head.strip()) >= 4:  # xxd: the letters stand behind two blanks
        words, address = re.split(r"\s+", re.split(r"\s{2,}", rest.strip(), maxsplit=1)[0]), int(head.strip(), 16)
    elif _HEX.fullmatch(words[0]) and 6 <= len(words[0]) <= 8 and all(len(each) == 2 for each in words[1:]):
        words, address = words[1:], int(words[0], 16)
    if words == ["*"]:
        return None, words
    tokens = []
    for word in words:
        token = _HEX.fullmatch(word)
        if token is None or len(token[1]) % 2:
            return address, []
        tokens.append(token[1])
    return address, tokens
