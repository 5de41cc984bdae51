"""Split archives, 7z, blocks side by side, sizes told and estimated, checksums of every kind."""

from __future__ import annotations

import bz2
import gzip
import hashlib
import io
import lzma
import random
import struct
import threading
import zipfile
import zlib
from pathlib import Path

import py7zr
import pytest
from backports import zstd
from hypothesis import given
from hypothesis import strategies as st

from kyklon.base.errors import FormatError, SourceError
from kyklon.model.image_file import SourceFacts, Stated
from kyklon.operations import checksums
from kyklon.operations.card.sources import formats, source, unpack
from kyklon.operations.card.sources.joined import Joined, open_image, parts_of

MIB = 1 << 20
BODY = random.Random(11).randbytes(700_000) + bytes(4 * MIB) + random.Random(12).randbytes(MIB // 2) + bytes(416)


def read_all(path: Path) -> bytes:
    return b"".join(source.chunks(source.inspect(path)))


def seven(path: Path, body: bytes = BODY, **more: str) -> Path:
    with py7zr.SevenZipFile(path, "w") as archive:
        archive.writestr(body, "inside/a.img")
        for name, text in more.items():
            archive.writestr(text, name)
    return path


# --- 7z ------------------------------------------------------------------------------------------------------


def test_a_7z_archive_gives_its_image(tmp_path: Path) -> None:
    facts = source.inspect(seven(tmp_path / "a.7z", readme="hello"))
    assert (facts.kind, facts.member, facts.unpacked, facts.exact) == ("7z", "inside/a.img", len(BODY), True)
    pieces = list(source.chunks(facts))
    assert b"".join(pieces) == BODY
    assert {len(piece) for piece in pieces[:-1]} == {source.CHUNK}


@pytest.mark.long
def test_leaving_a_7z_half_read_stops_its_thread(tmp_path: Path) -> None:
    path = seven(tmp_path / "a.7z", random.Random(1).randbytes(40_000) * 800)
    before = threading.active_count()
    stream = source.chunks(source.inspect(path))
    next(iter(stream))
    stream.close()  # type: ignore[attr-defined]
    assert threading.active_count() == before


@pytest.mark.parametrize("share", [0.001, 0.3, 0.99, 0.9999])
def test_a_7z_cut_off_is_told(share: float, tmp_path: Path) -> None:
    path = seven(tmp_path / "a.7z")
    path.write_bytes(path.read_bytes()[: max(8, int(path.stat().st_size * share))])
    with pytest.raises(SourceError, match=r"damaged|corrupt"):
        read_all(path)


def test_a_7z_with_a_flipped_bit_is_told(tmp_path: Path) -> None:
    path = seven(tmp_path / "a.7z")
    data = bytearray(path.read_bytes())
    data[200_000] ^= 4
    path.write_bytes(bytes(data))
    with pytest.raises(SourceError, match=r"damaged|corrupt"):
        read_all(path)


@given(st.binary(max_size=300))
def test_any_bytes_named_7z_give_one_error(tmp_path_factory: pytest.TempPathFactory, tail: bytes) -> None:
    path = tmp_path_factory.mktemp("fuzz") / "a.7z"
    path.write_bytes(source.MAGIC["7z"] + tail)
    with pytest.raises(SourceError):
        source.inspect(path)


@given(st.data())
def test_a_zip_with_changed_bytes_gives_an_image_or_the_one_error(
    tmp_path_factory: pytest.TempPathFactory, data: st.DataObject
) -> None:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("a.img", b"x" * 5000)
    raw = bytearray(out.getvalue())
    for _ in range(data.draw(st.integers(1, 3))):
        raw[data.draw(st.integers(4, len(raw) - 1))] = data.draw(st.integers(0, 255))
    path = tmp_path_factory.mktemp("fuzz") / "a.zip"
    path.write_bytes(bytes(raw))
    try:
        body = read_all(path)
    except SourceError:
        return
    assert len(body) <= 1 << 20


# --- split archives ------------------------------------------------------------------------------------------


NAMINGS = {
    "numbers": lambda stem, n: f"{stem}.{n + 1:03}",
    "parts": lambda stem, n: f"{stem}.part{n + 1}",
    "letters": lambda stem, n: f"{stem}.a{'abcdefgh'[n]}",
}


def split(folder: Path, stem: str, data: bytes, naming: str, count: int = 4) -> list[Path]:
    size = -(-len(data) // count)
    paths = [folder / NAMINGS[naming](stem, n) for n in range(count)]
    for n, path in enumerate(paths):
        path.write_bytes(data[n * size : (n + 1) * size])
    return paths


@pytest.mark.parametrize("naming", NAMINGS)
@pytest.mark.parametrize("kind", ["plain", "xz", "gz", "zip", "7z", "zst"])
def test_split_archives_are_joined_from_any_part(naming: str, kind: str, tmp_path: Path) -> None:
    if kind == "7z":
        whole = seven(tmp_path / "whole.7z").read_bytes()
    elif kind == "zip":
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("a.img", BODY)
        whole = out.getvalue()
    else:
        whole = {"plain": bytes, "xz": lzma.compress, "gz": gzip.compress, "zst": zstd.compress}[kind](BODY)
    stem = {"plain": "a.img", "zip": "a.zip", "7z": "a.7z"}.get(kind, f"a.img.{kind}")
    folder = tmp_path / "parts"
    folder.mkdir()
    paths = split(folder, stem, whole, naming)
    for path in (paths[0], paths[2]):
        facts = source.inspect(path)
        assert (facts.name, facts.kind, facts.packed) == (stem, kind, len(whole))
        assert list(facts.parts) == paths
        assert b"".join(source.chunks(facts)) == BODY


@pytest.mark.parametrize("naming", NAMINGS)
def test_a_missing_part_is_named(naming: str, tmp_path: Path) -> None:
    paths = split(tmp_path, "a.img.xz", lzma.compress(BODY), naming)
    paths[1].unlink()
    with pytest.raises(SourceError, match=paths[1].name.replace(".", r"\.")):
        source.inspect(paths[0])


def test_a_part_without_its_first_is_told(tmp_path: Path) -> None:
    (tmp_path / "a.img.xz.002").write_bytes(b"x")
    with pytest.raises(SourceError, match="first part"):
        source.inspect(tmp_path / "a.img.xz.002")


def test_a_missing_last_part_shows_as_cut_off(tmp_path: Path) -> None:
    paths = split(tmp_path, "a.img.xz", lzma.compress(BODY), "numbers")
    paths[-1].unlink()
    with pytest.raises(SourceError, match="cut off"):
        source.inspect(paths[0])


def test_a_damaged_part_is_named_by_its_own_checksum(tmp_path: Path) -> None:
    paths = split(tmp_path, "a.img.xz", lzma.compress(BODY), "numbers")
    lines = "".join(f"{hashlib.md5(path.read_bytes()).hexdigest()}  {path.name}\n" for path in paths)
    (tmp_path / "MD5SUMS").write_text(lines, encoding="utf-8")
    facts = source.inspect(paths[0])
    assert checksums.check_parts(facts) == len(paths)
    paths[2].write_bytes(b"?" + paths[2].read_bytes()[1:])
    with pytest.raises(SourceError, match=r"a\.img\.xz\.003"):
        checksums.check_parts(facts)


@given(st.lists(st.binary(min_size=1, max_size=50), min_size=1, max_size=6), st.data())
def test_joined_files_read_as_one(
    tmp_path_factory: pytest.TempPathFactory, pieces: list[bytes], data: st.DataObject
) -> None:
    folder = tmp_path_factory.mktemp("joined")
    paths = []
    for number, piece in enumerate(pieces):
        paths.append(folder / f"x.{number + 1:03}")
        paths[-1].write_bytes(piece)
    whole = b"".join(pieces)
    with io.BufferedReader(Joined(tuple(paths))) as file:
        for _ in range(4):
            at = data.draw(st.integers(0, len(whole)))
            length = data.draw(st.integers(0, len(whole) + 5))
            file.seek(at)
            assert file.read(length) == whole[at : at + length]
        assert file.seek(0, 2) == len(whole)


def test_a_name_that_only_looks_like_a_part_is_whole(tmp_path: Path) -> None:
    for name in ("quayside-4.2.img.xz", "a.gz", "b.7z", "c.img"):
        (tmp_path / name).write_bytes(b"x")
        assert parts_of(tmp_path / name) == (name, ())


# --- sizes ---------------------------------------------------------------------------------------------------


def test_gzip_knows_its_size_only_modulo_four_gib(tmp_path: Path) -> None:
    """A large file whose last four bytes wrapped: the estimate from the beginning tells how often."""
    body = bytes(range(256)) * 4096 * 24
    packed = gzip.compress(body + random.Random(1).randbytes(6 * MIB), 1)
    path = tmp_path / "a.img.gz"
    path.write_bytes(packed)
    facts = source.inspect(path)
    assert not facts.exact
    assert facts.unpacked == len(body) + 6 * MIB
    assert "about" in facts.size_words


def test_bzip2_and_unsized_zstd_are_estimated_and_said_so(tmp_path: Path) -> None:
    even = (bytes(500) + random.Random(2).randbytes(500)) * 20_000
    for name, packed in (("a.img.bz2", bz2.compress(even, 1)), ("a.img.zst", _unsized(even))):
        path = tmp_path / name
        path.write_bytes(packed)
        facts = source.inspect(path)
        assert not facts.exact
        assert facts.unpacked == pytest.approx(len(even), rel=0.2)
        assert "estimate" in facts.size_words


def _unsized(body: bytes) -> bytes:
    """A frame without its content size, as a pipe makes it."""
    machine = zstd.ZstdCompressor()
    return machine.compress(body) + machine.flush()


def test_zstd_sizes_of_all_frames_are_added(tmp_path: Path) -> None:
    skippable = struct.pack("<II", 0x184D2A53, 5) + b"hello"
    path = tmp_path / "a.img.zst"
    path.write_bytes(zstd.compress(BODY) + skippable + zstd.compress(BODY[:MIB]))
    facts = source.inspect(path)
    assert (facts.unpacked, facts.exact) == (len(BODY) + MIB, True)
    assert read_all(path) == BODY + BODY[:MIB]


@pytest.mark.parametrize("cut", [1, 5, 1000, 300_000])
def test_a_zstd_file_cut_off_is_told_before_it_is_unpacked(cut: int, tmp_path: Path) -> None:
    path = tmp_path / "a.img.zst"
    path.write_bytes(zstd.compress(BODY)[:-cut])
    with pytest.raises(SourceError, match="cut off"):
        source.inspect(path)


@given(st.binary(max_size=200))
def test_any_bytes_give_a_zstd_size_or_the_one_error(tail: bytes) -> None:
    data = formats.ZSTD_MAGIC + tail
    try:
        size = formats.zstd_size(io.BytesIO(data))
    except FormatError as bad:
        assert 0 <= bad.offset <= len(data) + (1 << 32)
    else:
        assert size is None or size >= 0


# --- xz blocks -----------------------------------------------------------------------------------------------


def xz_of_blocks(body: bytes, block: int, streams: int = 1) -> bytes:
    """A multi-block xz file made by hand: blocks of several one-block files under one index, streams joined."""
    size = -(-len(body) // streams)
    return b"".join(_stream(body[at : at + size], block) for at in range(0, len(body), size))


def _stream(body: bytes, block: int) -> bytes:
    out = b""
    records = b""
    count = 0
    for at in range(0, len(body), block):
        alone = lzma.compress(body[at : at + block], preset=0)
        (found,) = formats.xz_blocks(io.BytesIO(alone))
        out += alone[found.offset : found.offset + found.padded]
        records += formats._vli_bytes(found.unpadded) + formats._vli_bytes(found.unpacked)
        count += 1
        header = alone[:12]
    index = b"\0" + formats._vli_bytes(count) + records
    index = index.ljust((len(index) + 3) // 4 * 4, b"\0")
    index += zlib.crc32(index).to_bytes(4, "little")
    ending = (len(index) // 4 - 1).to_bytes(4, "little") + header[6:8]
    return header + out + index + zlib.crc32(ending).to_bytes(4, "little") + ending + b"YZ"


@pytest.mark.parametrize(("block", "streams"), [(MIB, 1), (MIB + 7, 2), (3 * MIB, 1), (700_001, 3)])
def test_xz_blocks_are_unpacked_side_by_side(block: int, streams: int, tmp_path: Path) -> None:
    path = tmp_path / "a.img.xz"
    path.write_bytes(xz_of_blocks(BODY, block, streams))
    assert lzma.decompress(path.read_bytes()) == BODY  # liblzma agrees that the file is one
    facts = source.inspect(path)
    assert facts.blocks > 1
    seen = bytearray()
    assert b"".join(source.chunks(facts, seen.extend)) == BODY
    assert bytes(seen) == path.read_bytes()


def test_a_bad_block_is_told_with_its_place(tmp_path: Path) -> None:
    path = tmp_path / "a.img.xz"
    data = bytearray(xz_of_blocks(BODY, MIB))
    blocks = formats.xz_blocks(io.BytesIO(bytes(data)))
    data[blocks[-1].offset + 500] ^= 1
    path.write_bytes(bytes(data))
    with pytest.raises(SourceError, match=r"corrupt after 4\.\d"):
        read_all(path)


def test_blocks_too_large_to_hold_are_unpacked_one_by_one(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(unpack, "AHEAD", MIB // 2)
    path = tmp_path / "a.img.xz"
    path.write_bytes(xz_of_blocks(BODY, MIB))
    assert read_all(path) == BODY


# --- checksums -----------------------------------------------------------------------------------------------


SUMS = {
    "SHA-512": hashlib.sha512(BODY).hexdigest(),
    "SHA-256": hashlib.sha256(BODY).hexdigest(),
    "SHA-1": hashlib.sha1(BODY).hexdigest(),
    "MD5": hashlib.md5(BODY).hexdigest(),
    "CRC-32": f"{zlib.crc32(BODY):08x}",
}


def image(folder: Path) -> SourceFacts:
    (folder / "a.img").write_bytes(BODY)
    return source.inspect(folder / "a.img")


@pytest.mark.parametrize("algorithm", SUMS)
def test_sums_of_every_kind_are_found_beside_and_right(algorithm: str, tmp_path: Path) -> None:
    name = "a.sfv" if algorithm == "CRC-32" else f"a.img.{algorithm.replace('-', '').lower()}"
    digest = SUMS[algorithm]
    (tmp_path / name).write_text(f"a.img {digest.upper()}\n" if algorithm == "CRC-32" else f"{digest}  a.img\n")
    facts = image(tmp_path)
    stated = checksums.beside(facts)
    assert stated == Stated(algorithm, digest)
    with open_image(facts) as file:
        assert checksums.of_file(file, algorithm) == digest


def test_the_strongest_sum_is_taken(tmp_path: Path) -> None:
    (tmp_path / "MD5SUMS").write_text(f"{SUMS['MD5']}  a.img\n")
    (tmp_path / "SHA1SUMS").write_text(f"{SUMS['SHA-1']}  a.img\n")
    stated = checksums.beside(image(tmp_path))
    assert stated is not None
    assert stated.algorithm == "SHA-1"


def test_the_bsd_form_is_read() -> None:
    assert checksums.parse(f"SHA256 (some/a.img) = {SUMS['SHA-256']}\n")["a.img"].algorithm == "SHA-256"
    with pytest.raises(FormatError):
        checksums.parse(f"SHA1 (a.img) = {SUMS['SHA-256']}\n")


def test_a_sum_of_the_image_inside_an_archive_counts(tmp_path: Path) -> None:
    (tmp_path / "a.img.xz").write_bytes(lzma.compress(BODY))
    (tmp_path / "SHA256SUMS").write_text(f"{SUMS['SHA-256']}  a.img\n")
    assert checksums.beside(source.inspect(tmp_path / "a.img.xz")) == Stated("SHA-256", SUMS["SHA-256"])


@pytest.mark.parametrize("text", ["", "12", "g" * 64, "a" * 63])
def test_a_pasted_sum_of_no_known_length_is_told(text: str) -> None:
    with pytest.raises(FormatError, match="hexadecimal digits"):
        checksums.from_text(text)
    assert checksums.from_text(f" {SUMS['MD5'].upper()} a.img").algorithm == "MD5"
