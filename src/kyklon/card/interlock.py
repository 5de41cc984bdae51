"""The one place that decides whether a drive may be written. Pure; the writer takes only the permit made here."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass

from kyklon.devices.ports import DriveFacts
from kyklon.errors import Refused
from kyklon.quantities import show_bytes

LARGEST_CARD = 1_100_000_000_000  # bytes; CP: larger than any card this work uses


@dataclass(frozen=True)
class Case:
    """What is to be judged. need: bytes to write. source: where the image is, as an absolute path, '' for none.
    own: the card this build wrote before, so that nothing of somebody else's is on it. edit: only boot files are
    exchanged, the rest of the drive stays."""

    drive: DriveFacts
    need: int
    source: str = ""
    own: bool = False
    edit: bool = False
    chosen_identity: str = ""


@dataclass(frozen=True)
class Verdict:
    """refusals: reasons that nothing overrides. lose: what must be typed, letter for letter, because it will be
    gone; '' when the drive is empty. loss: the sentence that says what will be gone."""

    refusals: tuple[str, ...]
    warnings: tuple[str, ...]
    lose: str
    loss: str

    @property
    def allowed(self) -> bool:
        return not self.refusals


@dataclass(frozen=True)
class Rule:
    code: str
    reason: Callable[[Case], str | None]


def _running_system(case: Case) -> str | None:
    return "It holds the running system of this computer." if case.drive.in_use else None


def _mounted(case: Case) -> str | None:
    if case.drive.in_use or not case.drive.mounts:
        return None
    return f"It is mounted at {', '.join(case.drive.mounts)}; files on it may be open. Unmount it first."


def _read_only(case: Case) -> str | None:
    if not case.drive.read_only:
        return None
    return "It is read-only. Look for the small slider on the card or its adapter; a worn card also locks itself."


def _too_small(case: Case) -> str | None:
    if case.drive.size >= case.need or (case.drive.is_file and not case.drive.size):
        return None
    return f"It holds {show_bytes(case.drive.size)}; the image needs {show_bytes(case.need)}."


def _not_removable(case: Case) -> str | None:
    return None if case.drive.removable else f"It is built in ({case.drive.bus}), not a card or stick."


def _changed(case: Case) -> str | None:
    if case.chosen_identity in ("", case.drive.identity):
        return None
    return "It is not the drive that was chosen: it was exchanged since. Choose again."


def _is_source(case: Case) -> str | None:
    if case.drive.is_file and case.drive.identity == f"file:{case.source}":
        return "It is the image file itself."
    for mount in case.drive.mounts:
        if case.source and mount != "/" and (case.source + "/").startswith(mount.rstrip("/") + "/"):
            return "The image file is on this very drive."
    return None


RULES = (
    Rule("running-system", _running_system),
    Rule("not-removable", _not_removable),
    Rule("is-source", _is_source),
    Rule("mounted", _mounted),
    Rule("read-only", _read_only),
    Rule("too-small", _too_small),
    Rule("changed", _changed),
)


def judge(case: Case) -> Verdict:
    """Every rule's reason, and what would be lost."""
    refusals = tuple(reason for rule in RULES if (reason := rule.reason(case)))
    warnings = []
    if case.drive.size > LARGEST_CARD:
        warnings.append(f"{show_bytes(case.drive.size)} is larger than a card usually is. Is this a backup disk?")
    lose, loss = _loss(case)
    return Verdict(refusals, tuple(warnings), lose, loss)


def _loss(case: Case) -> tuple[str, str]:
    drive = case.drive
    if case.own or case.edit or not (drive.labels or drive.files or drive.holds or case.drive.size > LARGEST_CARD):
        return "", ""
    name = drive.labels[0] if drive.labels else drive.name
    what = drive.holds or f"{drive.files} files"
    newest = f", the newest of {drive.newest}" if drive.newest else ""
    return name, f"{what} on “{name}” ({show_bytes(drive.size)}){newest} will be gone for good."


_KEY = object()


class Permit:
    """Binds one drive to one source for one write. Made by grant() only, spent by use()."""

    def __init__(self, key: object, identity: str, source: str) -> None:
        if key is not _KEY:
            raise Refused(("Only the interlock gives permits.",))
        self.identity, self.source = identity, source
        self._spent = False
        self._lock = threading.Lock()

    def use(self, identity: str, source: str) -> None:
        """Spend the permit. Raises Refused for a second use, another drive or another source."""
        with self._lock:
            if self._spent or (identity, source) != (self.identity, self.source):
                raise Refused(("This permit is for another write.",), do="Choose the drive again.")
            self._spent = True


def grant(case: Case, *, typed: str = "") -> Permit:
    """A permit, or Refused with the reasons. typed: what the user typed to say what may be lost."""
    verdict = judge(case)
    if verdict.refusals:
        raise Refused(verdict.refusals, do="Choose another drive.")
    if verdict.lose and typed != verdict.lose:
        raise Refused((verdict.loss,), do=f"To go on, name it exactly: {verdict.lose}")
    return Permit(_KEY, case.drive.identity, case.source)
