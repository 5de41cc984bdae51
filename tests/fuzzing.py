"""Every parser with honest examples and a way to spoil them; shared by tests/test_fuzz.py and benchmarks/fuzz.py.

A parser may answer, or raise the project's own error (or the one that its documentation names). Nothing else.
"""

from __future__ import annotations

import atexit
import bz2
import contextlib
import gzip
import io
import itertools
import lzma
import random
import shutil
import sqlite3
import subprocess
import tempfile
import tomllib
import zipfile
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

from backports import zstd

from kyklon.base.errors import KyklonError
from kyklon.base.reading import json_of, toml_of
from kyklon.base.units import measure as parse_quantity
from kyklon.catalogue import loader, templates
from kyklon.catalogue.image_records import Chooser, Image
from kyklon.catalogue.records import Board
from kyklon.catalogue.system_records import System
from kyklon.catalogue.text_records import LIST_NAMES, MAP_NAMES, SETTINGS_NAMES, Dialect
from kyklon.demo import lighthouse, samples
from kyklon.demo.noise import device_tree, kernel_32, kernel_64
from kyklon.devices.linux.folder import Folder
from kyklon.devices.ports import DriveFacts
from kyklon.devices.simulated import panel as simulated_panel
from kyklon.devices.simulated.drives import FILE, SimulatedDrives
from kyklon.devices.simulated.inputs import SimulatedInputs
from kyklon.model.build import Build
from kyklon.model.card import Program
from kyklon.model.fields import describe, described_fields
from kyklon.model.kernel_line import given, set_words, word_values, words
from kyklon.model.library import LISTED_TEXTS
from kyklon.operations import checksums
from kyklon.operations.boot.as_found import as_found
from kyklon.operations.boot.compile import compiled
from kyklon.operations.boot.read import read_settings
from kyklon.operations.boot.services import by_dependencies
from kyklon.operations.card.sets import multiboot
from kyklon.operations.card.sources import joined, source
from kyklon.operations.card.volumes import boot_facts, contents, partitions, ramdisk, usage
from kyklon.operations.card.volumes.fat_reader import FatReader
from kyklon.operations.card.volumes.fsck import complaints
from kyklon.operations.card.volumes.mounts import read_fstab
from kyklon.operations.card.volumes.root_facts import observe_root
from kyklon.operations.card.volumes.start_order import unit_of, unit_words
from kyklon.operations.card.volumes.survey import survey
from kyklon.operations.controls import extras, standin
from kyklon.operations.controls.faulty import Plan
from kyklon.operations.controls.hookup import hookup_of
from kyklon.operations.controls.matrix import read_readings, reconstruct
from kyklon.operations.library import compare, match, packed, remembered, scan, titles, transfer
from kyklon.operations.library.facts import Facts
from kyklon.operations.library.list_guess import guess
from kyklon.operations.library.lists import read_list, sample
from kyklon.operations.picture import edid, exports
from kyklon.operations.picture.video_word import made_of, modes_offered, parsed
from kyklon.operations.poweron.acts import foretell
from kyklon.operations.poweron.boot_log import log_text, read_log
from kyklon.parts import board, display, exchange, identification, panel
from kyklon.parts import dialect as grammars
from kyklon.parts.facts import facts
from kyklon.parts.store import plain_row, text_for
from kyklon.record import folder as store
from kyklon.record.answers import Answer, Answers
from kyklon.record.logbook import Logbook
from kyklon.record.shelf import Shelf

MIB = 1 << 20
BOARD_TEXT = (
    b"processor\t: 0\nmodel name\t: ARMv7 Processor rev 4 (v7l)\nCPU architecture: 7\nprocessor\t: 1\n"
    b"MemTotal:         948304 kB\nBus 002 Device 001: ID 1d6b:0003 root hub\nModel\t: Dory Brill\n"
)
LOG = (
    b"[    0.000000] Booting Linux on physical CPU 0x0\n[    1.9] EXT4-fs (mmcblk0p2): mounted filesystem\n"
    b"Jan 01 00:00:03 quayside systemd[1]: Started gangway.service.\n\x1b[31m[FAILED]\x1b[0m Failed to start x\n"
    b"[ 2.1] Kernel panic - not syncing: VFS: Unable to mount root fs on unknown-block(179,2)\n"
)
NASTY = (
    b"",
    b"\0",
    b"\xff" * 8,
    b"\x80",
    b"-1",
    b"9" * 5000,
    b"[" * 2000,
    b"{" * 500,
    b" " * 100_000,
    b'"',
    b"\n",
    b"\r",
    b"../",
    b"\xed\xb3\xbf",
    b"\xe2\x80\xa8",
    b"\x0c",
    b"\x1b[2J",
    b"nan",
    b"1e999",
    b"{{",
    b"%s",
    b"\xfe\xff",
    (2**63 - 1).to_bytes(8, "little"),
    (2**64 - 1).to_bytes(8, "little"),
    b"\xff" * 4,
)


def spoil(data: bytes, rng: random.Random) -> bytes:
    """A few changes: bytes, bits, stretches cut, doubled, swapped, or replaced by what is known to hurt."""
    out = bytearray(data)
    for _ in range(rng.choice((0, 1, 1, 1, 2, 3, 8))):
        at = rng.randrange(len(out) + 1) if rng.random() < 0.6 else rng.randrange(min(len(out), 1024) + 1)
        length = min(len(out) - at, rng.choice((1, 1, 2, 4, 8, 16, 100, 1000)))
        kind = rng.randrange(7)
        if kind == 0 and length:
            out[at : at + length] = rng.randbytes(length)
        elif kind == 1 and at < len(out):
            out[at] ^= 1 << rng.randrange(8)
        elif kind == 2:
            del out[at : at + length]
        elif kind == 3:
            out[at:at] = out[at : at + length] * rng.choice((1, 2, 20))
        elif kind == 4:
            nasty = rng.choice(NASTY)
            out[at : at + (len(nasty) if rng.random() < 0.7 else 0)] = nasty
        elif kind == 5:
            del out[rng.randrange(len(out) + 1) :]
        else:
            other = rng.randrange(len(out) + 1)
            out[at : at + length] = out[other : other + length]
    return bytes(out[: 64 * MIB])


@dataclass(frozen=True)
class Parser:
    """seeds: honest examples. read: what is tried on spoilt ones. allowed: errors that its documentation names.
    heavy: it runs programs, so that fewer are tried."""

    seeds: Callable[[], list[bytes]]
    read: Callable[[bytes], object]
    allowed: tuple[type[Exception], ...] = (KyklonError,)
    heavy: bool = False


def tried(parser: Parser, data: bytes) -> None:
    """Read it; what nobody expected is raised."""
    with contextlib.suppress(*parser.allowed):
        parser.read(data)


# --- honest examples ---------------------------------------------------------------------------------------------


@cache
def _catalogue() -> loader.Catalogue:
    return loader.load(None)


@cache
def _held() -> Path:
    """A demo build and a working folder for this process, taken away at its end by tempfile's own means."""
    place = Path(tempfile.mkdtemp(prefix="kyklon-fuzz-"))
    atexit.register(shutil.rmtree, place, True)
    lighthouse.make(place / "demo", _catalogue())
    (place / "work").mkdir()
    return place


def _file(name: str, data: bytes) -> Path:
    path = _held() / "work" / name
    path.write_bytes(data)
    return path


@cache
def _build_text() -> bytes:
    return (_held() / "demo" / store.CURRENT).read_bytes()


@cache
def _card() -> bytes:
    """The demo's own card, whole: MBR, FAT32 and ext4."""
    return b"".join(source.chunks(source.inspect(_held() / "demo" / lighthouse.IMAGE)))


@cache
def _small_image() -> bytes:
    return _card()[: 2 * MIB]


def _zip(names: Mapping[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in names.items():
            archive.writestr(name, data)
    return out.getvalue()


@cache
def _seven() -> bytes:
    import py7zr

    out = io.BytesIO()
    with py7zr.SevenZipFile(out, "w") as archive:
        archive.writestr(_small_image()[:65536], "a.img")
    return out.getvalue()


@cache
def _gpt() -> bytes:
    from kyklon.base import tools

    path = _held() / "work" / "gpt.img"
    with path.open("wb") as file:
        file.truncate(4 * MIB)
    tools.run(["sfdisk", "--quiet", str(path)], stdin=b"label: gpt\nsize=1M, type=uefi\nsize=1M\n")
    return path.read_bytes()


@cache
def _fat(bits: int) -> bytes:
    from kyklon.base import tools

    path = _held() / "work" / f"fat{bits}.img"
    path.unlink(missing_ok=True)
    with path.open("wb") as file:
        file.truncate({12: MIB, 16: 9 * MIB, 32: 34 * MIB}[bits])
    tools.run(["mkfs.fat", "-F", str(bits), "-s", "1", "-n", "SPOILT", str(path)])
    note = _file("a note with a long name.txt", b"hello " * 900)
    for target in ("::/", "::/deep/deeper/"):
        if target != "::/":
            tools.run(["mmd", "-i", str(path), "::/deep", "::/deep/deeper"])
        tools.run(["mcopy", "-i", str(path), str(note), target])
    return path.read_bytes()


# --- reading them ------------------------------------------------------------------------------------------------


def _image(ending: str) -> Callable[[bytes], object]:
    def read(data: bytes) -> object:
        facts = source.inspect(_file(f"a.img{ending}", data))
        done = 0
        for piece in source.chunks(facts):
            done += len(piece)
            if done > 32 * MIB:
                break
        return facts

    return read


def _user_catalogue(kind: str) -> Callable[[bytes], object]:
    def read(data: bytes) -> object:
        folder = _held() / "work" / "catalogue"
        shutil.rmtree(folder, ignore_errors=True)
        folder.mkdir()
        (folder / f"{kind}.toml").write_bytes(data)
        return loader.load(folder)

    return read


def _shipped(kind: str) -> Callable[[], list[bytes]]:
    return lambda: [(Path(loader.__file__).parent / "data" / f"{kind}.toml").read_bytes()]


def _build(data: bytes) -> object:
    folder = _held() / "work" / "build"
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()
    (folder / store.CURRENT).write_bytes(data)
    return store.load(folder)


def _drives(data: bytes) -> object:
    _file(FILE, data)
    drives = SimulatedDrives(_held() / "work")
    found: tuple[DriveFacts, ...] = drives.list()
    return found


def _logbook(data: bytes) -> object:
    folder = _held() / "work" / "logbook"
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()
    (folder / "logbook.sqlite3").write_bytes(data)
    book = Logbook(folder)
    return book.entries("word"), book.count(), book.markdown("x")


@cache
def _logbook_seed() -> bytes:
    folder = _held() / "work" / "seed"
    folder.mkdir(exist_ok=True)
    book = Logbook(folder)
    for number in range(5):
        book.add(20, f"title word {number}", "detail\nword")
    database = sqlite3.connect(folder / "logbook.sqlite3")
    database.execute("INSERT INTO entry (at, operation, kind, title) VALUES (x'ff', 'x', 3.5, x'00ff')")
    database.commit()
    database.execute("PRAGMA journal_mode=DELETE")
    database.close()
    return (folder / "logbook.sqlite3").read_bytes()


def _table(data: bytes) -> object:
    return partitions.read_table(
        lambda offset, length: data[offset : offset + length] if offset >= 0 else b"", len(data)
    )


def _volume(data: bytes) -> object:
    volume = FatReader(lambda offset, length: data[offset : offset + length] if offset >= 0 else b"", 0)
    return volume.free_bytes(), [volume.read(file, 1000) for file in volume.files()]


def _survey(data: bytes) -> object:
    path = _file("survey.img", data)
    return survey(path), usage.usage(path, len(data))


def _observe(data: bytes) -> object:
    """Spoils a whole card at its interesting places, then looks at it as the bring-up does."""
    return contents.observe(_file("card.img", data))


def _units(data: bytes) -> object:
    """Unit files with a zero between them, each with its name first, as one target would pull them in."""
    rows = [word.partition("\n") for word in data.decode("utf-8", "surrogateescape").split("\0")]
    units = {name: unit_of(name, text, lambda path: Program(path)) for name, _, text in rows}
    return by_dependencies(units, "b", lambda _unit: "")


def _video(data: bytes) -> object:
    word = parsed(data.decode("utf-8", "surrogateescape"))
    return made_of(word, modes_offered(None)) if word else None


def _header(data: bytes) -> object:
    return extras.clashes(extras.read(data.decode("utf-8", "surrogateescape").split(), _catalogue()))


@cache
def _catalogue() -> loader.Catalogue:
    return loader.load()


def _foretold(data: bytes) -> object:
    folder = _held() / "demo"
    build = store.load(folder).build
    drive = folder / "drives" / "blank-card.standin"
    drive.write_bytes(data)
    build = build.model_copy(update={"card": build.card.model_copy(update={"drive": "sim:blank-card"})})
    return foretell(build, folder, _catalogue())


def _root_volume(data: bytes) -> object:
    return observe_root(lambda at, length: data[at : at + length] if at >= 0 else b"", 0, len(data), ("/bin/sh",))


@cache
def _roots() -> list[bytes]:
    """Small roots of several forms."""
    found = []
    for number, form in enumerate(([], ["-t", "ext2"], ["-O", "inline_data"], ["-O", "^metadata_csum,uninit_bg"])):
        image, tree = _held() / f"root-{number}.img", _held() / "tree"
        (tree / "sbin").mkdir(parents=True, exist_ok=True)
        (tree / "sbin" / "init").write_bytes(b"#!/bin/sh\n")
        with image.open("wb") as file:
            file.truncate(4 * MIB)
        subprocess.run(["mkfs.ext4", "-q", "-F", *form, "-d", tree, image], check=True)
        found.append(image.read_bytes())
    return found


@cache
def _replayed() -> bytes:
    """A root whose changes stand in its journal."""
    image = _held() / "root-log.img"
    image.write_bytes(_roots()[0])
    block, data = 1024 << int.from_bytes(image.read_bytes()[1048:1052], "little"), _held() / "root-log.blocks"
    inodes = 300  # any blocks of the volume's last third: what they hold is nobody's
    data.write_bytes(b"x" * 3 * block)
    rows = f"jo -c\njw -b {inodes},{inodes + 1},{inodes + 2} {data}\njc\n"
    subprocess.run(["debugfs", "-w", "-f", "-", image], input=rows.encode(), check=True, capture_output=True)
    return image.read_bytes()


def _answers_seeds() -> list[bytes]:
    path = _file("titles.sqlite3", b"")
    path.unlink()
    Answers(path.parent).put(Answer("a/3/b", "A", "B", (1.0,)))
    return [path.read_bytes()]


def _memory_seeds() -> list[bytes]:
    path = _file("sums.sqlite3", b"")
    path.unlink()
    _memory(b"", path)
    return [path.read_bytes()]


def _memory(data: bytes, path: Path | None = None) -> object:
    """What was matched before, from a spoilt file."""
    remembered._lists.clear()
    facts = Facts(path or _file("sums.sqlite3", data))
    titles_of = compare.Titles(("Brass Orchard", "Tidal Ferry"))
    found = match.matches(["brass orchrd", "ferry"], titles_of, known=facts.titles.of(titles_of, match.shipped().pair))
    facts.keep()
    return found


def _listed(ending: str) -> Callable[[bytes], object]:
    def read(data: bytes) -> object:
        path = _file(f"games.{ending}", data)
        scheme = guess(path)
        return list(itertools.islice(read_list(path, scheme), 5000)), sample(path, scheme)

    return read


def _kernel_file(data: bytes) -> object:
    return boot_facts.kernel_of("k", len(data), data)


def _tree(data: bytes) -> object:
    return boot_facts.tree_of("t", len(data), data)


def _edid(data: bytes) -> object:
    told = edid.read(data)
    for timing in told.timings:
        try:
            exports.timing_line(timing)
            exports.modeline(timing, "x")
        except KyklonError:
            continue
    return told


def _boot_texts(data: bytes) -> object:
    text = data.decode("utf-8", "surrogateescape")
    build = store.load(_held() / "demo").build
    board = _catalogue().get(Board, build.part("board"))
    for dialect in _catalogue().all(Dialect):
        texts = {file.path.lower(): text for file in dialect.files}
        read_settings(dialect, board, texts)
        as_found(dialect, board, texts)
        compiled(
            build.model_copy(update={"boot": build.boot.model_copy(update={"dialect": dialect.id})}),
            _catalogue(),
            texts,
        )
    return None


def _kernel_line(data: bytes) -> object:
    text = data.decode("utf-8", "surrogateescape")
    return (
        words(text),
        given(text),
        set_words(text, ("root=/dev/x", "usbhid.quirks=0x1:0x2:0x4", "quiet")),
        word_values(text, "video"),
    )


def _learnt_display(data: bytes) -> object:
    """Nothing of a block with a wrong sum is taken for sound."""
    draft = display.learn(data)
    cut = data[data.find(identification.HEADER) :] if identification.HEADER in data else data
    if sum(cut[:128]) % 256 and identification.HEADER in data:
        assert any(words.startswith("Byte ") for words in draft.told)
    return draft.agreed()


def _part_file(data: bytes) -> object:
    found = exchange.incoming(_file("part.toml", data), _catalogue())
    return [facts(incoming.part, incoming.kind, own=True) for incoming in found]


@cache
def _part_seeds() -> list[bytes]:
    rows = [(kind, next(iter(parts.values()))) for kind, parts in _catalogue().parts.items()]
    return [text_for({kind: [plain_row(part)]}, "mine").encode() for kind, part in rows]


def _sample(data: bytes) -> object:
    """A boot file whose lines are given decisions, whatever became of them."""
    sample = grammars.sample_of(data, "start.ini")
    for number, setting in samples.CARRIED["start.ini"].items():
        with contextlib.suppress(ValueError):
            sample = sample.marked(number, setting)
    trial = grammars.tried(sample)
    return grammars.draft_of(sample).agreed().part("x") if sample.marks and trial.good else trial


def _inputs(data: bytes) -> object:
    _file("inputs.json", data)
    return SimulatedInputs(_held() / "work").list()


@cache
def _box() -> Path:
    return _held() / "demo" / samples.FOLDER


def _timing(data: bytes) -> object:
    return exports.parse_timing_line(data.decode("utf-8", "surrogateescape"))


def _sums(data: bytes) -> object:
    text = data.decode("utf-8", "replace")
    checksums.from_text(text[:200]) if len(text) < 300 else None
    return checksums.parse(text)


def _manifest(data: bytes) -> object:
    folder = _held() / "work" / "bundles"
    shutil.rmtree(folder, ignore_errors=True)
    (folder / "one").mkdir(parents=True)
    chooser = _catalogue().all(Chooser)[0]
    (folder / "one" / chooser.manifest).write_bytes(data)
    (folder / "one" / "root.tar.xz").write_bytes(lzma.compress(b"x"))
    return multiboot.check(folder, chooser, 10**10)


@cache
def _manifest_seed() -> list[bytes]:
    chooser = _catalogue().all(Chooser)[0]
    return [path.read_bytes() for path in (_held() / "demo" / "sets").rglob(chooser.manifest)]


def _library(name: str) -> Callable[[bytes], object]:
    def read(data: bytes) -> object:
        folder = _held() / "work" / "library"
        shutil.rmtree(folder, ignore_errors=True)
        systems = _catalogue().all(System)[:2]  # more only take longer
        build = store.load(_held() / "demo").build
        for system in systems:
            (folder / system.folder).mkdir(parents=True)
            (folder / system.folder / name).write_bytes(data)
            (folder / system.folder / "track.bin").write_bytes(b"x" * 5000)
        found = scan.scan(folder, systems, build.library)
        image = _catalogue().all(Image)[0]
        planned = transfer.plan(found, systems, image)
        return planned, transfer.look_at(Folder(folder), systems, image)

    return read


def _fields(data: bytes) -> object:
    text = data.decode("utf-8", "surrogateescape")
    for field in described_fields(Build):
        if field.kind != "other":
            try:
                field.parse(text)
            except ValueError:
                continue
    with contextlib.suppress(KeyError):
        describe(Build, text)
    return parse_quantity(text, "Hz")


def _template(data: bytes) -> object:
    text = data.decode("utf-8", "surrogateescape")
    names = SETTINGS_NAMES | MAP_NAMES | LIST_NAMES
    templates.check(text, names, "here")
    system = _catalogue().all(System)[0]
    return templates.render(
        text,
        {
            "values": {"a": "b"},
            "origin": {"a": "b"},
            "picture": {"timing": "t"},
            "system": system,
            "emulator": system,
            "hotkey": "b1",
            "hotkeys": (),
            "players": (),
            "keys": (),
            "image": _catalogue().all(Image)[0],
            "games": [
                {"title": "A & B", "file": "a.x", "path": "p/a.x", "favourite": True, "picture": ""}
                | dict.fromkeys(LISTED_TEXTS, "<told>")
            ],
            "all_games": (),
            "favourites": (),
        },
        "x",
    )


def _template_seeds() -> list[bytes]:
    rows = tomllib.loads((Path(loader.__file__).parent / "data" / "templates.toml").read_text(encoding="utf-8"))
    return [row["text"].encode() for row in rows["templates"]] + [
        b"{{ values.a | join(',') }}{% for k, v in values.items() %}{{ k ~ v }}{% endfor %}{{ system.id if 1 else 2 }}"
    ]


def _ribbon(data: bytes) -> object:
    file = _held() / "work" / "ribbon.txt"
    file.parent.mkdir(exist_ok=True)
    file.write_bytes(data)
    return reconstruct(read_readings(file))


def _panel_seeds() -> list[bytes]:
    hookup = hookup_of(lighthouse.build(_catalogue(), "0" * 64), _catalogue())
    assert hookup is not None
    return [standin.of(Plan(hookup), standin.drawn(Plan(hookup), 2, 3)).model_dump_json().encode()]


def _panel(data: bytes) -> object:
    folder = _held() / "work"
    folder.mkdir(exist_ok=True)
    (folder / simulated_panel.FILE).write_bytes(data)
    told = simulated_panel.load(folder)
    assert told is not None
    hand = standin.Hand(told)
    return [hand.press((switch,)) for switch in list(told.ends)[:2]]


def _names(data: bytes) -> object:
    name = data.decode("utf-8", "surrogateescape").replace("/", "_").replace("\0", "_")[:60]
    return joined.parts_of(_held() / "work" / (name or "x")), titles.title_of(name), packed.unsafe_member(name)


CUE = b'FILE "track.bin" BINARY\n  TRACK 01 MODE1/2352\n    INDEX 01 00:00:00\nfile track.bin binary\ntrack 2 audio\n'
LINES = (
    b'# a remark\r\nDEFAULT games\nLABEL games\n  LINUX /k\n  APPEND root=/dev/x video=a:1x2 "q q"\nvideo.memory = 3\n'
)
SUMS = b"d41d8cd98f00b204e9800998ecf8427e  a.img\nSHA256 (b) = " + b"ab" * 32 + b"\nc.img  DEADBEEF\n"

PARSERS: dict[str, Parser] = {
    "json": Parser(lambda: [_build_text()], lambda data: json_of(data, "x")),
    "toml": Parser(_shipped("boards"), lambda data: toml_of(data, "x")),
    "build.json": Parser(lambda: [_build_text()], _build),
    **{
        f"catalogue {kind}": Parser(_shipped(kind), _user_catalogue(kind), heavy=True)
        for kind in ("boards", "systems", "dialects", "templates", "displays")
    },
    "shelf": Parser(
        lambda: [(_held() / "demo" / "shelf.json").read_bytes()], lambda data: Shelf(_file("shelf.json", data)).images()
    ),
    "drives.json": Parser(lambda: [(_held() / "demo" / "drives" / FILE).read_bytes()], _drives),
    "logbook": Parser(lambda: [_logbook_seed()], _logbook),
    "checksums": Parser(lambda: [SUMS], _sums),
    "part names": Parser(lambda: [b"a.img.001", b"b.part1", b"c.aa", b"Game (Disc 1) [x].cue"], _names),
    "image": Parser(lambda: [_small_image()[:65536]], _image("")),
    "image xz": Parser(lambda: [lzma.compress(_small_image()), lzma.compress(b"\0" * MIB) + b"\0" * 64], _image(".xz")),
    "image gz": Parser(lambda: [gzip.compress(_small_image()[:MIB]), gzip.compress(b"x" * 512) * 2], _image(".gz")),
    "image bz2": Parser(lambda: [bz2.compress(_small_image()[:MIB])], _image(".bz2")),
    "image zst": Parser(lambda: [zstd.compress(_small_image()[:MIB])], _image(".zst")),
    "image zip": Parser(lambda: [_zip({"a.img": _small_image()[:MIB]})], _image(".zip")),
    "image 7z": Parser(lambda: [_seven()], _image(".7z")),
    "table": Parser(lambda: [_card()[: 34 * 512], _gpt()], _table),
    "FAT": Parser(lambda: [_fat(12), _fat(16)[: 2 * MIB], _fat(32)[: 2 * MIB]], _volume),
    "root": Parser(_roots, _root_volume),
    "kernel file": Parser(lambda: [kernel_32("ARMv7", 5000), kernel_64(5000)], _kernel_file),
    "device tree": Parser(lambda: [device_tree("Merrow Cod", "merrow,cod")], _tree),
    "unit": Parser(
        lambda: [b"[Unit]\nAfter=a b\n[Service]\nExecStart=/a \\\n b\nType=oneshot\n"],
        lambda data: unit_words(data.decode("utf-8", "surrogateescape")),
    ),
    "units": Parser(lambda: [b"a\nRequires=b\nAfter=b c\n\0b\nBefore=a\nType=oneshot\n\0c\nAfter=a\n"], _units),
    "initramfs": Parser(
        lambda: [
            ramdisk.write({"lib/firmware/edid/a.bin": bytes(128), "init": b"x"}),
            gzip.compress(ramdisk.write({"a/b": b"c" * 700})),
        ],
        lambda data: ramdisk.read("x", len(data), data),
    ),
    "video word": Parser(lambda: [b"1024x768MR-24@60imD,rotate=90", b"d", b"720x576i"], _video),
    "header words": Parser(lambda: [b"fan-switch:pin=36,celsius=60 day-clock bus-sound"], _header),
    "fsck words": Parser(lambda: [b"Pass 1: Checking\nInode 12, i_blocks is 8, should be 2.  Fix? no\n\n"], complaints),
    "survey": Parser(lambda: [_small_image(), _gpt(), _fat(12)], _survey, heavy=True),
    "identification": Parser(lambda: [(_held() / "demo" / "attachments" / "casement-19.edid").read_bytes()], _edid),
    "boot files": Parser(lambda: [LINES, *_card_texts()], _boot_texts),
    "kernel line": Parser(lambda: [LINES], _kernel_line),
    "timing line": Parser(lambda: [exports.timing_line(_any_timing()).encode()], _timing),
    "manifest": Parser(_manifest_seed, _manifest),
    "sheet": Parser(lambda: [CUE], _library("disc.cue")),
    "game archive": Parser(lambda: [_zip({"a.a8": b"x" * 900})], _library("game.zip")),
    "game 7z": Parser(lambda: [_seven()], _library("game.7z")),
    "playlist": Parser(lambda: [b"#x\na.cue\n../b.cue\n"], _library("list.m3u")),
    "fields": Parser(lambda: [b"15.7 kHz", b"256", b"on", b"a, b"], _fields, (KyklonError, ValueError)),
    "template": Parser(_template_seeds, _template),
    "ribbon readings": Parser(lambda: [b"a, 1, 2\nb 1 3\nc\t4\t2 # twice\nd,4,3\n"], _ribbon),
    "panel stand-in": Parser(_panel_seeds, _panel),
    "display learnt": Parser(
        lambda: [samples.display_data(), samples.dump(samples.display_data()).encode()], _learnt_display
    ),
    "board learnt": Parser(lambda: [samples.tree()], lambda data: board.learn(data, _catalogue(), "x.dtb").agreed()),
    "board's text": Parser(
        lambda: [BOARD_TEXT], lambda data: board.learn_text(data.decode("utf-8", "replace"), _catalogue())
    ),
    "part file": Parser(_part_seeds, _part_file),
    "boot file sample": Parser(lambda: [text.encode() for text in samples.BOOT_FILES.values()], _sample),
    "panel svg": Parser(lambda: [samples.svg().encode()], panel.from_svg),
    "panel dxf": Parser(lambda: [(_box() / samples.PANEL_DXF).read_bytes()], panel.from_dxf, heavy=True),
    "inputs.json": Parser(lambda: [(_held() / "demo" / "drives" / "inputs.json").read_bytes()], _inputs),
    "fstab": Parser(
        lambda: [b"# a\nUUID=1234-ABCD /boot vfat ro,umask=0022 0 2\n/dev/sda1 /a\\040b auto nofail\n"],
        lambda data: read_fstab(data.decode("utf-8", "surrogateescape")),
    ),
    "journal": Parser(lambda: [_replayed()], _root_volume),
    "games csv": Parser(
        lambda: [b'name;size;crc;parent\nA (Disc 1);100;0a0b0c0d;\n"B; b";7;00000001;A\n'], _listed("csv")
    ),
    "games xml": Parser(
        lambda: [
            b"<list><game name='A'><rom name='a' size='3' crc='0a0b0c0d' sha1='" + b"a" * 40 + b"'/></game>"
            b"<game name='B' cloneof='A'><rom name='b' size='4' crc='00000001'/></game></list>"
        ],
        _listed("xml"),
    ),
    "games json": Parser(
        lambda: [b'[{"title": "A", "size": 3, "hashes": {"crc": "0a0b0c0d"}}, {"title": "B", "size": "4"}]'],
        _listed("json"),
    ),
    "games sums": Parser(lambda: [SUMS, b"SHA1 (a b) = " + b"b" * 40 + b"\n"], _listed("sha1")),
    "boot log": Parser(lambda: [LOG], lambda data: read_log(log_text(data), _catalogue())),
    "answers": Parser(_answers_seeds, lambda data: Answers(_file("titles.sqlite3", data).parent).all()),
    "title memory": Parser(_memory_seeds, _memory),
    "card": Parser(lambda: [_card()], _observe, heavy=True),
    "bring-up": Parser(lambda: [_card()], _foretold, heavy=True),
}


@cache
def _card_texts() -> list[bytes]:
    return [text.encode() for text in contents.observe(_file("card.img", _card())).texts.values()]


def _any_timing() -> Any:
    return store.load(_held() / "demo").build.picture.menu.timing


def places(name: str, data: bytes, rng: random.Random) -> bytes:
    """Spoil; of a whole card the places that are read: table, FAT head and folders, superblock and groups."""
    if name not in ("card", "bring-up"):
        return spoil(data, rng)
    out = bytearray(data)
    table = partitions.parse(data[:512])
    starts = [0, *(part.start for part in table.partitions)]
    for _ in range(rng.choice((1, 1, 2, 4))):
        start = rng.choice(starts)
        wide = rng.choice((64, 512, 4096, 65536, 4 * MIB))
        at = min(len(out) - 16, start + rng.randrange(wide))
        new = rng.choice((rng.randbytes(1), rng.randbytes(4), bytes(8), b"\xff" * 8, rng.choice(NASTY)[:64]))
        out[at : at + len(new)] = new
    if rng.random() < 0.1:
        del out[rng.randrange(len(out)) :]
    return bytes(out)
