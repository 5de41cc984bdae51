"""What a write, or its failing, says of the card: one name, one sentence, one thing to do."""

from __future__ import annotations

import re
from dataclasses import dataclass

from kyklon.base.errors import BadBlock, KyklonError, TargetAsleep, TargetFull, TargetLocked, TargetLost, VerifyError
from kyklon.operations.card.drives.writer import WriteReport

FLOORS = {  # MB/s (10^6 bytes per second) of sequential writing: SD Association, speed classes
    "C2": 2,
    "C4": 4,
    "C6": 6,
    "C10": 10,
    "U1": 10,
    "U3": 30,
    "V6": 6,
    "V10": 10,
    "V30": 30,
    "V60": 60,
    "V90": 90,
}
_ENOUGH = 64_000_000  # bytes; CP: a shorter write is over before a card shows its lasting speed


@dataclass(frozen=True)
class Judgement:
    """name: good, slow, worn, counterfeit?, unplugged, asleep, locked, full or source."""

    name: str
    sentence: str
    do: str = ""


def floor(speed_class: str) -> float:
    """The highest floor in MB/s that the marks on a card promise (as in 'U1 A1'); 0 for none known."""
    return max((FLOORS.get(mark, 0) for mark in re.split(r"[\s,]+", speed_class)), default=0)


def of_report(report: WriteReport, speed_class: str = "") -> Judgement:
    """A write that went through."""
    rate, promised = report.target_rate / 1e6, floor(speed_class)
    if report.retried:
        return Judgement(
            "worn",
            f"{len(report.retried)} blocks needed a second write, the first at byte {report.retried[0]}.",
            "Make a backup, and use another card before it fails for good.",
        )
    if promised and rate < promised and report.size - report.skipped >= _ENOUGH:
        return Judgement(
            "slow",
            f"Measured {rate:.1f} MB/s; its class {speed_class} promises {promised:.0f} MB/s.",
            "Try another reader or socket; a card that stays slow is worn or not what it claims to be.",
        )
    class_words = f", more than the {promised:.0f} MB/s of its class" if promised and rate >= promised else ""
    return Judgement("good", f"Everything was read back as written, {rate:.1f} MB/s{class_words}.")


def of_error(bad: KyklonError) -> Judgement:
    """A write that failed."""
    if isinstance(bad, TargetLost):
        return Judgement(
            "unplugged", bad.what, "Push the plug in fully, use a port on the computer itself, and write again."
        )
    if isinstance(bad, TargetAsleep):
        return Judgement(
            "asleep", bad.what, "Plug the reader into the computer itself, not into a hub, and write again."
        )
    if isinstance(bad, TargetLocked):
        return Judgement(
            "locked", bad.what, "Check the write-protect switch; if it is unlocked, the card has worn out."
        )
    if isinstance(bad, BadBlock):
        return Judgement("worn", bad.what, "Use another card.")
    if isinstance(bad, VerifyError):
        return Judgement(
            "counterfeit?",
            bad.what,
            "Prove the card: that tells a worn card from one with a false capacity.",
        )
    if isinstance(bad, TargetFull):
        return Judgement("full", bad.what, "Use a larger card.")
    return Judgement("source", bad.what, bad.do)
