"""Findings and remedies: what is wrong, why it matters, and the edit that puts it right."""

from __future__ import annotations

from enum import StrEnum
from typing import Any

from kyklon.model.record import Record

COMMON_PRACTICE = "Common practice"


class Severity(StrEnum):
    STOP = "stop"  # it will not work, or can hurt or lose something
    CAUTION = "caution"  # it may
    NOTE = "note"


class Change(Record):
    """One edit of the Build: a dotted path of field names, and the value to put there.

    label, before and after are for the preview.
    """

    path: str
    value: Any
    label: str
    before: str
    after: str


class Remedy(Record):
    """What one click does: edits of the Build. label is an imperative."""

    label: str
    changes: tuple[Change, ...]


class Finding(Record):
    """code is unique within one inspection; `subject` names the thing it is about."""

    code: str
    severity: Severity
    operation: int
    subject: str
    title: str
    message: str
    why: str
    source: str = COMMON_PRACTICE
    remedy: Remedy | None = None
