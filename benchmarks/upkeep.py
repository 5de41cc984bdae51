"""Upkeep's own work against public tools: saves kept against tar with gzip and sha256sum, boot files put on a running
machine against scp, on an OpenSSH server on loopback.

Usage: .venv/bin/python benchmarks/upkeep.py
"""

from __future__ import annotations

import random
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "tests"))

from kyklon.catalogue.loader import load
from kyklon.demo import lighthouse
from kyklon.demo.card_image import boot_files
from kyklon.devices.linux.folder import Folder
from kyklon.model.build import edited
from kyklon.operations.upkeep import change, running, saves
from kyklon.record import folder as store
from machines import SSHD, serving

COUNT, BYTES = 500, 32_768


def median_s(work: Callable[[], object], times: int = 5) -> float:
    found = []
    for _ in range(times):
        begin = time.perf_counter()
        work()
        found.append(time.perf_counter() - begin)
    return statistics.median(found)


def the_saves(place: Path) -> None:
    catalogue = load()
    build = lighthouse.build(catalogue, "0" * 64)
    bench, machine = place / "bench", place / "card"
    bench.mkdir()
    store.save(bench, build)
    pick, top = random.Random(1), machine / "games" / "alder8"
    top.mkdir(parents=True)
    for number in range(COUNT):
        (top / f"Game {number}.keep").write_bytes(pick.randbytes(BYTES // 4) + bytes(BYTES * 3 // 4))

    def anew() -> None:
        (top / "Game 0.keep").write_bytes(pick.randbytes(BYTES))
        saves.keep(bench, build, catalogue, Folder(machine))

    def by_tools() -> None:
        subprocess.run(["tar", "-C", machine, "-czf", place / "t.tgz", "."], check=True)
        subprocess.run(f"find {top} -type f -print0 | xargs -0 sha256sum > {place}/sums", shell=True, check=True)  # noqa: S602

    ours, its = median_s(anew), median_s(by_tools)
    print(
        f"{COUNT} saves of {BYTES >> 10} KiB kept: {ours:.2f} s; tar with gzip and sha256sum {its:.2f} s, "
        f"{ours / its:.1f} times"
    )


def the_boot_files(place: Path) -> None:
    catalogue = load()
    with serving(place) as server:
        for name, data in boot_files().items():
            path = server.top / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(data)
        build = edited(server.build(lighthouse.build(catalogue, "0" * 64)), "upkeep.boot_folder", str(server.top))
        bench = place / "machine-bench"
        bench.mkdir()
        store.save(bench, build)
        with running.boot_folder(build) as machine:
            files = change.planned(build, catalogue, machine).files
        for name, data in files.items():
            path = place / "out" / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(data)

        def ours() -> None:
            with running.boot_folder(build) as machine:
                change.put(bench, build, catalogue, machine)

        def back() -> None:
            with running.boot_folder(build) as machine:
                change.undo(bench, machine)

        known = place / "known"
        known.write_text(f"[127.0.0.1]:{server.port} {server.host_key}\n")
        command = [
            "scp",
            "-q",
            "-r",
            "-P",
            str(server.port),
            "-i",
            str(server.key),
            "-o",
            f"UserKnownHostsFile={known}",
        ]
        command += ["-o", "IdentitiesOnly=yes", *map(str, (place / "out").iterdir()), f"127.0.0.1:{server.top}/"]
        rows = []
        for _ in range(5):
            begin = time.perf_counter()
            ours()
            rows.append(time.perf_counter() - begin)
            back()
        its = median_s(lambda: subprocess.run(command, check=True))
        print(
            f"{len(files)} boot files planned, put, read back: {statistics.median(rows):.2f} s; scp of the same "
            f"{its:.2f} s, {statistics.median(rows) / its:.1f} times"
        )


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="kyklon-bench-") as held:
        the_saves(Path(held))
        if SSHD is not None:
            the_boot_files(Path(held))


if __name__ == "__main__":
    main()
