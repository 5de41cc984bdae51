"""Drills: a fault is hidden, and found by checks that cost minutes. Only the seed of the hiding is kept, never the
fault."""

from __future__ import annotations

import hashlib
import json
import secrets
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from pydantic import Field, ValidationError

from kyklon.base import durable, places
from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.reading import bytes_of, json_of
from kyklon.catalogue.fault_records import Drill
from kyklon.catalogue.loader import Catalogue
from kyklon.faults.fault_model import FaultModel, fault_model_of
from kyklon.faults.finder import Case, Next, cost_of, next_step, steps
from kyklon.faults.hidden import Machine, machines
from kyklon.model.build import Build
from kyklon.model.record import Record

FILE = "drills.json"
_GIVEN = ("symptom", "change")  # what is seen at once; checks cost their minutes
_MOST_STEPS = 200


class Progress(Record):
    """What was reached at a level: best score in percent, and how often it was solved."""

    best: int = Field(default=0, ge=0, le=100)
    solved: int = Field(default=0, ge=0)


class Open(Record):
    """A drill under way. seed: which fault is hidden where. asked: checks made; named: causes put right, in order."""

    drill: str
    seed: str
    asked: tuple[str, ...] = ()
    named: tuple[str, ...] = ()


class DrillFile(Record):
    progress: dict[str, Progress] = {}
    open: Open | None = None


@dataclass(frozen=True)
class State:
    """A drill as it stands. machines: by what of its causes is left, first all. case: what the user has been told, with
    what it comes to. minutes spent; best: what the finder needs from the same symptoms. solved: all causes are
    found."""

    drill: Drill
    kept: Open
    fault_model: FaultModel
    machines: tuple[Machine, ...]
    case: Case
    minutes: float
    best: float

    @property
    def found(self) -> tuple[str, ...]:
        return tuple(name for name in self.kept.named if name in self.machines[0].causes)

    @property
    def solved(self) -> bool:
        return len(self.found) == len(self.machines[0].causes)

    @property
    def left(self) -> int:
        """Causes that are still hidden. Only to be told once one was found."""
        return len(self.machines[0].causes) - len(self.found)

    @property
    def machine(self) -> Machine:
        """The machine as it is now."""
        return _now(self.machines, self.found)

    @property
    def score(self) -> int:
        """Percent of the best possible; 100 for as quick as the finder or quicker."""
        return min(100, round(100 * self.best / self.minutes)) if self.minutes else 0


def file() -> Path:
    return places.data_folder() / FILE


def read(path: Path) -> DrillFile:
    """What was reached. Raises KyklonError for a file that is none; it is left as it is."""
    if not path.exists():
        return DrillFile()
    try:
        return DrillFile.model_validate(json_of(bytes_of(path), str(path)))
    except (KyklonError, ValidationError) as bad:
        raise KyklonError(
            f"{path} is not a valid file of exercises.", do="Move it away; a new one will be created."
        ) from bad


def save(path: Path, kept: DrillFile) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    with durable.alone(path):
        durable.keep(path, json.dumps(kept.model_dump(), indent=1, sort_keys=True).encode() + b"\n")


def drills(catalogue: Catalogue) -> tuple[Drill, ...]:
    return tuple(sorted(catalogue.all(Drill), key=lambda each: each.level))


def by_level(catalogue: Catalogue, level: int) -> Drill:
    """Raises WrongUse."""
    found = next((drill for drill in drills(catalogue) if drill.level == level), None)
    if found is None:
        raise WrongUse(f"There is no level {level}.", do=f"There are 1 to {len(drills(catalogue))}.")
    return found


def begin(drill: Drill, seed: str = "") -> Open:
    """A drill with a fault hidden by chance, or by a certain seed."""
    return Open(drill=drill.id, seed=seed or secrets.token_hex(8))


def hidden_in(drill: Drill, seed: str, fault_model: FaultModel) -> tuple[str, ...]:
    """The causes that a seed hides: of those sets that this build can have. Raises WrongUse where it can have none."""
    can = [fault for fault in drill.faults if all(fault_model.cause_index(name) is not None for name in fault)]
    if not can:
        raise WrongUse(f"Level {drill.level} needs parts this build does not have.", do="Choose another level.")
    digest = hashlib.sha256(f"{drill.id} {seed}".encode()).digest()
    return can[int.from_bytes(digest[:8], "big") % len(can)]


def state_of(
    kept: Open,
    build: Build,
    folder: Path,
    catalogue: Catalogue,
    watch: Watch = UNWATCHED,
    made: tuple[Machine, ...] | None = None,
) -> State:
    """A drill as it stands. made: the machines, where they were made before. Raises KyklonError, Cancelled."""
    drill = next((each for each in catalogue.all(Drill) if each.id == kept.drill), None)
    if drill is None:
        raise WrongUse(f"The exercise {kept.drill!r} is no longer in the catalogue.", do="Start another one.")
    fault_model = fault_model_of(build, catalogue)
    hidden = hidden_in(drill, kept.seed, fault_model)
    if made is None:
        wanted = [hidden, *([(name,) for name in hidden] if len(hidden) > 1 else [])]
        made = machines(wanted, build, folder, catalogue, fault_model, watch)
    best = solved_by_finder(fault_model, made)
    return _replayed(
        State(drill, replace_named(kept, ()), fault_model, made, _fresh(fault_model, made[0]), 0.0, best), kept
    )


def replace_named(kept: Open, named: tuple[str, ...]) -> Open:
    return kept.model_copy(update={"named": named, "asked": ()})


def _fresh(fault_model: FaultModel, machine: Machine) -> Case:
    """What is seen at once."""
    given = [observation.id for observation in fault_model.observations if observation.kind in _GIVEN]
    return Case(fault_model, tuple((name, machine.truth[name]) for name in given))


def _replayed(state: State, kept: Open) -> State:
    """The state after all that was done."""
    for name in kept.asked:
        if name.startswith("try:"):
            state = tried(state, name[4:])
        else:
            state = checked(state, name)
    return state


def checked(state: State, what: str) -> State:
    """The state after a check. Raises WrongUse for one that there is not."""
    index = state.fault_model.index_of(what)
    if index is None:
        raise WrongUse(f"Unknown check: {what!r}.", do="Choose one of those offered.")
    each = state.fault_model.observations[index]
    if what in {name for name, _seen in state.case.answers}:
        return state
    kept = state.kept.model_copy(update={"asked": (*state.kept.asked, what)})
    case = state.case.answered(what, state.machine.truth[what])
    return replace(state, kept=kept, case=case, minutes=state.minutes + cost_of(each))


def tried(state: State, cause: str) -> State:
    """The state after a cause was put right. Raises WrongUse for one that there is not."""
    index = state.fault_model.cause_index(cause)
    if index is None:
        raise WrongUse(f"Unknown cause: {cause!r}.", do="Choose one of those offered.")
    if cause in state.kept.named:
        return state
    kept = state.kept.model_copy(
        update={"asked": (*state.kept.asked, f"try:{cause}"), "named": (*state.kept.named, cause)}
    )
    minutes = state.minutes + state.fault_model.causes[index].minutes
    after = replace(state, kept=kept, minutes=minutes)
    if cause not in state.machines[0].causes:
        return replace(after, case=replace(state.case, tried=(*state.case.tried, cause)))
    if after.solved:
        return replace(after, case=replace(state.case, found=(*state.case.found, cause)))
    # the machine behaves otherwise now: what was seen before tells no more
    fresh = _fresh(state.fault_model, after.machine)
    return replace(after, case=replace(fresh, tried=state.case.tried, found=(*state.case.found, cause)))


def _now(made: Sequence[Machine], found: tuple[str, ...]) -> Machine:
    left = tuple(name for name in made[0].causes if name not in found)
    return next((machine for machine in made if machine.causes == left), made[0])


def solved_by_finder(fault_model: FaultModel, made: Sequence[Machine]) -> float:
    """Minutes that the fault finder needs for all causes, from the same symptoms."""
    minutes, found = 0.0, ()
    case = _fresh(fault_model, made[0])
    for _ in range(_MOST_STEPS):
        step = next_step(case)
        if step is None:
            break
        minutes += cost_of(step.observation) if step.observation else step.minutes
        if step.kind != "try":
            case = case.answered(step.id, _now(made, found).truth[step.id])
            continue
        if step.id not in made[0].causes:
            case = replace(case, tried=(*case.tried, step.id))
            continue
        found = (*found, step.id)  # type: ignore[assignment]
        if len(found) == len(made[0].causes):
            return minutes
        case = replace(_fresh(fault_model, _now(made, found)), tried=case.tried, found=found)
    return minutes


def offered(state: State) -> tuple[Next, ...]:
    """What can be done, by name; never by its worth, which would give the fault away."""
    return tuple(sorted(steps(state.case), key=lambda step: (step.kind == "try", step.minutes, step.id)))


def ended(path: Path, state: State) -> Progress:
    """Keep what was reached."""
    kept = read(path)
    before = kept.progress.get(state.drill.id, Progress())
    fresh = Progress(best=max(before.best, state.score), solved=before.solved + 1)
    save(path, DrillFile(progress={**kept.progress, state.drill.id: fresh}))
    return fresh
