"""A display learnt from its identification data, or a tube from its rating plate, manual and a ruler."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from kyklon.model.display import RangeLimits
from kyklon.parts import identification
from kyklon.parts.draft import Draft
from kyklon.parts.identification import Identification

_ASPECTS = ((4, 3), (5, 4), (16, 10), (16, 9), (21, 9), (32, 9), (1, 1), (3, 4), (9, 16))
_NEAR = 0.04  # CP: sizes in whole centimetres are that far off
SOURCE = "EDID"
ASKED = (
    "tube",
    "socket",
    "ranges",
    "aspect",
    "width_mm",
    "height_mm",
    "overscan_percent",
    "sync",
    "native",
    "response_ms",
)
CAUTION = (
    "Rates from a rating plate or the manual only: a horizontal frequency that a tube does not hold can destroy it. "
    "A tube keeps a lethal charge after the plug is out; leave it closed."
)


@dataclass(frozen=True)
class TubeClass:
    """What tubes of a kind usually hold: a start for the questions, and no measurement."""

    name: str
    words: str
    ranges: tuple[dict[str, Any], ...]
    sync: str
    overscan: float


def _band(low: float, high: float, slow: float = 49, quick: float = 63) -> dict[str, Any]:
    return {"line_khz": [low, high], "field_hz": [slow, quick]}


# common practice; line rates of ITU-R BT.1700 (15.625 and 15.734 kHz) and of VESA DMT 640 x 480 (31.47 kHz) lie within
CLASSES = (
    TubeClass("television", "A television: 15 kHz only", (_band(15.2, 16.5),), "composite", 5),
    TubeClass(
        "several rates",
        "An arcade tube with two or three rates",
        (_band(15.2, 16.5), _band(24.0, 25.5), _band(31.0, 32.0)),
        "separate",
        3,
    ),
    TubeClass("monitor", "A computer's monitor: 31 kHz and up", (_band(31.0, 38.0, 50, 75),), "separate", 2),
)


def learn(data: bytes, source: str = SOURCE) -> Draft:
    """A draft from a file's bytes or a pasted dump. Raises FormatError for what is no identification data."""
    return from_identification(identification.look(identification.bytes_in(data)), source)


def from_identification(found: Identification, source: str = SOURCE) -> Draft:
    """Everything that the data say, and questions for the rest."""
    draft = Draft("displays", asked=ASKED)
    name = found.name or (f"{found.vendor} {found.product:04x}" if found.vendor else "Display")
    draft = draft.with_read(source, name=name)
    timings = identification.named_timings(found)
    draft = draft.with_read(source, modes=tuple(timing.model_dump() for timing in timings)) if timings else draft
    draft = _rates(draft, found, source)
    draft = _size(draft, found, source)
    if found.digital:
        draft = draft.with_read(source, sync="digital", hdmi=found.hdmi)
        draft = draft.offer("digital inputs are nearly always flat panels'", tube=False)
        if found.native:
            draft = draft.with_read(source, native=list(found.native))
        connector = (
            "HDMI A" if found.hdmi or found.link.startswith("HDMI") else "DVI-D" if found.link == "DVI" else "HDMI A"
        )
        draft = draft.offer(f"the data say {'HDMI' if found.hdmi else found.link or 'digital'}", socket=connector)
    else:
        if found.sync:
            draft = draft.with_read(source, sync=found.sync)
        draft = draft.offer("an analogue input with EDID", socket="DE-15")
    if len(found.colour) == 4:
        red, green, blue, white = (list(each) for each in found.colour)
        draft = draft.with_read(
            source, colour={"bits": found.bits, "red": red, "green": green, "blue": blue, "white": white}
        )
    return _about(draft, found).tell(*(f"Byte {at}: {words}." for at, words in found.troubles))


def _rates(draft: Draft, found: Identification, source: str) -> Draft:
    limits = found.ranges
    if limits is not None:
        draft = draft.with_read(source, ranges=[_of(limits)])
    else:
        spanned = identification.rates_of(identification.named_timings(found))
        if spanned is not None:
            draft = draft.with_read(f"{source}: spanned by its modes", ranges=[_of(spanned)])
            draft = draft.tell("It states no ranges; these cover the modes it lists, and it may accept more.")
            limits = spanned
    clock = max(limits.clock_mhz if limits else 0, found.most_mhz)
    return draft.with_read(source, most_clock_hz=clock * 1_000_000) if clock else draft


def _of(limits: RangeLimits) -> dict[str, Any]:
    return {"line_khz": list(map(float, limits.line_khz)), "field_hz": list(map(float, limits.field_hz))}


def _size(draft: Draft, found: Identification, source: str) -> Draft:
    wide, high = found.size_mm
    if wide and high:
        draft = draft.with_read(source, width_mm=float(wide), height_mm=float(high))
    pixels = found.native
    ratio = wide / high if wide and high else pixels[0] / pixels[1] if pixels else 0.0
    if ratio:
        return draft.with_read(source, aspect=list(_aspect(ratio)))
    return draft.tell("It does not state its picture size: measure it with a ruler.")


def _aspect(ratio: float) -> tuple[int, int]:
    best = min(_ASPECTS, key=lambda each: abs(each[0] / each[1] / ratio - 1))
    return best if abs(best[0] / best[1] / ratio - 1) <= _NEAR else (round(ratio * 100), 100)


def _about(draft: Draft, found: Identification) -> Draft:
    rows = [
        ("Made", f"{found.year}" + (f", week {found.week}" if 0 < found.week <= 54 else "")),
        ("EDID", f"EDID {found.version}, {found.extensions} extension{'' if found.extensions == 1 else 's'}"),
        ("Maker and product", f"{found.vendor or '?'} {found.product:04x}"),
    ]
    if found.gamma:
        rows.append(("Gamma", f"{found.gamma:.2f}"))
    if found.address:
        rows.append(("HDMI address", found.address))
    if found.codes:
        rows.append(("CTA codes", " ".join(map(str, found.codes))))
    rows.append(("Sound", "yes" if found.audio else "not said"))
    if found.has_serial:
        rows.append(("Serial number", "there, and not kept"))
    return Draft(**{**draft.__dict__, "about": tuple(rows)})


def tube(of: TubeClass) -> Draft:
    """The questions for a tube without data, with what its class usually holds as suggestions."""
    draft = Draft("displays", asked=ASKED).with_value("tube", True)
    why = f"usual for {of.words[:1].lower()}{of.words[1:]}; not measured"
    return draft.offer(
        why,
        ranges=[dict(each) for each in of.ranges],
        sync=of.sync,
        overscan_percent=of.overscan,
        aspect=[4, 3],
        socket="EN 50049" if of.name == "television" else "DE-15",
    ).tell(CAUTION)
