"""Fit the models that match titles on the first half of the demo's labelled list, and try them on the second half.

Writes src/kyklon/catalogue/data/matching.toml; with --try it only prints.
"""

from __future__ import annotations

import sys
from pathlib import Path

from kyklon.demo.titles import labelled
from kyklon.operations.library import compare, match

OUT = Path(__file__).parents[1] / "src/kyklon/catalogue/data/matching.toml"


def main() -> None:
    told = labelled()
    titles = compare.Titles(told.titles)
    half = len(told.names) // 2
    model = match.fit([n for n, _t in told.names[:half]], [t for _n, t in told.names[:half]], titles)
    names, truth = zip(*told.names[half:], strict=True)
    found = match.matches(names, titles, model)
    right = [each.title == real for each, real in zip(found, truth, strict=True)]
    at = match.threshold([each.confidence for each in found], 3.0)
    taken = [ok for each, ok in zip(found, right, strict=True) if each.confidence >= at]
    bins, error = match.reliability([each.confidence for each in found], right)
    print(
        f"accepted {len(taken) / len(found):.3f}, wrong in 1000 {1000 * taken.count(False) / len(taken):.2f}, "
        f"calibration error {error:.4f}, best right {sum(right) / len(right):.3f}, from {at:.4f}"
    )
    if "--try" in sys.argv:
        wrong = [
            (n, e.title, r, e.confidence) for n, e, r, ok in zip(names, found, truth, right, strict=True) if not ok
        ]
        for row in sorted(wrong, key=lambda each: -each[3])[:25]:
            print(*row, sep=" | ")
        return
    rows = [
        "# Weights that match titles, the constant last; tools/fit_matching.py makes them on the first half of",
        "# the demo's 5 000 labelled names (demo/titles.py, seed 1).",
        f"pair_names = {list(compare.PAIR)!r}".replace("'", '"'),
        f"pair = {[round(float(each), 6) for each in model.pair]}",
        f"top_names = {list(match.TOP)!r}".replace("'", '"'),
        f"top = {[round(float(each), 6) for each in model.top]}",
        "# On the second half: confidence that was said, share that was right, how many; and the calibration error.",
        f"reliability = {[[round(each.said, 4), round(each.was, 4), each.count] for each in bins]}",
        f"error = {error:.4f}",
    ]
    OUT.write_text("\n".join(rows) + "\n", encoding="utf-8")


main()
