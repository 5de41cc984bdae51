"""The logbook: a long one opened, an entry added, a state restored; against sqlite3, git and shutil in the same run."""

from __future__ import annotations

import shutil
import sqlite3
import subprocess
import tempfile
import time
from pathlib import Path
from statistics import median

from PIL import Image

from kyklon.catalogue.loader import load
from kyklon.demo import lighthouse
from kyklon.model.build import edited
from kyklon.record import folder as store
from kyklon.record import photos, restoring
from kyklon.record.logbook import FILE, Logbook

ENTRIES, PHOTOS, PIECE = 20_000, 500, 200


def seconds(act: object, times: int = 9) -> float:
    found = []
    for _ in range(times):
        begun = time.perf_counter()
        act()  # type: ignore[operator]
        found.append(time.perf_counter() - begun)
    return median(found)


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="kyklon-log-") as held:
        folder = lighthouse.make(Path(held) / "table", load())
        book = Logbook(folder)
        picture = Path(held) / "p.jpg"
        Image.effect_noise((1600, 1200), 60).convert("RGB").save(picture)
        kept = photos.keep(folder, picture)
        begun = time.perf_counter()
        for number in range(ENTRIES):
            if number % 10 == 0:
                store.update(folder, lambda build, number=number: edited(build, "name", f"name {number}"))
            book.add(
                0, f"entry {number}", "one line\nanother", files=(kept,) if number % (ENTRIES // PHOTOS) == 0 else ()
            )
        each = (time.perf_counter() - begun) / ENTRIES
        size = (folder / FILE).stat().st_size
        print(f"{ENTRIES} entries, {PHOTOS} photos: {size / 1e6:.1f} MB, {each * 1000:.2f} ms an entry with its state")
        opened = seconds(lambda: (book.entries(most=PIECE), book.measured(), book.totals(), book.count()))

        def plain() -> None:
            with sqlite3.connect(folder / FILE) as database:
                database.execute("SELECT * FROM entry ORDER BY id DESC LIMIT 200").fetchall()
            database.close()

        raw = seconds(plain)
        print(f"first page of the book {opened * 1000:.1f} ms, {opened / raw:.1f} times sqlite3's own 200 rows")
        found = seconds(lambda: book.entries("entry 1234"))
        print(f"search {found * 1000:.1f} ms; verify {seconds(book.verify, 1):.2f} s")
        tree = Path(held) / "git"
        tree.mkdir()
        for name in ("build.json", "issued", "attachments"):
            (shutil.copytree if (folder / name).is_dir() else shutil.copy)(folder / name, tree / name)
        subprocess.run(["git", "init", "-q", tree], check=True)
        own = ["git", "-C", str(tree), "-c", "user.name=x", "-c", "user.email=x@example.org"]

        def commit() -> None:
            subprocess.run([*own, "add", "-A"], check=True)
            subprocess.run([*own, "commit", "-qm", "x", "--allow-empty"], check=True)

        commit()
        added, told = seconds(lambda: book.add(0, "one more")), seconds(commit)
        print(
            f"an entry with its state {added * 1000:.1f} ms, {added / told:.2f} of git add and commit of the same files"
        )
        first, last = book.entry(15), book.entries(most=1)[0]
        places = iter([first, last] * 20)
        back = seconds(lambda: restoring.restore(folder, next(places)), 6)
        print(f"a state restored {back * 1000:.0f} ms")


if __name__ == "__main__":
    main()
