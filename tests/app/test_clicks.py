"""A hand that clicks, types and drags at random in the real window: a short run a build; benchmarks/attack.py has the
long one, and prints the seed of every run."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

TOOL = Path(__file__).parents[2] / "tools" / "clicks.py"


@pytest.mark.long(keep=1)
@pytest.mark.parametrize("build", ["lighthouse", "camper", "school-fair", "empty"])
def test_two_hundred_random_acts_bring_no_fault(build: str) -> None:
    done = subprocess.run([sys.executable, str(TOOL), "200", "7", build], capture_output=True, text=True, timeout=1800)
    assert done.returncode == 0, done.stdout[-4000:] + done.stderr[-2000:]
    assert f"{build}: seed 7, " in done.stdout
