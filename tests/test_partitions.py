"""The partition table parser and the kernel detector, fuzzed and by construction."""

from __future__ import annotations

import itertools
import shutil
import struct
import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kyklon.base.errors import FormatError
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board
from kyklon.catalogue.text_records import Dialect
from kyklon.demo.noise import device_tree, kernel_32, kernel_64, noise
from kyklon.model.card import PartitionTable
from kyklon.operations.boot.placing import sets_in_words, startable_sets
from kyklon.operations.card.volumes import boot_facts, partitions


def sector(*entries: tuple[int, int, int]) -> bytes:
    data = bytearray(512)
    for index, (kind, start, size) in enumerate(entries):
        at = 446 + 16 * index
        data[at + 4] = kind
        data[at + 8 : at + 16] = start.to_bytes(4, "little") + size.to_bytes(4, "little")
    data[510:] = b"\x55\xaa"
    return bytes(data)


@given(st.binary(min_size=0, max_size=600))
def test_any_bytes_give_a_table_or_the_one_error(data: bytes) -> None:
    try:
        table = partitions.parse(data)
    except FormatError as bad:
        assert 0 <= bad.offset <= 512
    else:
        assert len(table.partitions) <= 4


@given(st.binary(min_size=64, max_size=64))
def test_any_entries_behind_a_right_signature(entries: bytes) -> None:
    data = bytes(446) + entries + b"\x55\xaa"
    try:
        table = partitions.parse(data)
    except FormatError as bad:
        assert 446 <= bad.offset < 510
    else:
        ends = sorted((part.start, part.end) for part in table.partitions)
        assert all(a[1] <= b[0] for a, b in itertools.pairwise(ends))


def test_partitions_that_overlap_are_told() -> None:
    with pytest.raises(FormatError, match="inside partition 1"):
        partitions.parse(sector((0x0C, 100, 1000), (0x83, 500, 1000)))


def test_boot_and_root_are_found_by_type() -> None:
    table = partitions.parse(sector((0x82, 10, 10), (0x83, 300, 50), (0x0C, 100, 100)))
    assert (table.boot().number, table.root().number) == (3, 2)
    assert table.boot().word == "FAT32"


@pytest.mark.parametrize("kind", ["ARMv6", "ARMv7"])
def test_32_bit_kernels_tell_their_set_inside_their_packed_body(kind: str) -> None:
    assert boot_facts.kernel_set(kernel_32(kind)) == kind


@pytest.mark.parametrize("packer", ["gzip -9", "xz --check=crc32 --arm --lzma2=dict=32MiB", "xz --format=lzma -9"])
@pytest.mark.parametrize("words", ["6.1.0-57-armmp SMP mod_unload modversions ARMv7 p2v8 ", "ARMv7 Processor", ""])
def test_a_kernel_packed_as_its_own_build_packs_it(packer: str, words: str) -> None:
    """By the programs that arch/arm/boot/compressed/Makefile calls; the words are from a distribution's kernel: one
    without modules has no release beside its set, and one that says nothing is for any."""
    program = packer.split()[0]
    if shutil.which(program) is None:
        pytest.skip(f"{program} is not installed")
    body = noise("body", 200_000) + b"\0" + words.encode() + b"\0" + noise("rest", 1000)
    packed = subprocess.run(packer.split(), input=body, capture_output=True, check=True).stdout
    head = bytearray(0x40)
    struct.pack_into("<II", head, 0x24, 0x016F2818, 0)
    unpacker = b"".join((b"\xfd7zXZ\0", b"\x5d\0\0\x80", b"\x1f\x8b\x08", bytes(40)))  # it knows such marks too
    kernel = bytes(head) + unpacker + packed + len(body).to_bytes(4, "little")
    assert boot_facts.unpacked_payload(kernel) == body
    assert boot_facts.kernel_set(kernel) == ("ARMv7" if words else boot_facts.UNKNOWN_32)
    hurt = bytearray(kernel)
    hurt[len(kernel) // 2] ^= 0x10  # one bit of what is packed
    found = boot_facts.kernel_of("zImage", len(hurt), bytes(hurt))
    assert found is not None
    assert "cannot be unpacked" in found.trouble
    other = boot_facts.kernel_of("zImage", len(hurt), bytes(hurt[:0x40]) + b"\x02\x21\x4c\x18" + bytes(hurt[0x44:]))
    assert other is not None
    assert not other.trouble  # LZ4: not read here
    cut = boot_facts.kernel_of("zImage", 40, kernel[:40])
    assert cut is not None
    assert "cut short" in cut.trouble


def test_a_loader_by_labels_starts_what_it_is_itself(catalogue: Catalogue) -> None:
    """U-Boot 2023.01 for 32 and for 64 bits: zImages by the one, Images by the other."""
    labels, own = catalogue.get(Dialect, "extlinux"), catalogue.get(Dialect, "merrow")
    narrow, wide = catalogue.get(Board, "herring"), catalogue.get(Board, "cod")
    assert startable_sets(narrow, labels) == (*narrow.runs, boot_facts.UNKNOWN_32)
    assert startable_sets(wide, labels) == ("ARMv8",)
    assert set(wide.runs) <= set(startable_sets(wide, own))
    assert sets_in_words(startable_sets(narrow, labels)) == "ARMv7"


def test_other_kernels_and_files() -> None:
    assert boot_facts.kernel_set(kernel_64()) == "ARMv8"
    broken = bytearray(kernel_32("ARMv7"))
    broken[0x60:] = bytes(len(broken) - 0x60)
    assert boot_facts.kernel_set(bytes(broken)) == "ARM 32-bit"
    assert boot_facts.kernel_set(device_tree("x", "y")) == ""
    assert boot_facts.kernel_set(b"") == ""


@given(st.binary(max_size=300))
def test_no_file_upsets_the_kernel_detector(data: bytes) -> None:
    assert boot_facts.kernel_set(data) in ("", "ARMv6", "ARMv7", "ARMv8", "ARM 32-bit")


# --- as a kernel reads them (block/partitions/msdos.c and efi.c, 6.1) ----------------------------------------------


def entry(kind: int, start: int, count: int, mark: int = 0) -> bytes:
    return bytes([mark, 0, 0, 0, kind, 0, 0, 0]) + start.to_bytes(4, "little") + count.to_bytes(4, "little")


def sector_of(*entries: bytes) -> bytes:
    return bytes(446) + b"".join(entries).ljust(64, b"\0") + b"\x55\xaa"


def table_of(disk: bytes, size: int = 0) -> PartitionTable:
    return partitions.read_table(lambda at, length: disk[at : at + length], size, strict=False)


def test_a_chain_numbers_what_it_finds() -> None:
    """An empty first sector of the chain: the partition in the second is p5."""
    disk = bytearray(4096 * 512)
    disk[:512] = sector_of(entry(0x83, 100, 100), entry(0x05, 1000, 2000))
    disk[1000 * 512 : 1001 * 512] = sector_of(entry(0, 0, 0), entry(0x05, 500, 500))
    disk[1500 * 512 : 1501 * 512] = sector_of(entry(0x83, 10, 90), entry(0x05, 800, 200))
    disk[1800 * 512 : 1801 * 512] = sector_of(entry(0x83, 1, 9))
    assert [(part.number, part.start // 512) for part in table_of(bytes(disk)).partitions] == [
        (1, 100),
        (2, 1000),
        (5, 1510),
        (6, 1801),
    ]
    disk[1000 * 512 : 1001 * 512] = bytes(512)  # a blank beginning ends the chain, and spoils nothing else
    assert [part.number for part in table_of(bytes(disk)).partitions] == [1, 2]


def test_a_protective_entry_counts_in_any_place_and_hides_the_rest() -> None:
    disk = bytes(sector_of(entry(0x83, 100, 100), entry(0xEE, 1, 0))) + bytes(100 * 512)
    with pytest.raises(FormatError, match="EFI PART"):
        table_of(disk)
    with pytest.raises(FormatError, match="from sector 1"):
        table_of(bytes(sector_of(entry(0x83, 100, 100), entry(0xEE, 63, 99))) + bytes(100 * 512))


def test_a_gpt_made_for_a_larger_disk_is_none(tmp_path: Path) -> None:
    """sgdisk makes it for 64 MiB; the card has 32."""
    disk = tmp_path / "disk.img"
    disk.write_bytes(bytes(64 << 20))
    subprocess.run(["sgdisk", "-n", "1:2048:+8M", disk], check=True, capture_output=True)
    data = disk.read_bytes()
    assert table_of(data, len(data)).partitions[0].number == 1
    with pytest.raises(FormatError, match="usable sectors up to"):
        table_of(data[: 32 << 20], 32 << 20)
    moved = bytearray(data)
    moved[512:1024] = data[-512:]  # the second header in the first one's place
    with pytest.raises(FormatError):
        table_of(bytes(moved[: 32 << 20]), 32 << 20)
