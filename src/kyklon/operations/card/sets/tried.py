"""What was seen of the systems of a multi-boot card on the machine, and what follows from it."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Protocol

from kyklon.model.build import Build, TriedSystem, edited
from kyklon.model.findings import Severity
from kyklon.operations.card.sets.problems import Problem

_WIDE = ("aarch64", "x86_64", "riscv64")  # uname(1) -m, as the kernel's UTS_MACHINE has it
_NARROW = re.compile(r"^(armv[5-8]\w*|i[3-6]86|arm)$")


def bits_of(uname: str) -> int:
    """64 or 32 by the machine's name in a line of `uname -srm`; 0 where it has none that is known."""
    words = uname.split()
    if any(word in _WIDE for word in words):
        return 64
    return 32 if any(_NARROW.match(word) for word in words) else 0


def in_words(tried: TriedSystem) -> str:
    """What was seen, in a few words: 'started, 64-bit, returned'."""
    if not tried.started:
        return "did not start"
    bits = bits_of(tried.kernel)
    words = ["started", f"{bits}-bit" if bits else "", "returned" if tried.returned else "did not return"]
    return ", ".join(word for word in words if word)


def with_tried(build: Build, row: TriedSystem) -> Build:
    """A build that knows this of a system, in place of what it knew."""
    kept = tuple(each for each in build.sets.tried if each.bundle != row.bundle)
    return edited(build, "sets.tried", (*kept, row))


class _Released(Protocol):
    @property
    def folder(self) -> str: ...
    @property
    def released(self) -> str: ...


def problems_of(bundles: Sequence[_Released], tried: Sequence[TriedSystem]) -> tuple[Problem, ...]:
    """What the trials say against the bundles as they are now."""
    known: Mapping[str, TriedSystem] = {each.bundle: each for each in tried}
    found = []
    for bundle in bundles:
        seen = known.get(bundle.folder)
        if seen is None:
            continue

        def say(code: str, sentence: str, why: str, folder: str = bundle.folder) -> None:
            found.append(Problem(code, Severity.CAUTION, folder, sentence, why, bundle=folder))

        newer = bool(bundle.released and seen.released and bundle.released > seen.released)
        if newer:
            told = f"Released {bundle.released[:10]}; the one of {seen.released[:10]} was tried on {seen.at}."
            say("updated", told, "Unpacking it again erases its partitions: keep its saves first.")
        elif not seen.started:
            why = "Compare its boards with yours, and unpack it again before you look further."
            say("not-started", f"It did not start when it was tried on {seen.at}.", why)
        elif not seen.returned:
            why = "Find out how it returns before a child plays it: else the card comes out for every change."
            say("no-return", f"It did not return to the list when it was tried on {seen.at}.", why)
    return tuple(found)
