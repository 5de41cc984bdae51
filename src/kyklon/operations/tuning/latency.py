"""From switch to photon: the sum of distributions is their convolution. Times in ms on a grid of 0.1 ms."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kyklon.catalogue.records import Adapter, Display, Emulator, Encoder, System
from kyklon.model.build import Value

STEP_MS = 0.1


@dataclass(frozen=True)
class Share:
    """One contribution: a fixed delay, or one spread evenly from low to high, in ms. how: its working."""

    name: str
    low: float
    high: float
    how: str

    @property
    def mean(self) -> float:
        return (self.low + self.high) / 2


@dataclass(frozen=True)
class Latency:
    """density: probability per grid step; times: the grid in ms from the start of the sum's support."""

    shares: tuple[Share, ...]
    times: NDArray[np.float64]
    density: NDArray[np.float64]

    @property
    def mean(self) -> float:
        return sum(share.mean for share in self.shares)

    def percentile(self, percent: float) -> float:
        """Time in ms below which that share of presses reaches the glass. percent: 0 to 100."""
        return float(np.interp(percent / 100, np.cumsum(self.density), self.times))


@dataclass(frozen=True)
class Way:
    """What a press passes through on its way to the glass."""

    system: System
    emulator: Emulator
    encoder: Encoder
    adapter: Adapter | None
    display: Display


def shares(way: Way, values: dict[str, Value], field_hz: float) -> tuple[Share, ...]:
    """The contributions in the order the press passes them. field_hz: the display's rate."""
    system, emulator, encoder, adapter, display = way.system, way.emulator, way.encoder, way.adapter, way.display
    frame = 1000 / field_hz
    ahead = min(int(values["frames-ahead"]) if emulator.frames_ahead else 0, system.lag_frames)
    queue = int(values["render-queue-frames"])
    found = [
        Share("Debounce", encoder.debounce_ms, encoder.debounce_ms, f"{encoder.debounce_ms:g} ms in {encoder.name}"),
        Share("USB poll", 0, encoder.poll_ms, f"evenly 0 to {encoder.poll_ms:g} ms (bInterval)"),
        Share("Frame sampling", 0, frame, f"evenly 0 to one field of {frame:.2f} ms"),
        Share("Game", (system.lag_frames - ahead) * frame, (system.lag_frames - ahead) * frame,
              f"({system.lag_frames} lag − {ahead} ahead) × {frame:.2f} ms"),
        Share("Queue", queue * frame, queue * frame, f"{queue} × {frame:.2f} ms"),
        Share("Scan-out", 0, frame, "evenly from the first to the last line"),
    ]  # fmt: skip
    if adapter is not None and adapter.delay_ms:
        found.append(Share("Adapter", adapter.delay_ms, adapter.delay_ms, f"{adapter.delay_ms:g} ms in {adapter.name}"))
    if display.response_ms:
        found.append(Share("Panel", display.response_ms, display.response_ms, f"{display.response_ms:g} ms response"))
    return tuple(found)


def total(parts: tuple[Share, ...]) -> Latency:
    """The distribution of the sum."""
    fixed = sum(part.low for part in parts)
    density: NDArray[np.float64] = np.ones(1)
    for part in parts:
        width = round((part.high - part.low) / STEP_MS)
        if width > 0:
            density = np.convolve(density, np.full(width + 1, 1 / (width + 1))).astype(np.float64)
    times = fixed + STEP_MS * np.arange(len(density), dtype=np.float64)
    density.setflags(write=False)
    times.setflags(write=False)
    return Latency(parts, times, density)
