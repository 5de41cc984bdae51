"""Titles that no checksum tells: the likeliest game of a list, and how likely it is right.

Two logistic models: one weighs how alike two titles are, the other says from the best and the second best whether the
best is right. Both are fitted on titles whose game is known (catalogue/data/matching.toml says on which); what a user
corrects is added to them, held back by what was known before (maximum a posteriori with a normal prior).
"""

from __future__ import annotations

import math
import tomllib
from collections.abc import MutableMapping, Sequence
from dataclasses import dataclass
from functools import cache
from importlib import resources
from typing import TYPE_CHECKING

from kyklon.base.late import late
from kyklon.base.progress import UNWATCHED, Progress, Watch
from kyklon.operations.library.compare import PAIR, Titles, candidates, pair_features
from kyklon.operations.library.titles import Cleaned, cleaned

if TYPE_CHECKING:
    import numpy as np

    from kyklon.operations.library.compare import Floats
else:
    np = late("numpy")

_ITS_WORDS, _NO_OVER, _SAME = (PAIR.index(each) for each in ("its words found", "no words over", "same words"))
TOP = ("score", "lead", "same words", "rivals", "goes on", "breaks off", "words over")
_CHUNK = 512  # titles that are compared at once
_PRIOR = 25.0  # corrections that weigh as much as what was known before
_IN_HAND = 0.5  # share of the wrong ones that are allowed which the threshold goes by
_MOST_DIFFERENT = 0.5  # confidence in a title that differs by a word: somebody looks at it
_MOST_LEAD = 8.0  # of logits; beyond that more says nothing


@dataclass(frozen=True)
class Model:
    """Weights of the two logistic models, the constant last."""

    pair: Floats
    top: Floats

    def score(self, features: Floats) -> Floats:
        """Logits of rows of PAIR."""
        return np.asarray(features @ self.pair[:-1] + self.pair[-1], dtype=np.float64)

    def confidence(self, features: Floats) -> Floats:
        """Of rows of TOP, 0 to 1."""
        logits = np.clip(features @ self.top[:-1] + self.top[-1], -30, 30)
        return np.asarray(1 / (1 + np.exp(-logits)), dtype=np.float64)


@cache
def shipped() -> Model:
    """The model that ships."""
    text = resources.files("kyklon.catalogue").joinpath("data/matching.toml").read_text(encoding="utf-8")
    data = tomllib.loads(text)
    if tuple(data["pair_names"]) != PAIR or tuple(data["top_names"]) != TOP:
        raise ValueError("matching.toml is for other features; make it again with tools/fit_matching.py")
    return Model(np.array(data["pair"]), np.array(data["top"]))


@dataclass(frozen=True)
class Reliability:
    """A bin of confidences: the mean that was said, the share that was right, and how many."""

    said: float
    was: float
    count: int


@cache
def shipped_reliability() -> tuple[tuple[Reliability, ...], float]:
    """How the model that ships did on the half of the labelled names that it was not fitted on."""
    text = resources.files("kyklon.catalogue").joinpath("data/matching.toml").read_text(encoding="utf-8")
    data = tomllib.loads(text)
    return tuple(Reliability(said, was, int(count)) for said, was, count in data["reliability"]), data["error"]


@dataclass(frozen=True)
class Match:
    """others: titles and confidences of the rivals, the likeliest first. features: of TOP, of the best."""

    title: str
    confidence: float
    others: tuple[tuple[str, float], ...] = ()
    features: tuple[float, ...] = ()


NOTHING = Match("", 0.0)


@dataclass(frozen=True, slots=True)
class Near:
    """What a name is likest to, whatever its user has taught: number of the title, -1 for none; features of TOP;
    whether a whole word parts them; and the rivals with their logits, the likeliest first."""

    title: int
    features: tuple[float, ...] = ()
    differs: bool = False
    rivals: tuple[tuple[int, float], ...] = ()


def matches(
    names: Sequence[str],
    titles: Titles,
    model: Model | None = None,
    watch: Watch = UNWATCHED,
    known: MutableMapping[str, Near] | None = None,
) -> list[Match]:
    """The likeliest title of each name (a file's stem). known: by name, of these titles; what is new is added. Raises
    Cancelled."""
    model = model or shipped()
    if not titles.titles:
        return [NOTHING] * len(names)
    known = {} if known is None else known
    fresh = list(dict.fromkeys(name for name in names if name not in known))
    for start in range(0, len(fresh), _CHUNK):
        watch.check()
        watch.sink(Progress("Matching titles", start, len(fresh), unit="titles"))
        part = fresh[start : start + _CHUNK]
        known.update(zip(part, _nearest([cleaned(name) for name in part], titles, model), strict=True))
    return _weighed([known[name] for name in names], titles, model)


def _nearest(names: Sequence[Cleaned], titles: Titles, model: Model) -> list[Near]:
    """Of each name the title that scores best."""
    near = candidates(names, titles)
    counts = [len(each) if own.words else 0 for own, each in zip(names, near, strict=True)]
    owns = np.repeat(np.arange(len(names)), counts)
    others = np.array([number for each, count in zip(near, counts, strict=True) for number in each[:count]], np.intp)
    rows = pair_features(names, owns, others, titles)
    scores = model.score(rows)
    found, begun = [], 0
    for own, each, count in zip(names, near, counts, strict=True):
        part = slice(begun, begun + count)
        found.append(_best(own, each, rows[part], scores[part], titles) if count else Near(-1))
        begun += count
    return found


def _best(own: Cleaned, near: Sequence[int], rows: Floats, scores: Floats, titles: Titles) -> Near:
    told = scores.tolist()
    order = sorted(range(len(told)), key=lambda each: -told[each])
    first = near[order[0]]
    texts = titles.texts.text
    features = top_features(own, [texts[each] for each in near], rows.tolist(), told)
    rivals = tuple((near[each], told[each]) for each in order[1:5])
    return Near(first, features, differ(own, titles.cleaned[first]), rivals)


def _weighed(near: Sequence[Near], titles: Titles, model: Model) -> list[Match]:
    """What is found with the confidence that the model gives it, in the order given."""
    told = [each for each in near if each.title >= 0]
    confidences = iter(model.confidence(np.array([each.features for each in told])).tolist() if told else ())
    found = []
    for each in near:
        if each.title < 0:
            found.append(NOTHING)
            continue
        confidence = next(confidences)
        confidence = min(confidence, _MOST_DIFFERENT) if each.differs else confidence
        odds = [math.exp(min(30.0, max(-30.0, score))) for _number, score in each.rivals]
        whole = sum(odds)
        others = tuple(
            (titles.titles[number], odd / whole * (1 - confidence))
            for (number, _score), odd in zip(each.rivals, odds, strict=True)
        )
        found.append(Match(titles.titles[each.title], confidence, others, each.features))
    return found


def differ(own: Cleaned, other: Cleaned) -> bool:
    """Whether a name and a title are told apart by a whole word, or by a sequel's number.

    'Super', 'Deluxe' or a 2 make another game of one; they are too common to weigh much in how alike two titles are,
    and no model that was fitted on other names knows them. Words that only join do not count, nor a slip of a finger.
    """
    if own.numbers != other.numbers:
        return True
    mine, theirs = ([word for word in each.words if word not in _JOINING] for each in (own, other))
    left = list(theirs)
    for word in mine:
        if word in left:
            left.remove(word)
            continue
        near = next((each for each in left if _mistyped(word, each)), None)
        if near is None:
            return not _runs_together(own, other)
        left.remove(near)
    return bool(left) and not _runs_together(own, other)


def _runs_together(own: Cleaned, other: Cleaned) -> bool:
    """Whether both are the same letters, parted otherwise."""
    return "".join(own.words) == "".join(other.words)


def _mistyped(one: str, other: str) -> bool:
    """One slip of the fingers apart, in words long enough for it to be one."""
    from rapidfuzz.distance import OSA

    shorter = min(len(one), len(other))
    if shorter < 4 or one.isdecimal() or other.isdecimal() or f"{one}s" == other or one == f"{other}s":
        return False  # one and several are two games as a rule
    return OSA.distance(one, other, score_cutoff=2) <= (1 if shorter < 9 else 2)


_JOINING = ("and", "of", "in", "the", "a", "to", "for", "with", "on", "at")  # words that no title ends with


def top_features(
    own: Cleaned, texts: Sequence[str], rows: Sequence[Sequence[float]], scores: Sequence[float]
) -> tuple[float, ...]:
    """Of the best candidate, in the order of TOP. texts: the candidates' words; rows, scores: theirs."""
    order = sorted(range(len(scores)), key=lambda each: -scores[each])
    first = rows[order[0]]
    best = scores[order[0]]
    lead = min(_MOST_LEAD, best - scores[order[1]]) if len(order) > 1 else _MOST_LEAD
    rivals = sum(score > best - 2.0 for score in scores) - 1
    text = own.text
    goes_on = any(other.startswith(text) and other != text for other in texts)
    breaks_off = bool(own.words) and (
        own.words[-1] in _JOINING or (len(own.words[-1]) == 1 and own.words[-1].isalpha())
    )
    over = 1 - min(first[_ITS_WORDS], first[_NO_OVER])
    return (
        min(_MOST_LEAD, max(-_MOST_LEAD, best)),
        lead,
        first[_SAME],
        float(min(rivals, 5)),
        float(goes_on),
        float(breaks_off),
        over,
    )


# --- fitting ---------------------------------------------------------------------------------------------------


def fit(names: Sequence[str], truth: Sequence[str], titles: Titles) -> Model:
    """Both models from names whose title is known; '' for one that is in no list."""
    where = {title: number for number, title in enumerate(titles.titles)}
    clean = [cleaned(name) for name in names]
    tables: list[Floats] = []
    right: list[bool] = []
    sets: list[tuple[Cleaned, int, list[int], int]] = []
    for start in range(0, len(names), _CHUNK):
        part = clean[start : start + _CHUNK]
        near_of = candidates(part, titles)
        owns = np.repeat(np.arange(len(part)), [len(each) for each in near_of])
        tables.append(pair_features(part, owns, np.array([n for each in near_of for n in each], np.intp), titles))
        for offset, near in enumerate(near_of):
            real = where.get(truth[start + offset], -1)
            sets.append((part[offset], len(right), near, real))
            right += [each == real for each in near]
    table = np.vstack(tables)
    pair = logistic(table, np.array(right, dtype=np.float64), np.zeros(len(PAIR) + 1), 1.0)
    part_model = Model(pair, np.zeros(len(TOP) + 1))
    tops, good = [], []
    for own, begun, near, real in sets:
        own_rows = table[begun : begun + len(near)]
        scores = part_model.score(own_rows)
        tops.append(top_features(own, [titles.texts.text[each] for each in near], own_rows.tolist(), scores.tolist()))
        good.append(near[int(np.argmax(scores))] == real)
    top = logistic(np.array(tops), np.array(good, dtype=np.float64), np.zeros(len(TOP) + 1), 0.01)
    return Model(pair, top)


def logistic(rows: Floats, right: Floats, prior: Floats, strength: float) -> Floats:
    """Weights of a logistic regression, the constant last, that lie near a prior: the mean log loss summed over rows,
    and strength/2 times the squared distance from it. rows: shape (n, k); right: (n,), 0 or 1; prior: (k + 1,)."""
    from scipy.optimize import minimize

    wide = np.hstack([rows, np.ones((len(rows), 1))])

    def cost(weights: Floats) -> tuple[float, Floats]:
        logits = wide @ weights
        loss = np.logaddexp(0, logits) - right * logits
        slope = wide.T @ (1 / (1 + np.exp(-np.clip(logits, -500, 500))) - right)
        away = weights - prior
        return float(loss.sum() + strength / 2 * away @ away), slope + strength * away

    found = minimize(cost, prior, jac=True, method="L-BFGS-B", options={"maxiter": 500})
    return np.asarray(found.x, dtype=np.float64)


def taught(model: Model, answers: Sequence[tuple[tuple[float, ...], bool]]) -> Model:
    """The model after a user's answers: features of TOP, and whether the proposal was right."""
    own = [(row, right) for row, right in answers if len(row) == len(TOP)]
    if not own:
        return model
    rows = np.array([row for row, _right in own])
    right = np.array([float(right) for _row, right in own])
    return Model(model.pair, logistic(rows, right, model.top, _PRIOR))


def threshold(confidences: Sequence[float], wrong_per_1000: float) -> float:
    """The confidence from which titles are accepted, so that of those accepted no more than that many in a thousand
    are wrong: half that many are expected, the rest is kept in hand. Above 1 where none can be."""
    order = np.sort(np.array([confidence for confidence in confidences if confidence > 0], dtype=np.float64))[::-1]
    if not len(order):
        return 1.01
    wrong = np.cumsum(1 - order) / np.arange(1, len(order) + 1)
    good = np.nonzero(wrong <= _IN_HAND * wrong_per_1000 / 1000)[0]
    return float(order[good[-1]]) if len(good) else 1.01


def reliability(said: Sequence[float], right: Sequence[bool], bins: int = 10) -> tuple[tuple[Reliability, ...], float]:
    """Bins of equal width, and the expected calibration error: the mean distance weighed by their counts."""
    p, hit = np.array(said, dtype=np.float64), np.array(right, dtype=np.float64)
    place = np.minimum((p * bins).astype(int), bins - 1)
    found = [
        Reliability(float(p[place == index].mean()), float(hit[place == index].mean()), int((place == index).sum()))
        for index in range(bins)
        if (place == index).any()
    ]
    error = sum(abs(each.said - each.was) * each.count for each in found) / max(1, len(p))
    return tuple(found), error
