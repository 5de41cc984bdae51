"""What lies on the machine under the right name and cannot be played: in a folder, and on a card's own root."""

from __future__ import annotations

import random
import subprocess
import zipfile
from pathlib import Path

import pytest

from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.devices.linux.folder import Folder
from kyklon.model.build import Build, edited
from kyklon.model.library import OnMachine
from kyklon.model.world import World
from kyklon.operations.card.observe import started_by
from kyklon.operations.card.volumes import contents
from kyklon.operations.library import soundness
from kyklon.operations.library.acts import copy_games
from kyklon.operations.library.transfer import look_at
from kyklon.operations.poweron.bench import lay_out
from kyklon.operations.poweron.bringup import bring_up
from support import Demo


@pytest.fixture
def stick(demo: Demo, catalogue: Catalogue) -> Path:
    """The demo's games as a real transfer leaves them."""
    copy_games(demo.folder, demo.build, catalogue, demo.folder / "stick")
    return demo.folder / "stick"


def seen(stick: Path, build: Build, catalogue: Catalogue) -> OnMachine:
    return look_at(Folder(stick), systems_of(build, catalogue), catalogue.get(Image, build.part("image")))


def test_what_a_transfer_left_is_all_sound(stick: Path, demo: Demo, catalogue: Catalogue) -> None:
    found = seen(stick, demo.build, catalogue)
    assert sum(map(len, found.games.values())) > 100
    assert (found.bad_games, found.bad_files) == ({}, {})


def test_what_was_spoilt_there_is_told_and_foretold(stick: Path, demo: Demo, catalogue: Catalogue) -> None:
    assert demo.write().bad is None
    build = edited(demo.build, "library.destination", "stick")
    files = [path for path in stick.rglob("*") if path.is_file()]
    archive = next(path for path in files if path.suffix == ".zip")
    archive.write_bytes(archive.read_bytes()[:-30])
    system = next(each for each in systems_of(build, catalogue) if "cue" in each.extensions)
    image = catalogue.get(Image, build.part("image"))
    folder = stick / image.games_path.replace("{folder}", system.folder).strip("/")
    folder.mkdir(parents=True, exist_ok=True)
    sheet, track, playlist = folder / "Made.cue", folder / "Made.bin", folder / "Set.m3u"
    sheet.write_text('FILE "Made.bin" BINARY\n  TRACK 01 MODE1/2352\n    INDEX 01 00:00:00\n')
    track.write_bytes(b"x")
    assert system.id not in seen(stick, build, catalogue).bad_games
    track.unlink()
    playlist.write_text("another disc that is not here.cue\n")
    wanted = next(file for system in systems_of(build, catalogue) for file in system.system_files)
    shelf = (
        next(path for path in files if path.name == wanted.name)
        if any(path.name == wanted.name for path in files)
        else stick / "system-files" / wanted.name
    )
    shelf.parent.mkdir(exist_ok=True)
    shelf.write_bytes(b"x")
    found = seen(stick, build, catalogue)
    told = [words for rows in found.bad_games.values() for words in rows]
    assert any(archive.name in words and "truncated" in words for words in told)
    assert any(sheet.name in words and track.name in words for words in told)
    assert any(playlist.name in words for words in told)
    assert "has 1 bytes" in found.bad_files[wanted.name]
    shelf.write_bytes(bytes(wanted.size))
    assert "different contents" in seen(stick, build, catalogue).bad_files[wanted.name]
    card = contents.observe(demo.drive("blank-card"), started_by(build, catalogue))
    run = bring_up(lay_out(build, catalogue, card, World(on_machine=found)))
    codes = {failure.code: failure.cause for failure in run.failures}
    assert any(code.startswith("library.damaged:") for code in codes)
    assert f"library.system-file-damaged:{wanted.name}" in codes


@pytest.mark.parametrize("seed", range(4))
def test_cut_archives_are_told_as_unzip_does(seed: int, tmp_path: Path) -> None:
    """unzip -t and 7z t judge; sound ones of every kind are let pass."""
    chance = random.Random(seed)
    for number in range(15):
        kind = chance.choice(("zip", "zip", "7z"))
        path, inner = tmp_path / f"{number}.{kind}", tmp_path / f"{number}.bin"
        inner.write_bytes(chance.randbytes(chance.randrange(1, 5000)))
        if kind == "zip":
            how = chance.choice((zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED))
            with zipfile.ZipFile(path, "w", how) as archive:
                for copy in range(chance.randrange(1, 4)):
                    archive.write(inner, f"{copy}.bin")
                archive.comment = chance.randbytes(chance.choice((0, 0, 20, 3000))).replace(b"PK", b"pk")
        else:
            subprocess.run(["7z", "a", "-bso0", path, inner], check=True)
        whole = path.read_bytes()
        judge = ["unzip", "-tqq"] if kind == "zip" else ["7z", "t", "-bso0", "-bse0"]
        for data in (whole, whole[: chance.randrange(len(whole))], whole[: -chance.randrange(1, 20)]):
            path.write_bytes(data)
            fine = subprocess.run([*judge, path], capture_output=True, check=False).returncode == 0
            told = soundness._packed_trouble(kind, len(data), data[:32], data[-soundness.TAIL :])
            assert not told if fine else told, (kind, len(data), len(whole))
