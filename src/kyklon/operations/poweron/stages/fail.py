"""What the stages share: a failure, and the remedy that only has to reach the card."""

from __future__ import annotations

from kyklon.catalogue.records import Rhythm
from kyklon.model.findings import Remedy
from kyklon.operations.poweron.events import BLACK, PUT_ON_CARD, Failure, Screen, Step


def fail(failure: Failure, *, hides: bool = False) -> Step:
    """A step that fails. hides: the stages after it cannot be judged."""
    return Step(failures=(failure,), hides_the_rest=hides)


def dark_screen(stage: str, code: str, cause: str, remedy: Remedy | None, lamp: Rhythm) -> Failure:
    """A failure with nothing on the screen: only the lamp speaks."""
    return Failure(stage, code, cause, remedy, BLACK, lamp)


def panic(stage: str, code: str, cause: str, lamp: Rhythm, remedy: Remedy | None = None) -> Failure:
    """The kernel's own last words."""
    return Failure(stage, code, cause, remedy, Screen("text", "Kernel panic", ("VFS: Unable to mount root fs",)), lamp)


def or_put(remedy: Remedy | None, build_is_right: bool) -> Remedy | None:
    """A decision that is right already only has to reach the card."""
    return PUT_ON_CARD if build_is_right else remedy
