"""The card's benches in the real window, driven as a user would: every source, every rule, every bad card."""

from __future__ import annotations

import bz2
import gzip
import hashlib
import lzma
import os
import zipfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import py7zr
import pytest
from backports import zstd
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QImage
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QDialog, QFileDialog, QLineEdit

from kyklon.app.pages.card.bare_metal import BareBench
from kyklon.app.pages.card.dialogs import LossDialog, NameDialog, ShelfDialog
from kyklon.app.pages.card.drive_list import DriveLine
from kyklon.app.pages.card.keep import CompareDialog, KeepBench
from kyklon.app.pages.card.multi_boot import MultiBench
from kyklon.app.pages.card.page import CardPage
from kyklon.app.pages.card.size import SizeBench
from kyklon.app.pages.card.tried_dialog import TriedDialog
from kyklon.base import tools
from kyklon.demo import lighthouse, sets
from kyklon.demo.card_image import boot_files
from kyklon.devices.ports import DriveFacts
from kyklon.devices.simulated.drives import Faults, SimulatedDrive, SimulatedDrives
from kyklon.model.build import CardRecord, CardState, edited
from kyklon.operations.card.drives.interlock import LARGEST_CARD, RULES
from kyklon.operations.card.volumes import compare, contents
from kyklon.record import folder as store
from kyklon.record.shelf import Shelf
from support import Demo

MIB = 1 << 20


def card_page(user: Any) -> CardPage:
    page = user.open(20)
    assert isinstance(page, CardPage)
    return page


def look_again(user: Any, page: CardPage) -> None:
    user.press("Rescan")
    user.wait()


def write_to(user: Any, name: str, lose: str = "") -> None:
    """Choose a drive by its line, press Write, agree."""
    user.choose_drive(name)
    user.wait()

    def agree(dialog: QDialog) -> None:
        assert isinstance(dialog, LossDialog)
        if lose:
            user.bot.keyClicks(dialog.typed, lose)
        user.bot.mouseClick(dialog.write, Qt.MouseButton.LeftButton)

    user.answer(agree, lambda: user.press("Write to"))
    user.wait()


# --- every kind of source ------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def plain(demo_master: Any) -> bytes:
    return lzma.decompress((Path(getattr(demo_master, "folder", demo_master)) / lighthouse.IMAGE).read_bytes())


def sources(folder: Path, plain: bytes) -> dict[str, Path]:
    """The same image in every kind."""
    folder.mkdir()
    made = {
        name: folder / f"quay.img{ending}"
        for name, ending in (("plain", ""), ("xz", ".xz"), ("gz", ".gz"), ("bz2", ".bz2"), ("zst", ".zst"))
    }
    made["plain"].write_bytes(plain)
    made["xz"].write_bytes(lzma.compress(plain, preset=0))
    made["gz"].write_bytes(gzip.compress(plain, 1))
    made["bz2"].write_bytes(bz2.compress(plain, 1))
    made["zst"].write_bytes(zstd.compress(plain))
    made["zip"] = folder / "quay.zip"
    with zipfile.ZipFile(made["zip"], "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
        archive.writestr("inside/quay.img", plain)
    made["7z"] = folder / "quay.7z"
    with py7zr.SevenZipFile(made["7z"], "w", filters=[{"id": py7zr.FILTER_LZMA2, "preset": 0}]) as archive:
        archive.writestr(plain, "quay.img")
    whole = made["xz"].read_bytes()
    for number in range(3):
        part = folder / f"split.img.xz.{number + 1:03}"
        part.write_bytes(whole[number * len(whole) // 3 : (number + 1) * len(whole) // 3])
    made["split"] = folder / "split.img.xz.001"
    names = [made[kind] for kind in ("plain", "gz", "zip", "7z")]
    lines = [f"{hashlib.sha1(path.read_bytes()).hexdigest()}  {path.name}\n" for path in names]
    (folder / "SHA1SUMS").write_text("".join(lines), encoding="utf-8")
    return made


def all_sources(user: Any, drive: str, path: Path, folder: Path, plain: bytes) -> None:
    page = card_page(user)
    lose = ""
    for kind, image in sources(folder, plain).items():
        page.writing.image.use_image(str(image))
        user.wait()
        inside = user.window.session.world.source_contents
        assert inside.kernels, kind
        write_to(user, drive, lose)
        assert user.saved.card.state is CardState.PROVEN, (kind, user.message)
        with path.open("rb") as file:
            assert file.read(len(plain)) == plain, kind
        if drive.startswith("/dev"):
            lose = "QUAYBOOT"
        with path.open("r+b") as file:
            file.seek(5 * MIB)
            file.write(b"spoilt before the next one")
    assert "SHA-1" in user.log[2].detail or kind == "split"


def test_every_kind_of_source_goes_to_a_simulated_drive(user: Any, demo: Demo, plain: bytes) -> None:
    all_sources(user, "blank-card", demo.drive("blank-card"), demo.folder / "images", plain)


@pytest.fixture
def loop(tmp_path: Path) -> Iterator[Path]:
    backing = tmp_path / "backing.img"
    with backing.open("wb") as file:
        file.truncate(128 * MIB)
    device = Path(tools.run(["losetup", "--find", "--show", "--partscan", str(backing)]).decode().strip())
    yield device
    tools.run(["losetup", "-d", str(device)])


@pytest.mark.long
@pytest.mark.skipif(os.geteuid() != 0, reason="loop devices need root")
def test_every_kind_of_source_goes_to_a_loop_device(loop: Path, user: Any, demo: Demo, plain: bytes) -> None:
    (demo.folder / "drives" / "drives.json").unlink()  # the real back end
    page = card_page(user)
    look_again(user, page)
    user.wait(lambda: any(target.facts.name == str(loop) for target in page.drives.targets))
    all_sources(user, str(loop), loop, demo.folder / "images", plain)
    write_to(user, str(loop), "QUAYBOOT")  # over the bytes that were spoilt
    assert contents.observe(loop).root is not None
    boot, root = contents.observe(loop).table.partitions
    for part, check in ((boot, ["fsck.fat", "-n"]), (root, ["e2fsck", "-fn"])):
        piece = demo.folder / "piece"
        with loop.open("rb") as file:
            file.seek(part.start)
            piece.write_bytes(file.read(part.size))
        tools.run([*check, str(piece)])


# --- every rule of the interlock -----------------------------------------------------------------------------

REFUSED: dict[str, tuple[dict[str, Any], str]] = {
    "running-system": ({"in_use": True}, "running system"),
    "swap": ({"swap": True}, "swap space"),
    "lvm": ({"member_of": "LVM"}, "active volume group"),
    "raid": ({"member_of": "RAID"}, "active disk array"),
    "crypt": ({"member_of": "crypt"}, "encrypted volume that is open"),
    "mapped": ({"member_of": "mapped"}, "built on it"),
    "partition": ({"part_of": "big-card"}, "Choose the whole drive"),
    "not-removable": ({"removable": False}, "built in"),
    "is-source": ({"mounts": ("FOLDER",)}, "image file is on this very drive"),
    "mounted": ({"mounts": ("/media/photos",)}, "Unmount it first"),
    "read-only": ({"read_only": True}, "write-protect switch"),
    "too-small": ({"size": 4 * MIB}, "the image needs"),
    "too-large": ({"size": LARGEST_CARD + 1}, "looks like a backup disk"),
}


def test_every_rule_is_seen_refusing_in_the_window(user: Any, demo: Demo) -> None:
    assert {rule.code for rule in RULES} == {*REFUSED, "changed"}  # 'changed' has a test of its own below
    drives = SimulatedDrives(demo.folder / "drives")
    rows = []
    for code, (facts, _words) in REFUSED.items():
        told = {"identity": f"sim:{code}", "name": code, "size": 32 * 10**9, "bus": "usb", "removable": True} | facts
        if code == "is-source":
            told["mounts"] = (str(demo.folder.resolve()),)
        rows.append(SimulatedDrive(facts=DriveFacts(simulated=True, **told), backing=f"{code}.standin"))
    drives.save(tuple(rows))
    page = card_page(user)
    look_again(user, page)
    for code, (_facts, words) in REFUSED.items():
        line = user.line(page, code)
        assert words in line.words, code
        assert not line.allowed
        user.click(line)
        user.bot.keyClick(line, Qt.Key.Key_Return)
        assert not page.write_button.isEnabled()
    assert not list((demo.folder / "drives").glob("*-system.img"))


def test_a_mounted_drive_is_unmounted_by_its_button(user: Any, demo: Demo) -> None:
    facts = demo.target().facts
    demo.drives.change("sim:blank-card", facts=replace(facts, mounts=("/media/blank",)))
    page = card_page(user)
    look_again(user, page)
    user.choose_drive("blank-card")
    assert not page.write_button.isEnabled()
    user.press("Unmount blank-card")
    user.wait()
    assert "unmounted" in user.message
    write_to(user, "blank-card")
    assert user.saved.card.state is CardState.PROVEN


def test_a_drive_exchanged_since_it_was_chosen_is_refused(user: Any, demo: Demo) -> None:
    page = user.choose_drive("blank-card")
    user.wait()
    facts = demo.target().facts
    demo.drives.change("sim:blank-card", facts=replace(facts, identity="sim:another", serial="OTHER"))
    user.answer(lambda dialog: user.press("Write to blank-card", dialog), lambda: user.press("Write to blank-card…"))
    user.wait()
    assert "it was swapped" in user.message
    assert user.saved.card.state is CardState.NEVER
    assert not demo.drive("blank-card").exists()
    line = user.line(page, "blank-card")
    assert "it was swapped" in line.words
    look_again(user, page)
    line = user.line(page, "blank-card")
    assert line.allowed


def test_an_exchanged_drive_is_not_probed_either(user: Any, demo: Demo) -> None:
    bench = keep_bench(user)
    choose(user, bench, "blank-card")
    facts = demo.target().facts
    demo.drives.change("sim:blank-card", facts=replace(facts, identity="sim:another"))
    user.answer(lambda dialog: user.press("Probe blank-card", dialog), lambda: user.press("Probe…"))
    user.wait()
    assert "it was swapped" in bench.result_words()
    assert not demo.drive("blank-card").exists()


# --- bad cards are named ------------------------------------------------------------------------------------------


@pytest.mark.long(keep=2)
@pytest.mark.parametrize(
    ("name", "word"),
    [
        ("bargain-card", "Counterfeit: It claims 128"),
        ("tired-card", "Worn: The 64 KiB at byte 31457280"),
        ("loose-card", "Unplugged:"),
        ("sleepy-hub", "Asleep:"),
    ],
)
def test_bad_cards_are_named_on_the_page(name: str, word: str, user: Any) -> None:
    write_to(user, name)
    page = card_page(user)
    assert page.writing.verdict_words().startswith(word)
    assert user.saved.card.state is CardState.FAILED
    assert "card.not-bootable" in user.stops


@pytest.mark.long
def test_a_slow_card_is_named_and_proven(user: Any, demo: Demo) -> None:
    demo.drives.change("sim:slow-card", faults=Faults(rate=25_000_000))
    user.window.session.put("Card", user.window.session.build.with_part("card", "cockle-128"))  # class U3: 30 MB/s
    write_to(user, "slow-card")
    page = card_page(user)
    assert page.writing.verdict_words().startswith("Slow:")
    assert "30 MB/s" in page.writing.verdict_words()
    assert page.strip_state() == "written and proven · slow"
    assert user.saved.card.state is CardState.PROVEN


# --- pausing, the proof, the shelf --------------------------------------------------------------------------------


def test_a_write_is_paused_and_goes_on_by_its_button(user: Any, demo: Demo) -> None:
    demo.drives.change("sim:blank-card", faults=Faults(rate=60 << 20))
    page = user.choose_drive("blank-card")
    user.wait()
    jobs = user.window.session.jobs
    user.answer(lambda dialog: user.press("Write to blank-card", dialog), lambda: user.press("Write to blank-card…"))
    user.bot.waitUntil(lambda: any(job.progress and job.progress.done for job in jobs.running), timeout=180_000)
    user.press("Pause")
    (job,) = [job for job in jobs.running if job.title == "Writing the card"]
    assert job.cancel.paused
    user.press("Resume")
    assert not job.cancel.paused
    user.wait()
    assert page.strip_state() == "written and proven"


def test_the_proof_is_saved_as_pdf_and_png(user: Any, demo: Demo, monkeypatch: pytest.MonkeyPatch) -> None:
    write_to(user, "blank-card")
    for ending in ("pdf", "png"):
        path = demo.folder / "issued" / f"proof.{ending}"
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, path=path, **_k: (str(path), ""))
        user.press("Proof sheet")
        user.window.session.flush()
        assert path.exists()
    assert (demo.folder / "issued" / "proof.pdf").read_bytes().startswith(b"%PDF-")
    picture = QImage(str(demo.folder / "issued" / "proof.png"))
    assert abs(picture.height() / picture.width() - 297 / 210) < 0.01  # ISO 216: A4
    assert "Proof sheet saved" in user.log[0].title
    user.press("Remove safely")
    user.wait()
    assert "safe to remove" in user.message


def test_the_shelf_knows_the_image_and_its_first_login(user: Any, demo: Demo) -> None:
    card_page(user)

    def look(dialog: QDialog) -> None:
        assert isinstance(dialog, ShelfDialog)
        words = " ".join(str(row) for row in dialog._rows)
        assert "quayside-4.2.img.xz" in words
        user.press("Use this image", dialog)

    user.answer(look, lambda: user.press("Shelf…"))
    user.wait()
    assert user.saved.source.path.endswith("quayside-4.2.img.xz")
    (kept,) = Shelf(demo.folder / lighthouse.SHELF).images()
    assert (kept.user, kept.password, kept.released) == ("player", "quayside", "2026-06-01")
    assert kept.checksum.startswith("SHA-256 ")

    def take_off(dialog: QDialog) -> None:
        user.press("Remove from the shelf", dialog)
        dialog.reject()

    user.answer(take_off, lambda: user.press("Shelf…"))
    user.wait()
    assert Shelf(demo.folder / lighthouse.SHELF).images() == ()


# --- looking after ------------------------------------------------------------------------------------------------


def keep_bench(user: Any) -> KeepBench:
    page = card_page(user)
    user.press("Check and back up")
    assert isinstance(page.bench, KeepBench)
    return page.bench


def choose(user: Any, bench: KeepBench, name: str) -> None:
    def lines() -> list[DriveLine]:
        return [line for line in bench.drive_list.lines if line.accessibleName().startswith(f"{name},")]

    user.wait(lambda: bool(lines()))
    user.click(lines()[0])
    user.wait()


def test_a_press_is_not_lost_when_the_drives_are_read_again(user: Any) -> None:
    bench = keep_bench(user)
    user.wait(lambda: bool(bench.drive_list.lines))
    rows = tuple((target.facts, verdict) for target, verdict in bench.drives.rows())
    bench.drive_list.show_drives(rows, "")  # as they are now, whatever was read since the page opened
    line = next(line for line in bench.drive_list.lines if line.accessibleName().startswith("blank-card,"))
    user.wait(lambda: line.isVisible() and line.height() == line.sizeHint().height())  # laid out
    line.setFocus()
    QTest.mousePress(line, Qt.MouseButton.LeftButton)
    rows = tuple((replace(facts, model="read again"), verdict) for facts, verdict in rows)
    bench.drive_list.show_drives(rows[::-1], "")
    user.wait()
    assert user.window.focusWidget() is line
    QTest.mouseRelease(line, Qt.MouseButton.LeftButton)
    user.wait(lambda: bench.drives.chosen is not None)
    assert bench.drives.chosen.facts.name == "blank-card"


def test_backed_up_restored_to_a_larger_card_and_compared(
    user: Any, demo: Demo, monkeypatch: pytest.MonkeyPatch
) -> None:
    write_to(user, "blank-card")
    bench = keep_bench(user)
    choose(user, bench, "blank-card")
    to = demo.folder / "attachments" / "card-1.img.zst"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(to), ""))
    user.press("Back up…")
    user.wait()
    assert "is backed up as card-1.img.zst" in bench.result_words()
    choose(user, bench, "large-card")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(to), ""))
    user.answer(lambda dialog: user.press("Restore onto large-card", dialog), lambda: user.press("Restore…"))
    user.wait()
    assert "Restored onto large-card" in bench.result_words()
    user.answer(
        lambda dialog: user.press("blank-card", dialog) if isinstance(dialog, CompareDialog) else None,
        lambda: user.press("Compare with…"),
    )
    user.wait()
    assert "large-card and blank-card are the same" in bench.result_words()
    assert f"{len(boot_files())} files" in bench.result_words()
    names = {card.name: [event.what for event in card.events] for card in user.saved.cards}
    assert names == {
        "Card 1": ["written and read back", "backed up"],
        "Card 2": ["written and read back"],
    }
    assert compare.compare(
        compare.side("a", demo.drive("blank-card")), compare.side("b", demo.drive("large-card"))
    ).same


def test_a_counterfeit_is_probed_and_named(user: Any) -> None:
    bench = keep_bench(user)
    choose(user, bench, "bargain-card")
    user.answer(lambda dialog: user.press("Probe bargain-card", dialog), lambda: user.press("Probe…"))
    user.wait()
    assert "bargain-card: counterfeit" in bench.result_words()
    assert "holds 50.3" in bench.result_words()


def test_a_stick_is_made_a_plain_fat_card_only_when_named(user: Any, demo: Demo) -> None:
    bench = keep_bench(user)
    choose(user, bench, "photo-stick")
    before = demo.drive("photo-stick").read_bytes()

    def careless(dialog: QDialog) -> None:
        assert isinstance(dialog, LossDialog)
        for words in ("", "yes", "photo-stick"):
            dialog.typed.setText(words)
            assert not dialog.write.isEnabled()
        dialog.typed.setText("HOLIDAY 24")
        dialog.volume.setText("not a label!")
        assert not dialog.write.isEnabled()
        user.bot.keyClick(dialog, Qt.Key.Key_Escape)

    user.answer(careless, lambda: user.press("Format…"))
    user.wait()
    assert demo.drive("photo-stick").read_bytes() == before

    def named(dialog: QDialog) -> None:
        assert isinstance(dialog, LossDialog)
        user.bot.keyClicks(dialog.typed, "HOLIDAY 24")
        user.bot.mouseClick(dialog.write, Qt.MouseButton.LeftButton)

    user.answer(named, lambda: user.press("Format…"))
    user.wait()
    assert "formatted as FAT32, label “GAMES”" in bench.result_words()


def test_a_card_gets_a_name_of_its_own(user: Any) -> None:
    write_to(user, "blank-card")
    bench = keep_bench(user)
    choose(user, bench, "blank-card")

    def name_it(dialog: QDialog) -> None:
        assert isinstance(dialog, NameDialog)
        edit = dialog.findChild(QLineEdit)
        edit.clear()
        user.bot.keyClicks(edit, "Lighthouse one")
        user.press("Rename", dialog)

    user.answer(name_it, lambda: user.press("Name…"))
    assert user.saved.cards[0].name == "Lighthouse one"
    user.window.session.undo()
    assert user.saved.cards[0].name == "Card 1"


# --- bare metal, multi-boot, size ---------------------------------------------------------------------------------


def test_the_bare_metal_bench_shows_every_mistake_and_mends_names(user: Any, demo: Demo) -> None:
    page = card_page(user)
    user.press("Bare metal")
    bench = page.bench
    assert isinstance(bench, BareBench)
    user.wait(lambda: bench.plan is not None)
    assert {problem.code for problem in bench.plan.problems} == set(sets.BARE_METAL_MISTAKES)
    assert not bench._make.isEnabled()
    while any(line.remedy for line in bench._list.lines):
        user.press("Rename", bench._list)
        user.wait()
    assert (demo.folder / "sets" / "tidepool-2.1" / "tidepool.set").exists()
    sets.make_bare_metal(demo.folder / "sets" / "whole", mistakes=False)
    user.window.session.edit("sets.bare_metal", "sets/whole")
    user.wait(lambda: bench.plan is not None and bench.plan.ready)
    bench._drive.setCurrentIndex(bench._drive.findData("sim:blank-card"))
    bench.refresh()
    user.answer(lambda dialog: user.press("Make the card", dialog), lambda: user.press("Make the card…"))
    user.wait()
    assert "read back and the same" in user.message
    assert contents.observe(demo.drive("blank-card")).kernel("tidepool-armv7.krn") is not None


def test_the_multi_boot_bench_shows_every_mistake_and_lays_out(
    user: Any, demo: Demo, monkeypatch: pytest.MonkeyPatch
) -> None:
    page = card_page(user)
    user.press("Multi-boot")
    bench = page.bench
    assert isinstance(bench, MultiBench)
    user.wait(lambda: bench.check is not None)
    assert {problem.code for problem in bench.check.problems} == set(sets.MULTI_BOOT_MISTAKES)
    sets.make_multi_boot(demo.folder / "sets" / "whole", mistakes=False)
    user.window.session.edit("sets.multi_boot", "sets/whole")
    user.wait(lambda: bench.check is not None and bench.check.ready)
    need = bench.check.need
    bench.boxes["jetty"].click()
    user.wait(lambda: len(bench.check.chosen) == 3)
    assert bench.check.need < need
    assert user.saved.sets.chosen == ("quayside", "harbour", "breakwater")
    to = demo.folder / "stick"
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_a, **_k: str(to))
    user.press("Copy to a stick…")
    user.wait()
    assert sorted(path.name for path in (to / "berths").iterdir()) == ["breakwater", "harbour", "quayside"]


def test_the_size_bench_advises_and_a_disk_brings_its_findings(user: Any) -> None:
    page = card_page(user)
    user.press("Size and disk")
    bench = page.bench
    assert isinstance(bench, SizeBench)
    user.wait(lambda: bench.sizing is not None)
    assert bench.sizing.advice == "cockle-16"
    for choice, value in ((bench._medium, "disk"), (bench._disk, "barnacle-256"), (bench._bridge, "capstan-plain")):
        choice.setCurrentIndex(choice.findData(value))
        choice.activated.emit(choice.currentIndex())
    assert {"disk.board", "disk.uas", "disk.root"} <= set(user.stops)
    finding = next(each for each in user.window.session.findings if each.code == "disk.uas")
    user.answer(lambda dialog: user.press("Change the build", dialog), lambda: user.window.preview_finding(finding))
    assert "disk.uas" not in user.stops
    assert "usb-storage.quirks=6b79:0c02:u" in user.saved.boot.kernel_words


def test_every_bench_is_reached_by_the_keyboard_and_draws(user: Any) -> None:
    page = card_page(user)
    page.segments.buttons[0].setFocus()
    for index in range(1, 5):
        user.bot.keyClick(page.segments.buttons[index - 1], Qt.Key.Key_Right)
        user.wait()
        assert page._index == index
        assert page.instrument() is not None
        assert not page.grab().isNull()


def test_while_a_card_is_read_back_nothing_says_that_it_was_not(user: Any, demo: Demo) -> None:
    """The act records on disk that the table is written; the window that does the act takes that for its own."""
    session = user.window.session
    record = CardRecord(drive="sim:blank-card", state=CardState.WRITING, at="2026-01-01T00:00:00")
    session.card_happened(record)
    user.wait()
    later = record.model_copy(update={"state": CardState.UNPROVEN, "at": "2026-01-01T00:00:05"})
    store.update(demo.folder, lambda build: edited(build, "card", later))
    session._keeper.look()
    session.flush()
    user.bot.wait(50)
    assert session.build.card.state is CardState.WRITING
    session.card_happened(later.model_copy(update={"state": CardState.PROVEN, "at": "2026-01-01T00:00:09"}))
    user.wait()
    assert user.saved.card.state is CardState.PROVEN


def test_what_was_seen_of_a_system_is_kept_and_shown(user: Any) -> None:
    page = card_page(user)
    user.press("Multi-boot")
    bench = page.bench
    user.wait(lambda: "harbour" in bench.boxes)
    line = bench.boxes["harbour"].parentWidget()

    def answer(dialog: TriedDialog) -> int:
        assert not dialog.returned.isEnabled()
        dialog.started.setChecked(True)
        user.bot.keyClicks(dialog.kernel, "Linux 6.6 aarch64")
        assert dialog._bits.text() == "A 64-bit system"
        return 1

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(TriedDialog, "exec", answer)
        user.click(line._note)
    user.wait(lambda: "started, 64-bit, did not return" in bench.boxes["harbour"].parentWidget()._seen.text())
    assert any("did not return to the list" in each.sentence for each in bench._list.lines)
    assert user.window.session.build.sets.tried[0].bundle == "harbour"


def test_a_card_is_remembered_and_what_changed_is_shown(user: Any) -> None:
    bench = keep_bench(user)
    user.wait(lambda: bool(bench.drive_list.lines))
    name = next(each.facts.name for each in bench.drives.targets if bench.drives.written_path(each) is not None)
    choose(user, bench, name)
    user.press("What changed?")
    user.wait(lambda: bench._told is not None)
    assert "not remembered its card" in bench._detail.text()
    user.press("Remember it")
    user.wait(lambda: "is remembered" in bench._title.text())
    user.press("What changed?")
    user.wait(lambda: "nothing changed" in bench._title.text())
    assert bench._told.lamp == "clear"
