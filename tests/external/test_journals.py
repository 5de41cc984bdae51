"""Journals that a kernel has to replay, written by debugfs (e2fsprogs) and replayed by e2fsck beside our reading."""

from __future__ import annotations

import random
import shutil
from pathlib import Path

import pytest

from external.test_roots_outside import run
from kyklon.base.errors import FormatError
from kyklon.operations.card.volumes.ext_reader import ExtReader
from kyklon.operations.card.volumes.partitions import reader

MIB = 1 << 20
FORMS = {
    "today's": ([], ["-c"]),
    "no sums": (["-O", "^metadata_csum"], []),
    "second sums": ([], ["-c", "-v", "2"]),
    "32 bit": (["-O", "^64bit"], ["-c"]),
    "32 bit, no sums": (["-O", "^64bit,^metadata_csum"], []),
    "1k": (["-b", "1024"], ["-c"]),
    "ext3": (["-t", "ext3"], []),
}


def debugfs(image: Path, *rows: str) -> None:
    done = run("debugfs", "-w", "-f", "-", image, input="\n".join(rows).encode())
    assert b"not found" not in done.stderr, done.stderr


def read(image: Path) -> dict[str, bytes]:
    """Every file as it is read."""
    found: dict[str, bytes] = {}
    with image.open("rb") as file:
        volume = ExtReader(reader(file.fileno()), 0, image.stat().st_size)
        waiting = [""]
        while waiting:
            folder = waiting.pop()
            inode = volume.find(folder or "/")
            assert inode is not None
            for name, number in volume.entries(inode):
                path = f"{folder}/{name}"
                there = volume.find(path, follow=False)
                assert there is not None
                found[path] = f"{there.mode:o} {there.uid} ".encode() + (
                    b"".join(volume.pieces(there)) if there.is_file else b""
                )
                if there.is_folder and name != "lost+found":
                    waiting.append(path)
                assert number
    return found


def blocks_apart(one: Path, other: Path, size: int) -> list[int]:
    a, b = one.read_bytes(), other.read_bytes()
    return [at // size for at in range(0, len(a), size) if a[at : at + size] != b[at : at + size]]


class Log:
    """A volume whose changes stand in its journal alone, a transaction for each step."""

    def __init__(self, form: str, folder: Path) -> None:
        make, self.journal = FORMS[form]
        self.image, self.folder = folder / "v.img", folder
        tree = folder / "tree"
        (tree / "sbin").mkdir(parents=True)
        for name in ("one", "two", "three"):
            (tree / "sbin" / name).write_bytes(name.encode() * 2000)
        self.image.write_bytes(b"")
        with self.image.open("r+b") as file:
            file.truncate(16 * MIB)
        run("mkfs.ext4", "-q", "-F", "-J", "size=4", *make, "-d", tree, self.image)
        told = run("dumpe2fs", "-h", self.image).stdout.decode()
        self.block = int(told.split("Block size:")[1].split()[0])
        self.now = shutil.copy(self.image, folder / "now.img")  # as it is when all is replayed

    def step(self, *rows: str, more: tuple[str, ...] = ()) -> None:
        """One transaction. more: rows of debugfs while the journal is open."""
        before = shutil.copy(self.now, self.folder / "before.img")
        debugfs(Path(self.now), *rows)
        changed = blocks_apart(Path(before), Path(self.now), self.block)
        data = Path(self.now).read_bytes()
        given = self.folder / "blocks"
        given.write_bytes(b"".join(data[at * self.block : (at + 1) * self.block] for at in changed))
        opened = [f"jo {' '.join(self.journal)}"]
        debugfs(self.image, *opened, f"jw -b {','.join(map(str, changed))} {given}", *more, "jc")

    def replayed(self) -> Path:
        """As e2fsck leaves it when it replays alone."""
        other = Path(shutil.copy(self.image, self.folder / "replayed.img"))
        done = run("e2fsck", "-E", "journal_only", "-y", other, check=False)
        assert done.returncode <= 1, done.stdout
        return other


@pytest.mark.parametrize("form", FORMS)
def test_a_volume_is_read_as_it_is_once_its_journal_is_replayed(form: str, tmp_path: Path) -> None:
    log = Log(form, tmp_path)
    before = read(log.image)
    # a block that begins with the journal's own mark is kept without it there
    (tmp_path / "marked").write_bytes(bytes.fromhex("C03B3998") + b"begins as a journal does" * 400)
    log.step("rm /sbin/one", f"write {tmp_path / 'marked'} sbin/marked")
    log.step("sif /sbin/two mode 0100600", "sif /sbin/two uid 7", "mkdir /etc")
    assert b"needs_recovery" in run("dumpe2fs", "-h", log.image).stdout
    theirs = read(log.replayed())
    assert read(log.image) == theirs == read(Path(log.now))
    assert theirs != before
    assert "/sbin/one" not in theirs
    assert theirs["/sbin/two"].startswith(b"100600 7 ")
    assert theirs["/sbin/marked"].endswith((tmp_path / "marked").read_bytes())


@pytest.mark.parametrize("form", ["today's", "no sums", "32 bit"])
def test_blocks_that_were_taken_back_are_not_replayed(form: str, tmp_path: Path) -> None:
    log = Log(form, tmp_path)
    log.step("sif /sbin/two mode 0100600")
    apart = blocks_apart(log.folder / "before.img", Path(log.now), log.block)
    debugfs(log.image, f"jo {' '.join(log.journal)}", f"jw -r {','.join(map(str, apart))}", "jc")
    assert read(log.image) == read(log.replayed())
    assert read(log.image)["/sbin/two"].startswith(b"100644 ")
    log.step("sif /sbin/three mode 0100711")  # later than the taking back: it counts
    assert read(log.image) == read(log.replayed())
    assert read(log.image)["/sbin/three"].startswith(b"100711 ")


def test_a_transaction_that_never_ended_has_never_been(tmp_path: Path) -> None:
    log = Log("today's", tmp_path)
    log.step("sif /sbin/two mode 0100600")
    kept = read(log.image)
    data = bytearray(log.image.read_bytes())
    log.step("sif /sbin/three mode 0100711")
    later = log.image.read_bytes()
    at = next(
        place
        for place in range(len(later) - 4096, 0, -4096)
        if later[place : place + 8] == bytes.fromhex("C03B399800000002")
        and later[place : place + 12] != bytes(data[place : place + 12])
    )
    log.image.write_bytes(later[:at] + bytes(4096) + later[at + 4096 :])
    assert read(log.image) == read(log.replayed())
    assert read(log.image)["/sbin/two"] == kept["/sbin/two"]
    assert read(log.image)["/sbin/three"].startswith(b"100644 ")


@pytest.mark.long
def test_spoilt_journals_end_with_a_reason_or_with_what_e2fsck_makes_of_them(tmp_path: Path) -> None:
    """Bytes of the log changed at random: as e2fsck leaves it, or refused as damaged; never another error."""
    log = Log("today's", tmp_path)
    log.step("rm /sbin/one", "sif /sbin/two mode 0100600")
    log.step("mkdir /etc")
    whole = log.image.read_bytes()
    places = [at for at in range(0, len(whole), 4096) if whole[at : at + 4] == bytes.fromhex("C03B3998")]
    chance = random.Random(4)
    refused = 0
    for number in range(150):
        data = bytearray(whole)
        for _each in range(chance.choice((1, 1, 3))):
            block = chance.choice(places)
            at = block + chance.choice((chance.randrange(64), chance.randrange(4096), chance.randrange(12 * 4096)))
            data[at % len(data)] = chance.randrange(256)
        log.image.write_bytes(data)
        try:
            found = read(log.image)
        except FormatError:
            refused += 1
            continue
        if number % 5 == 0:
            done = run("e2fsck", "-E", "journal_only", "-y", shutil.copy(log.image, tmp_path / "r.img"), check=False)
            if done.returncode <= 1:
                assert found == read(tmp_path / "r.img")
    assert 10 < refused < 150
