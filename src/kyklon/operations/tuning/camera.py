"""A latency measured with a camera: pictures counted from the switch to the glass, fitted to the model.

A switch closes and the glass answers at any moment within a camera's picture, so that n pictures mean a time between
(n - 1) and (n + 1) of them, likeliest n: the model's distribution, shifted by what it does not know, is folded with
that triangle, and the shift is estimated from all presses at once (posterior mean under a flat prior).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kyklon.base.errors import WrongUse
from kyklon.operations.tuning.latency import STEP_MS, Latency

_LEAST_MS, _MOST_MS = -80.0, 300.0  # of the shift that is looked for
_LEAST_PRESSES = 5
LONGEST_MS = 1000.0  # beyond that it is another press's answer, or another frame rate, CP
_OUTLIER = 1e-4  # probability of a press that the model does not explain at all


@dataclass(frozen=True)
class Measured:
    """mean_ms: of the presses themselves. unknown_ms: what the model does not explain, with its interval of 95 %.
    presses: how many. fits: whether the presses spread as the model says."""

    mean_ms: float
    unknown_ms: float
    low_ms: float
    high_ms: float
    presses: int
    fits: bool

    @property
    def explained(self) -> bool:
        """Whether nothing need be unknown."""
        return self.low_ms <= 0 <= self.high_ms


def fit(counts: Sequence[int], per_second: float, model: Latency) -> Measured:
    """What a clip says. counts: pictures from press to answer. per_second: pictures a second. Raises WrongUse."""
    if len(counts) < _LEAST_PRESSES:
        raise WrongUse(
            f"{len(counts)} presses are too few to measure latency.", do="Film ten presses, each at a random moment."
        )
    if not 10 <= per_second <= 100_000:
        raise WrongUse(
            f"A camera of {per_second:g} frames per second is not possible.", do="Give its frame rate, as 240."
        )
    picture = 1000.0 / per_second
    if max(counts) * picture > LONGEST_MS:
        raise WrongUse(
            f"{max(counts)} frames are {max(counts) * picture / 1000:.1f} s; no game reacts that late.",
            do="Count from the press to its own answer, and check the camera's frame rate.",
        )
    times, density = _seen(model, picture)
    shifts = np.arange(_LEAST_MS, _MOST_MS, STEP_MS)
    measured = np.array(counts, dtype=np.float64) * picture
    chance = np.interp(measured[:, None] - shifts[None, :], times, density, left=0.0, right=0.0)
    logs = np.log((1 - _OUTLIER) * chance + _OUTLIER / (_MOST_MS - _LEAST_MS)).sum(axis=0)
    posterior = np.exp(logs - logs.max())
    posterior /= posterior.sum()
    below = np.cumsum(posterior)
    low, high = (float(shifts[int(np.searchsorted(below, share))]) for share in (0.025, 0.975))
    unknown = float((posterior * shifts).sum())
    spread = float(np.sqrt((density * (times - (density * times).sum()) ** 2).sum())) if len(times) else 0.0
    seen = float(measured.std(ddof=1))
    return Measured(float(measured.mean()), unknown, low, high, len(counts), seen <= 2.2 * spread + picture)


def _seen(model: Latency, picture: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The model's density as a camera sees it: folded with the triangle of one picture to each side."""
    half = max(1, round(picture / STEP_MS))
    triangle = np.concatenate([np.arange(1, half + 1), np.arange(half - 1, 0, -1)]).astype(np.float64)
    triangle /= triangle.sum()
    density = np.convolve(model.density, triangle)
    times = model.times[0] - (half - 1) * STEP_MS + STEP_MS * np.arange(len(density))
    return times, density / density.sum()


def filmed(
    model: Latency, hidden_ms: float, presses: int, per_second: float, chance: np.random.Generator
) -> tuple[int, ...]:
    """A simulated camera: presses of a machine that has something hidden beside what the model knows."""
    picture = 1000.0 / per_second
    times = chance.choice(model.times, size=presses, p=model.density / model.density.sum()) + hidden_ms
    starts = chance.uniform(0, picture, size=presses)
    counted = np.floor((starts + times) / picture).astype(int)
    return tuple(int(each) for each in counted)


def counts_in(text: str) -> tuple[int, ...]:
    """Counts as somebody types them: whole numbers with anything between. Raises WrongUse."""
    words = text.replace(",", " ").replace(";", " ").split()
    if not words or not all(word.isdecimal() and len(word) < 5 for word in words):
        raise WrongUse(
            "Enter the camera frames counted for each press, for example 12 14 13.", do="Whole numbers, at least five."
        )
    return tuple(int(word) for word in words)
