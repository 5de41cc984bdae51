"""The long attack: every parser with 20 000 spoilt inputs, two processes at one build a thousand times, the interlock
through two thousand meddled moments, acts killed two hundred times. Counts are printed; a failure ends it.

Usage: .venv/bin/python benchmarks/attack.py fuzz [COUNT] [PARSER ...] | two [ROUNDS] | held [COUNT] | kill [COUNT]
"""

from __future__ import annotations

import random
import resource
import subprocess
import sys
import tempfile
import time
import traceback
from pathlib import Path

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT / "tests"))
MOST_S = 2.0


def fuzz(count: int, names: list[str]) -> int:
    """Spoilt inputs for every parser; heavy ones get a twentieth."""
    from fuzzing import PARSERS, places, tried

    failed = 0
    for name in names or list(PARSERS):
        parser = PARSERS[name]
        seeds = parser.seeds()
        worst, own, begun = 0.0, 0, time.monotonic()
        wanted = count // 20 if parser.heavy else count
        for number in range(wanted):
            rng = random.Random(number)
            data = places(name, rng.choice(seeds), rng)
            started = time.process_time()
            try:
                tried(parser, data)
            except Exception:
                failed += 1
                own += 1
                if own <= 2:
                    print(f"{name}, number {number}:\n{traceback.format_exc()}", flush=True)
            worst = max(worst, time.process_time() - started)
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
        print(
            f"{name:20} {wanted:6} in {time.monotonic() - begun:6.0f} s, slowest {worst:.2f} s, peak {peak} MiB",
            flush=True,
        )
        failed += worst > MOST_S
    return failed


def two(rounds: int) -> int:
    """Two writers and a reader over one build."""
    from kyklon.catalogue import loader
    from kyklon.demo import lighthouse
    from test_two import two_processes

    with tempfile.TemporaryDirectory() as held:
        folder = lighthouse.make(Path(held) / "build", loader.load(None))
        each = rounds // 2
        two_processes(folder, each)
    print(f"{each} rounds of each of two writers, read all the while: nothing lost, nothing unreadable")
    return 0


def tests(name: str, variable: str, count: int) -> int:
    """A test of the suite, with more examples."""
    import os

    environment = {**os.environ, variable: str(count)}
    command = [sys.executable, "-m", "pytest", "-n", "0", *name.split()]
    return subprocess.run(command, cwd=ROOT, env=environment, check=False).returncode


def main() -> None:
    kind, *rest = sys.argv[1:] or ["--help"]
    number = int(rest[0]) if rest and rest[0].isdecimal() else 0
    names = rest[1:] if number else rest
    if kind == "fuzz":
        sys.exit(bool(fuzz(number or 20_000, names)))
    elif kind == "two":
        sys.exit(two(number or 1000))
    elif kind == "held":
        sys.exit(tests("tests/test_held.py -k permit", "KYKLON_HELD", number or 2000))
    elif kind == "kill":
        sys.exit(tests("tests/test_kill.py", "KYKLON_KILLS", number or 200))
    else:
        print(__doc__)


if __name__ == "__main__":
    main()
