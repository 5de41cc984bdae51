"""Writes the table of failure modes into docs/power-on.md, from tests/failure_modes.py.

Usage: .venv/bin/python tools/failure_table.py
"""

from __future__ import annotations

import sys
from pathlib import Path

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT / "tests"))

from failure_modes import MODES  # noqa: E402

BEGIN, END = "<!-- modes -->\n", "<!-- end of modes -->\n"


def main() -> None:
    path = ROOT / "docs" / "power-on.md"
    text = path.read_text(encoding="utf-8")
    rows = [
        f"| {mode.name} | {mode.stage} | `{mode.code}` | {'labels' if mode.way == 'labels' else ''} |" for mode in MODES
    ]
    table = "\n".join(("| what is wrong | stage | code | boot files |", "| --- | --- | --- | --- |", *rows)) + "\n"
    before, _, rest = text.partition(BEGIN)
    path.write_text(
        f"{before}{BEGIN}{len(MODES)} ways to fail.\n\n{table}{END}{rest.partition(END)[2]}", encoding="utf-8"
    )


if __name__ == "__main__":
    main()
