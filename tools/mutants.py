"""Changes small things in a module, one at a time, and sees whether the module's own tests find out.

Usage: .venv/bin/python tools/mutants.py [COUNT] [MODULE ...]   COUNT: mutants a module, 10 when not given
Works on a copy of the tree; prints each mutant that nobody found.
"""

from __future__ import annotations

import ast
import copy
import os
import random
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).parent.parent
CARD, BOOT = "operations/card/drives", "operations/boot/dialects"
HAND, CHOICE = "tests/test_worked_out.py", "tests/test_choosing.py"
MODULES = {  # module -> the tests that are its own
    f"{CARD}/interlock.py": "tests/test_interlock.py tests/test_held.py",
    f"{CARD}/writer.py": "tests/test_writer.py",
    f"{BOOT}/settings_file.py": "tests/test_boot.py tests/external/test_parts_outside.py",
    "operations/picture/ranges.py": "tests/test_picture.py tests/test_right.py",
    "operations/picture/formulas.py": "tests/test_picture.py tests/external/test_timings.py",
    "operations/picture/edid.py": "tests/test_picture.py tests/external/test_timings.py",
    "operations/poweron/stages/root.py": "tests/test_failures.py tests/test_bringup.py",
    "operations/card/volumes/fat_reader.py": "tests/external/test_fat_outside.py",
    "parts/identification.py": "tests/external/test_parts_outside.py tests/test_parts.py",
    "parts/encoder.py": "tests/test_parts.py",
    "parts/store.py": "tests/test_parts.py",
    "model/root_device.py": "tests/test_right.py",
    "operations/controls/hotkeys.py": "tests/test_controls_maps.py",
    "operations/controls/assignment.py": f"{HAND} tests/test_controls_maps.py tests/external/test_controls_outside.py",
    "operations/controls/clearance.py": f"{HAND} tests/test_controls.py",
    "operations/tuning/latency.py": "tests/test_tuning.py",
    "operations/library/match.py": f"{HAND} tests/test_lists.py tests/external/test_hard_names.py",
    "operations/library/compare.py": "tests/test_compare.py tests/test_lists.py",
    "operations/library/choose.py": f"{CHOICE} tests/test_lists.py tests/test_library.py",
    "operations/library/versions.py": f"{CHOICE} tests/test_library.py tests/test_lists.py",
    "operations/picture/smallest.py": "tests/test_smallest.py tests/test_picture_whole.py tests/test_tube_guard.py",
    "operations/picture/schools.py": f"tests/test_smallest.py {HAND} tests/test_picture_whole.py",
    "operations/poweron/stages/mounts.py": "tests/external/test_fstab.py",
    "operations/card/volumes/ext_journal.py": "tests/external/test_journals.py",
    "operations/poweron/rehearsal.py": "tests/external/test_rehearsal.py",
    "faults/network.py": f"{HAND} tests/test_faults.py tests/external/test_bayes.py",
    "record/keeper.py": "tests/test_keeper.py tests/test_two.py",
}
SECONDS = 240
# changes that change nothing that anybody could see, by module, each with its reason; others are drawn in their place.
# Named by what is changed, or by the whole line
SAME = {
    "operations/library/match.py": {
        "512 -> 513": "how many titles are compared at once is speed",
        "500 -> 501": "exp(-500) is nothing to 1 already; 500 steps are never taken",
    },
    "operations/controls/assignment.py": {
        "_MOST_WORK = 1 << 16  # sets of buttons that moving single ideas may look at, 50 ms": "speed",
        "_CHUNK = 1 << 15  # sets of buttons that are looked at in one go, some MB": "memory and speed",
        "if len(wanted) << self._buttons > _MOST_WORK:": "the same",
        "chunk = max(1, _CHUNK >> self._buttons)": "the same",
        "return bool(self._cost - self._bound <= _ENOUGH * max(float(self._cost), _CLOSE))": "a real number hits the "
        "margin with no weight",
        "return sets.reshape(len(sets), -1, 2, 1 << button)[:, :, there]": "any size below 0 means 'what is left'; "
        "another set fails at once",
        "for step in range(self.steps - 1, -1, -1):": "before the first input no button is taken, so one step more "
        "writes nothing",
    },
    "operations/picture/schools.py": {
        "40 -> 41": "how many widths are tried is speed: the best come first",
        "abs(row.glass.circle - 1) >= _WORTH_SAYING -> abs(row.glass.circle - 1) > _WORTH_SAYING": "a real number "
        "hits the margin with no weight",
        "row.glass.circle > 1 -> row.glass.circle >= 1": "a round circle is not spoken of",
    },
    "operations/library/choose.py": {
        "costs.sum() <= room -> costs.sum() < room": "the search takes all where all fit to the byte",
        "reduced > slack + 1e-09 -> reduced >= slack + 1e-09": "a real number hits the margin with no weight",
        "reduced < -slack - 1e-09 -> reduced <= -slack - 1e-09": "the same",
        "len(costs) > _SMALL -> len(costs) >= _SMALL": "which way 3000 games are settled: both ways are right",
        "core.sum() < _SMALL -> core.sum() <= _SMALL": "the same",
        "3000 -> 3001": "the same",
        "slack > 1e-09 -> slack >= 1e-09": "a solver that has nothing to win wins nothing",
        "slack < _NEAR * bound -> slack <= _NEAR * bound": "a real number hits the margin with no weight",
        "found.x > 0.5 -> found.x >= 0.5": "the solver's numbers are whole",
        "left >= 0 -> left > 0": "with no room left no game of the core fits, whoever looks",
    },
}

_COMPARE = {
    ast.Lt: ast.LtE,
    ast.LtE: ast.Lt,
    ast.Gt: ast.GtE,
    ast.GtE: ast.Gt,
    ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot,
    ast.IsNot: ast.Is,
    ast.In: ast.NotIn,
    ast.NotIn: ast.In,
}
_BINARY = {
    ast.Add: ast.Sub,
    ast.Sub: ast.Add,
    ast.Mult: ast.FloorDiv,
    ast.FloorDiv: ast.Mult,
    ast.Div: ast.Mult,
    ast.Mod: ast.Mult,
    ast.BitOr: ast.BitAnd,
    ast.BitAnd: ast.BitOr,
    ast.LShift: ast.RShift,
}


def places(tree: ast.Module) -> list[ast.AST]:
    """Nodes that can be changed; annotations and documentation are not among them."""
    found: list[ast.AST] = []
    # changing these changes nothing that anybody promises: frozen=, force= of a report, daemon= of a thread,
    # strict= of lists that are equally long
    left = {
        id(inner)
        for node in ast.walk(tree)
        if isinstance(node, ast.ClassDef)
        for each in node.decorator_list
        for inner in ast.walk(each)
    }
    left |= {
        id(node.value)
        for node in ast.walk(tree)
        if isinstance(node, ast.keyword) and node.arg in ("force", "daemon", "strict")
    }
    # annotations are for readers; a default of a dataclass field is written by nobody; how many chunks may wait is
    # speed
    for node in ast.walk(tree):
        if isinstance(node, ast.AnnAssign):
            left |= {id(inner) for inner in ast.walk(node.annotation)}
            left |= {id(node.value)} if node.value is not None else set()
        elif isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)):
            marked = [each.annotation for each in (*node.args.args, *node.args.kwonlyargs) if each.annotation]
            left |= {id(inner) for mark in (*marked, node.returns) if mark for inner in ast.walk(mark)}
        elif isinstance(node, ast.Compare) and any(
            getattr(comparator, "id", "") == "QUEUE" for comparator in node.comparators
        ):
            left |= {id(inner) for inner in ast.walk(node)}
    for node in ast.walk(tree):
        if id(node) in left:
            continue
        plain = isinstance(node, ast.Constant) and isinstance(node.value, (int, bool))
        if (
            (isinstance(node, ast.Compare) and type(node.ops[0]) in _COMPARE)
            or (isinstance(node, ast.BinOp) and type(node.op) in _BINARY and not isinstance(node.left, ast.Name))
            or isinstance(node, ast.BoolOp)
            or plain
        ):
            found.append(node)
    return found


def changed(node: ast.AST) -> str:
    """Change a node; what was done, in words."""
    before = ast.unparse(node)
    if isinstance(node, ast.Compare):
        node.ops[0] = _COMPARE[type(node.ops[0])]()
    elif isinstance(node, ast.BinOp):
        node.op = _BINARY[type(node.op)]()
    elif isinstance(node, ast.BoolOp):
        node.op = ast.Or() if isinstance(node.op, ast.And) else ast.And()
    elif isinstance(node, ast.Constant):
        node.value = (not node.value) if isinstance(node.value, bool) else node.value + 1
    return f"line {getattr(node, 'lineno', 0)}: {before} -> {ast.unparse(node)}"


def fails(name: str, tree: Path) -> bool:
    """Whether a module's own tests fail, or do not end, in a copy of the tree."""
    environment = {**os.environ, "PYTHONPATH": str(tree / "src"), "QT_QPA_PLATFORM": "offscreen"}
    command = [sys.executable, "-m", "pytest", "-x", "-q", "-n", "2", *MODULES[name].split()]
    try:
        done = subprocess.run(command, cwd=tree, env=environment, capture_output=True, timeout=SECONDS)
    except subprocess.TimeoutExpired:
        return True
    return done.returncode not in (0, 5)  # a test failed, or the module cannot even be imported


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10
    wanted = sys.argv[2:] or list(MODULES)
    caught = total = 0
    with tempfile.TemporaryDirectory(prefix="mutants-") as held:
        copied = Path(held) / "tree"
        shutil.copytree(ROOT, copied, ignore=shutil.ignore_patterns(".git", ".venv", "__pycache__", "screenshots"))
        for name in wanted:
            path = copied / "src" / "kyklon" / name
            source = path.read_text(encoding="utf-8")
            tree, lines = ast.parse(source), source.splitlines()
            path.write_text(ast.unparse(tree), encoding="utf-8")
            if fails(name, copied):
                sys.exit(f"{name}: its tests fail without a change, so they would find every one.")
            drawn = random.Random(name).sample(range(len(places(tree))), len(places(tree)))
            own = taken = 0
            for index in drawn:
                mutant = copy.deepcopy(tree)
                words = changed(places(mutant)[index])
                known = SAME.get(name, {})
                if words.partition(": ")[2] in known or lines[int(words.partition(":")[0][5:]) - 1].strip() in known:
                    continue
                if taken == count:
                    break
                taken += 1
                path.write_text(ast.unparse(mutant), encoding="utf-8")
                found = fails(name, copied)
                own += found
                if not found:
                    print(f"  {name} {words}", flush=True)
            path.write_text(source, encoding="utf-8")
            caught, total = caught + own, total + taken
            print(f"{name}: {own} of {taken} found", flush=True)
    print(f"{caught} of {total} found")


if __name__ == "__main__":
    main()
