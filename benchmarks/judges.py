"""The forecast against real judges: random broken cards through a real boot loader and a real kernel.

Usage: .venv/bin/python benchmarks/judges.py [COUNT] [loader|kernel] [FIRST]
COUNT: cards for each judge, 250 when not given; FIRST: the first seed. Prints every disagreement, and the counts.
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from judges import cards, compare, kernel, loader


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 250
    which = sys.argv[2:3] or ["loader", "kernel"]
    first = int(sys.argv[3]) if len(sys.argv) > 3 else 0
    with tempfile.TemporaryDirectory(prefix="kyklon-judges-") as held:
        whole = cards.whole_card(Path(held) / "whole")
        for name in which:
            available = {"loader": loader, "kernel": kernel}[name].available()
            if not available:
                print(f"{name}: not installed")
                continue
            agreed = wrong = 0
            for seed in range(first, first + count):
                to = Path(held) / f"{name}.img"
                if name == "loader":
                    broken = cards.for_loader(whole, to, seed)
                    found = compare.with_loader(broken.path)
                else:
                    broken = cards.for_kernel(whole, to, seed)
                    found = compare.with_kernel(broken.path, broken.line)
                agreed += found.agree
                wrong += found.fine_and_wrong
                if not found.agree:
                    mark = "FINE AND WRONG" if found.fine_and_wrong else "differs"
                    print(
                        f"{name} {seed} {mark}: {broken.what}\n   predicted: {found.foretold}\n   real: {found.real}",
                        flush=True,
                    )
            print(f"{name}: {agreed} of {count} agree; {wrong} said to pass where the real one stopped", flush=True)


if __name__ == "__main__":
    main()
