"""Every parser with spoilt input: an answer or the project's own error, soon, and never anything else."""

from __future__ import annotations

import contextlib
import random

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from fuzzing import PARSERS, _held, places, tried
from support import that_ends


@pytest.mark.parametrize("name", PARSERS)
@settings(
    max_examples=60,
    deadline=None,
    derandomize=True,
    database=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
@given(seed=st.integers(0, 1 << 40))
def test_spoilt_input_gets_an_answer_or_the_one_error(name: str, seed: int) -> None:
    parser = PARSERS[name]
    rng = random.Random(seed)
    if parser.heavy and rng.random() > 0.25:
        return
    data = places(name, rng.choice(parser.seeds()), rng)
    _held()  # what it reads from is made once, and is none of the parser's time
    with that_ends():
        tried(parser, data)


@pytest.mark.parametrize("name", PARSERS)
def test_the_honest_examples_are_read(name: str) -> None:
    for seed in PARSERS[name].seeds():
        with contextlib.suppress(*(PARSERS[name].allowed if name in ("fields", "part names") else ())):
            PARSERS[name].read(seed)
