"""The fault finder by simulation: minutes to the cause against trying causes by prior, and against the optimum on small
networks; calibration; time an answer.

Usage: .venv/bin/python benchmarks/faults.py [COUNT]   COUNT: simulated faults, 2000 when not given
"""

from __future__ import annotations

import statistics
import sys
import time
from functools import cache

import numpy as np

from kyklon.catalogue.loader import load
from kyklon.demo import lighthouse
from kyklon.faults.fault_model import FALSE_ANSWERS, FaultModel, fault_model_of
from kyklon.faults.finder import choose, cost_of
from kyklon.faults.network import Network, believe, gains


def costs(fault_model: FaultModel) -> tuple[np.ndarray, np.ndarray]:
    ask = np.array([*(cost_of(observation) for observation in fault_model.observations), np.inf])
    return ask, np.array([cause.minutes for cause in fault_model.causes])


def hunted(
    fault_model: FaultModel, truth: set[int], answer: np.ndarray, start: dict[int, bool]
) -> tuple[float, list[tuple[float, bool]]]:
    """Minutes until the causes of `truth` are found by the finder; beliefs met on the way, with whether they were
    right."""
    ask_minutes, try_minutes = costs(fault_model)
    ask_left, try_left = ask_minutes.copy(), try_minutes.copy()
    network, known, spent, met = fault_model.network, {len(fault_model.observations): True, **start}, 0.0, []
    prior = network.prior.copy()
    open_ = set(truth)
    for index in start:
        ask_left[index] = np.inf
    while open_:
        belief = believe(Network(prior, network.weight, network.leak), known)
        met += [(float(chance), index in truth) for index, chance in enumerate(belief.chance) if chance > 0.05]
        trying, index = choose(gains(belief), belief.chance, ask_left, try_left)
        if trying:
            spent += try_minutes[index]
            try_left[index] = np.inf
            prior[index] = 1e-6
            open_.discard(index)
        else:
            spent += ask_minutes[index]
            ask_left[index] = np.inf
            known[index] = bool(answer[index])
    return spent, met


def by_prior(fault_model: FaultModel, truth: set[int]) -> float:
    """Minutes when causes are tried by their prior alone."""
    spent, open_ = 0.0, set(truth)
    for index in np.argsort(-fault_model.network.prior):
        spent += fault_model.causes[index].minutes
        open_.discard(int(index))
        if not open_:
            return spent
    return spent


def simulate(fault_model: FaultModel, draw: np.random.Generator, truth: set[int]) -> np.ndarray:
    """Answers to all observations with these causes, of which some are false."""
    silent = (1 - fault_model.raw.leak) * np.prod(1 - fault_model.raw.weight[list(truth)], axis=0)
    seen = draw.random(len(silent)) >= silent
    return seen ^ (draw.random(len(silent)) < FALSE_ANSWERS)


def faults(fault_model: FaultModel, draw: np.random.Generator) -> set[int]:
    """The causes in a machine that fails."""
    while True:
        found = set(np.flatnonzero(draw.random(len(fault_model.causes)) < fault_model.raw.prior).tolist())
        if found:
            return found


def optimum(prior: np.ndarray, weight: np.ndarray, leak: np.ndarray, ask: np.ndarray, attempt: np.ndarray) -> float:
    """Minutes of the best possible way, one cause there: every way is looked at."""
    n, m = weight.shape
    yes = 1 - (1 - weight) * (1 - leak)

    @cache
    def best(known: tuple[int, ...], gone: int) -> tuple[float, float]:
        weights = np.array(
            [
                0.0
                if gone >> i & 1
                else prior[i] * np.prod([yes[i, j] if known[j] else 1 - yes[i, j] for j in range(m) if known[j] >= 0])
                for i in range(n)
            ]
        )
        total = weights.sum()
        if total <= 0:
            return 0.0, 0.0
        found = np.inf
        for i in range(n):
            if not gone >> i & 1:
                cost, _ = best(known, gone | 1 << i)
                found = min(found, attempt[i] * total + cost)
        for j in range(m):
            if known[j] < 0:
                parts = [best((*known[:j], answer, *known[j + 1 :]), gone)[0] for answer in (0, 1)]
                found = min(found, ask[j] * total + sum(parts))
        return float(found), float(total)

    cost, total = best((-1,) * m, 0)
    return cost / total


def finder_expected(
    prior: np.ndarray, weight: np.ndarray, leak: np.ndarray, ask: np.ndarray, attempt: np.ndarray
) -> float:
    """Minutes of the finder's own way over the same network, one cause there, every answer followed."""
    n, m = weight.shape
    yes = 1 - (1 - weight) * (1 - leak)
    network = Network(prior, np.column_stack((weight, np.ones(n))), np.append(leak, 0.002))

    def follow(known: dict[int, bool], gone: frozenset[int], weights: np.ndarray) -> float:
        total = weights.sum()
        if total <= 1e-15:
            return 0.0
        left = prior.copy()
        left[list(gone)] = 1e-9
        ask_left, try_left = np.append(ask, np.inf), attempt.copy()
        ask_left[list(known)] = np.inf
        try_left[list(gone)] = np.inf
        belief = believe(Network(left, network.weight, network.leak), known)
        trying, index = choose(gains(belief), belief.chance, ask_left, try_left)
        if trying:
            rest = weights.copy()
            rest[index] = 0
            return attempt[index] * total + follow(known, gone | {index}, rest)
        cost = ask[index] * total
        for answer in (False, True):
            cost += follow({**known, index: answer}, gone, weights * (yes[:, index] if answer else 1 - yes[:, index]))
        return cost

    return follow({m: True}, frozenset(), prior.copy()) / prior.sum()


def reduced(
    fault_model: FaultModel, draw: np.random.Generator, causes: int = 5, checks: int = 5
) -> tuple[np.ndarray, ...]:
    """A part of the real network: some causes and the observations that they have most to do with."""
    own = draw.choice(len(fault_model.causes), causes, replace=False)
    shown = fault_model.network.weight[own, :-1].sum(axis=0)
    linked = np.argsort(draw.random(len(shown)) - shown)[:checks]
    ask, attempt = costs(fault_model)
    return (
        fault_model.network.prior[own],
        fault_model.network.weight[np.ix_(own, linked)],
        fault_model.network.leak[linked],
        ask[linked],
        attempt[own],
    )


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 2000
    parts = load()
    fault_model = fault_model_of(lighthouse.build(parts, "0" * 64), parts)
    draw = np.random.default_rng(7)
    print(
        f"{len(fault_model.causes)} causes, {len(fault_model.observations)} observations; "
        f"{FALSE_ANSWERS:.0%} false answers"
    )
    ratios = []
    for _ in range(40):
        part = reduced(fault_model, draw)
        ratios.append(finder_expected(*part) / optimum(*part))
    print(
        f"against the optimum on 40 reduced networks (5 causes, 5 observations): "
        f"mean {statistics.mean(ratios):.3f}, largest {max(ratios):.3f}"
    )
    finder_minutes, prior_minutes = [], []
    for _ in range(max(20, count // 10)):
        truth = faults(fault_model, draw)
        spent, _met = hunted(fault_model, truth, simulate(fault_model, draw, truth), {})
        finder_minutes.append(spent)
        prior_minutes.append(by_prior(fault_model, truth))
    print(
        f"minutes to all causes over {len(finder_minutes)} faults drawn by prior: finder "
        f"{statistics.mean(finder_minutes):.1f}, by prior alone {statistics.mean(prior_minutes):.1f}, ratio "
        f"{statistics.mean(finder_minutes) / statistics.mean(prior_minutes):.3f}"
    )
    finder_minutes, prior_minutes = [], []
    for index in range(len(fault_model.causes)):
        finder_minutes.append(hunted(fault_model, {index}, simulate(fault_model, draw, {index}), {})[0])
        prior_minutes.append(by_prior(fault_model, {index}))
    print(
        f"minutes to the cause, each once: finder {statistics.mean(finder_minutes):.1f}, by prior alone "
        f"{statistics.mean(prior_minutes):.1f}, ratio "
        f"{statistics.mean(finder_minutes) / statistics.mean(prior_minutes):.3f}"
    )
    met = []
    for _ in range(count):
        truth = faults(fault_model, draw)
        answer = simulate(fault_model, draw, truth)
        asked = draw.choice(len(answer), int(draw.integers(20, len(answer) + 1)), replace=False)
        known = {len(answer): True, **{int(i): bool(answer[i]) for i in asked}}
        met += [
            (float(chance), index in truth) for index, chance in enumerate(believe(fault_model.network, known).chance)
        ]
    for low, high in ((0.05, 0.15), (0.2, 0.4), (0.4, 0.6), (0.6, 0.75), (0.75, 0.85), (0.85, 0.95), (0.95, 1.01)):
        inside = [right for chance, right in met if low <= chance < high]
        print(f"given {low:.2f} to {high:.2f}: right {statistics.mean(inside) if inside else 0:.3f} of {len(inside)}")
    times = []
    for _ in range(200):
        truth = faults(fault_model, draw)
        answer = simulate(fault_model, draw, truth)
        known = {len(answer): True} | {int(i): bool(answer[i]) for i in draw.choice(len(answer), 14, replace=False)}
        begun = time.perf_counter()
        gains(believe(fault_model.network, known))
        times.append(time.perf_counter() - begun)
    print(f"an answer: median {statistics.median(times) * 1e3:.1f} ms, largest {max(times) * 1e3:.1f} ms")


if __name__ == "__main__":
    main()
