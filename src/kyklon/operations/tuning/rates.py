"""A game's rate against its mode's: what is lost or how fast it runs, what the sound does, and what to set."""

from __future__ import annotations

from dataclasses import dataclass

from kyklon.base.quantities import signed
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.text_records import TuningSetting
from kyklon.model.build import Build
from kyklon.model.world import World
from kyklon.operations.picture.schools import rows_of
from kyklon.operations.picture.smallest import Limits
from kyklon.operations.tuning.cascade import effective

SOUND_HZ = 48_000  # samples a second, CP
_AGREE = 1e-5  # as a part: a frame in half an hour, which nobody sees


@dataclass(frozen=True)
class Rate:
    """game_hz, shown_hz: of the game and of the mode. follows: whether the game may run at the mode's rate. speed: of
    it then, 1 for its own. cents: of its pitch. lost_per_min: frames lost or shown twice where it does not. slip_s:
    seconds until the sound buffer runs dry or over where nothing is resampled, None where it never does."""

    game_hz: float
    shown_hz: float
    follows: bool
    speed: float
    cents: float
    lost_per_min: float
    slip_s: float | None


def rates(build: Build, catalogue: Catalogue, world: World) -> dict[str, Rate]:
    """The rate of every system of the build, by id."""
    found = {}
    for row in rows_of(build, catalogue, world):
        play, system = row.play, row.system
        rows = effective(catalogue.all(TuningSetting), build.tuning, system.id, emulator=system.emulator)
        buffer = next((float(each.value) for each in rows if each.setting.id == "audio-buffer-ms"), 0.0)
        off = abs(play.speed - 1)
        slip = buffer / 2 / 1000 / off if off > _AGREE else None  # it begins half full
        follows = off <= Limits().speed
        found[system.id] = Rate(
            float(play.game_hz), float(play.shown_hz), follows, play.speed, play.cents, play.lost_per_min, slip
        )
    return found


def rate_words(build: Build, catalogue: Catalogue, world: World, system: str) -> str:
    """What a system's rate comes to, in words; '' for one without a mode."""
    rate = rates(build, catalogue, world).get(system)
    if rate is None:
        return ""
    head = f"{rate.game_hz:.2f} Hz on {rate.shown_hz:.2f} Hz: "
    if rate.slip_s is None:
        return head + "they agree."
    resampled = f"the sound is resampled to {SOUND_HZ / rate.speed:.0f} Hz"
    if rate.follows:
        return (
            f"{head}let it follow the display; it runs {signed(100 * (rate.speed - 1), 2)} %, {signed(rate.cents, 0)} "
            f"cents, and {resampled}. Without that the audio buffer runs out after {rate.slip_s:.0f} s."
        )
    return f"{head}let it keep its own speed; {rate.lost_per_min:.0f} frames per minute are dropped or repeated."
