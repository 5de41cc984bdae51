"""Comparing many pairs at once: the same as comparing them one by one, and not again what is known."""

from __future__ import annotations

import math
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from rapidfuzz import fuzz, process

from kyklon.demo.titles import labelled
from kyklon.operations.library import compare, match, remembered
from kyklon.operations.library.facts import Facts
from kyklon.operations.library.titles import Cleaned, cleaned

TOLD = labelled(400)
TITLES = compare.Titles(TOLD.titles)
NAMES = [name for name, _title in TOLD.names]
WORDS = st.sampled_from(
    [
        "orchard",
        "orchards",
        "tidal",
        "tidla",
        "ferry",
        "ii",
        "2",
        "of",
        "the",
        "brass",
        "bras",
        "été",
        "日本",
        "a",
        "x",
        "-",
        ":",
        "(",
        "[b1]",
        "007",
        "Ⅷ",
    ]
)


def one_pair(own: Cleaned, other: Cleaned, titles: compare.Titles) -> list[float]:
    """PAIR as its words say, for one pair."""
    a, b = set(own.words), set(other.words)

    def found(mine: set[str], theirs: set[str]) -> float:
        whole = sum(titles.heavy(word) for word in mine)
        got = 0.0
        for word in mine:
            if word in theirs:
                got += titles.heavy(word)
            elif len(word) > 3 and theirs and not word.isdecimal():
                near = process.extractOne(word, theirs, scorer=fuzz.ratio, score_cutoff=84.0)
                got += titles.heavy(word) * near[1] / 100 if near is not None else 0.0
        return got / whole if whole else 0.0

    return [
        fuzz.ratio(own.text, other.text) / 100,
        fuzz.token_set_ratio(own.text, other.text) / 100 if a and b else 0.0,
        fuzz.ratio(own.main_text, other.main_text) / 100,
        float(own.numbers == other.numbers and bool(own.numbers)),
        float(own.numbers != other.numbers),
        fuzz.ratio(" ".join(own.sub), " ".join(other.sub)) / 100 if own.sub and other.sub else 0.0,
        float(bool(own.sub) != bool(other.sub)),
        found(a, b),
        found(b, a),
        float(sorted(own.words) == sorted(other.words)),
    ]


def compared(names: list[str], titles: compare.Titles) -> tuple[list[tuple[int, int]], Any]:
    clean = [cleaned(name) for name in names]
    pairs = [(own, other) for own in range(len(names)) for other in range(len(titles.titles))]
    owns, others = np.array(pairs, dtype=np.intp).reshape(-1, 2).T
    return pairs, compare.pair_features(clean, owns, others, titles)


@given(
    st.lists(st.lists(WORDS, max_size=8).map(" ".join), min_size=1, max_size=6),
    st.lists(st.lists(WORDS, max_size=8).map(" ".join), min_size=1, max_size=6),
)
def test_many_pairs_at_once_are_as_one_by_one(names: list[str], listed: list[str]) -> None:
    titles = compare.Titles(tuple(listed))
    pairs, rows = compared(names, titles)
    for (own, other), row in zip(pairs, rows, strict=True):
        assert row == pytest.approx(one_pair(cleaned(names[own]), titles.cleaned[other], titles), abs=1e-9)


@given(st.text(max_size=80), st.lists(st.text(max_size=80), min_size=1, max_size=5))
def test_any_text_is_compared(name: str, listed: list[str]) -> None:
    _pairs, rows = compared([name], compare.Titles(tuple(listed)))
    assert np.all((rows >= 0) & (rows <= 1 + 1e-9))


def test_the_right_title_is_among_the_candidates_and_they_are_as_asked() -> None:
    clean = [cleaned(name) for name in NAMES]
    near = compare.candidates(clean, TITLES)
    listed = [number for number, (_name, title) in enumerate(TOLD.names) if title]
    lost = [TOLD.names[number] for number in listed if TITLES.titles.index(TOLD.names[number][1]) not in near[number]]
    assert len(lost) <= 0.005 * len(listed), lost
    assert all(len(set(each)) == compare.CANDIDATES for each in near)
    strange = compare.candidates([cleaned("日本語"), cleaned("(Europe)"), cleaned("")], TITLES)
    assert [len(each) for each in strange] == [compare.CANDIDATES] * 3


@pytest.fixture
def counted(monkeypatch: pytest.MonkeyPatch) -> Iterator[list[int]]:
    """Names that were compared, a number for each time."""
    counts: list[int] = []

    def counting(names: Any, *rest: Any) -> Any:
        counts.append(len(names))
        return compare.pair_features(names, *rest)

    monkeypatch.setattr(match, "pair_features", counting)
    remembered._lists.clear()
    yield counts
    remembered._lists.clear()


def looked(path: Path, names: list[str], model: match.Model | None = None) -> list[match.Match]:
    """What one run of the program finds."""
    remembered._lists.clear()
    facts = Facts(path)
    model = model or match.shipped()
    found = match.matches(names, TITLES, model, known=facts.titles.of(TITLES, model.pair))
    facts.keep()
    return found


def test_what_was_compared_once_is_not_compared_again(counted: list[int], tmp_path: Path) -> None:
    names = list(dict.fromkeys(NAMES))
    path = tmp_path / "sums.sqlite3"
    first = looked(path, names)
    assert sum(counted) == len(names)
    assert looked(path, names) == first
    assert sum(counted) == len(names)
    looked(path, [*names, "one more", "\udcff not UTF-8"])
    assert sum(counted) == len(names) + 2
    answer = (first[0].features, False)  # what a user teaches changes the confidence, and needs no comparing
    taught = looked(path, names, match.taught(match.shipped(), [answer] * 5))
    assert sum(counted) == len(names) + 2
    assert [each.title for each in taught] == [each.title for each in first]
    assert taught[0].confidence < first[0].confidence
    other = compare.Titles(TITLES.titles[1:])
    assert not Facts(path).titles.of(other, match.shipped().pair)


@pytest.mark.parametrize(
    "told",
    [
        "",
        "[]",
        "[1]",
        "[99999,[0,0,0,0,0,0,0],false,[]]",
        "[0,[NaN,0,0,0,0,0,0],false,[]]",
        "[-1,[0],false,[]]",
        "[-2,[],false,[]]",
        '{"a":1}',
        "[[[",
        "[0,[],false,[]]",
        "[0,[0,0,0,0,0,0,0],false,[[-1,0]]]",
        "x" * 9000,
    ],
)
def test_what_is_kept_and_wrong_is_compared_again(told: str, counted: list[int], tmp_path: Path) -> None:
    path, names = tmp_path / "sums.sqlite3", NAMES[:3]
    first = looked(path, names)
    with sqlite3.connect(path) as store:
        store.execute("update near set told = ? where name = ?", (told, names[0]))
    assert looked(path, names) == first
    assert sum(counted) == 4


def test_a_file_full_of_rubbish_costs_time_alone(counted: list[int], tmp_path: Path) -> None:
    path = tmp_path / "sums.sqlite3"
    path.write_bytes(bytes(range(256)) * 40)
    assert looked(path, NAMES[:3]) == looked(path, NAMES[:3])
    assert sum(counted) in (3, 6)


def test_only_the_lists_that_were_used_last_are_kept(counted: list[int], tmp_path: Path) -> None:
    path = tmp_path / "sums.sqlite3"
    for number in range(remembered._MOST_KEPT + 3):
        facts = Facts(path)
        titles = compare.Titles((*TITLES.titles[:5], f"Extra {number}"))
        match.matches(["Extra"], titles, known=facts.titles.of(titles, match.shipped().pair))
        facts.keep()
    with sqlite3.connect(path) as store:
        assert store.execute("select count(distinct list) from near").fetchone() == (remembered._MOST_KEPT,)
    assert len(remembered._lists) == remembered._MOST_KEPT
    assert counted


def test_the_weights_of_words_fall_as_they_get_common() -> None:
    titles = compare.Titles(("a b", "a c", "a d"))
    assert titles.heavy("b") == pytest.approx(math.log(4) + 0.1)  # log((1 + N) / n) + 0.1
    assert titles.heavy("a") < titles.heavy("b")
    assert titles.heavy("nowhere") == pytest.approx(math.log(4))
