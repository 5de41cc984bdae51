"""Scanning, checking, identifying, matching, choosing and moving beside sha1sum, unzip -t and rhash.

Usage: .venv/bin/python benchmarks/library.py [FOLDER]   (about 4 GB are made there, 1 GB without root)
"""

from __future__ import annotations

import os
import random
import resource
import subprocess
import sys
import tempfile
import time
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path

from kyklon.catalogue.loader import load
from kyklon.catalogue.system_records import System
from kyklon.demo.titles import labelled
from kyklon.model.build import LibrarySettings
from kyklon.model.library import ListFile, ListScheme
from kyklon.operations.library import choose, compare, match
from kyklon.operations.library.facts import Asked, Facts
from kyklon.operations.library.identify import Index
from kyklon.operations.library.lists import read_list
from kyklon.operations.library.naming import Terms, named
from kyklon.operations.library.scan import scan

LARGE, FILES, MORE, LISTED = 40, 20_000, 50_000, 100_000


def timed(act: Callable[[], object]) -> float:
    began = time.perf_counter()
    act()
    return time.perf_counter() - began


def cold() -> None:
    """Nothing of the files in memory, where this user may ask for that."""
    os.sync()
    if os.geteuid() == 0:
        Path("/proc/sys/vm/drop_caches").write_text("3\n", encoding="ascii")


def row(what: str, reference: str, ours: float, theirs: float = 0.0) -> None:
    ratio = f"{ours / theirs:.2f}" if theirs else ""
    print(f"| {what} | {reference} | {ours:.2f} s | {ratio} |", flush=True)


def large_files(folder: Path) -> None:
    each = (100 if os.geteuid() == 0 else 25) << 20
    for number in range(LARGE):
        (folder / f"{number}.bin").write_bytes(os.urandom(1 << 20) * (each >> 20))
    for number in range(LARGE // 2):
        with zipfile.ZipFile(folder / f"{number}.zip", "w", zipfile.ZIP_DEFLATED) as archive:
            for member in range(3):
                archive.writestr(f"{member}.x", (os.urandom(1 << 19) + bytes(1 << 19)) * 16)


def sums(folder: Path) -> None:
    bins, zips = sorted(folder.glob("*.bin")), sorted(folder.glob("*.zip"))
    cold()
    names = "\0".join(map(str, bins))
    two = ["xargs", "-0", "-P2", "-n4", "sha1sum"]
    theirs = timed(lambda: subprocess.run(two, input=names, text=True, capture_output=True))
    cold()
    asked = [Asked(str(path), path.stat(), frozenset({"SHA-1"})) for path in bins]
    ours = timed(lambda: list(Facts().all(asked)))
    size = sum(path.stat().st_size for path in bins) / 1e9
    row(f"SHA-1 of {size:.1f} GB, cold", f"sha1sum, two processes: {theirs:.2f} s", ours, theirs)
    cold()
    theirs = timed(lambda: [subprocess.run(["unzip", "-tqq", str(path)]) for path in zips])
    cold()
    ours = timed(lambda: list(Facts().all([Asked(str(path), path.stat()) for path in zips])))
    row(f"CRC of {len(zips)} archives, cold", f"unzip -t: {theirs:.2f} s", ours, theirs)


def many_files(folder: Path, count: int) -> None:
    folder.mkdir()
    chance, systems = random.Random(1), tuple(load().all(System))
    (folder / "library" / "alder8").mkdir(parents=True)
    lines = ["name,size,crc"]
    for number in range(count):
        data = number.to_bytes(4, "little") * chance.randrange(2, 400)
        (folder / "library" / "alder8" / f"Game {number:05} (Europe).al8").write_bytes(data)
        lines.append(f"Game {number:05} (Europe),{len(data)},{zlib.crc32(data):08x}")
    lines += [f"Other {number},{number + 9},{number * 7919 % 2**32:08x}" for number in range(LISTED - count)]
    (folder / "list.csv").write_text("\n".join(lines), encoding="utf-8")
    scheme = ListScheme(id="c", kind="csv", title="name", size="size", crc="crc")
    own = LibrarySettings(
        lists=(ListFile(path=str(folder / "list.csv"), system="alder-8", scheme="c"),), schemes=(scheme,)
    )
    time.sleep(2.5)  # until the files' clock has settled

    def look() -> None:
        facts = Facts(folder / "sums.sqlite3")
        found = named(scan(folder / "library", systems, own, facts=facts), Terms(own, systems, Path, {}), facts)
        assert sum(game.naming is not None and game.naming.how == "list" for game in found.games) == count

    theirs = timed(lambda: subprocess.run(["rhash", "-r", "--crc32", str(folder / "library")], capture_output=True))
    row(
        f"{count} files scanned and identified, first time",
        f"rhash --crc32 over them: {theirs:.2f} s",
        timed(look),
        theirs,
    )
    facts = Facts(folder / "sums.sqlite3")
    row(f"{count} files scanned again", "", timed(lambda: scan(folder / "library", systems, own, facts=facts)))
    row(f"the same, identified again against {LISTED} games", "", timed(look))

    def read() -> None:
        index = Index()
        for game in read_list(folder / "list.csv", scheme):
            index.add(game)

    row(f"a list of {LISTED} games read", "", timed(read))


def titles() -> None:
    told = labelled()
    there = compare.Titles(told.titles)
    names = [name for name, _title in told.names]
    seconds = timed(lambda: match.matches(names, there))
    row(f"{len(names)} titles matched with {len(there.titles)}", "", seconds)


def choice() -> None:
    chance = random.Random(2)
    items = [choose.Item(str(n), (int(chance.lognormvariate(13, 2)),), 1 + chance.random() * 9) for n in range(20_000)]
    room = sum(choose.takes(item.files, 32_768) for item in items) // 3
    found = []
    seconds = timed(lambda: found.append(choose.choose(items, room, 32_768)))
    row(f"20 000 games chosen, gap {found[0].gap:.4%}", "", seconds)


def rows() -> None:
    """The table of games in the window: a key of the filter, and an order that was made before."""
    from PyQt6.QtCore import Qt
    from PyQt6.QtWidgets import QApplication

    from kyklon.app.pages.library.game_table import GameModel
    from kyklon.model.library import Game, Naming

    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    application = QApplication([])
    chance, names = random.Random(1), [name for name, _title in labelled(5000).names]
    model = GameModel()
    model.set_games(
        tuple(
            Game(
                "alder-8",
                names[n % 5000],
                (f"alder8/{n}.al8",),
                chance.randrange(10**6),
                1,
                (),
                Naming(names[n % 5000], "title", chance.random()),
            )
            for n in range(50_000)
        )
    )
    for column in range(6):
        model.sort(column)
    needles = ("b", "br", "bra", "bras", "brass", "brass o", "brass orc", "")
    row(
        "50 000 rows filtered, the slowest key",
        "",
        max(timed(lambda each=each: model.filter(each)) for each in needles),
    )
    down = Qt.SortOrder.DescendingOrder
    row(
        "50 000 rows sorted again, the slowest",
        "",
        max(timed(lambda each=each: model.sort(each, down)) for each in range(6)),
    )
    del application


def main() -> None:
    print("| What | Reference | Ours | Ratio |\n|---|---|---|---|")
    with tempfile.TemporaryDirectory(prefix="kyklon-bench-", dir=sys.argv[1] if len(sys.argv) > 1 else None) as held:
        large_files(Path(held))
        sums(Path(held))
        many_files(Path(held) / "a", FILES)
        many_files(Path(held) / "b", MORE)
    titles()
    choice()
    rows()
    print(f"\nMost memory: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024} MB")


main()
