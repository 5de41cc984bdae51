"""kill -9 at random moments: of a write, on a file-backed drive and on a loop device, and of every other act.

Afterwards the state told is the true one, no other byte has changed, and the same act goes through.
"""

from __future__ import annotations

import hashlib
import os
import subprocess
import sys
from pathlib import Path

import pytest

from kyklon.base import tools
from support import Demo

MOMENTS = 50
KILLS = int(os.environ.get("KYKLON_KILLS", "30"))  # shared among the other acts
# one process imports everything once, then forks a writer for each moment: the moments are spread, not the imports
KILLER = """
import hashlib, json, os, random, signal, sys, time
from pathlib import Path
from kyklon.operations.card.acts import CardJob, write_card
from kyklon.operations.card.drives import looking
from kyklon.operations.card.drives.interlock import Consent, Purpose
from kyklon.operations.card.sources import source
from kyklon.model.build import CardRecord, CardState, edited
from kyklon.record import folder as store

kind, folder, device, image, moments = sys.argv[1], Path(sys.argv[2]), sys.argv[3], Path(sys.argv[4]), int(sys.argv[5])
chance = random.Random(20)
facts = source.inspect(image)
whole = b"".join(source.chunks(facts))
path = Path(device)

def target():
    return looking.find("blank-card" if kind == "file" else device, folder if kind == "file" else None)

def write():
    place = target()
    lose = CardJob(place, build=store.load(folder).build).verdict(Purpose.WRITE, facts).lose
    ended = write_card(CardJob(place, Consent(lose), store.load(folder).build, folder), facts)
    os._exit(0 if ended.bad is None else 1)

begun = time.monotonic()
if os.fork() == 0:
    write()
assert os.wait()[1] == 0, "an undisturbed write fails"
longest = time.monotonic() - begun
told = {}
for moment in range(moments):
    store.update(folder, lambda build: edited(build, "card", CardRecord()))
    child = os.fork()
    if child == 0:
        write()
    time.sleep(chance.random() * longest * 1.1)
    os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)
    state = store.load(folder).build.card.state
    with path.open("rb") as file:
        there = file.read(len(whole))
    table = any(there[:512])
    key = state.value + (" with a table" if table else "")
    told[key] = told.get(key, 0) + 1
    if state is CardState.PROVEN:
        assert there == whole, "told proven, but it is not"
    elif state is CardState.UNPROVEN:
        assert table and there == whole, "told written, but it is not"
    elif state is CardState.WRITING and table:
        assert there == whole, "a table over a half-written card"
    elif state in (CardState.CANCELLED, CardState.FAILED):
        raise AssertionError("a killed write does not fail in words")
print(json.dumps(told))
"""


def run(kind: str, demo: Demo, device: Path, image: Path) -> dict[str, int]:
    import json

    arguments = [sys.executable, "-c", KILLER, kind, str(demo.folder), str(device), str(image), str(MOMENTS)]
    done = subprocess.run(arguments, capture_output=True, text=True, timeout=600)
    assert done.returncode == 0, done.stderr[-3000:]
    told: dict[str, int] = json.loads(done.stdout)
    assert sum(told.values()) == MOMENTS
    return told


def sums(folder: Path, leave: set[str]) -> dict[str, str]:
    """Every file's checksum, those excepted that a write may change."""
    return {
        path.relative_to(folder).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in folder.rglob("*")
        if path.is_file() and path.relative_to(folder).as_posix().split("/")[-1] not in leave
    }


OWN = {
    "build.json",
    "build.previous.json",
    ".build.json.unfinished",
    ".build.previous.json.unfinished",
    ".drives.json.unfinished",
    "logbook.sqlite3",
    "logbook.sqlite3-wal",
    "logbook.sqlite3-shm",
    "drives.json",
    "blank-card.standin",
    ".build.json.lock",
    ".drives.json.lock",
}


@pytest.mark.long
def test_fifty_kills_on_a_file(demo: Demo) -> None:
    before = sums(demo.folder, OWN)
    told = run("file", demo, demo.drive("blank-card"), demo.image)
    assert any(state.startswith("being written") for state in told), told
    assert sums(demo.folder, OWN) == before


@pytest.mark.long
@pytest.mark.skipif(os.geteuid() != 0, reason="loop devices need root")
def test_fifty_kills_on_a_loop_device(demo: Demo, tmp_path: Path) -> None:
    (demo.folder / "drives" / "drives.json").unlink()  # the real back end
    backing = tmp_path / "backing.img"
    size = 96 << 20
    marks = b"another owner's bytes"
    with backing.open("wb") as file:
        file.truncate(size)
        file.seek(size - len(marks))
        file.write(marks)
    device = Path(tools.run(["losetup", "--find", "--show", str(backing)]).decode().strip())
    try:
        before = sums(demo.folder, OWN)
        told = run("loop", demo, device, demo.image)
        assert any(state.startswith("being written") for state in told), told
        assert sums(demo.folder, OWN) == before
        with backing.open("rb") as file:
            file.seek(88_080_384)  # behind the image
            rest = file.read()
        assert rest == bytes(size - 88_080_384 - len(marks)) + marks
    finally:
        tools.run(["losetup", "-d", str(device)])


ACTS = """
import os, random, signal, sys, time
from pathlib import Path
from kyklon.base.errors import KyklonError
from kyklon.catalogue import loader
from kyklon.model.build import edited
from kyklon.operations.boot.acts import put_boot_files
from kyklon.operations.card.acts import CardJob, backup_card, prepare_card, prove_card, write_card
from kyklon.operations.card.drives import looking
from kyklon.operations.card.drives.interlock import Consent
from kyklon.operations.card.sources import source
from kyklon.operations.card.volumes import contents
from kyklon.operations.library.acts import copy_games
from kyklon.record import folder as store

name, folder, kills = sys.argv[1], Path(sys.argv[2]), int(sys.argv[3])
catalogue, chance = loader.load(None), random.Random(name)
card = folder / "drives" / "blank-card.standin"
number = 0

def job(drive="blank-card"):
    build = store.load(folder).build
    target = looking.find(drive, folder)
    return CardJob(target, Consent(target.facts.labels[0] if target.facts.labels else ""), build, folder)

def boot():
    build = store.update(folder, lambda kept: edited(kept, "boot.video_memory_mb", 64 + number % 400))
    put_boot_files(folder, build, catalogue, looking.find("blank-card", folder))

def games():
    copy_games(folder, store.load(folder).build, catalogue, folder / "stick")

def back():
    backup_card(job(), folder / "attachments" / f"kept-{number}.img.gz")

def prepare():
    prepare_card(job("large-card"), "GAMES")

def prove():
    prove_card(job("large-card"))

def setting():
    for each in range(20):
        store.update(folder, lambda kept: edited(kept, "boot.hostname", f"n{number}-{each}"))

act = {"boot": boot, "games": games, "back": back, "prepare": prepare, "prove": prove, "set": setting}[name]
ended = write_card(job(), source.inspect(folder / "attachments" / "quayside-4.2.img.xz"))
assert ended.bad is None
act()
begun = time.monotonic()
number = 1
act()
longest = time.monotonic() - begun

def holds():
    opened = store.load(folder)
    assert not opened.warning, opened.warning
    seen = contents.observe(card)
    assert "kernel.file" in seen.texts_meant["merrow.settings"], "the boot file is lost"
    for path in (folder / "stick").rglob("*"):
        if path.is_file() and not path.name.startswith(".") and path.suffix != ".m3u":
            twins = [each for each in (folder / "library").rglob(path.name) if each.is_file()]
            assert not twins or any(each.read_bytes() == path.read_bytes() for each in twins), path
    for path in (folder / "attachments").glob("kept-*.gz"):
        assert sum(map(len, source.chunks(source.inspect(path)))) > 1 << 20

for number in range(2, kills + 2):
    if name == "games":
        import shutil
        shutil.rmtree(folder / "stick", ignore_errors=True)
    child = os.fork()
    if child == 0:
        try:
            act()
        except KyklonError:
            os._exit(1)
        os._exit(0)
    time.sleep(chance.random() * longest)
    os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)
    holds()
number = kills + 9
act()
holds()
left = [path for path in folder.rglob(".*") if "unfinished" in path.name]
store.sweep(folder)
print("whole", len(left))
"""


@pytest.mark.long(keep=1)
@pytest.mark.parametrize("act", ["boot", "games", "back", "prepare", "prove", "set"])
def test_every_act_can_be_killed_and_done_again(demo: Demo, act: str) -> None:
    library = sums(demo.folder / "library", set())
    arguments = [sys.executable, "-c", ACTS, act, str(demo.folder), str(max(1, KILLS // 6))]
    done = subprocess.run(arguments, capture_output=True, text=True, timeout=900)
    assert done.returncode == 0, done.stderr[-3000:]
    assert sums(demo.folder / "library", set()) == library
    assert not [path for path in demo.folder.rglob("*") if path.name.endswith(".unfinished")]
