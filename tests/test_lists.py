"""Lists of games in every open form, identification by them, matching of titles, and the choice that fits."""

from __future__ import annotations

import hashlib
import itertools
import json
import os
import random
import time
import zipfile
import zlib
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kyklon.base.errors import FormatError, KyklonError
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.system_records import System
from kyklon.demo.titles import labelled
from kyklon.model.build import LibrarySettings
from kyklon.model.library import Game, GameText, ListFile, ListScheme, Scan
from kyklon.operations.library import choose, compare, match, texts
from kyklon.operations.library.facts import Asked, Facts
from kyklon.operations.library.list_guess import guess
from kyklon.operations.library.lists import Listed, Part, read_list, sample
from kyklon.operations.library.naming import Terms, named
from kyklon.operations.library.packed import look_into
from kyklon.operations.library.review import answered, apart, queue
from kyklon.operations.library.scan import scan
from kyklon.operations.library.titles import cleaned
from kyklon.record.answers import Answer, Answers
from kyklon.record.texts import Texts
from support import that_ends

XML = ListScheme(
    id="x",
    kind="xml",
    game="entry",
    title="called",
    parent="of",
    part="piece",
    part_name="file",
    size="bytes",
    crc="crc",
    sha1="sum",
)


def sha1(data: bytes) -> str:
    return hashlib.sha1(data).hexdigest()


def crc(data: bytes) -> str:
    return f"{zlib.crc32(data):08x}"


def look(
    folder: Path,
    systems: tuple[System, ...],
    own: LibrarySettings,
    answers: dict[str, Answer] | None = None,
    facts: Facts | None = None,
) -> Scan:
    facts = facts or Facts()
    return named(scan(folder, systems, own, facts=facts), Terms(own, systems, Path, answers or {}), facts)


# --- reading ---------------------------------------------------------------------------------------------------------

WANTED = (
    Listed("One & Two", "", (Part("a.al8", 3, {"SHA-1": sha1(b"one"), "CRC-32": crc(b"one")}),)),
    Listed(
        "Three",
        "One & Two",
        (
            Part("b.al8", 5, {"SHA-1": sha1(b"three"), "CRC-32": crc(b"three")}),
            Part("c.al8", 4, {"SHA-1": sha1(b"four"), "CRC-32": crc(b"four")}),
        ),
    ),
)


def as_xml(path: Path, *, inner: bool) -> ListScheme:
    rows = []
    for game in WANTED:
        parts = "".join(
            f"<piece><file>{p.name}</file><bytes>{p.size}</bytes><crc>{p.sums['CRC-32']}</crc><sum>{p.sums['SHA-1']}</sum>"
            "</piece>"
            if inner
            else f'<piece file="{p.name}" bytes="{p.size}" crc="{p.sums["CRC-32"].upper()}" sum="{p.sums["SHA-1"]}"/>'
            for p in game.parts
        )
        title = game.title.replace("&", "&amp;")
        rows.append(f'<entry called="{title}" of="{game.parent.replace("&", "&amp;")}">{parts}</entry>')
    path.write_text(f"<?xml version='1.0'?>\n<owned>{''.join(rows)}</owned>", encoding="utf-8")
    return XML


def as_json(path: Path) -> ListScheme:
    rows = [
        {
            "called": g.title,
            "of": g.parent,
            "pieces": [
                {"file": p.name, "bytes": p.size, "crc": p.sums["CRC-32"], "sum": p.sums["SHA-1"]} for p in g.parts
            ],
        }
        for g in WANTED
    ]
    path.write_text(json.dumps({"made": "by hand", "shelf": {"games": rows}}), encoding="utf-8")
    return XML.model_copy(update={"kind": "json", "game": "shelf.games", "part": "pieces"})


def as_csv(path: Path) -> ListScheme:
    rows = ["called;of;file;bytes;crc;sum"]
    rows += [
        f'"{g.title}";"{g.parent}";{p.name};{p.size};{p.sums["CRC-32"]};{p.sums["SHA-1"]}'
        for g in WANTED
        for p in g.parts
    ]
    path.write_text("\ufeff" + "\n".join(rows) + "\n", encoding="utf-8")
    return XML.model_copy(update={"kind": "csv", "game": "", "part": ""})


@pytest.mark.parametrize("form", ["xml", "xml inside", "json", "csv"])
def test_one_list_in_any_form_reads_the_same_and_is_guessed(form: str, tmp_path: Path) -> None:
    path = tmp_path / "list"
    scheme = {
        "xml": lambda: as_xml(path, inner=False),
        "xml inside": lambda: as_xml(path, inner=True),
        "json": lambda: as_json(path),
        "csv": lambda: as_csv(path),
    }[form]()
    assert tuple(read_list(path, scheme)) == WANTED
    guessed = guess(path)
    assert guessed is not None
    assert [(listed.title, [part.sums for part in listed.parts]) for listed in sample(path, guessed)] == [
        (each.title, [part.sums for part in each.parts]) for each in WANTED
    ]


def test_a_list_of_checksums_is_told_from_a_table(tmp_path: Path) -> None:
    path = tmp_path / "sums.sha1"
    path.write_text(f"{sha1(b'one')}  One (Europe).al8\n", encoding="utf-8")
    assert guess(path) is None
    assert list(read_list(path, None)) == [
        Listed("One (Europe)", "", (Part("One (Europe).al8", -1, {"SHA-1": sha1(b"one")}),))
    ]


@pytest.mark.parametrize(
    "text",
    [
        '<!DOCTYPE a [<!ENTITY x "boom"><!ENTITY y "&x;&x;">]><owned><entry called="&y;"/></owned>',
        "<owned><entry",
        "<a>" * 200,
        "\x00\x01\x02",
        "[" * 5000,
        '[{"called": 1',
        "<?xml version='1.0' encoding='no-such'?><a/>",
    ],
)
def test_a_hostile_list_is_one_clear_error(text: str, tmp_path: Path, catalogue: Catalogue) -> None:
    path = tmp_path / "list.xml"
    path.write_text(text, encoding="utf-8")
    kind = "json" if text[0] == "[" else "xml"
    with pytest.raises(KyklonError):
        list(read_list(path, XML.model_copy(update={"kind": kind})))
    with pytest.raises(KyklonError):
        guess(path)
    (tmp_path / "alder8").mkdir()
    (tmp_path / "alder8" / "A.al8").write_bytes(b"one")
    own = LibrarySettings(lists=(ListFile(path=str(path), system="alder-8", scheme="x"),), schemes=(XML,))
    found = look(tmp_path, (catalogue.get(System, "alder-8"),), own)
    assert len(found.ready) == 1  # the library is there all the same
    assert found.list_errors


@settings(max_examples=150, deadline=None)
@given(st.binary(max_size=300))
def test_any_bytes_are_a_list_or_an_error(data: bytes) -> None:
    path = Path(os.environ.get("TMPDIR", "/tmp")) / f"kyklon-list-{os.getpid()}"
    path.write_bytes(data)
    try:
        for scheme in (None, XML, XML.model_copy(update={"kind": "json"}), XML.model_copy(update={"kind": "csv"})):
            try:
                list(read_list(path, scheme))
                guess(path)
            except (FormatError, KyklonError):
                continue
    finally:
        path.unlink()


# --- identifying -----------------------------------------------------------------------------------------------------


def zipped(path: Path, **members: bytes) -> None:
    with zipfile.ZipFile(path, "w") as archive:
        for name, data in members.items():
            archive.writestr(f"{name}.al8", data)


def test_sets_split_and_merged_and_what_is_missing(tmp_path: Path, catalogue: Catalogue) -> None:
    system = catalogue.get(System, "alder-8")
    folder = tmp_path / "alder8"
    folder.mkdir()
    parent = Listed(
        "Tidal Ferry (World)", "", tuple(Part(n, 2, {"CRC-32": crc(n.encode())}) for n in ("p1", "p2", "sh"))
    )
    clone = Listed(
        "Tidal Ferry (Japan)", parent.title, tuple(Part(n, 2, {"CRC-32": crc(n.encode())}) for n in ("c1", "sh"))
    )
    lone = Listed("Copper Quay", "", tuple(Part(n, 2, {"CRC-32": crc(n.encode())}) for n in ("q1", "q2", "q3")))
    rows = "".join(
        f'<entry called="{g.title}" of="{g.parent}">'
        + "".join(f'<piece file="{p.name}" bytes="2" crc="{p.sums["CRC-32"]}"/>' for p in g.parts)
        + "</entry>"
        for g in (parent, clone, lone)
    )
    (tmp_path / "l.xml").write_text(f"<owned>{rows}</owned>", encoding="utf-8")
    own = LibrarySettings(
        lists=(ListFile(path=str(tmp_path / "l.xml"), system=system.id, scheme="x"),),
        schemes=(XML,),
        keep_all_revisions=True,
    )
    zipped(folder / "wrong name.zip", p1=b"p1", p2=b"p2", sh=b"sh")
    zipped(folder / "split.zip", c1=b"c1")
    zipped(folder / "half.zip", q1=b"q1", q2=b"q2")
    found = {Path(game.key).name: game for game in look(tmp_path, (system,), own).games}
    assert found["wrong name.zip"].naming.full == parent.title
    assert found["split.zip"].naming.full == clone.title  # what it lacks lies in its parent
    assert found["split.zip"].ready
    assert found["split.zip"].naming.group == "Tidal Ferry"
    assert [reason.code for reason in found["half.zip"].reasons] == ["members"]
    assert "q3 missing" in found["half.zip"].reasons[0].text
    zipped(folder / "wrong name.zip", p1=b"p1", p2=b"p2")
    found = {Path(game.key).name: game for game in look(tmp_path, (system,), own).games}
    assert not found["split.zip"].ready  # nobody has what both share


def test_what_copiers_put_before_a_dump_is_skipped(tmp_path: Path, catalogue: Catalogue) -> None:
    system = catalogue.get(System, "alder-8")
    header = bytes.fromhex(system.headers[0].magic).ljust(system.headers[0].size, b"\0")
    (tmp_path / "alder8").mkdir()
    (tmp_path / "alder8" / "x.al8").write_bytes(header + b"the dump itself")
    (tmp_path / "alder8" / "y.al8").write_bytes(b"another dump!!!")
    (tmp_path / "l.sha1").write_text(
        f"{sha1(b'the dump itself')}  Brass Quay.al8\n{sha1(b'another dump!!!')}  Iron Quay.al8\n", encoding="utf-8"
    )
    own = LibrarySettings(lists=(ListFile(path=str(tmp_path / "l.sha1"), system=system.id),))
    assert {game.called for game in look(tmp_path, (system,), own).games} == {"Brass Quay", "Iron Quay"}


def test_a_file_that_changed_is_read_again_and_others_are_not(
    tmp_path: Path, catalogue: Catalogue, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = tmp_path / "alder8"
    folder.mkdir()
    for number in range(6):
        (folder / f"{number}.al8").write_bytes(b"twin" if number < 2 else bytes([number]) * 9)
        zipped(folder / f"{number}.zip", a=bytes([number]) * 50)
    old = time.time() - 3600
    for path in folder.iterdir():
        os.utime(path, (old, old))
    monkeypatch.setattr("kyklon.operations.library.facts._SETTLED_NS", 0)
    store = tmp_path / "sums.sqlite3"
    systems = (catalogue.get(System, "alder-8"),)
    first = scan(tmp_path, systems, LibrarySettings(), facts=Facts(store))
    read: list[str] = []
    monkeypatch.setattr("kyklon.operations.library.facts._take", lambda asked, *_rest: read.append(asked.path))
    monkeypatch.setattr(
        "kyklon.operations.library.facts._take_all",
        lambda batch, _moved: [read.append(asked.path) or OSError(5, "not again") for asked, _known in batch],
    )
    assert scan(tmp_path, systems, LibrarySettings(), facts=Facts(store)).games == first.games
    assert read == []
    zipped(folder / "3.zip", a=b"new")
    scan(tmp_path, systems, LibrarySettings(), facts=Facts(store))
    assert [Path(each).name for each in read] == ["3.zip"]
    store.write_bytes(b"no database")
    assert list(Facts(store).all([])) == []


@pytest.mark.parametrize("evil", ["bomb", "overlap", "many", "climb", "mixed"])
def test_archives_that_mean_harm_are_named_and_bounded(evil: str, tmp_path: Path) -> None:
    path = tmp_path / "evil.zip"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        if evil == "bomb":
            archive.writestr("a.al8", bytes(400 << 20))
        elif evil == "many":
            for number in range(25_000):
                archive.writestr(f"{number}", b"")
        elif evil == "climb":
            archive.writestr("../../a.al8", b"x")
        else:
            archive.writestr("a.al8", b"x" * 1000)
            archive.writestr("ä\udc80.al8".encode("utf-8", "surrogateescape").decode("cp437"), b"y")
    if evil == "overlap":
        data = path.read_bytes()
        at = data.find(b"PK\x01\x02")
        entry = data[at : data.find(b"PK\x01\x02", at + 4)]
        rest = data[at + len(entry) : data.rfind(b"PK\x05\x06")]
        centre = entry * 300 + rest
        end = bytearray(data[data.rfind(b"PK\x05\x06") :])
        end[8:12] = (301).to_bytes(2, "little") * 2
        end[12:16] = len(centre).to_bytes(4, "little")
        path.write_bytes(data[:at] + centre + bytes(end))
    with that_ends():
        members, fault = look_into(path)
    wanted = {"bomb": "bomb", "overlap": "bomb", "many": "bomb", "climb": "unsafe-archive", "mixed": ""}[evil]
    assert fault[0] == wanted
    assert len(members) <= 20_000


# --- matching --------------------------------------------------------------------------------------------------------


def test_matching_on_the_half_that_it_was_not_fitted_on(capsys: pytest.CaptureFixture[str]) -> None:
    told = labelled()
    half = told.names[len(told.names) // 2 :]
    titles = compare.Titles(told.titles)
    found = match.matches([name for name, _title in half], titles)
    right = [each.title == title for each, (_name, title) in zip(found, half, strict=True)]
    at = match.threshold([each.confidence for each in found], 3.0)
    taken = [ok for each, ok in zip(found, right, strict=True) if each.confidence >= at]
    _bins, error = match.reliability([each.confidence for each in found], right)
    share, wrong = len(taken) / len(found), 1000 * taken.count(False) / len(taken)
    with capsys.disabled():
        print(f"\nmatching: {share:.1%} accepted, {wrong:.2f} wrong in a thousand, calibration error {error:.4f}")
    assert share >= 0.90
    assert wrong <= 3
    assert error < 0.03


@pytest.mark.parametrize(
    ("name", "title"),
    [
        ("Brass_Orchard_II_(Europe)_[b1]", "brass orchard 2"),
        ("Orchard, The - Long Winter (USA)", "orchard long winter"),
        ("BrassOrchard3", "brass orchard 3"),
        ("L'Été à la Plage", "lete a la plage"),
        ("X and the IV", "x and the 4"),
        ("007", "7"),
        ("Salt & Pepper", "salt and pepper"),
        ("(Europe)", "europe"),
    ],
)
def test_titles_are_cleaned(name: str, title: str) -> None:
    assert cleaned(name).text == title or cleaned(name).text.lstrip("0") == title


@given(st.text(max_size=60))
def test_any_text_can_be_cleaned_and_matched(text: str) -> None:
    cleaned(text)
    found = match.matches([text], compare.Titles(("Brass Orchard", "Tidal Ferry")))
    assert 0 <= found[0].confidence <= 1


@given(st.lists(st.floats(0, 1), max_size=40), st.floats(0.1, 200))
def test_the_threshold_keeps_what_it_promises(said: list[float], allowed: float) -> None:
    at = match.threshold(said, allowed)
    taken = [each for each in said if each >= at]
    if taken:
        assert sum(1 - each for each in taken) / len(taken) <= allowed / 1000


def test_an_answer_outlives_a_rescan_and_teaches(tmp_path: Path, catalogue: Catalogue) -> None:
    system = catalogue.get(System, "alder-8")
    (tmp_path / "alder8" / "sub").mkdir(parents=True)
    names = [f"Brass Orchard {n}x" for n in range(30)]
    for number, name in enumerate(names):
        (tmp_path / "alder8" / f"{name}.al8").write_bytes(bytes([number]) * (number + 9))
    (tmp_path / "l.csv").write_text(
        "name,crc\n" + "".join(f"Brass Orchard {n},{n:08x}\n" for n in range(2, 60)), encoding="utf-8"
    )
    scheme = ListScheme(id="c", kind="csv", title="name", crc="crc")
    own = LibrarySettings(
        lists=(ListFile(path=str(tmp_path / "l.csv"), system=system.id, scheme="c"),), schemes=(scheme,)
    )
    store = Answers(tmp_path)
    waiting = queue(look(tmp_path, (system,), own, store.all()))
    assert len(waiting) > 10
    first, second = waiting[:2]
    store.put(answered(first, "My own title"), answered(second, ""))
    Path(tmp_path / first.key).rename(tmp_path / "alder8" / "sub" / Path(first.key).name)  # moved about
    again = {Path(game.key).name: game for game in look(tmp_path, (system,), own, Answers(tmp_path).all()).games}
    assert again[Path(first.key).name].called == "My own title"
    assert not again[Path(second.key).name].doubtful
    before = match.shipped()
    lesson = [((2.0, 1.0, 0.0, 0.0, 0.0, 0.0, 0.3), True)] * 30
    after = match.taught(before, lesson)
    row = np.array([lesson[0][0]])
    assert after.confidence(row)[0] > before.confidence(row)[0]
    assert match.taught(before, []) is before
    store.forget(answered(first, "").key)
    assert len(store.all()) == 1


def test_what_sets_two_sequels_apart() -> None:
    assert apart("brass orchard", "Brass Orchard II") == (("Brass Orchard", False), (" II", True))


# --- choosing --------------------------------------------------------------------------------------------------------


@settings(max_examples=60, deadline=None)
@given(
    st.lists(st.tuples(st.integers(1, 200), st.integers(1, 30), st.booleans()), min_size=1, max_size=11),
    st.integers(1, 900),
)
def test_the_choice_is_the_best_there_is(rows: list[tuple[int, int, bool]], room: int) -> None:
    items = [
        choose.Item(str(n), (size,), float(worth), must and n % 4 == 0) for n, (size, worth, must) in enumerate(rows)
    ]
    best = -1.0
    for picked in itertools.product((False, True), repeat=len(items)):
        kept = [item for item, yes in zip(items, picked, strict=True) if yes]
        if (
            all(yes or not item.must for item, yes in zip(items, picked, strict=True))
            and sum(choose.takes(item.files, 16) for item in kept) <= room
        ):
            best = max(best, sum(item.worth for item in kept))
    if best < 0:
        with pytest.raises(KyklonError, match="always include"):
            choose.choose(items, room, 16)
        return
    found = choose.choose(items, room, 16)
    assert found.worth == pytest.approx(best, rel=choose.GAP + 1e-9)
    assert found.used <= room
    assert found.kept | found.left == {item.key for item in items}


def test_20_000_games_are_chosen() -> None:
    chance = random.Random(2)
    worth = [1 + chance.random() * 9 * (chance.random() < 0.2) for _ in range(20_000)]
    items = [choose.Item(str(n), (int(chance.lognormvariate(13, 2)),), worth[n]) for n in range(20_000)]
    whole = sum(choose.takes(item.files, 32_768) for item in items)
    with that_ends():
        found = choose.choose(items, whole // 3, 32_768, (65_536,))
    assert found.gap < 0.005
    assert found.used <= whole // 3
    assert choose.takes((1,), 4096) == 4096
    assert choose.takes((0, 4097), 4096, (1,)) == 3 * 4096


def test_marks_and_room_decide_what_goes_along(tmp_path: Path, catalogue: Catalogue) -> None:
    (tmp_path / "alder8").mkdir()
    for number in range(8):
        (tmp_path / "alder8" / f"Game {chr(65 + number)}.al8").write_bytes(bytes([number]) * 1000)
    systems = (catalogue.get(System, "alder-8"),)
    (tmp_path / "plays.csv").write_text("Game C,40\nGame D.al8,7\nno such,9\n", encoding="utf-8")
    own = LibrarySettings(
        room_bytes=4 * 65_536,
        save_bytes=0,
        must=("alder8/Game H.al8",),
        never=("alder8/Game A.al8",),
        favourites=("alder8/Game B.al8",),
        plays=str(tmp_path / "plays.csv"),
    )
    found = look(tmp_path, systems, own)
    terms = Terms(own, systems, Path, {}, 65_536)
    found = named(scan(tmp_path, systems, own), terms, Facts())
    assert {Path(game.key).stem[-1] for game in found.ready} == {"B", "C", "D", "H"}
    assert {reason.code for game in found.games for reason in game.reasons} == {"left-out"}
    too_many = replace(terms, settings=own.model_copy(update={"room_bytes": 1000}))
    assert "always include" in named(scan(tmp_path, systems, own), too_many, Facts()).list_errors[0]


def test_sheets_playlists_folders_and_disks(tmp_path: Path, catalogue: Catalogue) -> None:
    cedar = catalogue.get(System, "cedar-disc").model_copy(update={"system_files": ()})
    fir = catalogue.get(System, "fir-board-h")
    own = {"id": "tales", "folder": "tales", "folder_games": True, "system_files": ()}
    tales = catalogue.get(System, "elm-micro").model_copy(update=own)
    for name in ("cedar", "fir-h/big", "tales/Long Road", "tales/empty"):
        (tmp_path / name).mkdir(parents=True)
    for disc in (1, 2):
        (tmp_path / "cedar" / f"d{disc}.cue").write_text(f"FILE d{disc}.bin BINARY\n", encoding="utf-8")
        (tmp_path / "cedar" / f"d{disc}.bin").write_bytes(b"x" * disc)
    (tmp_path / "cedar" / "Both.m3u").write_text("# both\nd1.cue\nd2.cue\n", encoding="utf-8")
    (tmp_path / "cedar" / "own.cds").write_text('piece "t.raw"\n', encoding="utf-8")
    (tmp_path / "cedar" / "t.raw").write_bytes(b"track")
    (tmp_path / "cedar" / "case.cue").write_text("FILE T.RAW BINARY\n", encoding="utf-8")
    zipped(tmp_path / "fir-h" / "big.zip", a=b"board")
    (tmp_path / "fir-h" / "big" / "disk.fhd").write_bytes(b"hard disk")
    (tmp_path / "tales" / "Long Road" / "start.edk").write_bytes(b"go")
    (tmp_path / "tales" / "Long Road" / "sound.dat").write_bytes(b"la")
    (tmp_path / "tales" / "empty" / "notes.pdf").write_bytes(b"?")
    found = {game.title: game for game in scan(tmp_path, (cedar, fir, tales), LibrarySettings()).games}
    assert found["Both"].files == ("cedar/Both.m3u", "cedar/d1.cue", "cedar/d1.bin", "cedar/d2.cue", "cedar/d2.bin")
    assert (found["Both"].discs, found["Both"].ready) == (2, True)
    assert found["own"].files == ("cedar/own.cds", "cedar/t.raw")
    assert "upper and lower case" in found["case"].reasons[0].text  # the machine's file system tells them apart
    assert found["big"].files == ("fir-h/big.zip", "fir-h/big/disk.fhd")
    assert found["Long Road"].files == ("tales/Long Road/start.edk", "tales/Long Road/sound.dat")
    assert not found["empty"].ready
    assert set(found) == {"Both", "own", "case", "big", "Long Road", "empty"}


def test_sums_of_one_file_are_kept_together(tmp_path: Path) -> None:
    path = tmp_path / "a.al8"
    path.write_bytes(b"one")
    facts = Facts()
    ((_asked, first),) = facts.all([Asked(str(path), path.stat(), frozenset({"SHA-1"}))])
    ((_asked, both),) = facts.all([Asked(str(path), path.stat(), frozenset({"CRC-32", "MD5"}))])
    assert first.sums == {"SHA-1": sha1(b"one")}  # type: ignore[union-attr]
    assert both.sums == {"SHA-1": sha1(b"one"), "CRC-32": crc(b"one"), "MD5": hashlib.md5(b"one").hexdigest()}  # type: ignore[union-attr]


@pytest.mark.parametrize("form", ["csv", "xml", "json"])
def test_what_a_list_tells_of_its_games_reaches_them_and_ones_own_words_rule(
    form: str, tmp_path: Path, catalogue: Catalogue
) -> None:
    system = next(each for each in catalogue.all(System) if not each.system_files)
    dump = tmp_path / "library" / system.folder / f"a{system.extensions[0]}"
    dump.parent.mkdir(parents=True)
    dump.write_bytes(b"dump of a" * 300)
    told = {"name": "Amber Canal", "sha1": sha1(dump.read_bytes()), "summary": "Ships & locks.", "year": "1991"}
    path = tmp_path / f"list.{form}"
    if form == "csv":
        path.write_text(",".join(told) + "\n" + ",".join(told.values()) + "\n")
    elif form == "json":
        path.write_text(json.dumps([told]))
    else:
        inner = "".join(f"<{key}>{value.replace('&', '&amp;')}</{key}>" for key, value in told.items())
        path.write_text(f"<all><game>{inner}</game></all>")
    scheme = guess(path)
    assert scheme is not None
    assert (scheme.description, scheme.year) == ("summary", "year")
    rows = (ListFile(path=str(path), system=system.id, scheme=scheme.id),)
    known = LibrarySettings(schemes=(scheme,), lists=rows)

    def game() -> Game:
        terms = Terms(known, (system,), Path, {}, texts=Texts(tmp_path).all())
        (found,) = named(scan(tmp_path / "library", (system,), known), terms, Facts()).games
        return found

    assert game().text == GameText(description="Ships & locks.", year="1991")
    table = tmp_path / "out.csv"
    table.write_text(texts.table([game()]).replace("1991", "1992").replace(",,,,", ',,,"bought, by post",'))
    changed, unknown = texts.read(table, [game()])
    assert not unknown
    Texts(tmp_path).put(changed)
    assert (game().text.year, game().text.description) == ("1992", "Ships & locks.")
    assert "bought, by post" in repr(game().text)
    assert texts.read(table, [game()]) == ({}, [])  # nothing new in it
    Texts(tmp_path).put(dict.fromkeys(changed, GameText()))
    assert Texts(tmp_path).all() == {}
