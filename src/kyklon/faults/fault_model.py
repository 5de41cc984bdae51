"""What speaks for each cause before anything is asked: the build, its findings, the forecast, and past cures."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np

from kyklon.catalogue.fault_records import Cause, Observation
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Display, Lamps, Rhythm
from kyklon.faults.network import Floats, Network
from kyklon.model.build import Build
from kyklon.model.findings import Finding, Severity
from kyklon.operations.controls.hookup import devices_of, layout_of
from kyklon.operations.poweron.events import BringUp

# share of its prior that a cause has in a machine of which nothing is known; so that most machines that fail have one
# fault, and one in thirteen has two. CP
_AT_LARGE = 0.15
_NO_CAUSE = 0.002  # machines that fail for a cause that nobody wrote down, CP
FALSE_ANSWERS = 0.05  # share of answers that are wrong, CP
_RHYTHMS: tuple[Rhythm, ...] = ("steady", "slow", "quick", "paired", "dark")
_MOST_PRIOR = 0.97
# how much a sign multiplies the odds of a cause, CP
_FORETOLD, _FORETOLD_LATER, _STOP, _CAUTION, _NOT_FORETOLD = 300.0, 12.0, 40.0, 3.0, 0.12
_CURED_BEFORE = 1.0  # for each time that it was found before


@dataclass(frozen=True)
class Reason:
    """Why a cause is more or less likely: by how many times its odds changed, and in words."""

    times: float
    text: str


@dataclass(frozen=True)
class FaultModel:
    """Causes and observations that can be in this build. raw: the network over them as it is; network: as its answers
    are heard, false ones included, with one observation more at the end, that it fails. reasons: by cause id, what
    changed its chance before anything was asked. remarks: by cause and observation, why it was judged so."""

    causes: tuple[Cause, ...]
    observations: tuple[Observation, ...]
    raw: Network
    network: Network
    reasons: Mapping[str, tuple[Reason, ...]] = field(default_factory=dict)
    remarks: Mapping[tuple[str, str], str] = field(default_factory=dict)

    def index_of(self, observation: str) -> int | None:
        return next((i for i, each in enumerate(self.observations) if each.id == observation), None)

    def cause_index(self, cause: str) -> int | None:
        return next((i for i, each in enumerate(self.causes) if each.id == cause), None)


def words_of(build: Build, catalogue: Catalogue) -> frozenset[str]:
    """What the build has, in the words that causes and observations ask for."""
    board = catalogue.find(Board, build.part("board"))
    display = catalogue.find(Display, build.part("display"))
    encoders = [device.encoder for device in devices_of(build, catalogue)]
    layout = layout_of(build.controls, catalogue)
    image = catalogue.find(Image, build.part("image"))
    outputs = [port for port in board.ports if port.direction == "out" and port.signal == "HDMI"] if board else []
    has = {
        "tube": display is not None and display.tube,
        "flat": display is not None and not display.tube,
        "adapter": build.part("adapter") is not None,
        "encoder": bool(encoders),
        "two players": sum(encoder.players for encoder in encoders) > 1
        or (layout is not None and len(layout.seats) > 1),
        "quirk": any(encoder.quirk_flags for encoder in encoders),
        "disk": build.medium == "disk",
        "labels": build.boot.dialect == "extlinux",
        "system": image is None or image.has_system,
        "installer": image is not None and bool(image.installer_service),
        "bare metal": image is not None and image.school == "bare metal",
        "multi-boot": image is not None and image.school == "multi-boot",
        "two outputs": len(outputs) > 1,
        "battery": "battery" in build.kind.lower(),
    }
    return frozenset(word for word, holds in has.items() if holds)


def fault_model_of(
    build: Build,
    catalogue: Catalogue,
    findings: Sequence[Finding] = (),
    run: BringUp | None = None,
    cured: Mapping[str, int] | None = None,
    *,
    false_answers: float = FALSE_ANSWERS,
) -> FaultModel:
    """The fault model of a build. run: a forecast from the card as it is now, None without one; what it
    says then counts instead of the checks that ask for it. cured: how often each cause was found before."""
    words = words_of(build, catalogue)
    board = catalogue.find(Board, build.part("board"))
    table = _table(
        catalogue.all(Cause), catalogue.all(Observation), words, board.lamps if board else None, run is not None
    )
    prior, reasons = table.prior.copy(), {}
    for index, cause in enumerate(table.causes):
        found = tuple(_reasons(cause, findings, run, (cured or {}).get(cause.id, 0)))
        odds = prior[index] / (1 - prior[index]) * float(np.prod([each.times for each in found]))
        prior[index] = min(_MOST_PRIOR, odds / (1 + odds))
        reasons[cause.id] = (Reason(1.0, f"{cause.prior:.0f} of 1000 machines that fail have it."), *found)
    raw = Network(prior, table.weight, table.leak)
    return FaultModel(
        table.causes, table.observations, raw, _with_failing(raw.heard(false_answers)), reasons, table.remarks
    )


def _with_failing(network: Network) -> Network:
    """The network with one observation more, which is never false: that it fails."""
    weight = np.column_stack((network.weight, np.full(len(network.prior), 1.0)))
    return Network(network.prior, weight, np.append(network.leak, _NO_CAUSE))


@dataclass(frozen=True)
class _Table:
    causes: tuple[Cause, ...]
    observations: tuple[Observation, ...]
    prior: Floats
    weight: Floats
    leak: Floats
    remarks: Mapping[tuple[str, str], str]


@lru_cache(maxsize=16)
def _table(
    causes: tuple[Cause, ...],
    observations: tuple[Observation, ...],
    words: frozenset[str],
    lamps: Lamps | None,
    foretold: bool,
) -> _Table:
    """The numbers of what can be in a build with these words."""
    own = tuple(each for each in causes if words >= set(each.when))
    seen = tuple(
        observation
        for observation in observations
        if words >= set(observation.when) and not (foretold and observation.look == "forecast")
    )
    places = {each.id: index for index, each in enumerate(seen)}
    absent = np.ones((len(own), len(seen)))
    remarks: dict[tuple[str, str], str] = {}
    for index, cause in enumerate(own):
        for what, chance, why in cause.shows:
            name = f"lamp-{getattr(lamps, what[5:])}" if what.startswith("lamp:") and lamps else what
            if name in places:
                absent[index, places[name]] *= 1 - chance
                remarks.setdefault((cause.id, name), why)
    prior = np.array([each.prior / 1000 * _AT_LARGE for each in own])
    leak = np.array([each.leak for each in seen])
    return _Table(own, seen, prior, np.clip(1 - absent, 0.0, 0.995), leak, remarks)


def _reasons(cause: Cause, findings: Sequence[Finding], run: BringUp | None, cured: int) -> list[Reason]:
    found = []
    told = False
    blocked = False
    for failure in run.failures if run else ():
        if _speaks(cause, failure.code):
            told = True
            times = _FORETOLD_LATER if blocked else _FORETOLD
            found.append(Reason(times, f"The forecast says so: {failure.cause}"))
            break
        blocked = blocked or failure.blocks
    for finding in findings:
        if not told and _speaks(cause, finding.code) and finding.severity is not Severity.NOTE:
            told = True
            times = _STOP if finding.severity is Severity.STOP else _CAUTION
            found.append(Reason(times, f"A finding says so: {finding.message}"))
    if run is not None and cause.foreseen and not told:
        found.append(Reason(_NOT_FORETOLD, "The forecast from the card would have predicted this, but did not."))
    if cured:
        often = "once" if cured == 1 else f"{cured} times"
        found.append(Reason(1 + _CURED_BEFORE * min(cured, 4), f"It was the cause {often} before."))
    return found


def _speaks(cause: Cause, code: str) -> bool:
    return any(code == each or code.startswith(f"{each}:") for each in cause.codes)
