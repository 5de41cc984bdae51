"""From switch to photon: the sum of distributions is their convolution. Times in ms on a grid of 0.1 ms."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from math import ceil

import numpy as np
from numpy.typing import NDArray

from kyklon.base.quantities import show_share
from kyklon.catalogue.records import Adapter, Display, Encoder
from kyklon.catalogue.system_records import Emulator, System
from kyklon.model.build import Value
from kyklon.operations.picture.glass import Play

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
    """What a press passes through on its way to the glass. processor_mhz: the board's clock as it is set."""

    system: System
    emulator: Emulator
    encoder: Encoder
    adapters: tuple[Adapter, ...]
    display: Display
    processor_mhz: float = 1000.0


def shares(way: Way, values: Mapping[str, Value], field_hz: float, place: float | None = None) -> tuple[Share, ...]:
    """The contributions in the order the press passes them. field_hz: the display's rate. place: where on the glass the
    answer is looked for, 0 at the first line to 1 at the last; None for anywhere."""
    display, frame, play = way.display, 1000 / field_hz, _play(way, field_hz)
    queue = max(0, int(values["render-queue-frames"]) - 1)
    found = [*_to_frame(way, values, play.frame_ms)]
    if values["vertical-sync"] and play.follows:
        took = emulated_ms(way, values)
        wait = ceil(took / frame - 1e-9) * frame - took
        found.append(Share("Wait for V-sync", wait, wait, f"to the next refresh after {took:.1f} ms"))
    elif values["vertical-sync"]:  # two clocks drift past each other: any moment of a field is as likely
        found.append(Share("Wait for V-sync", 0, frame, f"evenly 0 to one refresh of {frame:.2f} ms"))
    if queue:
        whole = queue * play.frame_ms
        found.append(Share("Queue", whole, whole, f"{queue} more × {play.frame_ms:.2f} ms"))
    if place is None:
        found.append(Share("Scan-out", 0, frame, "evenly from the first to the last line"))
    else:
        found.append(Share("Scan-out", place * frame, place * frame, f"{show_share(place)} of the way down the screen"))
    found += [
        Share("Adapter", adapter.delay_ms, adapter.delay_ms, f"{adapter.delay_ms:g} ms in {adapter.name}")
        for adapter in way.adapters
        if adapter.delay_ms
    ]
    if display.processing_ms:
        own = display.processing_ms
        found.append(Share("Processing", own, own, f"{own:g} ms in {display.name}"))
    if display.response_ms:
        found.append(Share("Panel", display.response_ms, display.response_ms, f"{display.response_ms:g} ms response"))
    return tuple(found)


def ear_shares(way: Way, values: Mapping[str, Value], field_hz: float) -> tuple[Share, ...]:
    """The same on the way to the ear: from the frame on, through the sound buffer."""
    buffer = float(values["audio-buffer-ms"])
    filled = Share("Audio buffer", buffer / 2, buffer, f"half full to full of {buffer:g} ms")
    return (*_to_frame(way, values, _play(way, field_hz).frame_ms), filled)


def _play(way: Way, field_hz: float) -> Play:
    return Play(way.system.refresh_hz, Fraction(field_hz).limit_denominator(1_000_000))


def emulated_ms(way: Way, values: Mapping[str, Value]) -> float:
    """What the board takes for a frame that is shown: one, and one for each that it runs ahead."""
    return way.emulator.frame_ms * 1000 / way.processor_mhz * (1 + _ahead(way, values))


def _ahead(way: Way, values: Mapping[str, Value]) -> int:
    return min(int(values["frames-ahead"]) if way.emulator.frames_ahead else 0, way.system.lag_frames)


def _to_frame(way: Way, values: Mapping[str, Value], frame: float) -> tuple[Share, ...]:
    """From the switch to a frame that shows the press. frame: of the game, in ms."""
    system, encoder, ahead, took = way.system, way.encoder, _ahead(way, values), emulated_ms(way, values)
    lag = (system.lag_frames - ahead) * frame
    return (
        Share("Debounce", encoder.debounce_ms, encoder.debounce_ms, f"{encoder.debounce_ms:g} ms in {encoder.name}"),
        Share("USB poll", 0, encoder.poll_ms, f"evenly 0 to {encoder.poll_ms:g} ms (bInterval)"),
        Share("Frame sampling", 0, frame, f"evenly 0 to one frame of {frame:.2f} ms"),
        Share("Game", lag, lag, f"({system.lag_frames} lag − {ahead} ahead) × {frame:.2f} ms"),
        Share("Emulation", took, took, f"{1 + ahead} × {way.emulator.frame_ms * 1000 / way.processor_mhz:.1f} ms"),
    )


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
