"""The next thing to do, in one sentence, and where."""

from __future__ import annotations

from dataclasses import dataclass

from kyklon.model.build import Build
from kyklon.model.findings import Finding, Severity
from kyklon.model.world import World


@dataclass(frozen=True)
class NextStep:
    sentence: str
    operation: int


def next_step(build: Build, world: World, findings: tuple[Finding, ...], *, bring_up_passed: bool) -> NextStep:
    """What to do first: stops, then the card, its boot files, the games, the bring-up, the checklist."""
    stops = [finding for finding in findings if finding.severity is Severity.STOP]
    if stops:
        first = stops[0]
        what = first.remedy.label if first.remedy else first.title
        return NextStep(f"{what}: {_lower(first.title)}" if first.remedy else what, first.operation)
    if not build.card.bootable:
        return NextStep("Write the image to a card and prove it", 20)
    if any(finding.code == "boot.not-on-card" for finding in findings):
        return NextStep("Copy this build's boot files to the card", 30)
    ready = len(world.scan.ready) if world.scan else 0
    there = sum(map(len, world.on_machine.games.values())) if world.on_machine else 0
    if ready and not there:
        return NextStep(f"Copy the {ready} games that are ready", 60)
    if not bring_up_passed:
        return NextStep("Run the bring-up: what will happen at power-on?", 90)
    return NextStep("Switch on and tick the first-boot checks", 90)


def _lower(sentence: str) -> str:
    """Lower-case beginning, unless it is a name or a figure."""
    word = sentence.split(" ")[0]
    return sentence[0].lower() + sentence[1:] if word in ("The", "This", "A", "An", "Only", "No", "Two") else sentence
