"""Libraries and lists against general tools: unzip -t, 7z t, sha1sum, rhash, xmllint."""

from __future__ import annotations

import random
import shutil
import subprocess
import zipfile
from pathlib import Path

import pytest

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.system_records import System
from kyklon.devices.linux.folder import Folder
from kyklon.model.build import LibrarySettings, edited
from kyklon.model.library import ListFile
from kyklon.operations.library import acts
from kyklon.operations.library.facts import Asked, Facts
from kyklon.operations.library.naming import Terms, named
from kyklon.operations.library.packed import look_into
from kyklon.operations.library.scan import scan
from support import Demo


def needs(*tools: str) -> pytest.MarkDecorator:
    missing = [tool for tool in tools if shutil.which(tool) is None]
    return pytest.mark.skipif(bool(missing), reason=f"no {', '.join(missing)} here")


@needs("unzip")
def test_damaged_archives_are_those_that_unzip_finds(tmp_path: Path) -> None:
    chance = random.Random(6)
    path = tmp_path / "a.zip"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for number in range(4):
            archive.writestr(f"{number}.al8", chance.randbytes(300) + bytes(300))
    whole, agreed = path.read_bytes(), 0
    for _ in range(120):
        data = bytearray(whole)
        for _byte in range(chance.randrange(0, 3)):
            data[chance.randrange(len(data))] ^= 1 << chance.randrange(8)
        path.write_bytes(data)
        theirs = subprocess.run(["unzip", "-tqq", str(path)], capture_output=True, stdin=subprocess.DEVNULL).returncode
        ours = look_into(path)[1][0]
        if theirs in (2, 3, 12):  # damaged, or a bomb; 1 is a warning (unzip(1))
            assert ours, (theirs, ours)
        agreed += (theirs == 0) == (ours == "")
    assert agreed >= 100


@needs("7z")
def test_damaged_7z_archives_are_those_that_7z_finds(tmp_path: Path) -> None:
    chance = random.Random(7)
    (tmp_path / "g.al8").write_bytes(chance.randbytes(4000))
    path = tmp_path / "a.7z"
    subprocess.run(["7z", "a", "-bso0", str(path), str(tmp_path / "g.al8")], check=True)
    listed = look_into(path)
    assert (listed[1], [each.size for each in listed[0]]) == (("", ""), [4000])
    whole = path.read_bytes()
    for _ in range(40):
        data = bytearray(whole)
        data[chance.randrange(len(data))] ^= 1 << chance.randrange(8)
        path.write_bytes(data)
        theirs = subprocess.run(["7z", "t", str(path)], capture_output=True, stdin=subprocess.DEVNULL).returncode
        assert not (theirs >= 2 and look_into(path)[1][0] == "")


@needs("rhash", "sha1sum")
def test_sums_are_those_of_other_tools(tmp_path: Path) -> None:
    chance = random.Random(8)
    for size in (0, 1, 4095, 1 << 20, (1 << 20) + 1, 3_000_000):
        (tmp_path / f"{size}.bin").write_bytes(chance.randbytes(size))
    kinds = {"SHA-1": "sha1", "CRC-32": "crc32", "MD5": "md5", "SHA-256": "sha256", "SHA-512": "sha512"}
    for path in tmp_path.glob("*.bin"):
        ((_asked, found),) = Facts().all([Asked(str(path), path.stat(), frozenset(kinds))])
        for ours, theirs in kinds.items():
            told = subprocess.run(
                ["rhash", f"--{theirs}", "--simple", str(path)], capture_output=True, text=True
            ).stdout
            assert found.sums[ours] == told.split()[0].lower()  # type: ignore[union-attr]
        own = subprocess.run(["sha1sum", str(path)], capture_output=True, text=True).stdout
        assert found.sums["SHA-1"] == own.split()[0]  # type: ignore[union-attr]


@needs("rhash")
@pytest.mark.parametrize("form", ["--sfv", "--md5", "--sha1", "--sha256", "--sha512"])
def test_lists_that_rhash_writes_name_every_game(form: str, tmp_path: Path, catalogue: Catalogue) -> None:
    system = catalogue.get(System, "alder-8")
    folder = tmp_path / "alder8"
    folder.mkdir()
    for number in range(12):
        (folder / f"Game {chr(65 + number)} (Europe).al8").write_bytes(bytes([number]) * 700)
    kind = [form] if form != "--sfv" else ["--sfv"]
    text = subprocess.run(["rhash", *kind, "-r", "."], capture_output=True, text=True, cwd=folder, check=True).stdout
    (tmp_path / "list").write_text(text, encoding="utf-8")
    for path in list(folder.iterdir()):
        path.rename(folder / f"unknown {path.stat().st_ino}.al8")
    own = LibrarySettings(lists=(ListFile(path=str(tmp_path / "list"), system=system.id),))
    facts = Facts()
    found = named(scan(tmp_path, (system,), own, facts=facts), Terms(own, (system,), Path, {}), facts)
    assert sorted(game.called for game in found.games) == [f"Game {chr(65 + number)}" for number in range(12)]


@needs("xmllint")
def test_lists_of_elements_are_xml_whatever_the_titles(demo: Demo, catalogue: Catalogue) -> None:
    for name in ("Salt & <Pepper>", 'Say "Quay"', "It's ]]> done", "Été Ünder", "tab\tin it"):
        (demo.folder / "library" / "alder8" / f"{name}.al8").write_bytes(name.encode())
    build = edited(demo.build, "library.lists_made", ("list-elements",))
    acts.move_games(demo.folder, build, catalogue, Folder(demo.folder / "stick"))
    lists = sorted((demo.folder / "stick" / "lists").glob("*.xml"))
    assert len(lists) >= 4
    for path in lists:
        subprocess.run(["xmllint", "--noout", str(path)], check=True)
    told = subprocess.run(
        ["xmllint", "--xpath", "count(//spine)", str(lists[0])], capture_output=True, text=True
    ).stdout
    assert int(told) > 60
