"""The partition table parser and the kernel detector, fuzzed and by construction."""

from __future__ import annotations

import itertools

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kyklon.base.errors import FormatError
from kyklon.demo.noise import device_tree, kernel_32, kernel_64
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
