"""Timings by standard and formula."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

from kyklon.base.errors import WrongUse
from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import OK, Json, out
from kyklon.operations.picture.exports import modeline
from kyklon.operations.picture.formulas import cvt, gtf
from kyklon.operations.picture.names import BLANKINGS, standard

if TYPE_CHECKING:
    from kyklon.model.timing import Timing

Interlaced = Annotated[bool, Option("--interlaced", help="RATE counts fields.")]


def timing_data(timing: Timing) -> dict[str, Any]:
    """A timing as the commands print it; rates rounded to 1 mHz."""
    return {
        "clock_hz": timing.clock_hz,
        "horizontal": timing.horizontal.model_dump(),
        "vertical": timing.vertical.model_dump(),
        "interlaced": timing.interlaced,
        "horizontal_hz": round(float(timing.horizontal_hz), 3),
        "vertical_hz": round(float(timing.vertical_hz), 6),
    }


def _print(timing: Timing, name: str, as_json: bool) -> int:
    line, field = float(timing.horizontal_hz) / 1000, float(timing.vertical_hz)
    out(timing_data(timing), as_json, lambda: [f"{line:.3f} kHz, {field:.3f} Hz", modeline(timing, name)])
    return OK


def cvt_timing(
    width: int,
    height: int,
    rate: float,
    blanking: Annotated[str, Option("--blanking", help="normal, reduced1, reduced2 or reduced3")] = "normal",
    interlaced: Interlaced = False,
    as_json: Json = False,
) -> int:
    """Compute a timing by VESA CVT 1.2."""
    kind = next((each for each in BLANKINGS if each == blanking), None)
    if kind is None:
        raise WrongUse(f"{blanking=} is not one of {', '.join(BLANKINGS)}.")
    return _print(cvt(width, height, rate, kind, interlaced=interlaced), f"{width}x{height} CVT", as_json)


def gtf_timing(width: int, height: int, rate: float, interlaced: Interlaced = False, as_json: Json = False) -> int:
    """Compute a timing by VESA GTF 1.1."""
    return _print(gtf(width, height, rate, interlaced=interlaced), f"{width}x{height} GTF", as_json)


def dmt_timing(dmt_id: Annotated[str, Argument(metavar="ID")], as_json: Json = False) -> int:
    """Look up a timing of VESA DMT 1.13 by its id.

    ID is decimal, 0x12 or 12h.
    """
    return _print(standard("dmt", dmt_id), f"DMT {dmt_id}", as_json)


def cta_timing(code: str, as_json: Json = False) -> int:
    """Look up a timing of CTA-861 by its video code."""
    return _print(standard("cta", code), f"CTA {code}", as_json)
