"""The fault finder's chances beside a library for Bayesian networks (pgmpy 1.1.2, variable elimination)."""

from __future__ import annotations

import itertools
import warnings

import numpy as np
import pytest

from kyklon.faults.network import Network, believe

pytest.importorskip("pgmpy", reason="pgmpy is not installed, which ./check --long brings")

with warnings.catch_warnings():
    warnings.simplefilter("ignore")
    from pgmpy.factors.discrete import TabularCPD
    from pgmpy.inference import VariableElimination
    from pgmpy.models import DiscreteBayesianNetwork


def the_same(network: Network) -> DiscreteBayesianNetwork:
    """The network as tables of all combinations."""
    causes = [f"c{index}" for index in range(len(network.prior))]
    model = DiscreteBayesianNetwork()
    model.add_nodes_from(causes)
    tables = [TabularCPD(name, 2, [[1 - chance], [chance]]) for name, chance in zip(causes, network.prior, strict=True)]
    for index, leak in enumerate(network.leak):
        parents = [each for each in range(len(causes)) if network.weight[each, index]]
        model.add_node(f"o{index}")
        model.add_edges_from((causes[parent], f"o{index}") for parent in parents)
        absent = []
        for there in itertools.product((0, 1), repeat=len(parents)):
            silent = [1 - network.weight[each, index] for each, on in zip(parents, there, strict=True) if on]
            absent.append((1 - leak) * float(np.prod(silent)))
        table = [absent, [1 - each for each in absent]]
        names = [causes[parent] for parent in parents]
        tables.append(TabularCPD(f"o{index}", 2, table, evidence=names, evidence_card=[2] * len(parents)))
    model.add_cpds(*tables)
    return model


@pytest.mark.filterwarnings("ignore")
@pytest.mark.parametrize("seed", range(8))
def test_posteriors_agree_to_nine_places(seed: int) -> None:
    draw = np.random.default_rng(seed)
    weight = np.where(draw.random((5, 6)) < 0.5, draw.uniform(0.05, 0.99, (5, 6)), 0.0)
    network = Network(draw.uniform(0.005, 0.3, 5), weight, draw.uniform(0.005, 0.2, 6)).heard(0.05)
    answers = {int(index): bool(draw.random() < 0.5) for index in draw.choice(6, 4, replace=False)}
    found = believe(network, answers)
    ask = VariableElimination(the_same(network))
    for index in range(5):
        told = ask.query(
            [f"c{index}"], evidence={f"o{each}": int(seen) for each, seen in answers.items()}, show_progress=False
        )
        assert found.chance[index] == pytest.approx(told.values[1], abs=1e-9)
