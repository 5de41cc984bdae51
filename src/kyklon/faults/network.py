"""A noisy-or network of causes and observations: how likely each cause is, and how much each next step would tell.

Several causes may be there at once. Exact by Quickscore (Heckerman 1989: negative answers factor, positive ones are
summed over their subsets); with many positive answers sampled instead, with the error stated.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
MOST_EXACT = 11  # positive answers; 2^11 terms of 90 causes take some milliseconds
_LARGEST_LOSS = 1e11  # by how much the terms may outweigh their alternating sum; beyond, too few digits are left
_Long = np.longdouble  # for that sum
_SAMPLES = 12_000
_ROUNDS = 6
_SIGMAS = 3.0  # standard errors that the stated error is, so that the worst of some ninety chances is within it
_SEED = 20260601


@dataclass(frozen=True)
class Network:
    """prior: (n,) chance of each cause. weight: (n, m) chance that a cause alone shows an observation. leak: (m,)
    chance of an observation without any cause. All from 0 to 1; priors below 1."""

    prior: Floats
    weight: Floats
    leak: Floats

    def heard(self, rate: float) -> Network:
        """The network of answers of which a share `rate` is false, 0 to 0.5: exact for no cause or one at a time."""
        silent = (1 - self.weight) * (1 - self.leak)
        leak = self.leak + rate * (1 - 2 * self.leak)
        spoken = rate + (1 - 2 * rate) * silent
        return Network(self.prior, np.clip(1 - spoken / (1 - leak), 0.0, 1.0), leak)

    @cached_property
    def absent(self) -> Floats:
        """(n, m) chance that a cause leaves an observation out."""
        return 1.0 - self.weight


@dataclass(frozen=True)
class Belief:
    """What is thought after some answers. chance: (n,) of each cause. error: within which each is, three standard
    errors of the worst, 0 where it is exact. terms, ratio: a mixture whose part s has the weight terms[s] and
    independent causes of chance ratio[s, i]; it answers every further question. taken: (m,) what was answered. quiet:
    (s, m) of samples, the chance that an observation is left out; None where it follows from the ratios."""

    network: Network
    chance: Floats
    error: float
    terms: Floats
    ratio: Floats
    taken: NDArray[np.bool_]
    quiet: Floats | None = None

    @property
    def exact(self) -> bool:
        return self.error == 0.0

    @cached_property
    def pairs(self) -> Floats:
        """(n, n) chance that two causes are there together; the diagonal is that of each."""
        joint = (self.ratio * self.terms[:, None]).T @ self.ratio
        np.fill_diagonal(joint, self.chance)
        return np.clip(joint, 0.0, 1.0)


def believe(network: Network, answers: Mapping[int, bool]) -> Belief:
    """How likely each cause is after these answers, by the observation's index.

    Raises ValueError for answers that are impossible under the network.
    """
    positive = [index for index, seen in answers.items() if seen]
    negative = [index for index, seen in answers.items() if not seen]
    taken = np.zeros(network.leak.shape, dtype=bool)
    taken[list(answers)] = True
    if len(positive) <= MOST_EXACT and (found := _exact(network, positive, negative, taken)) is not None:
        return found
    return _sampled(network, positive, negative, taken)


def _exact(network: Network, positive: list[int], negative: list[int], taken: NDArray[np.bool_]) -> Belief | None:
    """Quickscore; None where cancellation leaves too few digits."""
    terms = np.array([np.prod(1.0 - network.leak[negative])], dtype=_Long)
    there = (network.prior * np.prod(network.absent[:, negative], axis=1))[None, :].astype(_Long)
    for index in positive:
        terms = np.concatenate((terms, -terms * (1.0 - network.leak[index])))
        there = np.concatenate((there, there * network.absent[:, index]))
    whole = there + (1.0 - network.prior)
    parts = terms * np.prod(whole, axis=1)
    evidence = parts.sum()
    if evidence <= 0 or np.abs(parts).sum() > evidence * _LARGEST_LOSS:
        return None
    ratio = there / whole
    chance = np.clip((parts @ ratio) / evidence, 0.0, 1.0).astype(float)
    return Belief(network, chance, 0.0, (parts / evidence).astype(float), ratio.astype(float), taken)


def _sampled(network: Network, positive: list[int], negative: list[int], taken: NDArray[np.bool_]) -> Belief:
    """Importance sampling from what the strongest answers alone say, drawn nearer to all of them round by round."""
    strongest = sorted(positive, key=lambda index: network.leak[index])[:8]
    first = _exact(network, strongest, negative, taken) or _exact(network, [], negative, taken)
    guess = first.chance if first is not None else network.prior
    draw = np.random.default_rng(_SEED)
    log_absent = np.log(np.maximum(network.absent, 1e-12))
    log_no_leak = np.log(np.maximum(1 - network.leak, 1e-12))
    for _round in range(_ROUNDS):
        proposal = np.clip(0.8 * guess + 0.2 * network.prior, 1e-4, 0.95)
        there = draw.random((_SAMPLES, len(network.prior))) < proposal
        quiet = there @ log_absent + log_no_leak
        with np.errstate(divide="ignore"):
            logs = quiet[:, negative].sum(axis=1) + np.log(-np.expm1(quiet[:, positive])).sum(axis=1)
        odds = np.log(network.prior / proposal), np.log((1 - network.prior) / (1 - proposal))
        logs += np.where(there, *odds).sum(axis=1)
        if not np.isfinite(logs.max()):
            raise ValueError("these answers contradict each other")
        share = np.exp(logs - logs.max())
        share /= share.sum()
        chance = share @ there
        counting = 1 / float((share**2).sum())  # as many samples of equal weight
        if counting >= _SAMPLES / 20:
            break
        guess = (chance * counting + guess * 10) / (counting + 10)
    spread = np.sqrt(((share[:, None] * (there - chance)) ** 2).sum(axis=0))
    error = max(_SIGMAS * float(spread.max()), 1 / np.sqrt(counting))
    return Belief(network, chance, float(np.clip(error, 1e-12, 1.0)), share, there.astype(float), taken, np.exp(quiet))


def entropy(chance: Floats) -> Floats:
    """Bits of a yes or no of that chance, each."""
    clipped = np.clip(chance, 1e-15, 1 - 1e-15)
    return -(clipped * np.log2(clipped) + (1 - clipped) * np.log2(1 - clipped))


@dataclass(frozen=True)
class Gains:
    """What further steps would tell, in bits: asking each observation, (m,), 0 for those answered; trying each cause,
    (n,). yes: (m,) the chance of a yes. left: bits that are open now. no_chance, yes_chance: (m, n) what would be
    thought then."""

    asking: Floats
    trying: Floats
    yes: Floats
    left: float
    no_chance: Floats
    yes_chance: Floats


def gains(belief: Belief) -> Gains:
    """How much each step would tell: the fall of the causes' entropies that is to be expected."""
    left = float(entropy(belief.chance).sum())
    silent, joint = _unanswered(belief)
    no = np.clip(silent, 0.0, 1.0)
    with np.errstate(invalid="ignore", divide="ignore"):
        without = np.where(no[:, None] > 1e-12, joint / no[:, None], belief.chance)
        with_ = np.where(no[:, None] < 1 - 1e-12, (belief.chance - joint) / (1 - no[:, None]), belief.chance)
    without, with_ = np.clip(without, 0.0, 1.0), np.clip(with_, 0.0, 1.0)
    asking = left - no * entropy(without).sum(axis=1) - (1 - no) * entropy(with_).sum(axis=1)
    asking = np.where(belief.taken, 0.0, np.maximum(asking, 0.0))
    # a try that cures leaves nothing open; one that does not takes its cause away
    none = 1.0 - belief.chance
    with np.errstate(invalid="ignore", divide="ignore"):
        others = np.where(none[:, None] > 1e-12, (belief.chance - belief.pairs) / none[:, None], 0.0)
    np.fill_diagonal(others, 0.0)
    trying = left - none * entropy(np.clip(others, 0.0, 1.0)).sum(axis=1)
    return Gains(asking, np.maximum(trying, 0.0), np.where(belief.taken, 0.0, 1.0 - no), left, without, with_)


def _unanswered(belief: Belief) -> tuple[Floats, Floats]:
    """(m,) the chance that an observation is answered no, and (m, n) that it is and a cause is there."""
    network, ratio = belief.network, belief.ratio
    if belief.quiet is not None:
        weighed = (belief.quiet * belief.terms[:, None]).T
        return weighed.sum(axis=1), weighed @ ratio
    # with a further no, part s keeps the share prod_i(1 - ratio[s, i] weight[i, j]) of its weight
    keep = np.empty((len(network.leak), len(belief.terms)))
    linked = [np.flatnonzero(network.weight[:, index]) for index in range(len(network.leak))]
    for index, causes in enumerate(linked):
        keep[index] = np.prod(1.0 - ratio[:, causes] * network.weight[causes, index], axis=1)
    keep *= (1.0 - network.leak)[:, None] * belief.terms[None, :]
    joint = keep @ ratio
    for index, causes in enumerate(linked):
        part = ratio[:, causes] * network.absent[causes, index]
        share = part / np.maximum(1.0 - ratio[:, causes] * network.weight[causes, index], 1e-300)
        joint[index, causes] = keep[index] @ share
    return keep.sum(axis=1), joint
