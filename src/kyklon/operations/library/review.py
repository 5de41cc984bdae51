"""The titles that wait for a look: their queue, what sets two proposals apart, and the answer."""

from __future__ import annotations

from dataclasses import dataclass
from difflib import SequenceMatcher
from pathlib import PurePosixPath

from kyklon.model.library import Game, Scan
from kyklon.operations.library.versions import tags_of
from kyklon.record.answers import Answer, key_of


def queue(scan: Scan) -> tuple[Game, ...]:
    """Games whose title is doubtful, by system, the likeliest first: those go quickest."""
    order = {system: number for number, system in enumerate(dict.fromkeys(game.system for game in scan.games))}
    return tuple(
        sorted(
            scan.doubtful,
            key=lambda game: (order[game.system], -(game.naming.confidence if game.naming else 0.0), game.key),
        )
    )


def answer_key(game: Game) -> str:
    """What an answer on this game is kept under."""
    return key_of(game.system, PurePosixPath(game.key).name, game.size)


def answered(game: Game, title: str) -> Answer:
    """What somebody said of a game. title: '' for none of the listed ones."""
    naming = game.naming
    learn = naming is not None and naming.how == "title"
    return Answer(
        answer_key(game), title, naming.title if learn and naming else "", naming.features if learn and naming else ()
    )


@dataclass(frozen=True)
class Proposal:
    """share: how likely it is, 0 to 1. own: stretches of the title, each with whether it differs from the file's."""

    title: str
    share: float
    own: tuple[tuple[str, bool], ...]


def proposals(game: Game) -> tuple[Proposal, ...]:
    """What a game may be, the likeliest first, each with what sets it apart from the file's name."""
    if game.naming is None:
        return ()
    pairs = [(game.naming.title, game.naming.confidence), *game.naming.others]
    return tuple(Proposal(title, share, apart(game.title, title)) for title, share in pairs)


def apart(name: str, title: str) -> tuple[tuple[str, bool], ...]:
    """A title in stretches: whether each stands in the name too, capitals aside."""
    found: list[tuple[str, bool]] = []
    matcher = SequenceMatcher(None, name.casefold(), title.casefold(), autojunk=False)
    if len(title.casefold()) != len(title):  # letters that fold into two: told as a whole
        return ((title, name != title),)
    for kind, _a, _b, start, end in matcher.get_opcodes():
        if end > start:
            found.append((title[start:end], kind != "equal"))
    return tuple(found)


def facts_of(game: Game) -> str:
    """What else the file tells, for who has to decide."""
    tags = tags_of(game.key)
    told = [*tags.regions]
    if tags.revision:
        told.append("revision " + ".".join(map(str, tags.revision)))
    if tags.poor:
        told.append("unfinished, changed or a bad dump")
    return ", ".join(told)
