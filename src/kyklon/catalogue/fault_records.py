"""What a catalogue file may say of faults: lines of boot logs, observations, causes, drills; read when asked for."""

from __future__ import annotations

import re
from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from kyklon.catalogue.records import CataloguePart, Positive


def _expression(text: str) -> str:
    try:
        re.compile(text)
    except (re.error, RecursionError, OverflowError) as bad:
        raise ValueError(f"is not a valid regular expression: {bad}") from bad
    return text


class LogPattern(CataloguePart):
    """What a line of a boot log means. name: the sentence it comes to, {1} for a group of the pattern. means: that the
    stage lies behind it, why it failed, a fault it lives with, or a word. rank: of several that stop, the one that says
    most counts. start: a new start begins here. kernel_line: its group is the kernel line. root_device: it names the
    root's device, which the kernel lists below when it is there. ends: a start says no more after it. example: such a
    line."""

    by: Literal["loader", "kernel", "manager", "programs", "image"]
    means: Literal["passed", "stops", "hurts", "told"]
    stage: str
    code: str = ""
    pattern: Annotated[str, AfterValidator(_expression)] = Field(min_length=1)
    rank: int = 0
    start: bool = False
    kernel_line: bool = False
    root_device: bool = False
    ends: bool = False
    example: str


Chance = Annotated[float, Field(ge=0, le=1)]


class Observation(CataloguePart):
    """Something seen, changed or checked. name: as a fact. ask: as a question. how: how it is checked. minutes: what it
    costs; risk: minutes that the danger of harm is worth. leak: how often it is answered yes without a cause. look: an
    act of the program that answers it. when: words of faults.setting; all must hold."""

    kind: Literal["symptom", "change", "check"]
    group: str = ""
    ask: str
    how: str = ""
    needs: str = ""
    caution: str = ""
    minutes: Positive
    risk: float = Field(default=0.0, ge=0)
    leak: Chance
    look: Literal["", "forecast", "boot files", "library"] = ""
    when: tuple[str, ...] = ()


class Cause(CataloguePart):
    """A reason why a machine fails. prior: of a thousand that fail. shows: observation (or lamp:STATE of Lamps), how
    often it is seen with this cause alone, and why that was judged so. codes: findings and failures that speak of the
    same. foreseen: a forecast from the card and the build would have told it. try_: the act that proves and cures it,
    minutes: what that takes."""

    prior: Positive
    operation: int
    codes: tuple[str, ...] = ()
    foreseen: bool = False
    try_: str = Field(alias="try")
    minutes: Positive
    needs: str = ""
    caution: str = ""
    when: tuple[str, ...] = ()
    shows: tuple[tuple[str, Chance, str], ...]


class Drill(CataloguePart):
    """A machine that fails, to practise on. faults: sets of causes, one of which is hidden. told: what its owner
    says."""

    level: int = Field(ge=1)
    told: str
    faults: tuple[tuple[str, ...], ...] = Field(min_length=1)
