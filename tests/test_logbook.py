"""The logbook: its chain, the states that it keeps, going back and forth, photos, what writes itself."""

from __future__ import annotations

import contextlib
import hashlib
import io
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import textwrap
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from kyklon.base.errors import FormatError, KyklonError, WrongUse
from kyklon.catalogue.loader import Catalogue
from kyklon.commands import log as by_command
from kyklon.commands.main import _run as main
from kyklon.demo import lighthouse
from kyklon.model.build import Build, edited
from kyklon.record import changes, outcomes, photos, restoring, revisions
from kyklon.record import folder as store
from kyklon.record.logbook import FILE, Logbook, Noted


@pytest.fixture
def bench(tmp_path: Path, catalogue: Catalogue) -> Path:
    folder = tmp_path / "bench"
    folder.mkdir()
    store.save(folder, lighthouse.build(catalogue, "0" * 64))
    return folder


def named(name: str) -> Callable[[Build], Build]:
    return lambda build: edited(build, "name", name)


def tree(folder: Path) -> dict[str, str]:
    """Every tracked file by its sum, as sha256sum would tell it."""
    return {path: hashlib.sha256((folder / path).read_bytes()).hexdigest() for path, _s in revisions.tracked(folder)}


def test_any_entry_and_forward_again_to_the_byte(bench: Path) -> None:
    rng, book = random.Random(31), Logbook(bench)
    states: dict[int, dict[str, str]] = {}
    large = bench / "attachments" / "large.bin"
    for number in range(30):
        what = rng.randrange(5)
        if what == 0:
            store.update(bench, lambda build: edited(build, "boot.country", rng.choice(["NL", "GB", "FR"])))
        elif what == 1:
            path = bench / "issued" / rng.choice(["a.txt", "deep/b.txt", "deep/er/c.txt"])
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(rng.randbytes(rng.randrange(3000)))
        elif what == 2:
            shutil.rmtree(bench / "issued" / "deep", ignore_errors=True)
        elif what == 3:
            large.unlink(missing_ok=True)
            large = bench / "attachments" / f"large-{number}.bin"
            large.write_bytes(rng.randbytes(8) * (revisions.STORED_MOST // 8 + 1))
        else:
            store.update(bench, named(f"name {number}"))
        states[book.add(0, f"step {number}").id] = tree(bench)
    assert book.verify().wrong == ()
    kept = {f"attachments/{large.name}"}  # the others were deleted by hand: no entry holds what is so large
    for _ in range(25):
        number = rng.choice(list(states))
        done = restoring.restore(bench, book.entry(number))
        gone = {path for path in states[number] if "large" in path and path not in kept}
        assert set(done.missing) == gone
        assert tree(bench) == {path: told for path, told in states[number].items() if path not in gone}
    assert book.verify().wrong == ()
    assert not (bench / restoring.UNDER_WAY).exists()


def test_a_killed_restore_is_finished(bench: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    book = Logbook(bench)
    (bench / "issued" / "a").write_text("one")
    first, wanted = book.add(0, "first"), tree(bench)
    for cut in range(1, 6):
        for name in ("a", "b", "c"):
            (bench / "issued" / name).write_text(f"{name} {cut}")
        store.update(bench, named(f"cut {cut}"))
        left = [cut]

        def failing(*arguments: object, _real: object = restoring.revisions.place_of, _left: list[int] = left) -> Path:
            _left[0] -= 1
            if _left[0] < 0:
                raise KeyboardInterrupt
            return _real(*arguments)  # type: ignore[operator]

        with monkeypatch.context() as patch:
            patch.setattr(restoring.revisions, "place_of", failing)
            with contextlib.suppress(KeyboardInterrupt):
                restoring.restore(bench, first)
        under_way = (bench / restoring.UNDER_WAY).exists()
        restoring.finish(bench)
        assert (tree(bench) == wanted) == under_way or left[0] >= 0
        restoring.restore(bench, first)
        assert tree(bench) == wanted


@pytest.mark.parametrize(
    "harm",
    [
        "UPDATE entry SET title = 'other' WHERE id = 3",
        "UPDATE entry SET cost = 1 WHERE id = 2",
        "DELETE FROM entry WHERE id = 3",
        "DELETE FROM entry WHERE id = 6",
        "INSERT INTO entry SELECT 9, at, operation, kind, title, detail, revision, quantity, value, unit, cost,"
        " minutes, chain FROM entry WHERE id = 2",
        "UPDATE attached SET digest = 'x'",
        "DELETE FROM attached",
        "UPDATE object SET data = x'00' WHERE digest IN (SELECT revision FROM entry)",
        "DELETE FROM object WHERE digest NOT IN (SELECT revision FROM entry)",
    ],
)
def test_a_chain_tells_what_was_done_to_it(harm: str, bench: Path, tmp_path: Path) -> None:
    book = Logbook(bench)
    (tmp_path / "note.txt").write_text("words")
    for number in range(6):
        store.update(bench, named(f"name {number}"))
        files = (photos.keep(bench, tmp_path / "note.txt"),) if number == 1 else ()
        book.add(0, f"entry {number}", files=files)
    assert book.verify().wrong == ()
    with sqlite3.connect(bench / FILE) as other:
        other.execute(harm)
    other.close()
    assert book.verify().wrong
    assert book.entries()  # it is read all the same, and added to
    assert book.add(0, "after").id


def test_a_logbook_from_before_the_chain_is_taken_in(bench: Path) -> None:
    with sqlite3.connect(bench / FILE) as old:
        old.execute(
            "CREATE TABLE entry (id INTEGER PRIMARY KEY, at TEXT NOT NULL, operation INTEGER NOT NULL, kind TEXT NOT"
            " NULL, title TEXT NOT NULL, detail TEXT NOT NULL DEFAULT '')"
        )
        old.execute("INSERT INTO entry VALUES (1, '2026-06-01T10:00:00+02:00', 20, 'done', 'Card written', 'proven')")
    old.close()
    book = Logbook(bench)
    (entry,) = book.entries()
    assert (entry.title, entry.operation, entry.revision) == ("Card written", 20, "")
    with pytest.raises(WrongUse, match="no state"):
        restoring.restore(bench, entry)
    book.add(0, "next")
    assert book.verify() == book.verify().__class__(2, ())


def test_no_acknowledged_entry_is_lost_to_a_kill(bench: Path) -> None:
    """kill -9 at random moments of a program that adds entries; the book is whole and holds all that were told."""
    script = textwrap.dedent(
        """
        import sys
        from pathlib import Path
        from kyklon.record.logbook import Logbook
        book = Logbook(Path(sys.argv[1]))
        while True:
            (Path(sys.argv[1]) / "issued" / "x").write_text(str(book.count()))
            print(book.add(0, "entry").id, flush=True)
        """
    )
    told = 0
    for number in range(12):
        command = [sys.executable, "-c", script, str(bench)]
        with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as run:
            assert run.stdout is not None
            first = run.stdout.readline()
            time.sleep(random.Random(number).random() * 0.1)
            run.send_signal(signal.SIGKILL)
            lines = [first, *run.stdout.read().split("\n")]
        told = max([told, *(int(line) for line in lines if line.strip().isdecimal())])
        ids = {entry.id for entry in Logbook(bench).entries()}
        assert set(range(1, told + 1)) <= ids
    assert Logbook(bench).verify().wrong == ()
    with sqlite3.connect(bench / FILE) as read:
        assert read.execute("PRAGMA integrity_check").fetchone() == ("ok",)
    read.close()


def test_one_bad_file_stops_no_entry(bench: Path) -> None:
    (bench / "issued" / "pipe").unlink(missing_ok=True)
    os.mkfifo(bench / "issued" / "pipe")
    (bench / "issued" / "link").symlink_to("/etc/hostname")
    (bench / "issued" / os.fsdecode(b"name\xff")).write_text("odd")
    entry = Logbook(bench).add(0, "all the same")
    assert entry.revision
    held = Logbook(bench).reading(lambda database: revisions.manifest(database, entry.revision))
    assert {"issued/pipe", "issued/link"}.isdisjoint(held)
    (bench / "issued" / os.fsdecode(b"name\xff")).unlink()
    restoring.restore(bench, entry)
    assert (bench / "issued" / os.fsdecode(b"name\xff")).read_text() == "odd"
    (bench / store.CURRENT).write_text("{")
    assert Logbook(bench).add(0, "with a damaged build").id


def test_a_hostile_logbook_writes_nothing_outside(bench: Path, tmp_path: Path) -> None:
    book = Logbook(bench)
    entry = book.add(0, "good")
    for path in ("../out", "issued/../../out", "/out", "drives/x", "issued/./../../out"):
        with sqlite3.connect(bench / FILE) as other:
            data = b"evil"
            digest = revisions.put(other, data, "x")
            rows = {path: revisions.Held(digest, len(data)), store.CURRENT: revisions.Held("0" * 64, 4)}
            evil = revisions.put(other, revisions.manifest_text(rows), "manifest")
            other.execute("UPDATE entry SET revision = ? WHERE id = ?", (evil, entry.id))
        other.close()
        with pytest.raises(KyklonError):
            restoring.restore(bench, book.entry(entry.id))
    (bench / "issued").rename(tmp_path / "elsewhere")
    (bench / "issued").symlink_to(tmp_path / "elsewhere")
    assert not any(path.startswith("issued") for path, _status in revisions.tracked(bench))
    assert not (tmp_path / "out").exists()


@given(st.lists(st.binary(max_size=400), min_size=1, max_size=12))
@settings(max_examples=60)
def test_whatever_is_kept_comes_back(rows: list[bytes]) -> None:
    database = sqlite3.connect(":memory:")
    database.executescript(revisions.SCHEMA)
    kept = [(revisions.put(database, row * 7, "one"), row * 7) for row in rows]
    assert all(revisions.get(database, digest) == data for digest, data in kept)
    database.close()


# --- photos ----------------------------------------------------------------------------------------------------------


def photo(path: Path, turned: int = 6) -> bytes:
    """A JPEG as a camera writes it: turned, with a place, a maker and an owner (written by Pillow)."""
    exif = Image.Exif()
    exif[0x0112], exif[0x010F], exif[0xA430] = turned, "a maker", "an owner"
    exif.get_ifd(0x8769)[0x9003] = "2026:05:01 12:30:00"
    exif.get_ifd(0x8825)[2] = (51.0, 26.0, 38.0)
    drawn = Image.new("RGB", (640, 400), "white")
    drawn.paste((200, 30, 30), (0, 0, 100, 100))
    held = io.BytesIO()
    drawn.save(held, "JPEG", exif=exif, comment=b"secret place")
    path.write_bytes(held.getvalue())
    return held.getvalue()


def test_a_photo_is_upright_and_tells_no_place(bench: Path, tmp_path: Path) -> None:
    photo(tmp_path / "IMG 1.JPG")
    kept = photos.keep(bench, tmp_path / "IMG 1.JPG")
    assert kept.taken == "2026-05-01T12:30:00"
    data = (bench / kept.path).read_bytes()
    assert hashlib.sha256(data).hexdigest() == kept.digest
    assert not {b"secret place", b"an owner", b"a maker", b"Exif"} & {data[i : i + 12] for i in range(len(data))}
    assert all(word not in data for word in (b"secret place", b"an owner", b"a maker", b"Exif", b"GPS"))
    with Image.open(bench / kept.path) as shown:
        assert shown.size == (400, 640)  # orientation 6: turned to the right by 90 degrees (EXIF)
        assert not shown.getexif()
        corner = shown.getpixel((390, 10))
        assert isinstance(corner, tuple)
        assert corner[0] > 150 > corner[1]
    with Image.open(io.BytesIO(kept.thumb)) as small:
        assert max(small.size) == 160
    assert photos.keep(bench, tmp_path / "IMG 1.JPG") == kept  # once


@pytest.mark.parametrize("name", ["cut.jpg", "text.png", "empty.jpg", "huge.png"])
def test_a_photo_that_is_none_is_one_clear_error(name: str, bench: Path, tmp_path: Path) -> None:
    path = tmp_path / name
    whole = photo(tmp_path / "whole.jpg")
    if name == "huge.png":  # 20 000 by 20 000 pixels in some hundred kilobytes
        Image.new("1", (20_000, 20_000)).save(path)
    else:
        path.write_bytes({"cut.jpg": whole[:900], "text.png": b"words", "empty.jpg": b""}[name])
    with pytest.raises(FormatError, match=name):
        photos.keep(bench, path)


@given(data=st.binary(max_size=600))
@settings(max_examples=60, deadline=None)
def test_any_bytes_are_a_photo_or_an_error(data: bytes, tmp_path_factory: pytest.TempPathFactory) -> None:
    folder = tmp_path_factory.mktemp("photo")
    (folder / "x.jpg").write_bytes(b"\xff\xd8\xff\xe1" + data)
    with pytest.raises(KyklonError):
        photos.keep(folder, folder / "x.jpg")


# --- words -----------------------------------------------------------------------------------------------------------


def test_differences_are_told_as_the_screen_says_them(bench: Path) -> None:
    build = store.load(bench).build
    other = edited(edited(build, "boot.country", "NL").with_part("board", "sprat"), "system.keyboard", "de")
    other = edited(
        other, "system", {**other.system.model_dump(), "wireless_name": "Quay", "wireless_key": "a long one"}
    )
    told = [each.words for each in changes.between_builds(build, other)]
    assert "Wi-Fi country: GB → NL" in told
    assert "Parts, board: herring → sprat" in told
    assert "Wi-Fi password: none → (not shown)" in told
    assert not any("a long one" in line or other.system.wireless_key in line for line in told)
    assert changes.between_builds(build, build) == ()


def test_commands_write_their_own_entries(bench: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    photo(tmp_path / "a.jpg")
    words = ["Rail measured", "--measured", "5 V rail=4,71 V", "--spent", "12.50", "--spent", "1.5h", "--file"]
    assert main(["log", "add", str(bench), *words, str(tmp_path / "a.jpg")]) == 0
    (entry,) = Logbook(bench).entries()
    assert entry.noted == Noted("5 V rail", 4.71, "V", 12.5, 90.0)
    assert len(entry.files) == 1
    assert Logbook(bench).measured()["5 V rail"][0][1:] == (4.71, "V")
    assert main(["set", str(bench), "boot.country", "NL"]) == 0
    assert main(["texts", str(bench)]) == 3  # nothing was changed, and nothing is noted
    assert main(["plan", "wish", str(bench), "--players", "1"]) == 0
    titles = [entry.title for entry in Logbook(bench).entries()]
    assert len(titles) == 3
    assert titles[1] == "Wi-Fi country: NL"
    capsys.readouterr()
    assert main(["log", "diff", str(bench), "1", "2"]) == 1
    assert "Wi-Fi country: GB → NL" in capsys.readouterr().out
    assert main(["log", "restore", str(bench), "1"]) == 0
    assert store.load(bench).build.boot.country == "NL"
    assert main(["log", "restore", str(bench), "1", "--yes"]) == 0
    assert store.load(bench).build.boot.country == "GB"
    assert main(["log", "verify", str(bench)]) == 0
    for wrong in (["log", "diff", str(bench), "99"], ["log", "restore", str(bench), "yesterday"]):
        assert main(wrong) == 2
    with pytest.raises(WrongUse, match="no measured value"):
        by_command.add(bench, "x", measured="no number")


def test_wilsons_interval() -> None:
    """Handbook values (Wilson 1927; Newcombe 1998, table I, 81 of 263: 0.2553 to 0.3662; 0 of 20: 0 to 0.1611; values
    from memory)."""
    for right, count, low, high in ((81, 263, 0.2553, 0.3662), (0, 20, 0.0, 0.1611), (29, 29, 0.8830, 1.0)):
        told = outcomes.score(right, count)
        assert (told.low, told.high) == pytest.approx((low, high), abs=2e-4)
    assert outcomes.score(0, 0).words == "No power-on was noted yet."
