"""The long attack: every parser with 20 000 spoilt inputs, two processes at one build a thousand times, the interlock
through two thousand meddled moments, acts killed two hundred times, a hand that clicks at random, a window that closes
while commands edit its build. Counts are printed; a failure ends it.

Usage: .venv/bin/python benchmarks/attack.py fuzz [COUNT] [PARSER ...] | two [ROUNDS] | held [COUNT] | kill [COUNT]
       | clicks [ACTS] [SEED] | close [ROUNDS]
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


def clicks(acts: int, seed: int) -> int:
    """tools/clicks.py on the three demos and an empty build, in processes of their own."""
    command = [sys.executable, str(ROOT / "tools" / "clicks.py"), str(acts // 4), str(seed)]
    return sum(
        subprocess.run([*command, build], check=False).returncode != 0
        for build in ("lighthouse", "camper", "school-fair", "empty")
    )


WINDOW = """
import os, random, sys
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
from pathlib import Path
from PyQt6.QtCore import QTimer
from kyklon.app.start import make_application, open_window
from kyklon.app.theme.tokens import Theme
folder, seed = Path(sys.argv[1]), int(sys.argv[2])
chance = random.Random(seed)
application = make_application()
window = open_window(folder, Theme())
window.show()
print("open", flush=True)
def act(left):
    if not left:
        window.closed.connect(application.quit)
        window.close()
        return
    window.session.edit("boot.hostname", f"w{seed}-{left}")
    QTimer.singleShot(chance.randrange(60), lambda: act(left - 1))
QTimer.singleShot(chance.randrange(200), lambda: act(chance.randrange(1, 5)))
application.exec()
"""


def close(rounds: int) -> int:
    """The real window edits and closes while `kyklon set` edits another field: both are on the disk each time."""
    from kyklon.catalogue import loader
    from kyklon.demo import lighthouse
    from kyklon.record import folder as store

    lost = 0
    with tempfile.TemporaryDirectory() as held:
        folder = lighthouse.make(Path(held) / "build", loader.load(None))
        for number in range(rounds):
            window = subprocess.Popen([sys.executable, "-c", WINDOW, str(folder), str(number)], stdout=subprocess.PIPE)
            assert window.stdout is not None
            window.stdout.readline()
            user = f"u{number}"
            time.sleep(random.Random(number).random() * 0.4)
            command = [sys.executable, "-m", "kyklon", "set", str(folder), "boot.user", user]
            subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
            window.wait()
            build = store.load(folder).build
            if build.boot.user != user or build.boot.hostname != f"w{number}-1":
                lost += 1
                print(f"round {number}: {build.boot.user} {build.boot.hostname}", flush=True)
    print(f"{rounds} rounds of a window that closes beside a command: {lost} lost")
    return lost


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
    elif kind == "clicks":
        seed = int(names[0]) if names else random.SystemRandom().randrange(10**6)
        sys.exit(clicks(number or 20_000, seed))
    elif kind == "close":
        sys.exit(close(number or 100))
    else:
        print(__doc__)


if __name__ == "__main__":
    main()
