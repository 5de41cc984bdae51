"""The one place that decides whether a drive may be written, and that opens it.

judge() is pure: facts in, verdict out. opened() judges the drive as it is now, opens it once, and hands out the only
thing that writer, proof and preparing work on.
"""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING

from kyklon.base.errors import BadBlock, Refused
from kyklon.base.quantities import show_bytes
from kyklon.devices.ports import DriveFacts, Handle, Target
from kyklon.model.image_file import SourceFacts
from kyklon.operations.card.drives.looking import again

if TYPE_CHECKING:
    from kyklon.model.build import Build

LARGEST_CARD = 1_100_000_000_000  # bytes; CP: larger than any card this work uses


@dataclass(frozen=True)
class Case:
    """What is to be judged. need: bytes that are sure to be written; likely: an estimate where they are not known.

    source: where the image is, as an absolute path, '' for none. source_nodes: everything its bytes lie on.
    own: the card this build wrote before, so that nothing of somebody else's is on it. edit: only boot files are
    exchanged, the rest of the drive stays. disk: the build starts from a disk, so that a large one is meant.
    unkept: since when its saves were not kept, ISO 8601.
    chosen_identity, chosen_node: of the drive when it was chosen, '' for chosen just now.
    """

    drive: DriveFacts
    need: int
    source: str = ""
    source_nodes: frozenset[str] = frozenset()
    own: bool = False
    edit: bool = False
    disk: bool = False
    likely: int = 0
    chosen_identity: str = ""
    chosen_node: str = ""
    unkept: str = ""


@dataclass(frozen=True)
class Verdict:
    """refusals: reasons that nothing overrides; codes: of the rules that gave them. lose: what must be typed, letter
    for letter, because it will be gone; '' when the drive is empty. loss: the sentence that says what will be gone."""

    refusals: tuple[str, ...]
    warnings: tuple[str, ...]
    lose: str
    loss: str
    codes: tuple[str, ...] = ()

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
    return "It holds this computer's running system." if case.drive.in_use else None


def _swap(case: Case) -> str | None:
    return "This computer uses it as swap space, as if it were memory." if case.drive.swap else None


_MEMBERS = {
    "LVM": "It is part of an active volume group (LVM); other drives depend on it.",
    "RAID": "It is part of an active disk array (RAID); other drives depend on it.",
    "crypt": "It holds an encrypted volume that is open now.",
    "mapped": "Another device is built on it and in use now.",
}


def _member(kind: str) -> Callable[[Case], str | None]:
    return lambda case: _MEMBERS[kind] if case.drive.member_of == kind else None


def _partition(case: Case) -> str | None:
    if not case.drive.part_of:
        return None
    return f"It is one partition of {case.drive.part_of}; an image brings its own partitions. Choose the whole drive."


def _mounted(case: Case) -> str | None:
    if case.drive.in_use or not case.drive.mounts:
        return None
    return f"It is mounted at {', '.join(case.drive.mounts)}; files on it may be open. Unmount it first."


def _read_only(case: Case) -> str | None:
    if not case.drive.read_only:
        return None
    if case.drive.why_read_only:
        return f"It is read-only. {case.drive.why_read_only}"
    return "It is read-only. Check the write-protect switch on the card or its adapter; a worn card also locks itself."


def _too_small(case: Case) -> str | None:
    if case.drive.size >= case.need or (case.drive.is_file and not case.drive.size):
        return None
    return f"Its size is {show_bytes(case.drive.size)}; the image needs {show_bytes(case.need)}."


def _too_large(case: Case) -> str | None:
    if case.drive.size <= LARGEST_CARD or case.disk or case.edit:
        return None
    return (
        f"At {show_bytes(case.drive.size)} it is larger than any card: it looks like a backup disk. If the "
        "machine should boot from a disk, set that in the build first."
    )


def _not_removable(case: Case) -> str | None:
    return None if case.drive.removable else f"It is built in ({case.drive.bus_shown}), not a card or stick."


def _changed(case: Case) -> str | None:
    same = case.chosen_identity in ("", case.drive.identity)
    if same and (not case.chosen_node or case.chosen_node == case.drive.node):
        return None
    return _EXCHANGED


def _is_source(case: Case) -> str | None:
    if case.drive.is_file and case.drive.identity == f"file:{case.source}":
        return "It is the image file itself."
    if case.source_nodes & set(case.drive.nodes):
        return "It is the image file itself." if case.drive.is_file else "The image file is on this very drive."
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
    Rule("mapped", "a drive that another device is built on", _member("mapped")),
    Rule("partition", "a partition instead of its drive", _partition),
    Rule("not-removable", "a built-in drive", _not_removable),
    Rule("is-source", "the drive that holds the image", _is_source),
    Rule("mounted", "a drive with files in use", _mounted),
    Rule("read-only", "a drive that is read-only", _read_only),
    Rule("too-small", "a drive smaller than the image", _too_small),
    Rule("too-large", "a drive larger than a card", _too_large),
    Rule("changed", "a drive other than the one chosen", _changed),
)


def judge(case: Case) -> Verdict:
    """Every rule's reason, and what would be lost."""
    refused = [(rule.code, reason) for rule in RULES if (reason := rule.reason(case))]
    warnings = []
    if case.drive.size > LARGEST_CARD:
        warnings.append(f"{show_bytes(case.drive.size)} is larger than a card usually is. Is this a backup disk?")
    if case.likely > case.drive.size >= case.need and case.drive.size:
        warnings.append(
            f"The image does not state its size; it is probably about {show_bytes(case.likely)}, more than fits."
        )
    if case.unkept and not case.edit:
        warnings.append(
            f"If this is the card written on {case.unkept[:10]}, its saves are not backed up: do that first, in Upkeep."
        )
    lose, loss = _loss(case)
    return Verdict(
        tuple(reason for _code, reason in refused),
        tuple(warnings),
        lose,
        loss,
        tuple(code for code, _reason in refused),
    )


def _loss(case: Case) -> tuple[str, str]:
    drive = case.drive
    if case.own or case.edit or not (drive.labels or drive.files or drive.holds or case.drive.size > LARGEST_CARD):
        return "", ""
    name = drive.labels[0] if drive.labels else drive.name
    what = drive.holds or f"{drive.files} files"
    newest = f", the newest from {drive.newest}" if drive.newest else ""
    return name, f"{what} on “{name}” ({show_bytes(drive.size)}){newest} will be gone for good."


class Purpose(StrEnum):
    """What a drive is opened for. A write may end in a proof, and a prepared card may get files."""

    WRITE = "write"
    PROVE = "prove"
    PREPARE = "prepare"
    EDIT = "edit"  # files on it are exchanged, the rest stays


_ALSO = {Purpose.WRITE: {Purpose.PROVE}, Purpose.PREPARE: {Purpose.EDIT}}


@dataclass(frozen=True)
class Consent:
    """What the user said. typed: the name of what may be lost, letter for letter. chosen, node: the drive's identity
    and node when it was chosen, '' for chosen just now."""

    typed: str = ""
    chosen: str = ""
    node: str = ""


NOTHING_SAID = Consent()


@dataclass(frozen=True)
class Request:
    """One act on one drive. image: what is to be written, None for an act without one. build: whose act it is, None
    outside a build."""

    target: Target
    purpose: Purpose
    image: SourceFacts | None = None
    consent: Consent = NOTHING_SAID
    build: Build | None = None

    @property
    def case(self) -> Case:
        """What is to be judged."""
        image = self.image
        size = (image.unpacked or 0) if image else 0
        return Case(
            drive=self.target.facts,
            need=size if image and image.exact else 0,
            likely=0 if image and image.exact else size,
            source=image.place if image else "",
            source_nodes=image.nodes if image else frozenset(),
            own=self._own,
            edit=self.purpose is Purpose.EDIT,
            disk=self.build is not None and self.build.medium == "disk",
            unkept=self._unkept,
            chosen_identity=self.consent.chosen,
            chosen_node=self.consent.node,
        )

    @property
    def _unkept(self) -> str:
        """Since when saves were not kept of a card that was last in this drive; it may be another one by now."""
        build = self.build
        return build.unkept_since if build is not None and build.card.drive == self.target.facts.identity else ""

    @property
    def _own(self) -> bool:
        """Whether this build wrote the card before. A real reader tells its own serial, not the card's: another card
        in it looks the same, so only a stand-in is ever taken for the build's own."""
        facts = self.target.facts
        return self.build is not None and facts.simulated and self.build.card.drive == facts.identity


def check(verdict: Verdict, consent: Consent) -> None:
    """Raise Refused unless a verdict allows the act and what may be lost was named exactly."""
    if verdict.refusals:
        raise Refused(verdict.refusals, do="Choose another drive.")
    if verdict.lose and consent.typed != verdict.lose:
        raise Refused((verdict.loss,), do=f"To go ahead, type its name exactly: {verdict.lose}")


_KEY = object()


_JUDGED = 1 << 20  # bytes at the beginning: tables, and the superblocks of unpartitioned drives


class _Guarded:
    """A handle that looks once more, right before the first byte, whether the drive still holds what was judged."""

    def __init__(self, inner: Handle, name: str) -> None:
        self._inner, self._name = inner, name
        self._judged, self._begun = self._beginning(), False

    def _beginning(self) -> bytes:
        try:
            return hashlib.sha256(self._inner.read_at(_JUDGED, 0)).digest()
        except BadBlock:  # a card that cannot be read there; writing it will tell
            return b""

    def begin(self) -> None:
        """Raises Refused when somebody else has written meanwhile."""
        if self._begun:
            return
        if self._beginning() != self._judged:
            raise Refused(
                (f"Something else has just written to {self._name}.",), do="Check what is on it, then choose it again."
            )
        self._begun = True

    @property
    def cached(self) -> bool:
        return self._inner.cached

    @property
    def node(self) -> str:
        return self._inner.node

    @property
    def path(self) -> Path:
        return self._inner.path

    def write_at(self, data: bytes | memoryview, offset: int) -> None:
        self.begin()
        self._inner.write_at(data, offset)

    def zero(self, length: int, offset: int) -> bool:
        """Override."""
        self.begin()
        return self._inner.zero(length, offset)

    def read_at(self, length: int, offset: int) -> bytes:
        return self._inner.read_at(length, offset)

    def sync(self) -> None:
        self._inner.sync()

    def forget_cache(self) -> None:
        self._inner.forget_cache()

    def reread_table(self) -> str:
        """Override."""
        return self._inner.reread_table()


class OpenTarget:
    """A judged drive, open for one purpose, until the with-block of opened() ends."""

    def __init__(self, key: object, request: Request, handle: _Guarded) -> None:
        if key is not _KEY:
            raise Refused(("Only the interlock opens drives for writing.",))
        self._request, self._handle = request, handle
        self._open = True

    @property
    def facts(self) -> DriveFacts:
        return self._request.target.facts

    @property
    def path(self) -> Path:
        """Where system tools find the very bytes that were judged."""
        return self._handle.path

    def handle_for(self, purpose: Purpose, image: SourceFacts | None = None) -> Handle:
        """The open drive, for the purpose and the image it was judged for. Raises Refused for any other, or later, or
        when somebody else has written on it since it was judged."""
        own = self._request.purpose
        if not self._open or (purpose is not own and purpose not in _ALSO.get(own, ())):
            raise Refused((f"{self.facts.name} was not opened for this.",), do="Choose the drive again.")
        if purpose is Purpose.WRITE and (image is None or image != self._request.image):
            raise Refused((f"{self.facts.name} was opened for another image.",), do="Choose the drive again.")
        return self._handle

    def begin(self) -> None:
        """For who writes by way of `path`: as the handle does by itself before its first byte. Raises Refused."""
        self._handle.begin()

    def close(self) -> None:
        self._open = False


@contextlib.contextmanager
def opened(request: Request) -> Iterator[OpenTarget]:
    """Judge the drive that is listed under its name now, open it, and judge it again while it is held: from then on
    nobody can mount, exchange or format it. Raises Refused, TargetError; then nothing was touched."""
    before = replace(request, target=again(request.target))
    check(judge(before.case), before.consent)
    facts = before.target.facts
    with before.target.drives.open(facts.identity, write=True) as handle:
        if facts.node and handle.node != facts.node:
            again(before.target)  # one that was pulled out is told as gone
            raise Refused((_EXCHANGED,), do="Choose it again.")
        guarded = _Guarded(handle, facts.name)
        now = replace(before, target=again(before.target))
        if handle.node != now.target.facts.node:
            raise Refused((_EXCHANGED,), do="Choose it again.")
        check(judge(now.case), now.consent)
        target = OpenTarget(_KEY, now, guarded)
        try:
            yield target
        finally:
            target.close()


_EXCHANGED = "It is not the drive you chose: it was swapped."
