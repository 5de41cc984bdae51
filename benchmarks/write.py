"""Writing, proving and backing up cards against cat, xz, gzip, bzip2, zstd, dd and cmp, in one run on the same files.

Reference of a write: `X | dd of=TARGET bs=4M conv=fsync`, then `X | cmp - TARGET`, where X unpacks the image (cat for
a plain one). Ours: the whole command `kyklon write IMAGE TARGET --yes`, process start included; it unpacks, writes,
syncs, reads back and compares. The image's SHA-256 is made in passing, as far as a fast disk leaves time for it, and
waited for in a row of its own (--json). Reference of a backup: `dd | zstd`. All cold, taken in turn, best of RUNS;
bzip2, which takes minutes, once.
Usage: .venv/bin/python benchmarks/write.py [MB] [backup]
"""

from __future__ import annotations

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
MOST_WRITE, MOST_BACKUP, MOST_MEMORY = 1.00, 0.70, 250e6  # ratios; bytes
MOST_SMALL_S = 0.6  # seconds, of a small image in all
UNBOUND = 99.0  # for a row that is told, not judged
KYKLON = [sys.executable, "-m", "kyklon"]
OURS = {
    "write": lambda image, target: [*KYKLON, "write", str(image), str(target), "--yes"],
    "sum": lambda image, target: [*KYKLON, "write", str(image), str(target), "--yes", "--json"],
    "backup": lambda card, target: [*KYKLON, "backup", str(card), str(target)],
}
PACK = {
    "xz": ["xz", "-1", "-k", "-T2", "--block-size=2GiB"],
    "blocks.xz": ["xz", "-1", "-k", "-T2", "--block-size=24MiB"],
    "gz": ["gzip", "-1", "-k"],
    "bz2": ["bzip2", "-k"],
    "zst": ["zstd", "-q", "-3", "-T0", "-k"],
}
UNPACK = {"xz": "xz", "gz": "gzip", "bz2": "bzip2", "zst": "zstd"}


def mixed(path: Path, megabytes: int) -> None:
    """A third zeros, a quarter noise, the rest text-like, in stretches of 4 MiB, as on a real system image."""
    chance = random.Random(5)
    words = [chance.randbytes(chance.randrange(2, 9)).hex().encode() + b" " for _ in range(4000)]
    with path.open("wb") as file:
        for index in range(megabytes // 4):
            if index % 12 in (0, 3, 6, 9):
                file.write(bytes(4 * MIB))
            elif index % 12 in (1, 5, 8):
                file.write(chance.randbytes(4 * MIB))
            else:
                file.write(b"".join(chance.choices(words, k=700_000))[: 4 * MIB].ljust(4 * MIB))


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
    return [UNPACK[kind], "-dc", str(image)] if kind in UNPACK else ["cat", str(image)]


def reference_write(image: Path, target: Path) -> float:
    cold()
    begun = time.monotonic()
    piped(unpacker(image), ["dd", f"of={target}", "bs=4M", "conv=fsync", "iflag=fullblock"])
    # read back from the medium, as a proof must be
    forget = ["dd", f"of={target}", "oflag=nocache", "conv=notrunc,fdatasync", "count=0"]
    subprocess.run(forget, stderr=subprocess.DEVNULL)
    piped(unpacker(image), ["cmp", "-", str(target)])
    return time.monotonic() - begun


def reference_backup(card: Path, target: Path) -> float:
    cold()
    begun = time.monotonic()
    piped(["dd", f"if={card}", "bs=4M"], ["zstd", "-q", "-f", "-o", str(target)])
    descriptor = os.open(target, os.O_RDONLY)
    os.fsync(descriptor)
    os.close(descriptor)
    return time.monotonic() - begun


def ours(first: Path, second: Path, what: str) -> tuple[float, float]:
    """Seconds of the whole command, and its peak memory in bytes."""
    cold()
    begun = time.monotonic()
    process = subprocess.Popen(OURS[what](first, second), stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    _pid, status, used = os.wait4(process.pid, 0)
    seconds = time.monotonic() - begun
    assert status == 0, process.stderr.read() if process.stderr else status
    return seconds, used.ru_maxrss * 1024


def compared(name: str, reference, what: str, files: tuple[Path, Path], most: float, runs: int = RUNS) -> bool:
    """Print one row of the table; whether it holds."""
    first, second = files
    theirs = mine = float("inf")
    peak = 0.0
    for _ in range(runs):
        second.unlink(missing_ok=True)
        theirs = min(theirs, reference(first, second))
        for made in second.parent.glob(f"{second.name}*"):
            made.unlink()
        seconds, held = ours(first, second, what)
        for made in second.parent.glob(f"{second.name}*"):
            made.unlink()
        mine, peak = min(mine, seconds), max(peak, held)
    ratio = mine / theirs
    bound = f"{most:.2f}" if most < UNBOUND else "no bound"
    print(f"| {name} | {theirs:.2f} s | {mine:.2f} s | {ratio:.2f} | {bound} | {peak / 1e6:.0f} MB |", flush=True)
    return ratio <= most and peak <= MOST_MEMORY


def small(folder: Path) -> bool:
    """A small image, process start included: how long somebody waits before anything is done."""
    image, target = folder / "small.img", folder / "target.img"
    image.write_bytes(random.Random(3).randbytes(MIB))
    times = []
    for _ in range(5):
        times.append(ours(image, target, "write")[0])
        target.unlink()
    print(f"| write and prove 1 MiB | | {min(times):.2f} s | | {MOST_SMALL_S} s | |", flush=True)
    for words, most in ((["--help"], 0.25), (["write", "--help"], 0.25)):
        begun = time.monotonic()
        subprocess.run([*KYKLON, *words], check=True, stdout=subprocess.DEVNULL)
        print(f"| kyklon {' '.join(words)} | | {time.monotonic() - begun:.2f} s | | {most} s | |", flush=True)
    return min(times) <= MOST_SMALL_S


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
    megabytes = numbers[0] if numbers else 900
    held_all = True
    print("| What | Reference | Ours | Ratio | At most | Peak memory |\n|---|---|---|---|---|---|")
    with tempfile.TemporaryDirectory(prefix="kyklon-bench-", dir=os.environ.get("KYKLON_BENCH_DIR")) as held:
        folder = Path(held)
        if "backup" not in sys.argv:
            held_all = small(folder) & the_writes(folder, megabytes)
        card = folder / "card.img"
        half_empty_card(card, megabytes)
        name = f"back up a half-empty card of {megabytes} MiB (against dd with zstd)"
        held_all &= compared(name, reference_backup, "backup", (card, folder / "kept.img.zst"), MOST_BACKUP)
    if not held_all:
        sys.exit(1)


def the_writes(folder: Path, megabytes: int) -> bool:
    """Rows of every kind of image."""
    held_all = True
    plain = folder / "a.img"
    mixed(plain, megabytes)
    target = folder / "target.img"
    for kind in ("plain", "zst", "gz", "xz", "blocks.xz", "bz2"):
        image = plain
        if kind != "plain":
            subprocess.run([*PACK[kind], str(plain)], check=True)
            image = plain.with_name(f"a.img.{kind.split('.')[-1]}").rename(folder / f"b.img.{kind}")
        name = f"write and prove {megabytes} MiB, {kind}"
        runs = 1 if kind == "bz2" else RUNS
        held_all &= compared(name, reference_write, "write", (image, target), MOST_WRITE, runs)
        if kind == "plain":
            compared(f"{name}, and wait for its SHA-256", reference_write, "sum", (image, target), UNBOUND)
        else:
            image.unlink()
    plain.unlink()
    return held_all


if __name__ == "__main__":
    main()
