"""The log reader over real starts: cards broken at random, started by a real kernel and a real boot loader, their logs
cut, mixed and with noise.

Usage: .venv/bin/python benchmarks/logs.py [COUNT] [FIRST]   COUNT: logs of each judge, 100 when not given
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from judges import cards, logs


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 100
    first = int(sys.argv[2]) if len(sys.argv) > 2 else 0
    with tempfile.TemporaryDirectory(prefix="kyklon-judges-") as held:
        whole = cards.whole_card(Path(held) / "whole")
        right = causes = cause_right = total = 0
        for name, make, stage_of in (
            ("kernel", logs.of_kernel, logs.kernel_stage),
            ("loader", logs.of_loader, logs.loader_stage),
        ):
            for seed in range(first, first + count):
                truth = make(whole, Path(held) / f"{name}.img", seed)
                reading = logs.read(logs.mangled(truth.text, seed))
                good = stage_of(reading) == truth.stage
                total += 1
                right += good
                if truth.code:
                    causes += 1
                    same = logs.same_cause(reading, truth.code)
                    cause_right += same
                    good = good and same
                if not good:
                    stop = (
                        f"{reading.stop.stage}: {reading.stop.code} (line {reading.stop.line.text!r})"
                        if reading.stop
                        else "no stop"
                    )
                    print(
                        f"{name} {seed}: {truth.what}\n   true: {truth.stage!r} {truth.code}\n"
                        f"   read: {stage_of(reading)!r} (reached {reading.reached!r}) {stop}",
                        flush=True,
                    )
    print(f"stage right in {right} of {total} ({right / total:.1%})")
    print(f"cause in {cause_right} of {causes} ({cause_right / max(1, causes):.1%})")


if __name__ == "__main__":
    main()
