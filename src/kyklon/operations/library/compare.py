"""How alike names of files and titles of a list are: candidates for each name, and what tells each pair apart.

Whole arrays of pairs are compared at once. RapidFuzz's ratio is the normalised indel similarity in per cent.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import TYPE_CHECKING

from kyklon.base.late import late
from kyklon.operations.library.titles import Cleaned, cleaned

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray
    from scipy.sparse import csr_array

    Floats = NDArray[np.float64]
    Numbers = NDArray[np.signedinteger]
else:
    np = late("numpy")

PAIR = (
    "alike",
    "in any order",
    "main part",
    "numbers same",
    "numbers differ",
    "sub-title same",
    "sub-title on one side",
    "its words found",
    "no words over",
    "same words",
)
CANDIDATES = 10  # titles that each name is compared with
_ALIKE = 84.0  # per cent from which two words count as one, mistyped
_SHORTEST = 4  # letters of a word that may be a mistyped one
_MOST_WORDS = 32  # of a text that are compared one by one; beyond that its letters tell enough


class Texts:
    """Names or titles, ready to be compared. words: numbers of a text's own words, a row for each, filled up with 0.
    full, numbers: numbers that are the same where all words, or all numbers of a sequel, are."""

    def __init__(self, cleaned: Sequence[Cleaned], like: Texts | None = None) -> None:
        """like: what they will be compared with."""
        self.ids: dict[object, int] = {"": 0} if like is None else dict(like.ids)  # words, and tuples of what is more
        self.text = [each.text for each in cleaned]
        self.main = [each.main_text for each in cleaned]
        self.sub = [" ".join(each.sub) for each in cleaned]
        self.has_sub, self.has_words, self.has_numbers = (
            np.array([bool(part) for part in parts], dtype=bool)
            for parts in ([each.sub for each in cleaned], self.text, [each.numbers for each in cleaned])
        )
        words = [tuple(dict.fromkeys(each.words))[:_MOST_WORDS] for each in cleaned]
        self.words = np.zeros((len(words), max(map(len, words), default=0)), dtype=np.int32)
        number = self._number
        for row, each in zip(self.words, words, strict=True):
            row[: len(each)] = [number(word) for word in each]
        self.full = np.array([number(("full", *sorted(each.words))) for each in cleaned], dtype=np.int32)
        self.numbers = np.array([number(("numbers", *each.numbers)) for each in cleaned], dtype=np.int32)

    def _number(self, what: object) -> int:
        return self.ids.setdefault(what, len(self.ids))


@dataclass
class Titles:
    """Titles of a list, ready to be looked through."""

    titles: tuple[str, ...]

    def __post_init__(self) -> None:
        self.titles = tuple(dict.fromkeys(self.titles))

    @cached_property
    def cleaned(self) -> tuple[Cleaned, ...]:
        return tuple(cleaned(title) for title in self.titles)

    @cached_property
    def weight(self) -> Mapping[str, float]:
        counts = Counter(word for each in self.cleaned for word in set(each.words))
        most = math.log(1 + len(self.titles))
        return {word: most - math.log(count) + 0.1 for word, count in counts.items()}

    @cached_property
    def texts(self) -> Texts:
        return Texts(self.cleaned)

    @cached_property
    def grams(self) -> Grams:
        return Grams(self.cleaned)

    def heavy(self, word: str) -> float:
        """How much a word tells: rare ones more (logarithm of the inverse document frequency)."""
        return self.weight.get(word, math.log(1 + len(self.titles)))


class Grams:
    """Triples of letters of titles' words, and how much each tells: what finds the likest ones without comparing all.

    The cosine of weighted counts, weights by the inverse document frequency, as handbooks of text retrieval have it.
    """

    def __init__(self, cleaned: Sequence[Cleaned]) -> None:
        self._ids: dict[str, int] = {}
        rows, columns = self._counted(cleaned, learn=True)
        often = np.bincount(columns, minlength=len(self._ids))
        self._weight = np.log((1 + len(cleaned)) / often) + 0.1
        self._titles = self._matrix(rows, columns, len(cleaned)).T.tocsr()

    def nearest(self, names: Sequence[Cleaned], many: int) -> list[list[int]]:
        """Numbers of the titles likest to each name, the likest first; fewer where fewer have a triple in common."""
        found = (self._matrix(*self._counted(names), len(names)) @ self._titles).tocsr()
        near = []
        for start, end in pairwise(found.indptr.tolist()):
            likeness, numbers = found.data[start:end], found.indices[start:end]
            if len(numbers) > many:
                best = np.argpartition(-likeness, many - 1)[:many]
                likeness, numbers = likeness[best], numbers[best]
            near.append(numbers[np.lexsort((numbers, -likeness))].tolist())
        return near

    def _counted(self, cleaned: Sequence[Cleaned], *, learn: bool = False) -> tuple[Numbers, Numbers]:
        """Each text's triples, each once: its row and the number of the triple."""
        rows: list[int] = []
        columns: list[int] = []
        for row, each in enumerate(cleaned):
            padded = f" {each.text} "
            own = {padded[at : at + 3] for at in range(len(padded) - 2) if padded[at + 1] != " "}
            known = (
                [self._ids.setdefault(gram, len(self._ids)) for gram in sorted(own)]
                if learn
                else [self._ids[gram] for gram in own if gram in self._ids]
            )
            columns += known
            rows += [row] * len(known)
        return np.array(rows, dtype=np.intp), np.array(columns, dtype=np.intp)

    def _matrix(self, rows: Numbers, columns: Numbers, count: int) -> csr_array:
        from scipy.sparse import csr_array

        weight = self._weight[columns]
        length = np.sqrt(np.bincount(rows, weight**2, minlength=count))
        return csr_array(((weight / length[rows]).astype(np.float32), (rows, columns)), (count, len(self._ids)))


def candidates(names: Sequence[Cleaned], titles: Titles) -> list[list[int]]:
    """Numbers of the titles that are likest to each name, sorted."""
    near = titles.grams.nearest(names, CANDIDATES)
    poor = [number for number, each in enumerate(near) if len(each) < min(CANDIDATES, len(titles.titles))]
    for number, each in zip(poor, _by_letters([names[number] for number in poor], titles), strict=True):
        near[number] = list(dict.fromkeys((*near[number], *each)))[:CANDIDATES]
    return [sorted(each) for each in near]


def _by_letters(names: Sequence[Cleaned], titles: Titles) -> list[list[int]]:
    """The likest titles letter by letter: slower, and for any name."""
    from rapidfuzz import fuzz, process

    if not names:
        return []
    many = min(CANDIDATES, len(titles.titles))
    scores = process.cdist([own.text for own in names], titles.texts.text, scorer=fuzz.ratio, dtype=np.uint8)
    return [np.argsort(-row.astype(np.int16), kind="stable")[:many].tolist() for row in scores]


def pair_features(names: Sequence[Cleaned], owns: Numbers, others: Numbers, titles: Titles) -> Floats:
    """How alike pairs are: rows in the order of PAIR, each 0 to 1. owns: numbers of names; others: of titles; shape
    (n,) both."""
    from rapidfuzz import fuzz

    other = titles.texts
    own = Texts(names, other)
    has_sub = own.has_sub[owns], other.has_sub[others]
    same_numbers = own.numbers[owns] == other.numbers[others]
    found, no_over = _words_found(own, other.words[others], owns, titles)
    return np.column_stack(
        [
            _ratio(own.text, other.text, owns, others, fuzz.ratio),
            _ratio(own.text, other.text, owns, others, fuzz.token_set_ratio)
            * own.has_words[owns]
            * other.has_words[others],
            _ratio(own.main, other.main, owns, others, fuzz.ratio),
            same_numbers & own.has_numbers[owns],
            ~same_numbers,
            _ratio(own.sub, other.sub, owns, others, fuzz.ratio) * (has_sub[0] & has_sub[1]),
            has_sub[0] != has_sub[1],
            found,
            no_over,
            own.full[owns] == other.full[others],
        ]
    ).astype(np.float64)


def _ratio(a: list[str], b: list[str], owns: Numbers, others: Numbers, scorer: Callable[..., float]) -> Floats:
    from rapidfuzz import process

    left, right = [a[each] for each in owns.tolist()], [b[each] for each in others.tolist()]
    scores = process.cpdist(left, right, scorer=scorer, dtype=np.float64, workers=-1)
    return np.asarray(scores, dtype=np.float64) / 100


def _words_found(own: Texts, right: Numbers, owns: Numbers, titles: Titles) -> tuple[Floats, Floats]:
    """Of each pair: the share of the weight of the name's words that the title has too, mistyped or not, and of the
    title's words that the name has. right: the titles' words, a row for each pair."""
    used, numbers = np.unique(np.concatenate([[0], own.words.ravel(), right.ravel()]), return_inverse=True)
    left, right = (
        numbers[1 : 1 + own.words.size].reshape(own.words.shape)[owns],
        numbers[1 + own.words.size :].reshape(right.shape),
    )
    all_words = list(own.ids)
    words = [str(all_words[number]) for number in used.tolist()]
    heavy = np.array([0.0, *(titles.heavy(word) for word in words[1:])])
    may_slip = np.array([len(word) >= _SHORTEST and not word.isdecimal() for word in words])
    same = (left[:, :, None] == right[:, None, :]) & (left > 0)[:, :, None]
    likeness = same.astype(np.float64)
    # what is not found as it is: compared letter by letter, each two words once
    lost = ~same.any(axis=2) & may_slip[left], ~same.any(axis=1) & may_slip[right]
    rest = (lost[0][:, :, None] & (right > 0)[:, None, :]) | (lost[1][:, None, :] & (left > 0)[:, :, None])
    pair, row, column = np.nonzero(rest)
    if len(pair):
        codes, back = np.unique(left[pair, row] * len(words) + right[pair, column], return_inverse=True)
        likeness[pair, row, column] = _word_ratios(codes, words)[back]
    found = np.where(same.any(axis=2), 1.0, np.where(may_slip[left], likeness.max(axis=2, initial=0.0), 0.0))
    met = np.where(same.any(axis=1), 1.0, np.where(may_slip[right], likeness.max(axis=1, initial=0.0), 0.0))
    return _share(found, heavy[left]), _share(met, heavy[right])


def _word_ratios(codes: Numbers, words: list[str]) -> Floats:
    from rapidfuzz import fuzz, process

    first, second = np.divmod(codes, len(words))
    scores = process.cpdist(
        [words[each] for each in first.tolist()],
        [words[each] for each in second.tolist()],
        scorer=fuzz.ratio,
        score_cutoff=_ALIKE,
        dtype=np.float64,
    )
    return np.asarray(scores, dtype=np.float64) / 100


def _share(found: Floats, weight: Floats) -> Floats:
    whole = weight.sum(axis=1)
    share = np.divide((found * weight).sum(axis=1), whole, out=np.zeros(len(whole)), where=whole > 0)
    return np.asarray(share, dtype=np.float64)
