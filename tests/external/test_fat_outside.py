"""The FAT reader beside mtools and mkfs.fat (dosfstools): the same files, bytes, dates and free space."""

from __future__ import annotations

import random
import re
from pathlib import Path

import pytest

from kyklon.base import tools
from kyklon.base.errors import FormatError
from kyklon.operations.card.volumes.fat_reader import FatReader, geometry
from kyklon.operations.card.volumes.partitions import reader
from support import MIB

ENVIRONMENT = {"MTOOLS_SKIP_CHECK": "1", "MTOOLSRC": "/dev/null"}


def mtools(path: Path, program: str, *words: str) -> bytes:
    return tools.run([program, "-i", str(path), *words], environment=ENVIRONMENT)


@pytest.fixture(params=[(12, 2, 1), (12, 4, 8), (16, 20, 2), (16, 64, 8), (32, 40, 1), (32, 300, 8)])
def volume(request: pytest.FixtureRequest, tmp_path: Path) -> tuple[Path, dict[str, bytes], int]:
    """A volume with random files in folders three deep, some deleted again so that chains are in pieces."""
    bits, mib, per_cluster = request.param
    path = tmp_path / "volume.img"
    with path.open("wb") as file:
        file.truncate(mib * MIB)
    tools.run(["mkfs.fat", "-F", str(bits), "-s", str(per_cluster), "-n", "OUTSIDE", str(path)])
    rng = random.Random(bits * mib)
    names = [
        "KERNEL.IMG",
        "lower.txt",
        "Mixed.Case",
        "a name far longer than eight and three.txt",
        "x",
        "ümläut ж.dat",
        "two words.tar.gz",
        "no_ending",
        "UPPER.txt",
        "tail.TXT",
        "odd;=+.bin",
    ]
    kept: dict[str, bytes] = {}
    for folder in ("", "one", "one/two", "one/two/a folder with a long name"):
        if folder:
            mtools(path, "mmd", f"::/{folder}")
        for name in rng.sample(names, 6):
            data = rng.randbytes(rng.choice((0, 1, 511, 512, 513, 4096, 20_001)))
            held = tmp_path / "held"
            held.write_bytes(data)
            target = f"{folder}/{name}".lstrip("/")
            mtools(path, "mcopy", "-o", str(held), f"::/{target}")
            kept[target] = data
    for target in rng.sample(sorted(kept), 5):
        mtools(path, "mdel", f"::/{target}")
        del kept[target]
    held.write_bytes(rng.randbytes(30_000))
    mtools(path, "mcopy", str(held), "::/in pieces.bin")
    kept["in pieces.bin"] = held.read_bytes()
    return path, kept, bits


def test_the_same_files_bytes_and_free_space(volume: tuple[Path, dict[str, bytes], int]) -> None:
    path, kept, bits = volume
    with path.open("rb") as file:
        fat = FatReader(reader(file.fileno()), 0)
        assert fat.geometry.kind == f"FAT{bits}"
        found = {each.path: each for each in fat.files()}
        assert set(found) == set(kept)
        for name, each in found.items():
            assert each.size == len(kept[name])
            assert fat.read(each, 1 << 20) == kept[name]
            assert fat.read(each, 100) == kept[name][:100]
        told = re.search(r"([\d ]+) bytes free", mtools(path, "mdir", "::/").decode("cp437"))
        assert told is not None
        assert fat.free_bytes() == int(told[1].replace(" ", ""))
        day = re.search(r"in pieces.*|INPIEC~1 BIN +\d+ (\S+)", mtools(path, "mdir", "::/").decode("cp437"))
        assert day is not None
        assert found["in pieces.bin"].modified in mtools(path, "mdir", "::/").decode("cp437")


def test_a_folder_that_contains_itself_and_a_chain_that_goes_round_are_told(tmp_path: Path) -> None:
    path = tmp_path / "round.img"
    with path.open("wb") as file:
        file.truncate(4 * MIB)
    tools.run(["mkfs.fat", "-F", "12", "-s", "4", str(path)])
    mtools(path, "mmd", "::/one")
    mtools(path, "mmd", "::/one/two")
    data = bytearray(path.read_bytes())
    shape = geometry(bytes(data[:512]))
    one = shape.data  # cluster 2: the first folder
    entry = data.index(b"TWO        ", one)
    data[entry + 26 : entry + 28] = (2).to_bytes(2, "little")  # two is one
    path.write_bytes(data)
    with path.open("rb") as file, pytest.raises(FormatError, match="contains itself"):
        list(FatReader(reader(file.fileno()), 0).files())
    data[entry + 26 : entry + 28] = (3).to_bytes(2, "little")
    table = shape.table
    data[table + 4 : table + 6] = (3 << 4 | data[table + 4] & 0x0F).to_bytes(2, "little")  # cluster 3 leads to 3
    path.write_bytes(data)
    with path.open("rb") as file:
        fat = FatReader(reader(file.fileno()), 0)
        with pytest.raises(FormatError, match="goes round"):
            list(fat.chain(3, "two"))


@pytest.mark.parametrize(
    ("at", "value"),
    [
        (11, b"\x00\x01"),
        (11, b"\x00\x20"),
        (13, b"\x00"),
        (13, b"\x03"),
        (14, b"\x00\x00"),
        (16, b"\x00"),
        (16, b"\x03"),
        (22, b"\x00\x00"),
        (510, b"\x00\x00"),
        (19, b"\x01\x00"),
    ],
)
def test_figures_that_no_volume_can_have(tmp_path: Path, at: int, value: bytes) -> None:
    path = tmp_path / "bad.img"
    with path.open("wb") as file:
        file.truncate(4 * MIB)
    tools.run(["mkfs.fat", "-F", "12", str(path)])
    data = bytearray(path.read_bytes()[:512])
    geometry(bytes(data))
    data[at : at + len(value)] = value
    if at == 22:
        data[36:40] = bytes(4)
    with pytest.raises(FormatError):
        geometry(bytes(data))
