"""Titles that no checksum tells: the likeliest game of a list, and how likely it is right.

Two logistic models: one weighs how alike two titles are, the other says from the best and the second best whether the
best is right. Both are fitted on titles whose game is known (catalogue/data/matching.toml says on which); what a user
corrects is added to them, held back by what was known before (maximum a posteriori with a normal prior).
"""

from __future__ import annotations

import math
import tomllib
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache
from importlib import resources

import numpy as np
from numpy.typing import NDArray

from kyklon.base.progress import UNWATCHED, Progress, Watch
from kyklon.operations.library.titles import Cleaned, cleaned

Floats = NDArray[np.float64]
PAIR = ("alike", "in any order", "main part", "numbers same", "numbers differ", "sub-title same",
        "sub-title on one side",
        "its words found", "no words over", "same words")  # fmt: skip
TOP = ("score", "lead", "same words", "rivals", "goes on", "breaks off", "words over")
CANDIDATES = 8  # of each way to look for them
_CHUNK = 256  # titles that are compared at once
_ALIKE = 84.0  # per cent from which two words count as one, mistyped
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


@dataclass
class Titles:
    """Titles of a list, ready to be looked through."""

    titles: tuple[str, ...]
    cleaned: tuple[Cleaned, ...] = ()
    weight: Mapping[str, float] = field(default_factory=dict)
    full: tuple[str, ...] = ()
    main: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        self.titles = tuple(dict.fromkeys(self.titles))
        self.cleaned = tuple(cleaned(title) for title in self.titles)
        counts = Counter(word for each in self.cleaned for word in set(each.words))
        most = math.log(1 + len(self.titles))
        self.weight = {word: most - math.log(count) + 0.1 for word, count in counts.items()}
        self.full = tuple(" ".join(sorted(each.words)) for each in self.cleaned)
        self.main = tuple(each.main_text for each in self.cleaned)

    def heavy(self, word: str) -> float:
        """How much a word tells: rare ones more (logarithm of the inverse document frequency)."""
        return self.weight.get(word, math.log(1 + len(self.titles)))


def matches(names: Sequence[str], titles: Titles, model: Model | None = None, watch: Watch = UNWATCHED) -> list[Match]:
    """The likeliest title of each name (a file's stem). Raises Cancelled."""
    model = model or shipped()
    if not titles.titles:
        return [NOTHING] * len(names)
    known = _remembered(titles, model)
    fresh = list(dict.fromkeys(name for name in names if name not in known))
    for start in range(0, len(fresh), _CHUNK):
        watch.check()
        watch.sink(Progress("Matching titles", start, len(fresh), unit="titles"))
        part = fresh[start : start + _CHUNK]
        chunk = [cleaned(name) for name in part]
        for name, own, near in zip(part, chunk, _candidates(chunk, titles), strict=True):
            known[name] = _best(own, near, titles, model)
    return [known[name] for name in names]


_matched: dict[tuple[int, bytes], dict[str, Match]] = {}
_MOST_KEPT = 8  # lists with a model


def _remembered(titles: Titles, model: Model) -> dict[str, Match]:
    """What names came to before, against these titles and by this model: a rescan matches only what is new."""
    key = hash(titles.titles), model.pair.tobytes() + model.top.tobytes()
    if key not in _matched:
        while len(_matched) >= _MOST_KEPT:
            _matched.pop(next(iter(_matched)), None)
        _matched[key] = {}
    return _matched[key]


def _candidates(chunk: Sequence[Cleaned], titles: Titles) -> list[list[int]]:
    from rapidfuzz import fuzz, process

    ways: tuple[tuple[list[str], Sequence[str], Callable[..., float]], ...] = (
        ([" ".join(sorted(own.words)) for own in chunk], titles.full, fuzz.ratio),
        ([own.main_text for own in chunk], titles.main, fuzz.ratio),
        ([own.text for own in chunk], titles.main, fuzz.ratio),
    )
    sets: list[dict[int, None]] = [{} for _own in chunk]
    many = min(CANDIDATES, len(titles.titles))
    for own, there, scorer in ways:
        scores = process.cdist(own, there, scorer=scorer, dtype=np.uint8, workers=-1)
        best = np.argpartition(-scores.astype(np.int16), many - 1, axis=1)[:, :many]
        for kept, row in zip(sets, best, strict=True):
            kept.update(dict.fromkeys(map(int, row)))
    return [sorted(each) for each in sets]


def pair_features(own: Cleaned, other: Cleaned, titles: Titles) -> tuple[float, ...]:
    """How alike a name and a title are, in the order of PAIR, each 0 to 1."""
    from rapidfuzz import fuzz

    a, b = set(own.words), set(other.words)
    subs = float(bool(own.sub)), float(bool(other.sub))
    same = sorted(own.words) == sorted(other.words)
    return (
        fuzz.ratio(own.text, other.text) / 100,
        fuzz.token_set_ratio(own.text, other.text) / 100 if own.words and other.words else 0.0,
        fuzz.ratio(own.main_text, other.main_text) / 100,
        float(own.numbers == other.numbers and bool(own.numbers)),
        float(own.numbers != other.numbers),
        fuzz.ratio(" ".join(own.sub), " ".join(other.sub)) / 100 if all(subs) else 0.0,
        float(subs[0] != subs[1]),
        _found(a, b, titles),
        _found(b, a, titles),
        float(same),
    )


def _found(own: set[str], other: set[str], titles: Titles) -> float:
    """Share of the weight of a title's words that the other has too, mistyped or not."""
    from rapidfuzz import fuzz, process

    whole = found = 0.0
    for word in own:
        heavy = titles.heavy(word)
        whole += heavy
        if word in other:
            found += heavy
        elif len(word) > 3 and other and not word.isdecimal():
            near = process.extractOne(word, other, scorer=fuzz.ratio, score_cutoff=_ALIKE)
            found += heavy * near[1] / 100 if near is not None else 0.0
    return found / whole if whole else 0.0


def _best(own: Cleaned, near: Sequence[int], titles: Titles, model: Model) -> Match:
    if not own.words:
        return NOTHING
    rows = np.array([pair_features(own, titles.cleaned[each], titles) for each in near])
    scores = model.score(rows)
    order = np.argsort(-scores, kind="stable")
    first = int(order[0])
    features = top_features(own, [titles.cleaned[each] for each in near], rows, scores, order)
    confidence = float(model.confidence(np.array([features]))[0])
    if differ(own, titles.cleaned[near[first]]):
        confidence = min(confidence, _MOST_DIFFERENT)
    rest = [(titles.titles[near[int(each)]], float(scores[int(each)])) for each in order[1:5]]
    odds = np.exp(np.clip([score for _title, score in rest], -30, 30)) if rest else np.zeros(0)
    shares = odds / odds.sum() * (1 - confidence) if len(odds) and odds.sum() > 0 else odds
    others = tuple((title, float(share)) for (title, _score), share in zip(rest, shares, strict=True))
    return Match(titles.titles[near[first]], confidence, others, features)


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
    own: Cleaned, near: Sequence[Cleaned], rows: Floats, scores: Floats, order: NDArray[np.intp]
) -> tuple[float, ...]:
    """Of the best candidate, in the order of TOP. near: the candidates, in the order of the rows."""
    best = float(np.clip(scores[order[0]], -_MOST_LEAD, _MOST_LEAD))
    lead = min(_MOST_LEAD, float(scores[order[0]] - scores[order[1]])) if len(order) > 1 else _MOST_LEAD
    same = float(rows[order[0]][PAIR.index("same words")])
    rivals = float(np.sum(scores > scores[order[0]] - 2.0) - 1)
    goes_on = any(other.text.startswith(own.text) and len(other.text) > len(own.text) for other in near)
    breaks_off = bool(own.words) and (
        own.words[-1] in _JOINING or (len(own.words[-1]) == 1 and own.words[-1].isalpha())
    )
    over = 1 - min(rows[order[0]][PAIR.index("its words found")], rows[order[0]][PAIR.index("no words over")])
    return best, lead, same, min(rivals, 5.0), float(goes_on), float(breaks_off), float(over)


# --- fitting ---------------------------------------------------------------------------------------------------


def fit(names: Sequence[str], truth: Sequence[str], titles: Titles) -> Model:
    """Both models from names whose title is known; '' for one that is in no list."""
    where = {title: number for number, title in enumerate(titles.titles)}
    clean = [cleaned(name) for name in names]
    rows: list[tuple[float, ...]] = []
    right: list[bool] = []
    sets: list[tuple[Cleaned, int, list[int], int]] = []
    for start in range(0, len(names), _CHUNK):
        for offset, near in enumerate(_candidates(clean[start : start + _CHUNK], titles)):
            own = clean[start + offset]
            real = where.get(truth[start + offset], -1)
            sets.append((own, len(rows), near, real))
            rows += [pair_features(own, titles.cleaned[each], titles) for each in near]
            right += [each == real for each in near]
    table = np.array(rows)
    pair = logistic(table, np.array(right, dtype=np.float64), np.zeros(len(PAIR) + 1), 1.0)
    part = Model(pair, np.zeros(len(TOP) + 1))
    tops, good = [], []
    for own, begun, near, real in sets:
        own_rows = table[begun : begun + len(near)]
        scores = part.score(own_rows)
        order = np.argsort(-scores, kind="stable")
        tops.append(top_features(own, [titles.cleaned[each] for each in near], own_rows, scores, order))
        good.append(near[int(order[0])] == real)
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
    order = np.sort(np.array([each for each in confidences if each > 0], dtype=np.float64))[::-1]
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
        Reliability(float(p[place == each].mean()), float(hit[place == each].mean()), int((place == each).sum()))
        for each in range(bins) if (place == each).any()
    ]  # fmt: skip
    error = sum(abs(each.said - each.was) * each.count for each in found) / max(1, len(p))
    return tuple(found), error
