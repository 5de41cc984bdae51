"""Identification data of displays: VESA EDID 1.4 base block and the CTA-861 extension, read and written.

Layout of the base block (E-EDID A2, section 3): header 0-7, vendor 8-9, product 10-11, serial 12-15, date
16-17, version 18-19, features 20-24, chromaticity 25-34, established timings 35-37, standard timings 38-53,
four 18-byte descriptors 54-125, number of extensions 126, checksum 127.
"""

from __future__ import annotations

from kyklon.base.errors import FormatError, WrongUse
from kyklon.model.display import Edid, Extension, RangeLimits
from kyklon.model.timing import Axis, Timing

BLOCK = 128
HEADER = bytes([0, 255, 255, 255, 255, 255, 255, 0])
HDMI_OUI = bytes([0x03, 0x0C, 0x00])  # IEEE id 00-0C-03, least significant byte first (HDMI 1.4, 8.3.2)
SRGB_CHROMATICITY = bytes.fromhex("ee91a3544c99260f5054")  # IEC 61966-2-1 primaries, coded as EDID 1.4, 3.7
PAD = "the EDID"


# --- writing -----------------------------------------------------------------------------------------------


def write(edid: Edid) -> bytes:
    """128 or 256 bytes. Raises WrongUse for what the format cannot hold."""
    block = bytearray(BLOCK)
    block[0:8] = HEADER
    block[8:10] = _vendor_bytes(edid.vendor)
    block[10:12] = edid.product.to_bytes(2, "little")
    block[12:16] = edid.serial.to_bytes(4, "little")
    block[16], block[17] = edid.week, edid.year - 1990
    hdmi = bool(edid.extension and edid.extension.hdmi)
    # HDMI 1.4, 8.3: version 1.3 where the vendor block is announced; but 1.3 wants range limits
    old = hdmi and edid.ranges is not None
    block[18], block[19] = 1, 3 if old else 4
    interface = 0b1000_0001 if old else 0b1010_0010 if hdmi else 0b1010_0001
    block[20] = interface if edid.digital else 0b0000_1110
    block[21], block[22] = (min(255, round(mm / 10)) for mm in edid.size_mm)  # whole centimetres, 255 at the most
    block[23] = 120  # gamma 2.20
    # sRGB default, preferred timing is native; continuous frequency (1.4 only) when range limits say so
    block[24] = (0b0000_1110 if old or not edid.digital else 0b0000_0110) | (1 if edid.ranges and not old else 0)
    block[25:35] = SRGB_CHROMATICITY
    block[35:38] = edid.established.to_bytes(3, "big")
    block[38:54] = b"\x01\x01" * 8
    _write_descriptors(block, edid)
    blocks = [_write_extension(edid.extension, edid.size_mm)] if edid.extension else []
    blocks += [
        _write_timings(edid.further[start : start + _IN_VTB], edid.size_mm)
        for start in range(0, len(edid.further), _IN_VTB)
    ]
    if len(blocks) > 1 and block[19] == 3:
        blocks.insert(0, _block_map(blocks))
    if len(blocks) > _MOST_BLOCKS:
        raise WrongUse(f"{len(edid.timings) + len(edid.further)} timings do not fit {_MOST_BLOCKS} extension blocks.")
    block[126] = len(blocks)
    block[127] = -sum(block) % 256
    return bytes(block) + b"".join(blocks)


def _vendor_bytes(vendor: str) -> bytes:
    if len(vendor) != 3 or not all("A" <= letter <= "Z" for letter in vendor):
        raise WrongUse(f"{vendor=} is not three capital letters.")
    first, second, third = (ord(letter) - 64 for letter in vendor)
    return (first << 10 | second << 5 | third).to_bytes(2, "big")


def _write_descriptors(block: bytearray, edid: Edid) -> None:
    descriptors = [_detailed(timing, edid.size_mm) for timing in edid.timings]
    if edid.name:  # many displays have none
        descriptors.append(_text_descriptor(0xFC, edid.name))
    if edid.ranges:
        descriptors.append(_range_descriptor(edid.ranges, bare=block[19] == 4))
    if not edid.timings or len(descriptors) > 4:
        raise WrongUse(
            f"{len(edid.timings)} detailed timings do not fit; a base block holds one to "
            f"{2 if edid.ranges else 3} beside the name."
        )
    while len(descriptors) < 4:
        descriptors.append(bytes([0, 0, 0, 0x10]) + bytes(14))
    for index, descriptor in enumerate(descriptors):
        block[54 + 18 * index : 72 + 18 * index] = descriptor


def _detailed(timing: Timing, size_mm: tuple[int, int]) -> bytes:
    """An 18-byte detailed timing descriptor (EDID 1.4, section 3.10.2)."""
    across, down = timing.horizontal, timing.vertical
    lines = down.active // 2 if timing.interlaced else down.active
    fields = (
        ("clock", (timing.clock_hz + 5_000) // 10_000, 65535),
        ("width", across.active, 4095),
        ("blank", across.blank, 4095),
        ("lines", lines, 4095),
        ("vertical blank", down.blank, 4095),
        ("front porch", across.front, 1023),
        ("sync", across.sync, 1023),
        ("vertical front porch", down.front, 63),
        ("vertical sync", down.sync, 63),
    )
    for name, value, most in fields:
        if not 0 < value <= most and not (name.endswith("porch") and value == 0):
            raise WrongUse(f"A detailed timing cannot hold {name}={value}; the most is {most}.")
    clock, width, hblank, height, vblank, hfront, hsync, vfront, vsync = (value for _, value, _ in fields)
    wide, high = (min(4095, mm) for mm in size_mm)  # twelve bits each
    flags = 0b0001_1000 | (0b100 if down.positive else 0) | (0b10 if across.positive else 0)
    return bytes(
        [clock & 255, clock >> 8, width & 255, hblank & 255, (width >> 8) << 4 | hblank >> 8]
        + [height & 255, vblank & 255, (height >> 8) << 4 | vblank >> 8, hfront & 255, hsync & 255]
        + [(vfront & 15) << 4 | vsync & 15]
        + [(hfront >> 8) << 6 | (hsync >> 8) << 4 | (vfront >> 4) << 2 | vsync >> 4]
        + [wide & 255, high & 255, (wide >> 8) << 4 | high >> 8, 0, 0]
        + [flags | (0x80 if timing.interlaced else 0)]
    )


def _text_descriptor(tag: int, text: str) -> bytes:
    raw = text.strip().encode("ascii", "replace")
    if not 0 < len(raw) <= 13:
        raise WrongUse(f"{text!r} does not fit a display name; 1 to 13 letters.")
    return bytes([0, 0, 0, tag, 0]) + (raw if len(raw) == 13 else (raw + b"\n").ljust(13))


def _range_descriptor(ranges: RangeLimits, *, bare: bool) -> bytes:
    """Display range limits (EDID 1.4, table 3.26); bare: 'range limits only', unknown to version 1.3."""
    values = [*ranges.field_hz, *ranges.line_khz, -(-ranges.clock_mhz // 10)]
    if not all(0 < value <= 255 for value in values):
        raise WrongUse(f"Range limits {ranges} do not fit one byte each.")
    return bytes([0, 0, 0, 0xFD, 0, *values, 1 if bare else 0, 0x0A]) + b" " * 6


def _write_timings(timings: tuple[Timing, ...], size_mm: tuple[int, int]) -> bytes:
    """A block with nothing but timings (VESA VTB-EXT): unlike CTA-861's it asks for no 640 x 480, which a 15 kHz tube
    must not be offered."""
    block = bytearray(BLOCK)
    block[0:5] = bytes([_VTB, 1, len(timings), 0, 0])
    for index, timing in enumerate(timings):
        block[5 + 18 * index : 23 + 18 * index] = _detailed(timing, size_mm)
    block[127] = -sum(block) % 256
    return bytes(block)


def _block_map(blocks: list[bytes]) -> bytes:
    """The map that EDID 1.3 wants before more than one extension block."""
    block = bytearray(BLOCK)
    block[0] = _MAP
    block[1 : 1 + len(blocks)] = bytes(each[0] for each in blocks)
    block[127] = -sum(block) % 256
    return bytes(block)


def _write_extension(extension: Extension, size_mm: tuple[int, int]) -> bytes:
    """A CTA-861 extension block, revision 3."""
    data = bytearray()
    if extension.codes:
        data += bytes([2 << 5 | len(extension.codes)])
        data += bytes(extension.codes)
    if extension.audio:
        data += bytes([1 << 5 | 3, 1 << 3 | 1, 0b111, 0b111])  # LPCM, 2 channels, 32-48 kHz, 16-24 bit
        data += bytes([4 << 5 | 3, 1, 0, 0])  # speakers: front left and right
    if extension.hdmi:
        data += bytes([3 << 5 | 5]) + HDMI_OUI + bytes([0x10, 0x00])  # physical address 1.0.0.0
    data += bytes([7 << 5 | 2, 0, 0b0100_1010])  # video capability: range selectable, all formats underscanned
    block = bytearray(BLOCK)
    block[0:4] = bytes([2, 3, 4 + len(data), 0x81 | (0x40 if extension.audio else 0)])  # underscan, one native timing
    block[4 : 4 + len(data)] = data
    for index, timing in enumerate(extension.timings):
        start = 4 + len(data) + 18 * index
        if start + 18 > BLOCK - 1:
            raise WrongUse("The detailed timings do not fit the extension block.")
        block[start : start + 18] = _detailed(timing, size_mm)
    block[127] = -sum(block) % 256
    return bytes(block)


# --- reading -----------------------------------------------------------------------------------------------


_CTA, _VTB, _MAP = 0x02, 0x10, 0xF0  # tags of extension blocks: CTA-861, VESA VTB-EXT, block map
_IN_VTB = 6  # detailed timings
_MOST_BLOCKS = 126  # that one block map tells
LARGEST = 256 * 128  # bytes: VESA E-EDID counts its extension blocks in one byte


def read(data: bytes) -> Edid:
    """Parse identification data. Raises FormatError with the offset for what is not EDID at all or damaged."""
    if len(data) < BLOCK:
        raise FormatError(PAD, len(data), expected=f"{BLOCK} bytes", got=f"an end after {len(data)}")
    if data[:8] != HEADER:
        raise FormatError(PAD, 0, expected=f"the header {HEADER.hex(' ')}", got=data[:8].hex(" "))
    count = data[126]
    if len(data) < BLOCK * (1 + count):
        raise FormatError(
            PAD, len(data), expected=f"{BLOCK * (1 + count)} bytes for {count} extensions", got=f"{len(data)}"
        )
    for start in range(0, BLOCK * (1 + count), BLOCK):
        if sum(data[start : start + BLOCK]) % 256:
            right = -sum(data[start : start + BLOCK - 1]) % 256
            raise FormatError(PAD, start + 127, expected=f"the checksum {right:#04x}", got=f"{data[start + 127]:#04x}")
    return _read_base(data)


def _read_base(data: bytes) -> Edid:
    vendor = int.from_bytes(data[8:10], "big")
    timings: list[Timing] = []
    name, ranges = "", None
    for start in range(54, 126, 18):
        part = data[start : start + 18]
        if part[0] or part[1]:
            timings.append(detailed_at(part, start))
        elif part[3] == 0xFC:
            name = part[5:].split(b"\n")[0].decode("cp437").strip()
        elif part[3] == 0xFD:
            ranges = ranges_at(part, start)
    wide, high = data[21] * 10, data[22] * 10
    first = data[54:72]
    if (first[0] or first[1]) and (
        first[12] or first[14] >> 4
    ):  # the detailed timing holds millimetres, the header whole centimetres
        wide, high = first[12] | (first[14] >> 4) << 8, first[13] | (first[14] & 15) << 8
    blocks = [data[start : start + BLOCK] for start in range(BLOCK, BLOCK * (1 + data[126]), BLOCK)]
    extensions = [_read_extension(block, BLOCK * (index + 1)) for index, block in enumerate(blocks) if block[0] == _CTA]
    further = [timing for each in extensions[1:] for timing in each.timings]
    further += [
        timing
        for index, block in enumerate(blocks)
        if block[0] == _VTB
        for timing in _read_timings(block, BLOCK * (index + 1))
    ]
    extension = extensions[0] if extensions else None
    return Edid(
        vendor="".join(chr(64 + (vendor >> shift & 31)) for shift in (10, 5, 0)),
        product=int.from_bytes(data[10:12], "little"),
        serial=int.from_bytes(data[12:16], "little"),
        week=data[16],
        year=data[17] + 1990,
        name=name,
        digital=bool(data[20] & 0x80),
        size_mm=(wide, high),
        established=int.from_bytes(data[35:38], "big"),
        timings=tuple(timings),
        ranges=ranges,
        extension=extension,
        further=tuple(further),
    )


def detailed_at(part: bytes, offset: int) -> Timing:
    """A detailed timing from its 18 bytes at that offset. Raises FormatError, ValueError for figures that none has."""
    width = part[2] | (part[4] >> 4) << 8
    hblank = part[3] | (part[4] & 15) << 8
    lines = part[5] | (part[7] >> 4) << 8
    vblank = part[6] | (part[7] & 15) << 8
    hfront = part[8] | (part[11] >> 6) << 8
    hsync = part[9] | (part[11] >> 4 & 3) << 8
    vfront = part[10] >> 4 | (part[11] >> 2 & 3) << 4
    vsync = part[10] & 15 | (part[11] & 3) << 4
    interlaced = bool(part[17] & 0x80)
    clock = int.from_bytes(part[0:2], "little") * 10_000
    if not (width and lines and hsync and vsync) or hfront + hsync > hblank or vfront + vsync > vblank:
        raise FormatError(
            PAD,
            offset,
            expected="a detailed timing with sync inside its blanking",
            got=f"{width} × {lines}, blank {hblank}/{vblank}, sync {hsync}/{vsync}",
        )
    return Timing(
        clock_hz=clock,
        horizontal=Axis(
            active=width, front=hfront, sync=hsync, back=hblank - hfront - hsync, positive=bool(part[17] & 2)
        ),
        vertical=Axis(
            active=lines * 2 if interlaced else lines,
            front=vfront,
            sync=vsync,
            back=vblank - vfront - vsync,
            positive=bool(part[17] & 4),
        ),
        interlaced=interlaced,
    )


def ranges_at(part: bytes, offset: int) -> RangeLimits:
    """Range limits from their 18 bytes at that offset. Raises FormatError."""
    plus = part[4]
    values = [part[5 + index] + (255 if plus >> index & 1 else 0) for index in range(4)]
    low_v, high_v, low_h, high_h = values
    if not (0 < low_v <= high_v and 0 < low_h <= high_h):
        raise FormatError(PAD, offset + 5, expected="range limits with the lowest first", got=part[5:9].hex(" "))
    return RangeLimits((low_v, high_v), (low_h, high_h), part[9] * 10)


def _read_timings(block: bytes, offset: int) -> list[Timing]:
    """The detailed timings of a VTB-EXT block, as the kernel reads them: no more than six."""
    if block[1] != 1:
        return []
    starts = range(5, 5 + 18 * min(block[2], _IN_VTB), 18)
    return [detailed_at(block[start : start + 18], offset + start) for start in starts if any(block[start : start + 2])]


def _read_extension(block: bytes, offset: int) -> Extension:
    # without timings data blocks go on to the end; what points nowhere has neither (drm_edid.c: cea_db_offsets)
    end = block[2] if 4 <= block[2] <= 127 else BLOCK - 1 if not block[2] else 4
    codes: list[int] = []
    hdmi = False
    place = 4
    while place < end:
        tag, length = block[place] >> 5, block[place] & 31
        body = block[place + 1 : place + 1 + length]
        if place + 1 + length > end:
            raise FormatError(PAD, offset + place, expected=f"a data block ending by {end}", got=f"length {length}")
        if tag == 2:
            codes += [code & 0x7F if 129 <= code <= 192 else code for code in body]
        if tag == 3 and body[:3] == HDMI_OUI:
            hdmi = True
        place += 1 + length
    timings = [
        detailed_at(block[start : start + 18], offset + start)
        for start in range(end, BLOCK - 18, 18)
        if block[2] >= 4 and (block[start] or block[start + 1])
    ]
    return Extension(tuple(codes), bool(block[3] & 0x40), hdmi, tuple(timings))
