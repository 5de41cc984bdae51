"""Writing, proving and backing up cards against xz, gzip, zstd, dd and cmp, in one run on the same files.

Reference of a write: `X -dc IMAGE | dd of=TARGET bs=4M conv=fsync`, then `X -dc IMAGE | cmp - TARGET`. Ours:
kyklon write to a file, which unpacks, writes, syncs, reads back and compares. The image's SHA-256 is made in passing,
as far as a fast disk leaves time for it, and waited for in a row of its own. Reference of a backup: `dd | zstd`. All
cold, taken in turn, best of RUNS.
Usage: .venv/bin/python benchmarks/write.py [MB] [backup]
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

from kyklon.base import tools

MIB = 1 << 20
RUNS = 3
MOST_WRITE, MOST_BACKUP, MOST_MEMORY = 1.10, 0.70, 250e6  # ratios; bytes
UNBOUND = 99.0  # for a row that is told, not judged
OURS = """
import json, resource, sys, time
from pathlib import Path
from kyklon import keeping, workshop
from kyklon.card import source
begun = time.monotonic()
if sys.argv[3] in ("write", "sum"):
    facts = source.inspect(Path(sys.argv[1]))
    target = workshop.find_target(sys.argv[2], None, facts.unpacked)
    workshop.write(target, facts, None, digest=sys.argv[3] == "sum")
elif sys.argv[3] == "unpack":
    for piece in source.chunks(source.inspect(Path(sys.argv[1]))):
        pass
else:
    keeping.backup_card(workshop.find_target(sys.argv[1], None), None, Path(sys.argv[2]))
seconds = time.monotonic() - begun
peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
print(json.dumps({"seconds": seconds, "peak": peak}))
"""
PACK = {
    "xz": ["xz", "-1", "-k", "-T2", "--block-size=2GiB"],
    "blocks.xz": ["xz", "-1", "-k", "-T2", "--block-size=24MiB"],
    "gz": ["gzip", "-1", "-k"],
    "zst": ["zstd", "-q", "-3", "-T0"],
}


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


def unpacker(image: Path) -> list[str]:
    kind = image.suffix.removeprefix(".")
    if kind == "img":
        return ["cat", str(image)]
    return [{"xz": "xz", "gz": "gzip", "zst": "zstd"}[kind], "-dc", str(image)]


def reference_write(image: Path, target: Path) -> float:
    cold()
    begun = time.monotonic()
    if image.suffix == ".img":
        command = ["dd", f"if={image}", f"of={target}", "bs=4M", "conv=fsync"]
        subprocess.run(command, check=True, stderr=subprocess.DEVNULL)
    else:
        piped(unpacker(image), ["dd", f"of={target}", "bs=4M", "conv=fsync", "iflag=fullblock"])
    # read back from the medium, as a proof must be
    forget = ["dd", f"of={target}", "oflag=nocache", "conv=notrunc,fdatasync", "count=0"]
    subprocess.run(forget, stderr=subprocess.DEVNULL)
    if image.suffix == ".img":
        subprocess.run(["cmp", str(image), str(target)], check=True)
    else:
        piped(unpacker(image), ["cmp", "-", str(target)])
    return time.monotonic() - begun


def reference_unpack(image: Path, _target: Path) -> float:
    cold()
    begun = time.monotonic()
    subprocess.run(["xz", "-dc", "-T1", str(image)], check=True, stdout=subprocess.DEVNULL)
    return time.monotonic() - begun


def reference_backup(card: Path, target: Path) -> float:
    cold()
    begun = time.monotonic()
    piped(["dd", f"if={card}", "bs=4M"], ["zstd", "-q", "-f", "-o", str(target)])
    descriptor = os.open(target, os.O_RDONLY)
    os.fsync(descriptor)
    os.close(descriptor)
    return time.monotonic() - begun


def ours(first: Path, second: Path, what: str) -> dict[str, float]:
    cold()
    command = [sys.executable, "-c", OURS, str(first), str(second), what]
    run = subprocess.run(command, capture_output=True, text=True)
    assert run.returncode == 0, run.stderr
    return json.loads(run.stdout)


def compared(name: str, reference, what: str, first: Path, second: Path, most: float) -> tuple[str, bool]:
    """One row of the table, and whether it holds."""
    theirs = mine = float("inf")
    peak = 0.0
    for _ in range(RUNS):
        second.unlink(missing_ok=True)
        theirs = min(theirs, reference(first, second))
        for made in second.parent.glob(f"{second.name}*"):
            made.unlink()
        told = ours(first, second, what)
        for made in second.parent.glob(f"{second.name}*"):
            made.unlink()
        mine, peak = min(mine, told["seconds"]), max(peak, told["peak"])
    ratio = mine / theirs
    bound = f"{most:.2f}" if most < UNBOUND else "no bound"
    row = f"| {name} | {theirs:.2f} s | {mine:.2f} s | {ratio:.2f} | {bound} | {peak / 1e6:.0f} MB |"
    print(row, flush=True)
    return row, ratio <= most and peak <= MOST_MEMORY


def copy(start: Path, end: Path, at: int, length: int, mode: str = "r+b") -> None:
    """A stretch of a file into another, piece by piece: what this process holds counts against its children."""
    with start.open("rb") as data, end.open(mode) as out:
        out.seek(at)
        while length and (piece := data.read(min(length, 4 * MIB))):
            out.write(piece)
            length -= len(piece)


def half_empty_card(path: Path, megabytes: int) -> None:
    """A card of one ext4 partition, half full of noise and text; what is free holds what an older life left there."""
    size = megabytes * MIB
    with tempfile.TemporaryDirectory(prefix="kyklon-bench-tree-", dir=path.parent) as held:
        tree = Path(held)
        mixed(tree / "all", megabytes)
        volume = path.with_name("volume")
        copy(tree / "all", volume, 0, size - 8 * MIB, "wb")
        (tree / "files").mkdir()
        with (tree / "all").open("rb") as data:
            for number in range(megabytes // 8):
                (tree / "files" / f"{number:04}").write_bytes(data.read(4 * MIB))
        tools.run(["mkfs.ext4", "-q", "-F", "-E", "nodiscard", "-d", str(tree / "files"), str(volume)], seconds=600)
    with path.open("wb") as file:
        file.truncate(size)
    table = f"label: dos\nstart=8192, size={size // 512 - 8192 - 2048}, type=83\n"
    tools.run(["sfdisk", "--quiet", str(path)], stdin=table.encode())
    copy(volume, path, 4 * MIB, size - 5 * MIB)
    volume.unlink()


def main() -> None:
    numbers = [int(word) for word in sys.argv[1:] if word.isdigit()]
    megabytes = numbers[0] if numbers else 1200
    held_all = True
    print("| What | Reference | Ours | Ratio | At most | Peak memory |\n|---|---|---|---|---|---|")
    with tempfile.TemporaryDirectory(prefix="kyklon-bench-", dir=os.environ.get("KYKLON_BENCH_DIR")) as held:
        folder = Path(held)
        if "backup" not in sys.argv:
            held_all = the_writes(folder, megabytes)
        card = folder / "card.img"
        half_empty_card(card, megabytes)
        name = f"back up a half-empty card of {megabytes} MiB (against dd with zstd)"
        held_all &= compared(name, reference_backup, "backup", card, folder / "kept.img.zst", MOST_BACKUP)[1]
    if not held_all:
        sys.exit(1)


def the_writes(folder: Path, megabytes: int) -> bool:
    """Rows of every kind of image."""
    held_all = True
    plain = folder / "a.img"
    mixed(plain, megabytes)
    target = folder / "target"
    label = f"{megabytes} MiB"
    images = {"plain": plain}
    for kind, command in PACK.items():
        subprocess.run([*command, str(plain)], check=True)
        made = plain.with_name(f"a.img.{kind.split('.')[-1]}")
        images[kind] = made.rename(folder / f"b.img.{kind}")
    for kind, words in (("plain", "dd, cmp"), ("xz", "xz"), ("gz", "gzip"), ("zst", "zstd")):
        name = f"write and prove {label}, {kind} (against {words} with dd conv=fsync, then cmp)"
        held_all &= compared(name, reference_write, "write", images[kind], target, MOST_WRITE)[1]
    name = f"write and prove {label}, plain, and wait for the image's SHA-256"
    compared(name, reference_write, "sum", images["plain"], target, UNBOUND)
    name = f"write and prove {label}, xz of blocks"
    held_all &= compared(name, reference_write, "write", images["blocks.xz"], target, MOST_WRITE)[1]
    name = f"unpack {label}, xz of blocks (against xz -dc -T1)"
    held_all &= compared(name, reference_unpack, "unpack", images["blocks.xz"], target, 1.0)[1]
    for image in images.values():
        image.unlink(missing_ok=True)
    return held_all


if __name__ == "__main__":
    main()
