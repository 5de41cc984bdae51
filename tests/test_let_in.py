# templates
"""What comes from outside, names, paths, texts, templates, archives: kept inside, shown plainly, bounded, swept."""

from __future__ import annotations

import contextlib
import csv
import gzip
import io
import json
import lzma
import os
import random
import subprocess
import sys
import zipfile
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kyklon.base import durable, scratch
from kyklon.base.errors import CatalogueError, KyklonError, SourceError, WrongUse
from kyklon.base.inside import files_below, inside
from kyklon.base.shown import visible, visible_json
from kyklon.base.tables import csv_of
from kyklon.base.units import measure as parse_quantity
from kyklon.catalogue import loader, templates
from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.image_records import Chooser, Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.system_records import System
from kyklon.commands import main as commands
from kyklon.devices.linux.folder import Folder
from kyklon.model.build import LibrarySettings, edited
from kyklon.model.kernel_line import set_words
from kyklon.operations import checksums
from kyklon.operations.boot.acts import plan_boot_files, put_boot_files
from kyklon.operations.card.sets import multiboot
from kyklon.operations.card.sets.problems import Problem, rename
from kyklon.operations.card.sources import source
from kyklon.operations.card.volumes import boot_facts, contents
from kyklon.operations.card.volumes.fat import FatVolume
from kyklon.operations.library import transfer
from kyklon.operations.library.carry import carry_out
from kyklon.operations.library.scan import scan
from kyklon.record import folder as store
from support import MIB, Demo, that_ends

# --- paths -------------------------------------------------------------------------------------------------------


@given(
    st.lists(st.sampled_from(["..", ".", "a", "link", "", "b.txt", "c\\..\\d", "~", "\0", "x" * 300, "ä"]), max_size=6)
)
def test_every_path_from_data_stays_inside_or_is_refused(
    tmp_path_factory: pytest.TempPathFactory, steps: list[str]
) -> None:
    folder = tmp_path_factory.getbasetemp() / "inside"
    folder.mkdir(exist_ok=True)
    if not (folder / "link").exists():
        (folder / "link").symlink_to(tmp_path_factory.getbasetemp())
    for name in ("/".join(steps), "/" + "/".join(steps)):
        try:
            found = inside(folder, name)
        except WrongUse:
            continue
        assert Path(os.path.realpath(found)).is_relative_to(folder.resolve())


def test_a_manifest_moves_nothing_out_of_the_stick(tmp_path: Path, catalogue: Catalogue) -> None:
    chooser = catalogue.all(Chooser)[0]
    bundle = tmp_path / "stick" / "one"
    bundle.mkdir(parents=True)
    (bundle / "root.tar.xz").write_bytes(lzma.compress(b"x"))
    manifest = '[[partitions]]\nlabel = "a"\nkind = "ext4"\nmb = 9\narchive = "../../Root.tar.xz"\n'
    (bundle / chooser.manifest).write_text('name = "One"\norder = 1\n' + manifest, encoding="utf-8")
    found = multiboot.check(tmp_path / "stick", chooser, 10**10)
    assert "archive-outside" in {problem.code for problem in found.problems}
    assert not found.ready
    with pytest.raises(WrongUse, match="leads out"):
        rename(tmp_path / "stick", Problem("x", "stop", "x", "x", "x", ("root.tar.xz", "../../Root.tar.xz"), "one"))  # type: ignore[arg-type]
    assert (bundle / "root.tar.xz").exists()


def test_a_walk_follows_no_link_that_leads_out_and_takes_any_depth(tmp_path: Path) -> None:
    (tmp_path / "out").mkdir()
    (tmp_path / "out" / "secret").write_text("x", encoding="utf-8")
    top = tmp_path / "top"
    (top / "sub").mkdir(parents=True)
    (top / "sub" / "game").write_text("x", encoding="utf-8")
    for name, to in (
        ("a", tmp_path / "out"),
        ("b", tmp_path / "out" / "secret"),
        ("c", top / "sub" / "game"),
        ("round", top),
        ("nowhere", top / "none"),
    ):
        (top / name).symlink_to(to)
    assert [path for path, _status in files_below(top)] == ["c", "sub/game"]
    deep = top
    for _ in range(90):
        deep = deep / "d"
        deep.mkdir()
    with pytest.raises(WrongUse, match="deep"):
        list(files_below(top))


# --- games -------------------------------------------------------------------------------------------------------


@pytest.fixture
def shelves(tmp_path: Path, demo: Demo, catalogue: Catalogue) -> tuple[Path, System, Image]:
    system = next(each for each in systems_of(demo.build, catalogue) if not each.system_files and each.archives)
    library = tmp_path / "library"
    (library / system.folder).mkdir(parents=True)
    return library, system, catalogue.all(Image)[0]


def _carried(shelves: tuple[Path, System, Image], to: Path) -> set[str]:
    library, system, image = shelves
    found = scan(library, (system,), LibrarySettings())
    carry_out(transfer.plan(found, (system,), image), library, Folder(to))
    return {path for path, _status in files_below(to)}


def test_two_games_of_one_name_do_not_meet(shelves: tuple[Path, System, Image], tmp_path: Path) -> None:
    library, system, image = shelves
    ending = system.extensions[0]
    for folder in ("europe", "japan"):
        (library / system.folder / folder).mkdir()
        (library / system.folder / folder / f"Same.{ending}").write_text(folder, encoding="utf-8")
    there = _carried(shelves, tmp_path / "stick")
    base = image.games_path.replace("{folder}", system.folder)
    assert there == {f"{base}/europe/Same.{ending}", f"{base}/japan/Same.{ending}"}
    seen = transfer.look_at(Folder(tmp_path / "stick"), (system,), image)
    assert seen.games[system.id] == ("Same", "Same")


def test_names_that_differ_only_in_case_are_told_and_not_lost(
    shelves: tuple[Path, System, Image], tmp_path: Path
) -> None:
    library, system, _image = shelves
    for name in ("Tune", "TUNE"):
        (library / system.folder / f"{name}.{system.extensions[0]}").write_text(name, encoding="utf-8")
    found = scan(library, (system,), LibrarySettings())
    assert [[reason.code for reason in game.reasons] for game in found.games] == [[], ["clash"]]


def test_a_link_at_the_destination_is_not_written_through(shelves: tuple[Path, System, Image], tmp_path: Path) -> None:
    library, system, image = shelves
    (library / system.folder / f"Game.{system.extensions[0]}").write_text("new", encoding="utf-8")
    base = tmp_path / "stick" / image.games_path.replace("{folder}", system.folder)
    base.parent.mkdir(parents=True)
    (tmp_path / "theirs").mkdir()
    base.symlink_to(tmp_path / "theirs")
    with pytest.raises(KyklonError, match="by a link"):
        _carried(shelves, tmp_path / "stick")
    base.unlink()
    base.mkdir()
    victim = tmp_path / "victim"
    victim.write_text("theirs", encoding="utf-8")
    (base / f"Game.{system.extensions[0]}").symlink_to(victim)
    with pytest.raises(KyklonError, match="by a link"):
        _carried(shelves, tmp_path / "stick")
    assert victim.read_text(encoding="utf-8") == "theirs"


def _reasons(shelves: tuple[Path, System, Image], name: str, data: bytes) -> list[str]:
    library, system, _image = shelves
    path = library / system.folder / name
    path.write_bytes(data)
    (game,) = [game for game in scan(library, (system,), LibrarySettings()).games if game.files[0].endswith(name)]
    path.unlink()
    return [reason.code for reason in game.reasons]


def test_what_will_not_play_is_not_ready(shelves: tuple[Path, System, Image]) -> None:
    library, system, _image = shelves
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        archive.writestr(f"g.{system.extensions[0]}", b"GOODGOOD" * 100)
    whole = out.getvalue()
    assert _reasons(shelves, "good.zip", whole) == []
    assert _reasons(shelves, "bad.zip", whole.replace(b"GOODGOOD", b"GOODBADD", 1)) == ["damaged"]  # its CRC is wrong
    assert _reasons(shelves, f"empty.{system.extensions[0]}", b"") == ["empty"]
    assert _reasons(shelves, "none.7z", b"not an archive") == ["damaged"]
    assert _reasons(shelves, "cut.7z", b"7z\xbc\xaf\x27\x1c" + bytes(26)) == ["damaged"]
    (library / system.folder / "t.bin").write_bytes(bytes(2352 * 10))
    sheet = 'FILE "t.bin" BINARY\n TRACK 01 AUDIO\n  INDEX 01 00:00:00\n'
    assert _reasons(shelves, "d.cue", sheet.encode()) == []
    for text in (sheet.lower(), sheet.replace('"', ""), "\ufeff" + sheet, sheet.replace("\n", "\r\n")):
        assert _reasons(shelves, "d.cue", text.encode()) == []
    longer = sheet + " TRACK 02 AUDIO\n  INDEX 01 00:00:20\n"
    assert _reasons(shelves, "d.cue", longer.encode()) == ["track"]
    assert _reasons(shelves, "d.cue", b"REM nothing\n") == ["sheet"]
    assert _reasons(shelves, "d.cue", sheet.replace("t.bin", "../../../etc/passwd").encode()) == ["track"]


# --- boot files on a card ----------------------------------------------------------------------------------------


def _card(demo: Demo) -> tuple[Path, int]:
    demo.write()
    path = demo.drive("blank-card")
    table = contents.observe(path).table
    assert table is not None
    boot = table.boot()
    assert boot is not None
    return path, boot.start


def _put_raw(path: Path, start: int, name: str, data: bytes, tmp_path: Path) -> None:
    (tmp_path / "raw").write_bytes(data)
    FatVolume(path, start).mtools("mcopy", "-o", str(tmp_path / "raw"), f"::/{name}")


def test_bytes_that_are_no_utf_8_and_odd_line_ends_survive(demo: Demo, catalogue: Catalogue, tmp_path: Path) -> None:
    path, start = _card(demo)
    kept = (
        b"merrow settings 2\r\n-- caf\xe9 \xff\x0c kernel.file = other\r\n"
        b"-- a\xe2\x80\xa8memory.video = 64\n-- \x0b\x1cvideo.x = 1\n\ttide.word = 7 \r\n"
    )
    _put_raw(path, start, "merrow.settings", kept, tmp_path)
    put_boot_files(demo.folder, demo.build, catalogue, demo.target())
    data = FatVolume(path, start).read("merrow.settings")
    assert data.startswith(kept)
    assert (demo.folder / "issued" / "boot" / "merrow.settings").read_bytes() == data
    active = [line for line in data.split(b"\n") if line and not line.strip().startswith(b"--")]
    assert sum(line.startswith(b"memory.video") for line in active) == 1


def test_a_card_written_by_another_hand_in_capitals_works(demo: Demo, catalogue: Catalogue, tmp_path: Path) -> None:
    path, start = _card(demo)
    volume = FatVolume(path, start)
    text = volume.read("merrow.settings")
    volume.mtools("mdel", "::/merrow.settings")
    _put_raw(path, start, "MERROW.SETTINGS", text, tmp_path)
    seen = contents.observe(path)
    assert seen.names["merrow.settings"] == "MERROW.SETTINGS"
    put = put_boot_files(demo.folder, demo.build, catalogue, demo.target())
    assert "MERROW.SETTINGS" in put.files
    assert "MERROW.SETTINGS" in contents.observe(path).sizes  # its name is as it was


@pytest.mark.long(keep=2)
@pytest.mark.parametrize("stop", range(1, 7))
def test_an_exchange_cut_short_anywhere_is_finished_at_the_next(
    demo: Demo, catalogue: Catalogue, monkeypatch: pytest.MonkeyPatch, stop: int
) -> None:
    path, _start = _card(demo)
    put_boot_files(demo.folder, demo.build, catalogue, demo.target())
    before = contents.observe(path).texts["merrow.settings"]
    build = store.update(demo.folder, lambda kept: edited(kept, "boot.video_memory_mb", 512))
    calls = 0
    real = FatVolume.mtools

    def dying(volume: FatVolume, program: str, *words: str, stdin: bytes = b"") -> bytes:
        nonlocal calls
        if program in ("mcopy", "mdel", "mren") and "-n" not in words:
            calls += 1
            if calls > stop:
                raise KeyboardInterrupt
        return real(volume, program, *words, stdin=stdin)

    with monkeypatch.context() as patch:
        patch.setattr(FatVolume, "mtools", dying)
        with contextlib.suppress(KeyboardInterrupt):
            put_boot_files(demo.folder, build, catalogue, demo.target())
    half = contents.observe(path)
    texts = half.texts_meant
    assert texts["merrow.settings"] in (before, before.replace("memory.video = 256", "memory.video = 512"))
    put_boot_files(demo.folder, build, catalogue, demo.target())
    after = contents.observe(path)
    assert "memory.video = 512" in after.texts["merrow.settings"]
    assert not [name for name in after.sizes if name.endswith(".new")]
    assert plan_boot_files(build, catalogue, after).files == {}


# --- templates ---------------------------------------------------------------------------------------------------

ATTACKS = (
    "{{ system.__class__.__mro__ }}",
    "{{ ''.__class__ }}",
    "{{ system.model_dump() }}",
    "{{ system.model_copy }}",
    "{{ values.__init__.__globals__ }}",
    "{{ cycler.__init__ }}",
    "{{ lipsum }}",
    "{{ range(9) }}",
    "{{ self }}",
    "{% import 'os' as os %}",
    "{% include '/etc/passwd' %}",
    "{{ values | attr('__class__') }}",
    "{{ 'a' * 10**9 }}",
    "{{ 'a'.center(10**9) }}",
    "{{ 'a' | center(10) }}",
    "{{ '%s' % values }}",
    "{{ '{0.__class__}'.format(values) }}",
    "{% for a in 'abcdefgh' %}{% for b in 'abcdefgh' %}{% for c in 'abc' %}x{% endfor %}{% endfor %}{% endfor %}",
    "{% macro m() %}{{ m() }}{% endmacro %}{{ m() }}",
    "{{ system.parse_file('/etc/passwd') }}",
    "{{ 2 ** 99999999 }}",
    "{{ values.clear() }}",
    "{{ values.update(a=1) }}",
    "{{ joiner }}",
    "{{ 'x' | map('upper') | list }}",
)


BOMBS = (
    "{% set a = 'xxxxxxxx' %}" + "{% set a = a ~ a %}" * 60 + "{{ a | length }}",
    "{% set a = 'xxxxxxxx' %}" + "{% set a = a + a %}" * 60 + "{{ a | length }}",
    "{% set a = 'xxxxxxxx' %}" + "{% set a = [a, a, a, a] | join(',') %}" * 40 + "{{ a | length }}",
    "{% set a = [1, 2, 3] %}" + "{% set a = a + a %}" * 60 + "{{ a | length }}",
    "{% set x %}yyyyyyyy{% endset %}" + "{% set x %}{{ x }}{{ x }}{% endset %}" * 40,
    "{% for a in "
    + "'x' ~ " * 0
    + "values %}{% for b in values %}{{ (values | string | upper) | length }}{% endfor %}{% endfor %}" * 40,
    "{% set a = 9 %}" + "{% set a = a + a %}" * 500 + "{{ a }}" + "{% set a = a + a %}" * 200,
    "{% set n = [0] %}"
    + "{% set n = n + n %}" * 18
    + "{% for a in n %}{% for b in n %}{% if a == 1 %}x{% endif %}{% endfor %}{% endfor %}",
    "{% set n = [0] %}"
    + "{% set n = n + n %}" * 12
    + "{% for a in n %}{% for b in n | sort %}{% if n | sort == 1 %}x{% endif %}{% endfor %}{% endfor %}",
)


@pytest.mark.long(keep=3)
@pytest.mark.parametrize("text", BOMBS, ids=range(len(BOMBS)))
def test_a_template_that_grows_ends(text: str) -> None:
    """Doubled texts and lists, loops without output: each ends within its steps and takes no memory."""
    import tracemalloc

    tracemalloc.start()
    with that_ends(), contextlib.suppress(CatalogueError):
        templates.check(text, frozenset({"values"}), "mine.toml")
        told = templates.render(text, {"values": {f"k{n}": "v" * 50 for n in range(200)}}, "mine.toml")
        assert len(told) <= templates.LARGEST
    most = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert most < 200 << 20


@pytest.mark.parametrize("text", ATTACKS)
def test_a_template_reaches_nothing_outside_and_stays_small(text: str, catalogue: Catalogue) -> None:
    system = catalogue.all(System)[0]
    variables = {"system": system, "values": {"a": "b"}, "origin": {}, "picture": {}, "emulator": system}
    told = ""
    with that_ends(), contextlib.suppress(CatalogueError):
        templates.check(text, frozenset(variables), "mine.toml")
        told = templates.render(text, variables, "mine.toml")
    assert told == ""
    assert variables["values"] == {"a": "b"}


def test_a_template_of_the_users_own_that_fails_is_a_finding_with_its_line(demo: Demo, catalogue: Catalogue) -> None:
    from kyklon.model.world import World
    from kyklon.operations import inspection

    dialect = catalogue.parts["dialects"][demo.build.boot.dialect]
    file = dialect.files[0]  # type: ignore[attr-defined]
    entry = file.entries[0].model_copy(update={"value": "\n{{ build.boot.nothing }}"})
    broken = dialect.model_copy(update={"files": (file.model_copy(update={"entries": (entry,)}), *dialect.files[1:])})  # type: ignore[attr-defined]
    other = Catalogue({**catalogue.parts, "dialects": {**catalogue.parts["dialects"], dialect.id: broken}})
    demo.write()
    world = World(card=contents.observe(demo.drive("blank-card")))
    (found,) = [each for each in inspection.inspect(demo.build, other, world) if each.code.startswith("30.catalogue")]
    assert "line 2" in found.message
    assert found.severity == "stop"


def test_issued_files_stay_in_the_folder_chosen(demo: Demo, catalogue: Catalogue, tmp_path: Path) -> None:
    from kyklon.model.world import World
    from kyklon.operations import inspection

    rows = {
        key: row.model_copy(update={"path": "../../{{ system.id }}.conf"})
        for key, row in catalogue.parts["templates"].items()
    }
    other = Catalogue({**catalogue.parts, "templates": rows})
    with pytest.raises(WrongUse, match="leads out"):
        inspection.issue(demo.build, other, World(), tmp_path / "a" / "b")
    assert not list(tmp_path.glob("*.conf"))


# --- shown -------------------------------------------------------------------------------------------------------


@given(st.text())
def test_nothing_that_steers_a_terminal_is_shown(text: str) -> None:
    for shown in (visible(text), visible(text, lines=True)):
        assert not any((ord(letter) < 32 and letter not in "\n\t") or 0x7F <= ord(letter) < 0xA0 for letter in shown)
        shown.encode("utf-8")
    assert "\n" not in visible(text)
    assert json.loads(visible_json(json.dumps(text, ensure_ascii=False))) == text


@given(
    st.lists(st.lists(st.one_of(st.text(max_size=20), st.integers()), min_size=2, max_size=4), min_size=1, max_size=4)
)
def test_a_table_is_read_back_and_no_cell_is_a_formula(rows: list[list[object]]) -> None:
    back = list(csv.reader(io.StringIO(csv_of(rows), newline="")))
    cells = [cell for row in back for cell in row]
    for cell, value in zip(cells, [value for row in rows for value in row], strict=True):
        shown = visible(value, lines=True) if isinstance(value, str) else str(value)
        assert cell in (shown, f"'{shown}")
        if isinstance(value, str) and cell.startswith(("=", "+", "-", "@")):
            float(cell)


# --- bounds ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "look",
    [
        lambda blanks: checksums.parse("d41d8cd98f00b204e9800998ecf8427e" + blanks + "x"),
        lambda blanks: checksums.parse("a" + blanks + "b"),
        lambda blanks: checksums.parse("MD5 (" + blanks),
        lambda blanks: parse_quantity("1" + blanks + "?", "Hz"),
        lambda blanks: set_words('a="' + blanks + '"b', ["x=1"]),
        lambda blanks: boot_facts.kernel_set(bytes(0x24) + (0x016F2818).to_bytes(4, "little") + b"vermagic=" * 20_000),
    ],
)
def test_a_page_of_blanks_costs_no_time(look: object) -> None:
    assert callable(look)
    for blanks in (" " * 100_000, "\t" * 100_000, " \t" * 50_000, "\n" * 100_000):
        with that_ends(), contextlib.suppress(KyklonError, ValueError):
            look(blanks * 10)


MEMORY = """
import resource, sys
from pathlib import Path
from kyklon.base.errors import KyklonError
from kyklon.operations.card.sources import source
from kyklon.operations.card.volumes import boot_facts, contents
try:
    facts = source.inspect(Path(sys.argv[1]))
    contents.observe_source(facts)
    for number, _piece in enumerate(source.chunks(facts)):
        if number > 8:
            break
except KyklonError as bad:
    print(bad)
used = resource.getrusage(resource.RUSAGE_SELF)
print("took", used.ru_utime + used.ru_stime, used.ru_maxrss // 1024)
"""


def _cost(path: Path) -> tuple[float, int]:
    """Seconds of processor, and MiB."""

    out = subprocess.run(
        [sys.executable, "-c", MEMORY, str(path)], capture_output=True, text=True, timeout=900, check=True
    )
    seconds, mib = out.stdout.split()[-2:]
    return float(seconds), int(mib)


def test_a_look_takes_little_memory_whatever_the_file_claims(tmp_path: Path) -> None:
    greedy = [{"id": lzma.FILTER_LZMA2, "dict_size": 1536 << 20}]
    (tmp_path / "greedy.img.xz").write_bytes(lzma.compress(bytes(4096), filters=greedy))
    (tmp_path / "padded.img.xz").write_bytes(lzma.compress(bytes(MIB)) + bytes(64 * MIB))
    with (tmp_path / "large.img").open("wb") as file:
        file.truncate(64 << 30)
    usual_s, usual = _cost(_plain(tmp_path / "usual.img"))
    for name in ("greedy.img.xz", "padded.img.xz", "large.img"):
        seconds, mib = _cost(tmp_path / name)
        assert mib < max(250, usual + 150), name
        assert seconds < usual_s + 2.0, name


def _plain(path: Path) -> Path:
    path.write_bytes(bytes(4096))
    return path


def test_gzip_of_two_members_is_one_image(tmp_path: Path) -> None:
    half = random.Random(1).randbytes(512 * 40)
    path = tmp_path / "two.img.gz"
    path.write_bytes(gzip.compress(half) + gzip.compress(half))
    facts = source.inspect(path)
    assert (facts.unpacked, facts.exact) == (2 * len(half), True)
    assert b"".join(source.chunks(facts)) == half + half


@pytest.mark.parametrize("name", ["a@@b", "what?", "x@@512?offset=9"])
def test_names_that_tools_read_more_into(demo: Demo, tmp_path: Path, name: str) -> None:
    path = tmp_path / f"{name}.img"
    path.write_bytes(b"".join(source.chunks(source.inspect(demo.image))))
    seen = contents.observe(path)
    assert seen.root is not None
    assert seen.boot_error == ""
    assert FatVolume(path, seen.table.boot().start).read("merrow.settings")  # type: ignore[union-attr]


# --- the end of a command ----------------------------------------------------------------------------------------


def test_a_fault_of_the_program_is_a_report_and_not_a_traceback(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], demo: Demo
) -> None:
    from kyklon.commands import build

    monkeypatch.setattr(build, "observe", lambda *_all: 1 / 0)
    for words in (["check", str(demo.folder)], ["check", str(demo.folder), "--json"]):
        assert commands._run(words) == commands.FAILED
        told = capsys.readouterr()
        assert "Traceback" not in told.err + told.out
        report = Path(told.err.split(" is in ")[1].strip().rstrip("."))
        assert "ZeroDivisionError" in report.read_text(encoding="utf-8")
        report.unlink()
    assert json.loads(told.out)["code"] == commands.FAILED


def test_with_json_an_error_is_json_too(capsys: pytest.CaptureFixture[str]) -> None:
    for words in (
        ["check", "/none", "--json"],
        ["source", "inspect", "/none.img", "--json"],
        ["source", "nothing", "--json"],
        ["drives", "--what", "--json"],
    ):
        assert commands._run(words) in (commands.WRONG, commands.FAILED)
        assert json.loads(capsys.readouterr().out)["error"]


def test_names_from_outside_steer_no_terminal(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    hostile = tmp_path / "a\x1b[2J\x9b31m\u202etxt.img"
    hostile.write_bytes(b"x")
    commands._run(["source", "inspect", str(hostile)])
    told = capsys.readouterr()
    assert not {"\x1b", "\x9b", "\u202e"} & set(told.out + told.err)


def test_proving_a_missing_drive_is_a_sentence_and_leaves_nothing(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    for name in ("/dev/sdzz", str(tmp_path / "none.img"), str(tmp_path / "no" / "such.img")):
        assert commands._run(["prove", name, "--json"]) != commands.OK
        told = capsys.readouterr()
        assert "Traceback" not in told.err
        assert "Unknown command" not in told.err
    assert list(tmp_path.iterdir()) == []
    assert not Path("/dev/sdzz").exists()


# --- swept -------------------------------------------------------------------------------------------------------


def test_what_a_killed_run_left_is_swept_and_what_is_in_use_stays(tmp_path: Path, demo: Demo) -> None:
    script = (
        "import os, sys, tempfile; tempfile.tempdir = sys.argv[1]\nfrom kyklon.base import scratch\n"
        "with scratch.folder('x') as held:\n (held / 'f').write_text('x'); os._exit(9)"
    )
    subprocess.run([sys.executable, "-c", script, str(tmp_path)], check=False)
    (tmp_path / "kyklon-others").mkdir()
    assert len(list(tmp_path.glob("kyklon-x-*"))) == 1
    before = scratch.tempfile.tempdir
    scratch.tempfile.tempdir = str(tmp_path)
    try:
        with scratch.folder("mine") as held:
            assert scratch.sweep(tmp_path) == 1
            assert held.is_dir()
    finally:
        scratch.tempfile.tempdir = before
    assert sorted(path.name for path in tmp_path.iterdir()) == ["build", "kyklon-others"]
    left = demo.folder / ".build.json.unfinished"
    left.write_text("half", encoding="utf-8")
    store.sweep(demo.folder)
    assert not left.exists()
    durable.replace_text(demo.folder / "x.json", "{}")
    assert (demo.folder / "x.json").exists()


def test_the_shipped_catalogue_still_loads() -> None:
    assert loader.load(None).all(System)


@settings(max_examples=30, deadline=None)
@given(st.binary(max_size=300))
def test_any_file_is_an_image_or_told(tmp_path_factory: pytest.TempPathFactory, data: bytes) -> None:
    path = tmp_path_factory.getbasetemp() / "any.img.7z"
    path.write_bytes(data)
    with pytest.raises(SourceError):
        source.inspect(path)
