"""Backing up, restoring, comparing and preparing cards, on the demo's simulated drives."""

from __future__ import annotations

import hashlib
from pathlib import Path

import pytest

from kyklon.base.errors import BadBlock, Cancelled, Refused, SourceError, TargetLost, WrongUse
from kyklon.base.progress import CancelToken, Progress, Watch
from kyklon.demo.card_image import boot_files
from kyklon.devices.ports import Target
from kyklon.devices.simulated.drives import Faults
from kyklon.model.build import CardState
from kyklon.operations.card.acts import CardJob, backup_card, compare_cards, prepare_card
from kyklon.operations.card.drives import backup, looking, prepare
from kyklon.operations.card.drives.fat_files import FatFiles
from kyklon.operations.card.drives.interlock import Purpose, Request, opened
from kyklon.operations.card.drives.outlook import expansion
from kyklon.operations.card.sources import source
from kyklon.operations.card.volumes import compare, contents, partitions, usage
from kyklon.operations.card.volumes import survey as volumes
from kyklon.operations.card.volumes.fat import FatVolume
from support import MIB, Demo, simulated


@pytest.fixture
def card(demo: Demo) -> Target:
    """The demo's card, written and proven."""
    assert demo.write().bad is None
    return demo.target("blank-card")


@pytest.mark.long(keep=2)
@pytest.mark.parametrize("ending", backup.ENDINGS)
def test_a_backup_restores_to_a_larger_card_that_compares_as_the_same(ending: str, card: Target, demo: Demo) -> None:
    to = demo.folder / f"kept{ending}"
    seen: list[Progress] = []
    report, _event = backup_card(demo.job(), to, watch=Watch(seen.append))
    assert report.read < report.size / 4  # most of the card is not in use
    assert seen[-1].done == seen[-1].total == report.read
    facts = source.inspect(to)
    assert facts.unpacked == report.size
    larger = demo.target("large-card")
    ended = demo.write("large-card", to)
    assert ended.bad is None
    assert ended.report is not None
    assert ended.report.checked.startswith("SHA-256")
    found = compare.compare(compare.side("a", card.path), compare.side("b", larger.path))
    assert found.same
    assert found.same_files == len(boot_files())
    assert compare_cards(compare.side("a", to), compare.side("b", larger.path), demo.folder).same
    assert contents.observe(larger.path).root == contents.observe(card.path).root


def test_a_damaged_backup_is_not_restored(card: Target, demo: Demo) -> None:
    to = demo.folder / "kept.img.gz"
    backup_card(demo.job(), to)
    side = to.with_name("kept.img.gz.sha256")
    side.write_text(side.read_text(encoding="utf-8").replace("a", "b", 3), encoding="utf-8")
    larger = demo.target("large-card")
    ended = demo.write("large-card", to)
    assert isinstance(ended.bad, SourceError)
    assert not any(larger.path.read_bytes()[:512])


def test_a_backup_writes_over_nothing_and_leaves_nothing_half_done(card: Target, demo: Demo) -> None:
    to = demo.folder / "kept.img.zst"
    to.write_bytes(b"mine")
    with pytest.raises(WrongUse, match="already exists"):
        backup_card(demo.job(), to)
    assert to.read_bytes() == b"mine"
    with pytest.raises(WrongUse, match=r"img\.zst"):
        backup_card(demo.job(), demo.folder / "kept.tar")
    cancel = CancelToken()
    cancel.cancel()
    with pytest.raises(Cancelled):
        backup_card(demo.job(), demo.folder / "other.img.zst", watch=Watch(cancel=cancel))
    for faults, error in ((Faults(unplugged_at=10 * MIB), TargetLost), (Faults(bad_block_at=5 * MIB), BadBlock)):
        demo.drives.change("sim:blank-card", faults=faults)
        with pytest.raises(error):
            backup_card(demo.job(), demo.folder / "other.img.zst")
    assert not list(demo.folder.glob("other*"))


def test_unused_bytes_do_not_reach_the_backup(card: Target, demo: Demo) -> None:
    kept = usage.usage(card.path, card.facts.size)
    secret = b"left over from an older owner"
    free = next(end for start, end in kept.used if end < kept.end)
    with card.path.open("r+b") as file:
        file.seek(free + 4096)
        file.write(secret)
    to = demo.folder / "kept.img"
    backup_card(demo.job(), to)
    assert secret in card.path.read_bytes()
    assert secret not in to.read_bytes()


def test_a_card_without_file_systems_is_kept_whole(demo: Demo) -> None:
    target = demo.target("small-card")
    target.path.write_bytes(b"data of no known kind" * 1000)
    report, _event = backup_card(demo.job("small-card"), demo.folder / "kept.img.zst")
    assert report.size == report.read == target.facts.size
    assert "All of it is kept" in report.notes[0]


def test_every_difference_between_two_cards_is_told(card: Target, demo: Demo) -> None:
    other = demo.folder / "other.img"
    other.write_bytes(card.path.read_bytes())
    table = contents.observe(other).table
    assert table is not None
    boot, root = table.boot(), table.root()
    assert boot is not None
    assert root is not None
    volume = FatVolume(other, boot.start)
    config = bytearray(volume.read("merrow.settings"))
    config[30] ^= 1
    with opened(Request(looking.find(str(other), None), Purpose.EDIT)) as place:
        FatFiles(place, boot.start).replace({"merrow.settings": bytes(config), "extra.txt": b"new"})
    used = usage.usage(other, root.end).used
    inside = max(start for start, _end in used if start >= root.start)
    with other.open("r+b") as file:
        file.seek(inside)
        byte = file.read(1)
        file.seek(inside)
        file.write(bytes([byte[0] ^ 0xFF]))
    found = compare.compare(compare.side("a", card.path), compare.side("b", other))
    told = {each.name.lower(): (each.kind, each.offset) for each in found.files}
    assert told == {"merrow.settings": ("differs", 30), "extra.txt": ("only in the second", None)}
    assert {part.number: part.offset for part in found.parts} == {1: None, 2: inside - root.start}
    assert not found.same
    words = compare.in_words(found)
    assert "merrow.settings: differs from byte 30" in words


def test_comparing_what_has_no_table_is_told(card: Target, demo: Demo) -> None:
    stick = demo.folder / "nothing.img"
    stick.write_bytes(bytes(MIB))
    with pytest.raises(WrongUse, match="no partition table"):
        compare.compare(compare.side("a", card.path), compare.side("b", stick))


def test_a_plain_fat_card_has_nothing_old_on_it(card: Target, demo: Demo) -> None:
    before = volumes.survey(card.path)
    assert [volume.label for volume in before.volumes] == ["QUAYBOOT", "quayroot"]
    done, _event = prepare_card(demo.job(), "games 1")
    after = volumes.survey(card.path)
    assert [(volume.kind, volume.label, volume.files) for volume in after.volumes] == [("FAT32", "GAMES 1", 0)]
    assert len(done.cleared) == 2
    with card.path.open("rb") as file:
        file.seek(before.volumes[1].start)
        assert not any(file.read(4 * MIB))  # where the old file system began
    build = demo.build
    assert build.card.state is CardState.NEVER
    known = build.known_card("sim:blank-card")
    assert known is not None
    assert [event.what for event in known.events] == ["written and read back", "made a plain FAT card"]


@pytest.mark.parametrize(
    ("size", "kind", "cluster"),
    [(64 * MIB, "FAT16", 2048), (600 * MIB, "FAT32", 4096), (12 << 30, "FAT32", 8192), (60 << 30, "FAT32", 32768)],
)
def test_cluster_sizes_follow_the_size(size: int, kind: str, cluster: int, tmp_path: Path) -> None:
    target = simulated(tmp_path, size=size)
    done, _event = prepare_card(CardJob(target), "CARD")
    assert (done.kind, done.cluster) == (kind, cluster)


@pytest.mark.parametrize("label", ["", "far too long a label", "a.b", "Café", "x\n"])
def test_labels_that_fat_cannot_keep_are_refused_before_anything_is_written(label: str, demo: Demo) -> None:
    target = demo.target("blank-card")
    if label.strip() != "x":
        with pytest.raises(WrongUse, match="label"):
            prepare_card(demo.job(), label)
        assert not target.path.exists()
    else:
        assert prepare.check_label(label) == "X"


def test_preparing_needs_the_interlock(demo: Demo) -> None:
    stick = demo.target("photo-stick")
    before = hashlib.sha256(stick.path.read_bytes()).digest()
    with pytest.raises(Refused, match="HOLIDAY 24"):
        prepare_card(demo.job("photo-stick"), "GAMES")
    assert hashlib.sha256(stick.path.read_bytes()).digest() == before


def test_the_root_partition_grows_to_the_drives_end() -> None:
    grown = expansion(88_080_384, 54_525_952, 31_914_983_424)
    assert grown is not None
    assert (grown.start, grown.grown_end) == (54_525_952, 31_914_983_424)
    assert expansion(88_080_384, 54_525_952, 88_080_384) is None


def test_a_survey_tells_what_is_on_the_stick(demo: Demo) -> None:
    found = volumes.survey(demo.drive("photo-stick"))
    (volume,) = found.volumes
    assert (volume.label, volume.kind, volume.files) == ("HOLIDAY 24", "FAT32", 48)
    assert volume.used is not None
    assert volume.used > 48 * 20_000
    assert found.files == 48


def test_a_stick_without_a_table_is_surveyed_too(tmp_path: Path) -> None:
    from kyklon.base import tools

    path = tmp_path / "stick.img"
    with path.open("wb") as file:
        file.truncate(40 * MIB)
    tools.run(["mkfs.fat", "-F", "16", "-n", "BARE", str(path)])
    found = volumes.survey(path)
    assert [(volume.number, volume.kind, volume.label) for volume in found.volumes] == [(0, "FAT16", "BARE")]
    with pytest.raises(Exception, match=r"55 aa|start and a size|00 or 80"):
        partitions.parse(b"\x01" * 510 + b"\x55\xaa")
