"""Choosers and bare-metal layouts learnt from what works with them: keys by their values, kernels by their bytes."""

from __future__ import annotations

import configparser
import hashlib
import io
import json
import random
import tarfile
import tomllib
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
import tomlkit
from hypothesis import given, settings
from hypothesis import strategies as st

from kyklon.base.errors import FormatError, KyklonError, WrongUse
from kyklon.base.places import catalogue_folder
from kyklon.catalogue.image_records import BareMetal, Chooser, Image, ManifestForm
from kyklon.catalogue.loader import Catalogue, load
from kyklon.catalogue.records import Board
from kyklon.demo import sets
from kyklon.model.build import TriedSystem
from kyklon.model.card import CardContents, KernelFile
from kyklon.operations.boot.findings import kernel_sets
from kyklon.operations.card.sets import baremetal, multiboot
from kyklon.operations.card.sets.manifest import read_manifest
from kyklon.operations.card.sets.tried import bits_of, in_words, problems_of
from kyklon.operations.card.sets.unpacking import Speeds, seconds
from kyklon.operations.card.volumes.boot_facts import raw_set
from kyklon.parts import bare_metal, chooser
from kyklon.parts.draft import Draft
from kyklon.parts.store import Store

U_BOOT = Path("/usr/lib/u-boot")
GB = 10**9


def archive(size: int, seed: int) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w:gz") as packed:
        info = tarfile.TarInfo("a")
        info.size = size
        packed.addfile(info, io.BytesIO(random.Random(seed).randbytes(size)))
    return out.getvalue()


def words(seed: int, count: int) -> list[str]:
    """Names that nobody chose, all different."""
    rng = random.Random(seed)
    made: list[str] = []
    while len(made) < count:
        word = "".join(rng.choice("bdfglmprstv") + rng.choice("aeiou") for _ in range(3))
        made += [word] if word not in made else []
    return made


def bundles(top: Path, seed: int) -> dict[str, Any]:
    """Three bundles in a grammar, with keys and units drawn at random; what their keys are called."""
    rng = random.Random(seed)
    grammar = rng.choice(("JSON", "TOML", "INI"))
    called = words(seed, 12)
    # sizes, names and sums are told by values; where two would do, by words of these kinds
    size_key, inner = f"{called[0]}_{rng.choice(('size', 'mib', 'bytes'))}", f"unpacked_{called[1]}"
    name, fs, packed, total, sum_key, label = (f"{called[2]}_title", *called[3:7], f"{called[7]}_label")
    kinds = rng.choice((("vfat", "ext4"), ("FAT32", "linux"), ("fat", "ext3")))
    short = rng.random() < 0.5
    unit = 1 if size_key.endswith("bytes") or (grammar == "INI" and rng.random() < 0.3) else 1 << 20
    for number, folder in enumerate(("alder", "beech", "cedar")):
        place = top / folder
        place.mkdir(parents=True)
        rows = []
        for index, kind in enumerate(kinds):
            data = archive(60_000 + 1000 * rng.randrange(40), seed + 10 * number + index)
            file = f"{folder}-{index}.tar.gz"
            (place / file).write_bytes(data)
            mib = rng.randrange(200, 4000)
            rows.append({
                label: f"{folder[:3]}{index}".upper(), fs: kind, packed: file[:-7] if short else file,
                total: len(data), size_key: mib * (1 << 20) // unit, inner: (mib - 100) * (1 << 20) // unit,
                sum_key: hashlib.sha256(data).hexdigest(),
            })  # fmt: skip
        head = {name: f"{folder.capitalize()} {number + 1}.0", called[8]: "free text", called[9]: number + 1}
        written(place / "about.txt", grammar, head, rows, called[10])
    keys = {"name": name, "kind": fs, "archive": packed, "sha256": sum_key, "size": size_key, "unpacked": inner}
    return {"grammar": grammar, **keys, "order": called[9], "ending": ".tar.gz" if short else "", "label": label}


def written(file: Path, grammar: str, head: dict[str, Any], rows: list[dict[str, Any]], place: str) -> None:
    """A manifest as the grammar's own library writes it."""
    if grammar == "JSON":
        file.write_text(json.dumps({**head, "more": {place: rows}}, indent=2), encoding="utf-8")
    elif grammar == "TOML":
        file.write_text(tomlkit.dumps({**head, place: rows}), encoding="utf-8")
    else:
        parser = configparser.ConfigParser(interpolation=None)
        parser.read_dict({f"{place} {number}": row for number, row in enumerate(rows)})
        out = io.StringIO()
        parser.write(out)
        file.write_text("".join(f"{key} = {value}\n" for key, value in head.items()) + out.getvalue(), encoding="utf-8")


def kept(draft: Draft) -> Chooser:
    made = draft.agreed().part("Own chooser", "own")
    assert isinstance(made, Chooser)
    return made


@pytest.mark.parametrize("seed", range(12))
def test_keys_are_recognised_by_what_their_values_are(seed: int, tmp_path: Path, catalogue: Catalogue) -> None:
    told = bundles(tmp_path / "stick" / "systems", seed)
    draft = chooser.learn(tmp_path / "stick", catalogue)
    own = kept(draft)
    assert {key: getattr(own.form, key) for key in told} == told
    assert (own.bundles, own.manifest, own.archive_kinds) == ("systems", "about.txt", ("tar.gz",))
    found = multiboot.check(tmp_path / "stick", own, 64 * GB)
    assert [bundle.name for bundle in found.bundles] == ["Alder 1.0", "Beech 2.0", "Cedar 3.0"]
    assert {problem.code for problem in found.problems} <= {"no-pictures"}
    assert found.ready
    victim = tmp_path / "stick" / "systems" / "beech" / "beech-1.tar.gz"
    victim.write_bytes(victim.read_bytes()[:-1] + b"x")
    assert multiboot.check_quickly(tmp_path / "stick", own, 64 * GB).ready
    assert "archive-sum" in {problem.code for problem in multiboot.check(tmp_path / "stick", own, 64 * GB).problems}


def test_the_shipped_form_is_learnt_from_the_demo_and_finds_the_same(tmp_path: Path, catalogue: Catalogue) -> None:
    stick = sets.make_multi_boot(tmp_path / "stick", mistakes=False)
    shipped, own = catalogue.all(Chooser)[0], kept(chooser.learn(stick, catalogue))
    same = (
        "name",
        "order",
        "boards",
        "released",
        "partitions",
        "label",
        "kind",
        "size",
        "unpacked",
        "archive",
        "grows",
    )
    assert {key: getattr(own.form, key) for key in same} == {key: getattr(shipped.form, key) for key in same}
    for board in ("herring", "sprat"):
        mine, theirs = (multiboot.check(stick, each, 32 * GB, board=board) for each in (own, shipped))
        assert [b.name for b in mine.bundles] == [b.name for b in theirs.bundles]
        assert {p.code for p in mine.problems} == {p.code for p in theirs.problems}
        assert mine.need >= theirs.need  # megabytes that may be either count as the larger
    sets.make_multi_boot(tmp_path / "bad")
    codes = {problem.code for problem in multiboot.check(tmp_path / "bad", own, 32 * GB, board="herring").problems}
    assert set(sets.MULTI_BOOT_MISTAKES) - codes <= {"kind"}


def test_two_files_labels_that_repeat_and_words_for_boards(tmp_path: Path, catalogue: Catalogue) -> None:
    for number, folder in enumerate(("fern", "moss")):
        place = tmp_path / "stick" / folder
        place.mkdir(parents=True)
        (place / "root.tar.gz").write_bytes(archive(50_000, number))
        rows = [{"volume label": "ROOT", "fs": "ext4", "megs": 3000, "file": "root"}]
        (place / "disk.json").write_text(json.dumps({"slices": rows}), encoding="utf-8")
        about = {"title": folder.capitalize(), "runs_on": ["herring", "zander"], "since": "2026-04-01"}
        (place / "about.json").write_text(json.dumps(about), encoding="utf-8")
    (tmp_path / "stick" / "kernel-files").mkdir()
    (tmp_path / "stick" / "kernel-files" / "x.bin").write_bytes(b"\0")
    draft = chooser.learn(tmp_path / "stick", catalogue)
    own = kept(draft)
    assert (own.manifest, own.about, own.bundles, own.labels_repeat) == ("disk.json", "about.json", "", True)
    assert own.board_names == {"herring": "herring"}
    assert any("zander" in each for each in draft.told)
    found = multiboot.check(tmp_path / "stick", own, 64 * GB, board="herring")
    assert {each.name for each in found.bundles} == {"Fern", "Moss"}
    assert found.ready  # the other folder at the top is no bundle, and the label is theirs to share
    other = multiboot.check(tmp_path / "stick", own, 64 * GB, board="cod")
    assert {p.code for p in other.problems if p.severity == "caution"} >= {"board-unknown", "same-label"}
    named = own.model_copy(update={"board_names": {"herring": "herring", "zander": "ling"}})
    assert "board" in {p.code for p in multiboot.check(tmp_path / "stick", named, 64 * GB, board="cod").problems}
    assert multiboot.check(tmp_path / "stick", named, 64 * GB, board="ling").ready


def test_what_is_no_stick_is_told(tmp_path: Path, catalogue: Catalogue) -> None:
    with pytest.raises(KyklonError, match="no bundles"):
        chooser.learn(tmp_path, catalogue)
    (tmp_path / "a").mkdir()
    (tmp_path / "a" / "root.tar.gz").write_bytes(archive(100, 1))
    (tmp_path / "a" / "notes.json").write_bytes(b"{\xff")
    with pytest.raises(KyklonError, match="no bundles"):
        chooser.learn(tmp_path, catalogue)
    with pytest.raises(KyklonError, match="no kernel"):
        bare_metal.learn(tmp_path, catalogue)


FORMS = st.builds(
    ManifestForm, grammar=st.sampled_from(("TOML", "JSON", "INI")), partitions=st.sampled_from(("p", "a.p", "")),
    size=st.sampled_from(("mb", "")), label=st.sampled_from(("label", "#", "")), closed=st.booleans(),
)  # fmt: skip


@given(FORMS, st.text(max_size=200))
def test_any_text_in_any_form_gives_a_manifest_or_the_one_error(form: ManifestForm, text: str) -> None:
    try:
        read_manifest(text, form=form)
    except FormatError as bad:
        assert 0 <= bad.offset <= len(text.encode("utf-8", "surrogatepass"))


@settings(max_examples=60)
@given(st.data())
def test_json_that_its_own_library_wrote_gives_a_manifest_or_the_one_error(data: st.DataObject) -> None:
    values = st.recursive(
        st.one_of(st.none(), st.booleans(), st.integers(), st.floats(allow_nan=False), st.text(max_size=5)),
        lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(st.text(max_size=4), inner, max_size=3)),
        max_leaves=8,
    )
    keys = ("name", "order", "boards", "released", "partitions")
    top = {key: data.draw(values) for key in keys}
    if data.draw(st.booleans()):
        row = {key: data.draw(values) for key in ("label", "kind", "mb", "unpacked_mb", "archive", "grows")}
        top["partitions"] = [row]
    form = ManifestForm(grammar="JSON", closed=False)
    try:
        made = read_manifest(json.dumps(top), form=form)
    except FormatError:
        return
    assert all(part.size > 0 and part.label for part in made.partitions)


def test_a_key_that_the_shipped_form_does_not_know_is_told_with_its_place() -> None:
    text = 'name = "A"\norder = 1\ncolour = 3\n[[partitions]]\nlabel = "A"\nkind = "ext4"\nmb = 5\n'
    with pytest.raises(FormatError, match="colour") as told:
        read_manifest(text)
    assert told.value.offset == text.index("colour")
    assert tomllib.loads(text)["colour"] == 3
    open_form = ManifestForm(closed=False)
    assert read_manifest(text, form=open_form).name == "A"
    with pytest.raises(FormatError, match="partitions"):
        read_manifest('name = "A"\norder = 1\npartitions = [1]\n', form=open_form)


# --- how long, and what was seen ------------------------------------------------------------------------------------


def test_unpacking_takes_as_long_as_its_slowest_part(tmp_path: Path, catalogue: Catalogue) -> None:
    stick = sets.make_multi_boot(tmp_path / "stick", mistakes=False)
    found = multiboot.check(stick, catalogue.all(Chooser)[0], 64 * GB)
    bundle = next(each for each in found.bundles if each.folder == "harbour")
    unpacked = (256 * 7 // 10 + 3800 * 7 // 10) * 1e6  # what its manifest says, sets.py
    assert seconds(bundle, Speeds(1e9, 1e6)) == pytest.approx(unpacked / 1e6)  # the card's writing
    assert seconds(bundle, Speeds(1e9, 1e9)) == pytest.approx(unpacked / 8e6)  # the processor, for xz
    slow = seconds(bundle, Speeds(100.0, 1e9))
    assert slow == pytest.approx(sum(bundle.packed) / 100, rel=0.5)
    assert seconds(bundle, Speeds(1e6, 1e6, shared=True)) > seconds(bundle, Speeds(1e6, 1e6))


@pytest.mark.parametrize(
    ("line", "bits"),
    [("Linux 6.6.1 aarch64", 64), ("Linux 5.10.9-v7l armv7l", 32), ("Linux 6 i686", 32), ("x86_64", 64), ("", 0)],
)
def test_bits_by_the_machines_name(line: str, bits: int) -> None:
    """uname(1) -m: the kernel's UTS_MACHINE and COMPAT_UTS_MACHINE."""
    assert bits_of(line) == bits


def test_what_was_seen_asks_for_attention_until_it_is_right(tmp_path: Path, catalogue: Catalogue) -> None:
    stick = sets.make_multi_boot(tmp_path / "stick", mistakes=False)
    found = multiboot.check(stick, catalogue.all(Chooser)[0], 64 * GB).bundles

    def codes(**seen: Any) -> list[str]:
        row = TriedSystem(bundle="jetty", at="2026-06-01", **seen)
        return [problem.code for problem in problems_of(found, [row])]

    assert codes(started=False) == ["not-started"]
    assert codes(started=True) == ["no-return"]
    assert codes(started=True, returned=True, released="2026-05-10") == []
    assert codes(started=True, returned=True, released="2026-01-01") == ["updated"]
    row = TriedSystem(bundle="jetty", started=True, kernel="Linux 6.1 aarch64", returned=True)
    assert in_words(row) == "started, 64-bit, returned"
    assert problems_of(found, [row.model_copy(update={"bundle": "gone"})]) == ()


# --- bare metal -----------------------------------------------------------------------------------------------------


@pytest.mark.skipif(not U_BOOT.is_dir(), reason="needs u-boot-qemu")
def test_programs_without_a_head_are_told_by_their_instructions() -> None:
    """U-Boot's raw builds for eleven machines of five processors, as a distribution packs them."""
    told = {path.parent.name: raw_set(path.read_bytes()) for path in sorted(U_BOOT.glob("*/u-boot.bin"))}
    assert {name: found for name, found in told.items() if found} == {"qemu_arm": "ARMv7", "qemu_arm64": "ARMv8"}
    assert len(told) > 6
    for other in (Path("/bin/sh"), Path(__file__)):
        assert raw_set(other.read_bytes()) == ""
    whole = (U_BOOT / "qemu_arm64" / "u-boot.bin").read_bytes()
    assert raw_set(b"\x7fELF" + whole[4:]) == ""
    assert raw_set(random.Random(1).randbytes(1 << 18)) == raw_set(b"") == raw_set(b"\0" * 9000) == ""


def unpacked(top: Path, seed: int) -> tuple[Path, str]:
    """A set with a real program in it, machines and games where chance puts them; where its machines are."""
    rng = random.Random(seed)
    one, two, three = words(seed, 3)
    template = rng.choice((f"{one}/{{machine}}", f"{one}/{{machine}}/{two}", "{machine}", f"{one}/{two}/{{machine}}"))
    folder = top / "set"
    names = [f"{word}-core" for word in words(seed + 1, 2)]
    for source, name in (("qemu_arm", "small.img"), ("qemu_arm64", "wide.img")):
        data = (U_BOOT / source / "u-boot.bin").read_bytes()
        folder.mkdir(parents=True, exist_ok=True)
        (folder / name).write_bytes(data + b"\0".join(map(str.encode, ["options.ini", *names])) + b"\0")
    (folder / "options.ini").write_text("a=1\n", encoding="utf-8")
    (folder / "read me.txt").write_text("unpack it all\n", encoding="utf-8")
    for machine in ("north", "south"):
        place = folder / template.replace("{machine}", machine)
        place.mkdir(parents=True, exist_ok=True)
        for name in names:
            (place / name).write_bytes(rng.randbytes(rng.choice((2048, 8192, 16384))))
    for machine in ("north", "south"):
        games = folder / three / machine
        games.mkdir(parents=True)
        for number in range(6):
            (games / f"game {number}.dsk").write_bytes(rng.randbytes(5000))
    (folder / "last.txt").write_text("south\n", encoding="utf-8")
    return folder, template if not template.endswith(f"/{two}") else f"{one}/{{machine}}/{{kind}}"


@pytest.mark.skipif(not U_BOOT.is_dir(), reason="needs u-boot-qemu")
@pytest.mark.parametrize("seed", range(8))
def test_a_set_that_nobody_here_made_is_learnt_and_becomes_a_plan(
    seed: int, tmp_path: Path, catalogue: Catalogue
) -> None:
    folder, template = unpacked(tmp_path, seed)
    store = Store(catalogue_folder())
    image = bare_metal.learn_image(folder, catalogue).with_value("boards", ["herring", "cod"]).agreed()
    store.add("images", image.as_row("Own set", "own-set"))
    own = load(catalogue_folder())
    learnt, places = bare_metal.learn_and_places(folder, own)
    assert places[0] == template
    draft = learnt.agreed()
    store.add("bare_metal", draft.as_row("Own layout", "own-layout"))
    own = load(catalogue_folder())
    layout, images = own.get(BareMetal, "own-layout"), {each.id: each for each in own.all(Image)}
    assert (layout.image, layout.needed, layout.remembered) == ("own-set", ("options.ini",), "last.txt")
    assert [machine.id for machine in layout.machines] == ["north", "south"]
    assert all(len(machine.files) == 2 for machine in layout.machines)
    assert baremetal.layout_of(folder, own.all(BareMetal), images) == layout
    for board, kernel in (("herring", "small.img"), ("cod", "wide.img")):
        made = baremetal.plan(folder, layout, images["own-set"], own.get(Board, board))
        assert {problem.code for problem in made.problems} == {"remembered"}
        assert made.ready
        assert made.machines == ("north", "south")
        assert {each.target for each in made.placed} >= {kernel, "options.ini"}
    victim = next(path for path in sorted(folder.rglob("*-core")) if "north" in path.parts)
    victim.write_bytes(victim.read_bytes()[:-1] + b"?")
    spoilt = baremetal.plan(folder, layout, images["own-set"], own.get(Board, "cod"))
    assert "system-file-sum" in {problem.code for problem in spoilt.problems}
    (folder / "wide.img").write_bytes((folder / "wide.img").read_bytes()[:2000])
    cut = baremetal.plan(folder, layout, images["own-set"], own.get(Board, "cod"))
    assert "kernel-damaged" in {problem.code for problem in cut.problems}
    with pytest.raises(WrongUse, match="No machines lie"):
        bare_metal.learn(folder, own, "elsewhere/{machine}")


def test_a_program_without_a_head_is_a_kernel_for_bare_metal_only(catalogue: Catalogue) -> None:
    tidepool, quayside = catalogue.get(Image, "tidepool"), catalogue.get(Image, "quayside")
    programs = (KernelFile("tidepool-armv7.krn", 9000, "ARMv6"), KernelFile("tidepool-armv8.krn", 9000, "ARMv6"))
    card = CardContents(programs=(*programs, KernelFile("other.bin", 9000, "ARMv8")))
    # what asks for no more than ARMv6 runs where the image says so; a 64-bit name does not make it one
    assert kernel_sets(tidepool, card) == {"tidepool-armv7.krn": "ARMv7", "tidepool-armv8.krn": "ARMv6"}
    said = {kernel.file: kernel.instruction_set for kernel in quayside.kernels}
    assert kernel_sets(quayside, replace(card, programs=(KernelFile(next(iter(said)), 9000, "ARMv8"),))) == said
