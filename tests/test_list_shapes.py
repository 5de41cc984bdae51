"""Lists as others write them: columns that look like sizes, numeric titles, cut and nested checksums; and what is said
of one that recognises nothing."""

from __future__ import annotations

import hashlib
import json
import random
import zipfile
import zlib
from pathlib import Path

import pytest

from kyklon.base.errors import FormatError
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.system_records import System
from kyklon.model.build import LibrarySettings
from kyklon.model.library import ListFile, Scan
from kyklon.operations import checksums
from kyklon.operations.library import list_guess
from kyklon.operations.library.facts import Facts
from kyklon.operations.library.list_guess import guess
from kyklon.operations.library.lists import read_list
from kyklon.operations.library.naming import Terms, named, with_list
from kyklon.operations.library.scan import scan
from support import that_ends


def games(folder: Path, count: int = 30, *, packed: bool = False) -> dict[str, bytes]:
    """Files of a system's folder, by title."""
    chance, made = random.Random(3), {}
    (folder / "alder8").mkdir(parents=True)
    for number in range(count):
        title, data = f"Game {number:02}", chance.randbytes(chance.randrange(2000, 9000))
        made[title] = data
        if packed:
            with zipfile.ZipFile(folder / "alder8" / f"file {number}.zip", "w") as archive:
                archive.writestr(f"file {number}.al8", data)
        else:
            (folder / "alder8" / f"file {number}.al8").write_bytes(data)
    return made


def recognised(folder: Path, path: Path, catalogue: Catalogue) -> Scan:
    systems = catalogue.all(System)
    settings = with_list(LibrarySettings(), str(path), "alder-8", guess(path))
    facts = Facts()
    return named(scan(folder, systems, settings, facts=facts), Terms(settings, systems, Path, {}), facts)


def by_list(found: Scan) -> int:
    return sum(game.naming is not None and game.naming.how == "list" for game in found.games)


@pytest.mark.parametrize("column", ["id", "year", "players", "rank", "serial"])
def test_a_column_of_numbers_is_not_taken_for_the_size(column: str, tmp_path: Path, catalogue: Catalogue) -> None:
    made = games(tmp_path / "library")
    values = {
        "id": lambda n: 70_001 + n,
        "year": lambda n: 1985 + n % 9,
        "players": lambda n: 1 + n % 4,
        "rank": lambda n: n + 1,
        "serial": lambda n: 500_000 + 2 * n,
    }[column]
    rows = [f"{column},name,crc"]
    rows += [f"{values(n)},{title},{zlib.crc32(data):08x}" for n, (title, data) in enumerate(made.items())]
    path = tmp_path / "list.csv"
    path.write_text("\n".join(rows))
    scheme = guess(path)
    assert scheme is not None
    assert (scheme.size, scheme.title) == ("", "name")
    assert by_list(recognised(tmp_path / "library", path, catalogue)) == 30
    sized = [f"{row},{len(data)}" for row, data in zip(rows[1:], made.values(), strict=True)]
    path.write_text("\n".join([f"{rows[0]},size", *sized]))
    scheme = guess(path)
    assert scheme is not None
    assert scheme.size == "size"


def test_zips_are_known_by_a_list_of_sha_1_alone(tmp_path: Path, catalogue: Catalogue) -> None:
    made = games(tmp_path / "library", packed=True)
    path = tmp_path / "list.json"
    path.write_text(
        json.dumps(
            [{"name": title, "hashes": {"sha1": hashlib.sha1(data).hexdigest()}} for title, data in made.items()]
        )
    )
    found = recognised(tmp_path / "library", path, catalogue)
    assert by_list(found) == 30
    assert found.list_errors == ()


def test_numeric_titles_and_a_short_crc(tmp_path: Path, catalogue: Catalogue) -> None:
    made = games(tmp_path / "library")
    rows = ["title;checksum"]
    for number, data in enumerate(made.values()):
        digest = f"{zlib.crc32(data):08x}"
        rows.append(f"{1900 + number};{digest if number % 7 else digest.lstrip('0')}")
    rows.append("2099;1a2b3c")  # zeros that somebody's table took away
    path = tmp_path / "list.csv"
    path.write_text("\n".join(rows))
    found = recognised(tmp_path / "library", path, catalogue)
    assert by_list(found) == 30
    assert {game.called for game in found.games} == {str(1900 + number) for number in range(30)}


def test_blanks_behind_names_are_none_of_theirs() -> None:
    digest = "d41d8cd98f00b204e9800998ecf8427e"
    for line in (f"{digest}  game.al8\t", f"{digest} *game.al8  ", f"{digest}\tgame.al8 \t", "game.al8 d41d8cd9 \t"):
        assert list(checksums.parse(line)) == ["game.al8"], line


def test_a_list_that_recognises_nothing_says_why(tmp_path: Path, catalogue: Catalogue) -> None:
    games(tmp_path / "library")
    path = tmp_path / "list.csv"
    for text, why in (
        ("name,size,crc\nOne,77,0a0b0c0d\nTwo,78,1a0b0c0d\n", "sizes"),
        ("name,crc\nOne,0a0b0c0d\nTwo,1a0b0c0d\n", "share no checksum"),
        ("name,publisher\nOne,Someone\nTwo,Other\n", "has a checksum"),
    ):
        path.write_text(text)
        (error,) = recognised(tmp_path / "library", path, catalogue).list_errors
        assert "matches no game" in error
        assert why in error


def test_a_table_of_sixty_thousand_columns_is_refused_at_once(tmp_path: Path) -> None:
    path = tmp_path / "wide.csv"
    path.write_text(",".join(f"c{n}" for n in range(60_000)) + "\n" + "x," * 59_999 + "x\n" * 200)
    with that_ends(), pytest.raises(FormatError, match="columns"):
        guess(path)
    scheme = LibrarySettings(lists=(ListFile(path=str(path), system="alder-8", scheme="c"),))
    assert scheme.lists
    from kyklon.model.library import ListScheme

    with that_ends(), pytest.raises(FormatError, match="columns"):
        list(read_list(path, ListScheme(id="c", kind="csv", title="c1", crc="c2")))


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "cp1252"])
def test_titles_with_accents_are_read_whatever_program_wrote_them(encoding: str, tmp_path: Path) -> None:
    path = tmp_path / "list.csv"
    path.write_bytes("Öffner;crc;Größe\nÉté à la Plage;0a0b0c0d;4096\nOrchard;00000001;9000\n".encode(encoding))
    scheme = guess(path)
    assert scheme is not None
    assert [game.title for game in read_list(path, scheme)] == ["Été à la Plage", "Orchard"]


def test_a_key_that_is_no_text_is_told() -> None:
    with pytest.raises(FormatError, match="text"):
        list_guess._scheme("json", {"\ud800": ["A", "B"], "crc": ["0a0b0c0d", "00000001"]})
