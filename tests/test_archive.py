"""A build as one file: the same bytes again from what was opened, read by GNU tar and sha256sum, told where it was
tampered with."""

from __future__ import annotations

import contextlib
import hashlib
import io
import random
import subprocess
import tarfile
from pathlib import Path

import pytest
from PIL import Image

from kyklon.base.errors import KyklonError, WrongUse
from kyklon.commands import archive as by_command
from kyklon.model.build import edited
from kyklon.record import archive, photos
from kyklon.record import folder as store
from kyklon.record.answers import Answer, Answers
from kyklon.record.logbook import Logbook
from support import Demo


@pytest.fixture
def told(demo: Demo, tmp_path: Path) -> Path:
    Image.effect_noise((300, 200), 80).convert("RGB").save(tmp_path / "p.jpg")
    book = Logbook(demo.folder)
    book.add(0, "photo", kind="own", files=(photos.keep(demo.folder, tmp_path / "p.jpg"),))
    store.update(demo.folder, lambda build: edited(build, "boot.country", "NL"))
    book.add(0, "country")
    Answers(demo.folder).put(Answer("alder-8/1/a.al8", "Amber"))
    (demo.folder / "saves").mkdir(exist_ok=True)
    (demo.folder / "saves" / "2026-01-01T00-00-00.zip").write_bytes(b"PK")
    return demo.folder


def test_opened_elsewhere_and_made_again_it_is_the_same(told: Path, tmp_path: Path) -> None:
    for images in (False, True):
        first, place = tmp_path / f"a{images}.tar", tmp_path / f"there{images}"
        made = archive.make(told, first, images=images)
        assert bool(made.images) is not images
        assert archive.check(first) == ()
        build = archive.open_into(first, place)
        assert build == store.load(told).build
        assert [e.title for e in Logbook(place).entries()] == [e.title for e in Logbook(told).entries()]
        assert Logbook(place).verify().wrong == ()
        assert Answers(place).all() == Answers(told).all()
        Logbook(place).count()
        (place / "build.json").touch()
        again = archive.make(place, tmp_path / f"b{images}.tar", images=images)
        assert again.digest == made.digest
    assert by_command.compare(told, tmp_path / "aTrue.tar") == 0
    store.update(told, lambda build: edited(build, "boot.country", "FR"))
    assert by_command.compare(told, tmp_path / "aTrue.tar") == 1


def test_other_programs_read_it(told: Path, tmp_path: Path) -> None:
    """GNU tar unpacks it, and coreutils' sha256sum finds every member as its list states it."""
    archive.make(told, tmp_path / "a.tar")
    (tmp_path / "out").mkdir()
    subprocess.run(["tar", "-xf", tmp_path / "a.tar", "-C", tmp_path / "out"], check=True)
    run = subprocess.run(["sha256sum", "-c", "--quiet", "SHA256SUMS"], cwd=tmp_path / "out", capture_output=True)
    assert (run.returncode, run.stdout) == (0, b"")


def test_what_was_tampered_with_is_named(told: Path, tmp_path: Path) -> None:
    path, rng = tmp_path / "a.tar", random.Random(5)
    archive.make(told, path)
    whole = path.read_bytes()
    with tarfile.open(path) as tar:
        members = [(each.name, each.offset_data, each.size) for each in tar if each.size and each.name != archive.SUMS]
    for name, start, size in rng.sample(members, min(12, len(members))):
        bad = bytearray(whole)
        bad[start + rng.randrange(size)] ^= 1 << rng.randrange(8)
        path.write_bytes(bad)
        assert any(name in words for words in archive.check(path)), name
        with pytest.raises(KyklonError, match=r"as it was made"):
            archive.open_into(path, tmp_path / "never")
        assert not (tmp_path / "never").exists()
    for cut in (600, len(whole) // 2, len(whole) - 20_000):
        path.write_bytes(whole[:cut])
        with contextlib.suppress(KyklonError):
            assert archive.check(path)


@pytest.mark.parametrize(
    "evil", ["../out", "/out", "issued/../../out", "drives/x", "link", "hard", "twice", "unlisted", "device"]
)
def test_a_hostile_archive_writes_nothing(evil: str, told: Path, tmp_path: Path) -> None:
    archive.make(told, tmp_path / "a.tar")
    path, extra = tmp_path / "evil.tar", b"evil"
    name = {"link": "issued/l", "hard": "issued/h", "twice": "build.json", "device": "issued/d"}.get(evil, evil)
    with tarfile.open(tmp_path / "a.tar") as old, tarfile.open(path, "w", format=tarfile.PAX_FORMAT) as new:
        for info in old:
            source = old.extractfile(info)
            assert source is not None
            data = source.read()
            if info.name == archive.SUMS and evil != "unlisted":
                data += f"{hashlib.sha256(extra).hexdigest()}  {name}\n".encode()
            info.size = len(data)
            new.addfile(info, io.BytesIO(data))
        more = tarfile.TarInfo(name)
        more.size = len(extra)
        if evil in ("link", "hard", "device"):
            more.size, extra = 0, b""
            more.type = {"link": tarfile.SYMTYPE, "hard": tarfile.LNKTYPE, "device": tarfile.CHRTYPE}[evil]
            more.linkname = "/etc/hostname"
        new.addfile(more, io.BytesIO(extra))
    assert archive.check(path)
    with pytest.raises(KyklonError):
        archive.open_into(path, tmp_path / "in" / "never")
    assert not (tmp_path / "in" / "never").exists()
    assert not (tmp_path / "out").exists()
    assert not (tmp_path / "in" / "out").exists()


def test_the_next_machine_begins_from_it(told: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert by_command.make(told, tmp_path / "a.tar") == 0
    assert by_command.check(tmp_path / "a.tar") == 0
    assert by_command.open_(tmp_path / "a.tar", tmp_path / "next", as_new="Second table") == 0
    first, build = store.load(told).build, store.load(tmp_path / "next").build
    assert (build.name, build.parts, build.boot) == ("Second table", first.parts, first.boot)
    assert (build.cards, build.ticks, build.card.drive) == ((), (), "")
    (entry,) = Logbook(tmp_path / "next").entries()
    assert entry.title == f"Begun from {first.name}"
    with pytest.raises(WrongUse, match="not empty"):
        archive.open_into(tmp_path / "a.tar", tmp_path / "next")
    with pytest.raises(WrongUse, match="ends in"):
        archive.make(told, tmp_path / "a.zip")
    (tmp_path / "no.tar").write_bytes(b"no archive")
    with pytest.raises(KyklonError):
        archive.open_into(tmp_path / "no.tar", tmp_path / "none")
    assert "is in" in capsys.readouterr().out
