"""Undo and redo: a stack of builds with labels."""

from __future__ import annotations

from dataclasses import dataclass, field

from kyklon.model.build import Build

DEPTH = 200  # steps kept


@dataclass
class History:
    """The present build and the ways back and forth."""

    build: Build
    _back: list[tuple[str, Build]] = field(default_factory=list)
    _forth: list[tuple[str, Build]] = field(default_factory=list)

    def edit(self, label: str, build: Build) -> None:
        """Make `build` the present one; what was undone is forgotten."""
        if build == self.build:
            return
        self._back = [*self._back, (label, self.build)][-DEPTH:]
        self._forth = []
        self.build = build

    def take(self, build: Build) -> bool:
        """What somebody else has changed: a step of its own, unless it only tells what happened to the world.

        Whether it was a step.
        """
        if _with_world(self.build, build) == build:
            self.build = build
            return False
        self.edit("Changed elsewhere", build)
        return True

    def replace(self, build: Build) -> None:
        """Change the present build without a step: for what happened to the world and cannot be undone."""
        self.build = build

    @property
    def undo_label(self) -> str:
        return self._back[-1][0] if self._back else ""

    @property
    def redo_label(self) -> str:
        return self._forth[-1][0] if self._forth else ""

    def undo(self) -> None:
        """Go one step back; what happened to the card stays happened."""
        if self._back:
            label, build = self._back.pop()
            self._forth.append((label, self.build))
            self.build = _with_world(build, self.build)

    def redo(self) -> None:
        if self._forth:
            label, build = self._forth.pop()
            self._back.append((label, self.build))
            self.build = _with_world(build, self.build)


def _with_world(build: Build, present: Build) -> Build:
    """What was decided then, with what has happened until now; a card's name is a decision, its history is not."""
    names = {card.identity: card.name for card in build.cards}
    cards = tuple(card.model_copy(update={"name": names.get(card.identity, card.name)}) for card in present.cards)
    return build.model_copy(
        update={
            "card": present.card,
            "cards": cards,
            "ticks": present.ticks,
            "sign_offs": present.sign_offs,
            "upkeep": build.upkeep.with_what_happened(present.upkeep),
        }
    )
