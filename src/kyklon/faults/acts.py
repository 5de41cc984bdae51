"""The fault finder at a build: its case, and the record of what was asked, tried and found."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from kyklon.base import places
from kyklon.catalogue.fault_records import Cause, Observation
from kyklon.catalogue.loader import Catalogue
from kyklon.faults.fault_model import fault_model_of
from kyklon.faults.finder import Case
from kyklon.model.build import Build
from kyklon.model.fault import FaultAnswer, FaultCase
from kyklon.model.findings import Finding, Remedy
from kyklon.operations.poweron.events import BringUp
from kyklon.record import cures
from kyklon.record.logbook import now


def case_of(
    build: Build,
    catalogue: Catalogue,
    findings: Sequence[Finding],
    run: BringUp | None,
    record: FaultCase | None = None,
) -> Case:
    """The case that a build keeps, or another record of one, over what is known of the build now."""
    kept = build.fault if record is None else record
    fault_model = fault_model_of(build, catalogue, findings, run, cures.cured(cures_file()))
    answers = tuple((answer.what, answer.seen) for answer in kept.answers)
    return Case(fault_model, answers, kept.tried, kept.found)


def remedies_of(case: Case, findings: Sequence[Finding], run: BringUp | None) -> dict[str, Remedy]:
    """What one click does against a cause, by its id: the remedy of a failure, else of a finding, that speaks of it."""
    known = [(failure.code, failure.remedy) for failure in run.failures] if run else []
    known += [(finding.code, finding.remedy) for finding in findings]
    return {
        cause.id: remedy
        for cause in case.fault_model.causes
        for code, remedy in reversed(known)
        if remedy is not None and code.split(":")[0] in cause.codes
    }


def cures_file() -> Path:
    return places.data_folder() / cures.FILE


def answered(record: FaultCase, what: str, seen: bool) -> FaultCase:
    """The record with one more answer; an older one to the same is replaced."""
    rest = tuple(answer for answer in record.answers if answer.what != what)
    return record.model_copy(
        update={
            "at": record.at or now(),
            "answers": (*rest, FaultAnswer(what=what, seen=seen)),
            "cannot": tuple(each for each in record.cannot if each != what),
        }
    )


def put_aside(record: FaultCase, what: str) -> FaultCase:
    """What the user cannot tell, or has no means for."""
    return record.model_copy(update={"at": record.at or now(), "cannot": (*record.cannot, what)})


def tried(record: FaultCase, cause: str, *, helped: bool) -> FaultCase:
    """A cause that was put right."""
    name = "found" if helped else "tried"
    return record.model_copy(update={"at": record.at or now(), name: (*getattr(record, name), cause)})


def without_last(record: FaultCase) -> FaultCase:
    """The record before its last answer."""
    return record.model_copy(update={"answers": record.answers[:-1]})


def path_of(record: FaultCase, catalogue: Catalogue) -> str:
    """What was seen and done, a line each, for the logbook."""
    seen = {each.id: each.name for each in catalogue.all(Observation)}
    causes = {each.id: each.name for each in catalogue.all(Cause)}
    lines = [f"{'Yes' if answer.seen else 'No'}: {seen.get(answer.what, answer.what)}" for answer in record.answers]
    lines += [f"Still failing after: {causes.get(each, each)}" for each in record.tried]
    return "\n".join([*lines, *(f"Found: {causes.get(each, each)}" for each in record.found)])
