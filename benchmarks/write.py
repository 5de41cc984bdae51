"""Writing and proving a card against xz, dd and cmp, in one run on the same file.

Reference: `xz -dc IMAGE | dd of=TARGET bs=4M conv=fsync`, then `xz -dc IMAGE | cmp - TARGET`. Ours: kyklon write to
a file, which hashes the source, unpacks, writes, syncs, reads back and compares. Both cold, best of RUNS.
Usage: .venv/bin/python benchmarks/write.py [MB]
"""

from __future__ import annotations

import json
import os
import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path

MIB = 1 << 20
RUNS = 2
OURS = """
import json, resource, sys, time
from pathlib import Path
from kyklon import workshop
from kyklon.card import source
begun = time.monotonic()
facts = source.inspect(Path(sys.argv[1]))
workshop.write(workshop.find_target(sys.argv[2], None, facts.unpacked), facts, None)
seconds = time.monotonic() - begun
peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
print(json.dumps({"seconds": seconds, "peak": peak}))
"""


def mixed(path: Path, megabytes: int) -> None:
    """A third noise, a third text-like, a third zeros, in stretches of 4 MiB, as on a real system image."""
    chance = random.Random(5)
    words = [chance.randbytes(chance.randrange(2, 9)).hex().encode() + b" " for _ in range(4000)]
    with path.open("wb") as file:
        for index in range(megabytes // 4):
            if index % 3 == 0:
                file.write(chance.randbytes(4 * MIB))
            elif index % 3 == 1:
                file.write(b"".join(chance.choices(words, k=700_000))[: 4 * MIB].ljust(4 * MIB))
            else:
                file.write(bytes(4 * MIB))


def cold() -> None:
    """Forget the page cache where this user may."""
    os.sync()
    try:
        Path("/proc/sys/vm/drop_caches").write_text("3", encoding="ascii")
    except OSError:
        print("note: the page cache could not be dropped; both sides run warm", file=sys.stderr)


def piped(first: list[str], second: list[str]) -> None:
    with subprocess.Popen(first, stdout=subprocess.PIPE) as source:
        subprocess.run(second, stdin=source.stdout, check=True, stderr=subprocess.DEVNULL)


def reference(image: Path, target: Path) -> float:
    cold()
    begun = time.monotonic()
    piped(["xz", "-dc", str(image)], ["dd", f"of={target}", "bs=4M", "conv=fsync", "iflag=fullblock"])
    subprocess.run(
        ["dd", f"of={target}", "oflag=nocache", "conv=notrunc,fdatasync", "count=0"], stderr=subprocess.DEVNULL
    )
    piped(["xz", "-dc", str(image)], ["cmp", "-", str(target)])
    return time.monotonic() - begun


def ours(image: Path, target: Path) -> dict[str, float]:
    cold()
    run = subprocess.run(
        [sys.executable, "-c", OURS, str(image), str(target)], capture_output=True, text=True, check=True
    )
    return json.loads(run.stdout)


def main() -> None:
    megabytes = int(sys.argv[1]) if len(sys.argv) > 1 else 1200
    with tempfile.TemporaryDirectory(prefix="kyklon-bench-", dir=os.environ.get("KYKLON_BENCH_DIR")) as held:
        folder = Path(held)
        plain, packed = folder / "a.img", folder / "a.img.xz"
        mixed(plain, megabytes)
        subprocess.run(["xz", "-1", "-k", "-T2", "--block-size=1GiB", str(plain)], check=True)
        plain.unlink()
        target = folder / "target"
        best_reference = best_ours = float("inf")
        peak = 0.0
        for _ in range(RUNS):
            best_reference = min(best_reference, reference(packed, target))
            target.unlink()
            told = ours(packed, target)
            target.unlink()
            best_ours, peak = min(best_ours, told["seconds"]), max(peak, told["peak"])
        print(f"image: {megabytes} MiB unpacked, {packed.stat().st_size / MIB:.0f} MiB as xz, one block")
        print(f"xz | dd conv=fsync, then xz | cmp: {best_reference:6.2f} s")
        print(f"kyklon write and verify:           {best_ours:6.2f} s, peak memory {peak / 1e6:.0f} MB")
        print(f"ratio: {best_ours / best_reference:.2f} (must be at most 1.15)")
    if best_ours / best_reference > 1.15 or peak > 300e6:
        sys.exit(1)


if __name__ == "__main__":
    main()
