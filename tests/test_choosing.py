"""What fits a card and which version stays, against every choice there is and against figures worked out by hand."""

from __future__ import annotations

from itertools import product
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kyklon.base.errors import KyklonError
from kyklon.operations.library import choose as choosing
from kyklon.operations.library.choose import Item, choose, next_larger, takes
from kyklon.operations.library.versions import Tags, _rank, _why, place, tags_of

GB = 1_000_000_000


def items(*sizes: int, worths: tuple[float, ...] = (), must: tuple[int, ...] = ()) -> list[Item]:
    return [
        Item(f"g{index}", (size,), worths[index] if worths else 1.0, index in must) for index, size in enumerate(sizes)
    ]


def test_clusters_are_filled_up() -> None:
    """4097 bytes take two clusters of 4096, none take none, and a save of one byte another."""
    assert takes((4096,), 4096) == 4096
    assert takes((4097, 0), 4096) == 8192
    assert takes((1,), 4096, (1, 4096)) == 3 * 4096


def test_what_fits_to_the_byte_fits() -> None:
    assert choose(items(3, 4, 5), 12, 1).kept == {"g0", "g1", "g2"}
    assert choose(items(3, 4, 5), 11, 1).left == {"g2"}  # two games either way: the worthiest by the byte first
    assert choose(items(5), 5, 1).kept == {"g0"}
    assert choose(items(5), 4, 1).kept == frozenset()
    assert choose([], 0, 1).gap == 0.0
    filled = choosing._filled(np.zeros(2, dtype=bool), np.array([4.0, 6.0]), np.array([1.0, 1.0]), 10.0)
    assert filled.all(), "the last byte counts"


def test_what_must_go_along_does() -> None:
    assert choose(items(9, 1, 1, must=(0,)), 10, 1).kept >= {"g0"}
    assert choose(items(10, 1, must=(0,)), 10, 1).kept == {"g0"}
    with pytest.raises(KyklonError, match="always include"):
        choose(items(10, 1, must=(0,)), 9, 1)


@settings(max_examples=150)
@given(st.data())
def test_the_choice_is_the_best_of_all(data: st.DataObject) -> None:
    count = data.draw(st.integers(1, 8))
    sizes = data.draw(st.lists(st.integers(1, 40), min_size=count, max_size=count))
    worths = tuple(data.draw(st.lists(st.sampled_from((1.0, 2.0, 8.0)), min_size=count, max_size=count)))
    room = data.draw(st.integers(0, 120))
    told = choose(items(*sizes, worths=worths), room, 1)
    best = max(
        sum(worth for worth, taken in zip(worths, pick, strict=True) if taken)
        for pick in product((0, 1), repeat=count)
        if sum(size for size, taken in zip(sizes, pick, strict=True) if taken) <= room
    )
    kept = [index for index in range(count) if f"g{index}" in told.kept]
    assert sum(sizes[index] for index in kept) == told.used <= room
    assert sum(worths[index] for index in kept) == pytest.approx(best)
    # the bound is of games that may be cut: a gap may be left, but none is claimed below what was found
    assert told.gap >= 0.0


def test_the_next_larger_card() -> None:
    """Three games of 20 GB: 60 of 63.04 usable on 64 GB; 28 GB of room hold one, 32 GB more than today's card two."""
    games = items(20 * GB, 20 * GB, 20 * GB)
    told = next_larger(games, 28 * GB, 32 * GB, 1)
    assert told is not None
    card, choice = told
    assert card == 64 * GB
    assert len(choice.kept) > 1
    assert next_larger(games, 60 * GB, 64 * GB, 1) is None, "all fits already"
    assert next_larger(items(2000 * GB), GB, 1024 * GB, 1) is None, "no larger one is sold"
    # what else lies on the card goes along: 8 GB of 8.4 used up leave 15.76 − 7.88 on the next
    card, choice = next_larger(items(9 * GB), 0, 8 * GB, 1) or (0, None)
    assert card == 16 * GB
    assert choice is not None
    assert choice.room == int(16 * GB * 0.985) - int(8 * GB * 0.985)
    assert list(choosing.SIZES) == [8, 16, 32, 64, 128, 256, 512, 1024], "as cards are sold"
    assert next_larger(games, 60 * GB - 1, 64 * GB, 1) is not None
    assert next_larger(items(100 * GB), int(64 * GB * 0.985), 32 * GB, 1) is None, "it would hold no more"


# --- versions ------------------------------------------------------------------------------------------------------

ORDER = ("Europe", "America", "Japan")


def test_what_a_game_is_worth() -> None:
    """One, eight more for a favourite, one more for each doubling of 1 + plays."""
    assert choosing.worth_of("a", (), {}) == 1.0
    assert choosing.worth_of("a", ("b",), {"a": 1, "b": 9}) == 2.0
    assert choosing.worth_of("a", (), {"a": 3}) == 3.0
    assert choosing.worth_of("a", ("a",), {"a": 7}) == 1.0 + 8.0 + 3.0


def test_a_gap_is_what_the_solver_left_open(monkeypatch: pytest.MonkeyPatch) -> None:
    """scipy.optimize.milp minimises, so its dual bound is negative: no more than 14.1 worth can be had, 8.6 were."""
    import scipy.optimize

    def stopped(_costs: object, **_words: object) -> SimpleNamespace:
        return SimpleNamespace(x=np.zeros(3), mip_dual_bound=-14.1)

    games = items(6, 5, 5, worths=(8.6, 7.0, 7.0))
    assert choose(games, 10, 1).worth == 14.0
    large = items(6 * GB, 5 * GB, 5 * GB, worths=(8.6, 7.0, 7.0))
    assert choose(large, 10 * GB, 1).worth == 14.0
    monkeypatch.setattr(scipy.optimize, "milp", stopped)
    told = choose(games, 10, 1)  # the worthiest by the byte, after which nothing fits
    assert (told.worth, told.gap) == (8.6, pytest.approx((14.1 - 8.6) / 14.1))
    for answer in (None, np.zeros(3)):  # nothing found, or nothing proved
        told = SimpleNamespace(x=answer, mip_dual_bound=None)
        monkeypatch.setattr(scipy.optimize, "milp", lambda _costs, told=told, **_words: told)
        assert choose(games, 10, 1).gap == pytest.approx((14.2 - 8.6) / 14.2), "8.6 and four fifths of 7: Dantzig 1957"


def test_where_a_version_stands() -> None:
    """Unfinished ones last, then language, region, unknown tags, and of the rest the later revision."""
    plain = place(Tags(("Europe",)), ORDER, ("En", "De"))
    assert plain == (False, 0, 0.0, False, (0, 0, 0, 0))
    assert place(Tags(("Japan", "America")), ORDER)[2] == 1.0, "the best of its regions counts"
    assert place(Tags(("Brazil",)), ORDER)[2] == 1.5, "behind the part of the world that it lies in"
    assert place(Tags(("Korea",)), ORDER)[2] == 3.0, "nothing of its part of the world is named"
    assert place(Tags(), ORDER)[2] == 3.0
    assert place(Tags(revision=(1, 2)), ORDER)[4] == (-1, -2, 0, 0)
    assert place(Tags(languages=("De", "Fr")), ORDER, ("En", "De"))[1] == 1
    assert place(Tags(languages=("Fr",)), ORDER, ("En", "De"))[1] == 2
    assert place(Tags(languages=("Fr",)), ORDER)[1] == 0, "nobody asked for a language"
    assert place(Tags(), ORDER, ("En",))[1] == 0, "it may have any"
    later = [place(tags_of(f"Game (Europe){rest}.x"), ORDER) for rest in (" (Rev 2)", " (Rev 1)", "", " [b1]")]
    assert later == sorted(later)
    assert _rank("France", ("Asia", "Europe")) == 1.5
    assert _rank("Europe", ORDER) == 0.0


@pytest.mark.parametrize(
    ("own", "best", "why"),
    [
        ((True, 0, 0.0, False, (0,)), (False, 1, 1.0, True, (0,)), "this one is unfinished, changed or a bad dump"),
        ((False, 1, 0.0, False, (0,)), (False, 0, 1.0, True, (0,)), "its language comes first"),
        ((False, 0, 1.0, False, (0,)), (False, 0, 0.0, True, (0,)), "its region comes first"),
        ((False, 0, 0.0, True, (0,)), (False, 0, 0.0, False, (0,)), "this one has an unknown tag"),
        ((False, 0, 0.0, False, (0,)), (False, 0, 0.0, False, (-1,)), "it is the later revision"),
    ],
)
def test_why_another_version_is_kept(own: tuple, best: tuple, why: str) -> None:  # type: ignore[type-arg]
    assert _why(own, best) == why
