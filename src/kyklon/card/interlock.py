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
    """What is to be judged. need: bytes that are sure to be written; likely: an estimate where they are not known.

    source: where the image is, as an absolute path, '' for none. source_drive: the drive it lies on, '' when unknown.
    own: the card this build wrote before, so that nothing of somebody else's is on it. edit: only boot files are
    exchanged, the rest of the drive stays. disk: the build starts from a disk, so that a large one is meant.
    chosen_identity: of the drive when it was chosen, '' for chosen just now.
    """

    drive: DriveFacts
    need: int
    source: str = ""
    source_drive: str = ""
    own: bool = False
    edit: bool = False
    disk: bool = False
    likely: int = 0
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
    """title: what the rule forbids, for the list of rules."""

    code: str
    title: str
    reason: Callable[[Case], str | None]


def _running_system(case: Case) -> str | None:
    return "It holds the running system of this computer." if case.drive.in_use else None


def _swap(case: Case) -> str | None:
    return "This computer uses it as swap space, as if it were memory." if case.drive.swap else None


_MEMBERS = {
    "LVM": "It is a member of an active volume group (LVM): other drives depend on it.",
    "RAID": "It is a member of an active disk array (RAID): other drives depend on it.",
    "crypt": "It carries an encrypted volume that is open now.",
}


def _member(kind: str) -> Callable[[Case], str | None]:
    return lambda case: _MEMBERS[kind] if case.drive.member_of == kind else None


def _partition(case: Case) -> str | None:
    if not case.drive.part_of:
        return None
    return f"It is one partition of {case.drive.part_of}; an image brings its own. Choose the whole drive."


def _mounted(case: Case) -> str | None:
    if case.drive.in_use or not case.drive.mounts:
        return None
    return f"It is mounted at {', '.join(case.drive.mounts)}; files on it may be open. Unmount it first."


def _read_only(case: Case) -> str | None:
    if not case.drive.read_only:
        return None
    if case.drive.why_read_only:
        return f"It is read-only. {case.drive.why_read_only}"
    return "It is read-only. Look for the small slider on the card or its adapter; a worn card also locks itself."


def _too_small(case: Case) -> str | None:
    if case.drive.size >= case.need or (case.drive.is_file and not case.drive.size):
        return None
    return f"It holds {show_bytes(case.drive.size)}; the image needs {show_bytes(case.need)}."


def _too_large(case: Case) -> str | None:
    if case.drive.size <= LARGEST_CARD or case.disk or case.edit:
        return None
    return (
        f"It holds {show_bytes(case.drive.size)}, more than a card does: it looks like a backup disk. "
        "If the machine is to start from a disk, say so in the build first."
    )


def _not_removable(case: Case) -> str | None:
    return None if case.drive.removable else f"It is built in ({case.drive.bus}), not a card or stick."


def _changed(case: Case) -> str | None:
    if case.chosen_identity in ("", case.drive.identity):
        return None
    return "It is not the drive that was chosen: it was exchanged since. Choose again."


def _is_source(case: Case) -> str | None:
    if case.drive.is_file and case.drive.identity == f"file:{case.source}":
        return "It is the image file itself."
    if case.source_drive and case.source_drive == case.drive.name:
        return "The image file is on this very drive."
    for mount in case.drive.mounts:
        if case.source and mount != "/" and (case.source + "/").startswith(mount.rstrip("/") + "/"):
            return "The image file is on this very drive."
    return None


RULES = (
    Rule("running-system", "the drive this computer runs from", _running_system),
    Rule("swap", "a drive used as swap space", _swap),
    Rule("lvm", "a member of an active volume group", _member("LVM")),
    Rule("raid", "a member of an active disk array", _member("RAID")),
    Rule("crypt", "a drive with an open encrypted volume", _member("crypt")),
    Rule("partition", "a partition in place of its drive", _partition),
    Rule("not-removable", "a drive that is built in", _not_removable),
    Rule("is-source", "the drive that holds the image", _is_source),
    Rule("mounted", "a drive with files in use", _mounted),
    Rule("read-only", "a drive that is read-only", _read_only),
    Rule("too-small", "a drive smaller than the image", _too_small),
    Rule("too-large", "a drive larger than a card", _too_large),
    Rule("changed", "another drive than the one chosen", _changed),
)


def judge(case: Case) -> Verdict:
    """Every rule's reason, and what would be lost."""
    refusals = tuple(reason for rule in RULES if (reason := rule.reason(case)))
    warnings = []
    if case.drive.size > LARGEST_CARD:
        warnings.append(f"{show_bytes(case.drive.size)} is larger than a card usually is. Is this a backup disk?")
    if case.likely > case.drive.size >= case.need and case.drive.size:
        warnings.append(
            f"The image does not tell its size; about {show_bytes(case.likely)} are likely, which is more than fits."
        )
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
