"""Probing and proving cards that lie, wear out, lock, sleep or come loose; and what a write says of its card."""

from __future__ import annotations

import math
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kyklon.base.errors import BadBlock, Cancelled, Refused, SourceError, TargetError, VerifyError
from kyklon.base.progress import CancelToken, Progress, Watch
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Card
from kyklon.devices.ports import Target
from kyklon.devices.simulated.drives import Faults
from kyklon.model.build import CardState
from kyklon.model.image_file import Stated
from kyklon.operations.card.acts import prove_card, write_card
from kyklon.operations.card.drives import judgement, prove, writer
from kyklon.operations.card.drives.interlock import Purpose, Request, opened
from kyklon.operations.card.drives.outlook import estimate
from kyklon.operations.card.drives.writer import Order
from kyklon.operations.card.sources import source
from support import MIB, Demo, simulated, write
from test_writer import image


def proof(target: Target, *, full: bool = False, cancel: CancelToken | None = None) -> prove.Proof:
    with opened(Request(target, Purpose.PROVE)) as place:
        return prove.prove(place, full=full, watch=Watch(cancel=cancel or CancelToken()))


@pytest.mark.parametrize("full", [False, True])
def test_a_good_card_is_good(full: bool, tmp_path: Path) -> None:
    target = simulated(tmp_path, size=48 * MIB)
    found = proof(target, full=full)
    assert found.good, found
    assert found.checked >= (48 * MIB if full else 16 * MIB)
    assert not any(target.path.read_bytes()[: MIB // 2])  # no half of a table is left


@pytest.mark.parametrize("wraps", [True, False])
@pytest.mark.parametrize("full", [False, True])
def test_a_counterfeit_is_named_with_its_true_size(wraps: bool, full: bool, tmp_path: Path) -> None:
    target = simulated(tmp_path, size=96 * MIB, true_size=33 * MIB, wraps=wraps)
    found = proof(target, full=full)
    assert found.verdict == "counterfeit", found
    if wraps or full:
        assert found.true_size == 33 * MIB
    else:
        assert found.true_size == pytest.approx(33 * MIB, abs=MIB + prove.BLOCK)
    assert found.bad[0].kind == ("wraps" if wraps else "lost")


@pytest.mark.long
@given(st.integers(17 * 256, 250 * 256), st.integers(2, 9))
def test_any_wrapped_size_is_found_by_the_quick_probe(
    tmp_path_factory: pytest.TempPathFactory, blocks: int, times: int
) -> None:
    """On a drive in memory: the true size is found to the block, whatever it is."""
    true_size = blocks * prove.BLOCK
    target = simulated(tmp_path_factory.mktemp("probe"), size=true_size * times + prove.BLOCK * 3, true_size=true_size)
    found = proof(target)
    assert (found.verdict, found.true_size) == ("counterfeit", true_size)


def test_a_worn_card_is_named(tmp_path: Path) -> None:
    rotten = simulated(tmp_path / "a", size=48 * MIB, rots_at=30 * MIB + 5)
    found = proof(rotten, full=True)
    assert found.verdict == "worn"
    assert [(each.start, each.end, each.kind) for each in found.bad] == [(30 * MIB, 30 * MIB + 4096, "changed")]
    assert proof(simulated(tmp_path / "b", size=48 * MIB, bad_block_at=20 * MIB), full=True).verdict == "worn"


@pytest.mark.parametrize(
    ("faults", "verdict"),
    [
        ({"locks_at": 20 * MIB}, "locked"),
        ({"unplugged_at": 20 * MIB}, "unplugged"),
        ({"asleep_at": 20 * MIB}, "asleep"),
    ],
)
def test_other_faults_have_their_own_names(faults: dict[str, int], verdict: str, tmp_path: Path) -> None:
    assert proof(simulated(tmp_path, size=48 * MIB, **faults), full=True).verdict == verdict


def test_a_probe_can_be_cancelled_and_leaves_no_table(tmp_path: Path) -> None:
    target = simulated(tmp_path, size=48 * MIB)
    cancel = CancelToken()
    cancel.cancel()
    with pytest.raises(Cancelled):
        proof(target, full=True, cancel=cancel)
    assert not any(target.path.read_bytes()[:MIB])


def test_a_proof_needs_the_interlock(demo: Demo) -> None:
    stick = demo.target("photo-stick")
    before = stick.path.read_bytes()
    with pytest.raises(Refused, match="HOLIDAY 24"):
        prove_card(demo.job("photo-stick"))
    with pytest.raises(Refused, match="running system"):
        prove_card(demo.job("system-disk", "x"))
    assert stick.path.read_bytes() == before


def test_marks_carry_their_place_and_run() -> None:
    data = prove.marked(8192, 3 * prove.BLOCK, 77)
    assert [prove.place_told(data[at : at + 4096], 77) for at in (0, 4096, 8192)] == [8192, 12288, 16384]
    assert prove.place_told(data[:4096], 78) is None
    assert data != prove.marked(0, 3 * prove.BLOCK, 77)


# --- a write judges its card ---------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("name", "verdict", "state"),
    [
        ("blank-card", "good", CardState.PROVEN),
        ("loose-card", "unplugged", CardState.FAILED),
        ("bargain-card", "counterfeit", CardState.FAILED),
        ("tired-card", "worn", CardState.FAILED),
        ("sleepy-hub", "asleep", CardState.FAILED),
    ],
)
def test_the_demos_drives_are_named_rightly(name: str, verdict: str, state: CardState, demo: Demo) -> None:
    ended = write_card(demo.job(name), source.inspect(demo.image), speed_class="U1 A1")
    assert (ended.record.verdict, ended.record.state) == (verdict, state)
    card = demo.build.known_card(f"sim:{name}")
    assert card is not None
    assert card.events[-1].verdict == verdict


def test_a_card_slower_than_its_class_is_named(demo: Demo) -> None:
    demo.drives.change("sim:slow-card", faults=Faults(rate=60_000_000))
    ended = write_card(demo.job("slow-card"), source.inspect(demo.image), speed_class="V90")
    assert ended.record.verdict == "slow"
    assert "90 MB/s" in ended.record.sentence
    assert ended.record.state is CardState.PROVEN


def test_a_locked_card_is_refused_with_the_slider(demo: Demo) -> None:
    with pytest.raises(Refused, match="write-protect"):
        demo.write("locked-card")


def test_a_card_that_rots_is_worn_and_not_counterfeit(demo: Demo) -> None:
    demo.drives.change("sim:blank-card", faults=Faults(rots_at=20 * MIB))
    ended = demo.write("blank-card")
    assert isinstance(ended.bad, VerifyError)
    assert ended.bad.offset == 20 * MIB
    assert ended.record.verdict == "worn"


def test_a_block_that_takes_it_at_the_second_try_is_written_and_told(tmp_path: Path) -> None:
    path = image(tmp_path)
    target = simulated(tmp_path, bad_block_at=9 * MIB, tries=2)
    report = write(target, path)
    assert report.retried == (9 * MIB,)
    assert target.path.read_bytes()[: report.size] == path.read_bytes()
    assert judgement.of_report(report).name == "worn"


def test_a_block_that_stays_bad_is_named_with_its_position(tmp_path: Path) -> None:
    target = simulated(tmp_path, bad_block_at=9 * MIB + 70_000)
    with pytest.raises(BadBlock) as caught:
        write(target, image(tmp_path))
    assert caught.value.offset == 9 * MIB + writer.PLACE
    assert judgement.of_error(caught.value).name == "worn"


def test_zeros_are_left_out_only_where_the_target_is_zero(tmp_path: Path) -> None:
    path = tmp_path / "a.img"
    path.write_bytes(b"x" * 4 * MIB + bytes(12 * MIB) + b"y" * 4 * MIB)
    target = simulated(tmp_path)
    target.path.parent.mkdir(exist_ok=True)
    target.path.write_bytes(b"old" * (8 * MIB))
    report = write(target, path)
    assert report.skipped == 12 * MIB
    assert target.path.read_bytes()[: 20 * MIB] == path.read_bytes()
    assert target.path.stat().st_blocks * 512 < 20 * MIB  # holes, not zeros
    sent = simulated(tmp_path / "b", unplugged_at=60 * MIB)
    assert write(sent, path).skipped == 0


def test_a_pause_holds_the_write_and_costs_no_speed(tmp_path: Path) -> None:
    import threading

    cancel = CancelToken()
    seen: list[Progress] = []

    def watch(report: Progress) -> None:
        seen.append(report)
        if len(seen) == 3:
            cancel.pause()
            threading.Timer(0.5, cancel.resume).start()

    target = simulated(tmp_path, rate=40 * MIB)
    report = write(target, image(tmp_path), watch=Watch(watch, cancel))
    assert report.verified
    assert all(progress.at_s is not None and progress.at_s < 0.5 + 2 * report.size / (40 * MIB) for progress in seen)


def test_cancel_ends_a_pause(tmp_path: Path) -> None:
    cancel = CancelToken()
    cancel.pause()
    cancel.cancel()
    with pytest.raises(Cancelled):
        write(simulated(tmp_path), image(tmp_path), watch=Watch(cancel=cancel or CancelToken()))


@pytest.mark.parametrize("algorithm", ["SHA-512", "SHA-1", "MD5", "CRC-32"])
def test_makers_sums_of_every_kind_are_checked_before_the_table(algorithm: str, tmp_path: Path) -> None:
    from kyklon.operations import checksums

    path = image(tmp_path)
    with path.open("rb") as file:
        right = Stated(algorithm, checksums.of_file(file, algorithm))
    report = write(simulated(tmp_path), path, Order(right))
    assert report.checked == right.words
    target = simulated(tmp_path / "b")
    with pytest.raises(SourceError, match=algorithm):
        write(target, path, Order(Stated(algorithm, "0" * len(right.digest))))
    assert not any(target.path.read_bytes()[:512])


@pytest.mark.parametrize(
    ("mark", "mb_s"), [("C2", 2), ("C10", 10), ("U1 A1", 10), ("U3 A2", 30), ("C10 V60", 60), ("V90", 90), ("A1", 0)]
)
def test_speed_class_floors(mark: str, mb_s: float) -> None:
    """SD Association, speed classes (from memory: C2/4/6/10, U1/3, V6/10/30/60/90 in MB/s)."""
    assert judgement.floor(mark) == mb_s


def test_the_measured_rate_becomes_the_next_estimate(demo: Demo, catalogue: Catalogue) -> None:
    typical = catalogue.get(Card, demo.build.part("card"))
    facts = source.inspect(demo.image)
    before = estimate(facts, None, typical)
    assert before is not None
    assert "typical" in before.source
    ended = demo.write()
    after = estimate(facts, demo.build.known_card("sim:blank-card"), typical)
    assert after is not None
    assert ended.report is not None
    assert after.source == "measured at its last write"
    assert math.isclose(after.rate, ended.report.target_rate)


def test_every_failure_has_a_name() -> None:
    for kind in (TargetError, VerifyError, SourceError):
        assert judgement.of_error(kind("it failed")).name
