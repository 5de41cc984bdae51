"""How soon things are learnt, and a shelf of thousands opens. Ratios are against general tools in the same run:
edid-decode, dtc, xz and cat.

Usage: .venv/bin/python benchmarks/shelf.py [--no-image]
"""

from __future__ import annotations

import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
PARTS = 2000
GIB = 1 << 30


def timed(work: Callable[[], object], times: int = 5) -> float:
    """The median, in ms."""
    took = []
    for _ in range(times):
        begun = time.perf_counter()
        work()
        took.append((time.perf_counter() - begun) * 1000)
    return statistics.median(took)


def tool(*words: object) -> Callable[[], object]:
    return lambda: subprocess.run([str(word) for word in words], capture_output=True, check=False)


def learning(work: Path) -> None:
    """Files that are soon read, in the warm program; the tools start anew each time."""
    from kyklon.catalogue.loader import load
    from kyklon.demo import samples
    from kyklon.parts import display, encoder
    from kyklon.parts.learning import learn

    parts = load()
    block, tree = work / "display.edid", work / "gurnard.dtb"
    block.write_bytes(samples.display_data())
    tree.write_bytes(samples.tree())
    samples._make_stand_ins(work / "drives")
    from kyklon.devices.simulated.inputs import SimulatedInputs

    begun = time.perf_counter()
    learn("board", tree, parts)
    print(f"a board, the first in a program: {(time.perf_counter() - begun) * 1000:.0f} ms (bound 200)")
    for name, work_, other in (
        ("display", lambda: display.learn(block.read_bytes()).agreed(), tool("edid-decode", block)),
        ("board", lambda: learn("board", tree, parts).agreed(), tool("dtc", "-q", "-I", "dtb", "-O", "dts", tree)),
        ("encoder", lambda: encoder.from_facts(SimulatedInputs(work / "drives").list()[0]), tool("true")),
    ):
        mine, theirs = timed(work_), timed(other)
        print(
            f"{name}: {mine:.1f} ms (bound 200); {mine / theirs:.2f} "
            f"of {getattr(other, 'name', 'the tool')} in {theirs:.1f} ms"
        )


def image(work: Path) -> None:
    """4 GB, packed: by gzip, xz in blocks, and zstd; memory of a process of its own."""
    from kyklon.demo import card_image

    packed = work / "small.img.xz"
    card_image.make_image(packed)
    plain = work / "large.img"
    with plain.open("wb") as file:
        subprocess.run(["xz", "-dc", packed], stdout=file, check=True)
        file.truncate(4 * GIB)
    noise = work / "noise"
    noise.write_bytes(os.urandom(64 << 20))
    with plain.open("r+b") as file:  # half a gigabyte that does not pack, behind the partitions
        for number in range(8):
            file.seek(GIB + number * (256 << 20))
            file.write(noise.read_bytes())
    for ending, pack in (
        ("gz", ["gzip", "-1", "-k"]),
        ("xz", ["xz", "-0", "-T2", "-k"]),
        ("zst", ["zstd", "-1", "-q", "-k"]),
    ):
        subprocess.run([*pack, str(plain)], check=True)
        path = plain.with_name(f"large.img.{ending}")
        begun = time.perf_counter()
        ran = subprocess.run(
            [sys.executable, __file__, "--image", str(path)], capture_output=True, text=True, check=True
        )
        whole = time.perf_counter() - begun
        seconds, memory = ran.stdout.split()[:2]
        other = timed(tool({"gz": "gzip", "xz": "xz", "zst": "zstd"}[ending], "-t", path), 1) / 1000
        print(
            f"image {ending}: {float(seconds):.2f} s (bound 3), {memory} MB (bound 300); {whole:.2f} s with the start"
        )
        print(f"    {float(seconds) / other:.2f} of the tool's own test of the whole file, {other:.2f} s")
        path.unlink()


def one_image(path: Path) -> None:
    from kyklon.catalogue.loader import load
    from kyklon.parts.learning import learn

    parts = load()
    begun = time.perf_counter()
    learn("image", path, parts)
    took = time.perf_counter() - begun
    print(f"{took:.3f} {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024}")


def shelf(work: Path) -> None:
    """2000 parts of one's own: read, opened in the window, filtered a key at a time."""
    os.environ |= {f"XDG_{name}_HOME": str(work / name.lower()) for name in ("CONFIG", "DATA", "CACHE")}
    from kyklon.app.start import make_application, open_window
    from kyklon.app.theme.tokens import Theme
    from kyklon.base.places import catalogue_folder
    from kyklon.catalogue import loader, remembered
    from kyklon.catalogue.records import Card, Display
    from kyklon.operations.plan.acts import start_build
    from kyklon.parts.store import plain_row, text_for

    shipped = loader.load()
    for number in range(PARTS):
        kind, record = (("displays", Display), ("cards", Card))[number % 2]
        row = {**plain_row(shipped.all(record)[0]), "id": f"own-{number}", "name": f"Own {kind} {number}"}
        path = catalogue_folder() / kind / f"own-{number}.toml"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text_for({kind: [row]}))
    files = [str(path) for _kind, path in loader.user_files(catalogue_folder())]
    begun = time.perf_counter()
    loader.load(catalogue_folder(), strict=False)
    first = time.perf_counter() - begun
    remembered._in_memory.clear()
    begun = time.perf_counter()
    loader.load(catalogue_folder(), strict=False)
    second = time.perf_counter() - begun
    cat = timed(tool("cat", *files), 3) / 1000
    print(
        f"{PARTS} parts read: {first * 1000:.0f} ms the first time ever, "
        f"{second * 1000:.0f} ms after; cat reads them in {cat * 1000:.0f} ms"
    )
    application = make_application()
    theme = Theme()
    window = open_window(start_build(work / "build", "B", shipped), theme)
    window.show()
    for _ in range(20):
        application.processEvents()
    begun = time.perf_counter()
    window.open_shelf()
    window.grab()
    opened = (time.perf_counter() - begun) * 1000
    page = window.shelf_page()
    keys = []
    for letter in "own displays 17":
        begun = time.perf_counter()
        page._words.insert(letter)
        page.parts.viewport().repaint()
        keys.append((time.perf_counter() - begun) * 1000)
    print(
        f"the shelf opens in {opened:.0f} ms (bound 300); a key filters in "
        f"{statistics.median(keys):.1f} ms, {max(keys):.1f} at worst (bound 50)"
    )
    window.session.end()


def main() -> None:
    if "--image" in sys.argv:
        one_image(Path(sys.argv[-1]))
        return
    with tempfile.TemporaryDirectory(prefix="kyklon-bench-") as held:
        learning(Path(held))
        if "--no-image" not in sys.argv:
            image(Path(held))
        shelf(Path(held))


if __name__ == "__main__":
    main()
