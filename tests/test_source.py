"""Image files that are whole, cut off, corrupt or mislabelled."""

from __future__ import annotations

import bz2
import contextlib
import gzip
import lzma
import random
import subprocess
import zipfile
from pathlib import Path

import pytest
from backports import zstd
from hypothesis import given, settings
from hypothesis import strategies as st

from kyklon.base.errors import FormatError, SourceError
from kyklon.model.image_file import Stated
from kyklon.operations import checksums
from kyklon.operations.card.sources import source
from kyklon.operations.card.volumes import contents

PACK = {
    "plain": bytes,
    "xz": lambda body: lzma.compress(body, preset=0),
    "gz": lambda body: gzip.compress(body, 1),
    "bz2": lambda body: bz2.compress(body, 1),
    "zst": lambda body: zstd.compress(body, options={zstd.CompressionParameter.checksum_flag: 1}),
}
BODY = random.Random(3).randbytes(1 << 20) + bytes(1 << 20)


def make(folder: Path, kind: str, body: bytes = BODY) -> Path:
    path = folder / {"plain": "a.img", "zip": "a.zip"}.get(kind, f"a.img.{kind}")
    if kind == "zip":
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("inside/a.img", body)
    else:
        path.write_bytes(PACK[kind](body))
    return path


def read_all(path: Path) -> bytes:
    return b"".join(source.chunks(source.inspect(path)))


@pytest.mark.parametrize("kind", ["plain", "xz", "gz", "bz2", "zst", "zip"])
def test_whole_images_are_read_in_whole_chunks(kind: str, tmp_path: Path) -> None:
    body = BODY * 5
    path = make(tmp_path, kind, body)
    facts = source.inspect(path)
    pieces = list(source.chunks(facts))
    assert b"".join(pieces) == body
    assert {len(piece) for piece in pieces[:-1]} == {source.CHUNK}
    assert facts.exact == (kind not in ("bz2", "gz"))
    if facts.exact:
        assert facts.unpacked == len(body)
    assert facts.unpacked is not None
    assert facts.kind == kind


@pytest.mark.parametrize("kind", ["xz", "gz", "bz2", "zst", "zip"])
@pytest.mark.parametrize("share", [0.3, 0.9, 0.9999])
def test_a_truncated_download_is_told(kind: str, share: float, tmp_path: Path) -> None:
    path = make(tmp_path, kind)
    data = path.read_bytes()
    path.write_bytes(data[: int(len(data) * share)])
    with pytest.raises(SourceError, match=r"cut off|corrupt|damaged") as caught:
        read_all(path)
    assert "a." in str(caught.value)
    assert "Download it again" in caught.value.do


@pytest.mark.parametrize("kind", ["xz", "gz", "bz2", "zst", "zip"])
def test_a_flipped_bit_is_told(kind: str, tmp_path: Path) -> None:
    path = make(tmp_path, kind)
    data = bytearray(path.read_bytes())
    data[len(data) // 3] ^= 0x10
    path.write_bytes(bytes(data))
    with pytest.raises(SourceError):
        read_all(path)


@pytest.mark.parametrize(
    ("name", "body", "told"),
    [
        ("a.img.xz", gzip.compress(BODY), "gzip"),
        ("a.img", lzma.compress(BODY), "xz"),
        ("a.img.gz", b"PK\x03\x04" + bytes(600), "zip"),
        ("a.img.xz", b"<!DOCTYPE html><p>not found</p>", "web page"),
        ("a.img", b"<html>" + bytes(506), "web page"),
        ("a.img", bytes(1000), "cut off"),
        ("a.img", b"", "cut off"),
        ("a.zip", b"PK\x03\x04 and no more", "damaged"),
    ],
)
def test_a_mislabelled_file_is_told(name: str, body: bytes, told: str, tmp_path: Path) -> None:
    path = tmp_path / name
    path.write_bytes(body)
    with pytest.raises(SourceError, match=told):
        source.inspect(path)


def test_a_missing_file_is_told(tmp_path: Path) -> None:
    with pytest.raises(SourceError, match=r"nothing\.img"):
        source.inspect(tmp_path / "nothing.img")


def test_a_zip_with_two_images_asks_to_be_unpacked(tmp_path: Path) -> None:
    path = tmp_path / "two.zip"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("a.img", b"a")
        archive.writestr("b.img", b"b")
    with pytest.raises(SourceError, match="2 image files"):
        source.inspect(path)


def test_the_checksum_sees_the_file_as_it_is_on_disk(tmp_path: Path) -> None:
    path = make(tmp_path, "xz")
    seen = bytearray()
    list(source.chunks(source.inspect(path), seen.extend))
    assert bytes(seen) == path.read_bytes()


@settings(max_examples=40, deadline=None)
@given(st.binary(max_size=400))
def test_any_bytes_named_xz_give_a_size_or_one_error(tmp_path_factory: pytest.TempPathFactory, tail: bytes) -> None:
    path = tmp_path_factory.mktemp("fuzz") / "a.img.xz"
    path.write_bytes(source.MAGIC["xz"] + tail)
    with pytest.raises(SourceError):
        source.inspect(path)


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 10_000), st.integers(0, 255))
def test_a_changed_byte_in_a_real_xz_is_found_or_harmless(
    tmp_path_factory: pytest.TempPathFactory, at: int, value: int
) -> None:
    body = random.Random(1).randbytes(9_000)
    data = bytearray(lzma.compress(body))
    data[at % len(data)] = value
    path = tmp_path_factory.mktemp("fuzz") / "a.img.xz"
    path.write_bytes(bytes(data))
    with contextlib.suppress(SourceError):
        assert read_all(path) == body


# --- checksums beside the image -----------------------------------------------------------------------------------

SUM = "ab" * 32


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("a.img.xz.sha256", f"{SUM}  a.img.xz\n"),
        ("a.img.xz.sha256", SUM.upper()),
        ("SHA256SUMS", f"{'0' * 64}  b.img\n{SUM} *a.img.xz\n"),
        ("sha256sum.txt", f"# by its maker\n{SUM}  ./a.img.xz\n"),
    ],
)
def test_a_checksum_beside_the_image_is_found(name: str, text: str, tmp_path: Path) -> None:
    (tmp_path / name).write_text(text, encoding="utf-8")
    assert checksums.beside(source.inspect(make(tmp_path, "xz"))) == Stated("SHA-256", SUM)


@pytest.mark.parametrize(
    ("name", "text"), [("SHA256SUMS", f"{SUM}  b.img\n"), ("SHA256SUMS", SUM), ("a.img.xz.sha256", "<html>")]
)
def test_what_states_nothing_of_this_image_is_passed_over(name: str, text: str, tmp_path: Path) -> None:
    (tmp_path / name).write_text(text, encoding="utf-8")
    assert checksums.beside(source.inspect(make(tmp_path, "xz"))) is None


@given(st.text(max_size=200))
def test_any_text_gives_checksums_or_the_one_error(text: str) -> None:
    try:
        found = checksums.parse(text)
    except FormatError as bad:
        assert 0 <= bad.offset <= len(text.encode("utf-8", "surrogatepass"))
    else:
        assert all(len(value.digest) in checksums.BY_LENGTH for value in found.values())


@pytest.mark.long(keep=1)
@pytest.mark.parametrize("ending", ["gz", "xz", "zst", "bz2"])
def test_a_packed_image_with_a_gpt_is_looked_into(ending: str, tmp_path: Path) -> None:
    """Its last usable sector lies far behind what is unpacked for a look; sgdisk and mkfs.fat made it."""
    plain = tmp_path / "disk.img"
    with plain.open("wb") as file:
        file.truncate(900 << 20)
    subprocess.run(
        ["sgdisk", "-n", "1:2048:+40M", "-t", "1:0700", "-n", "2:0:0", plain], check=True, capture_output=True
    )
    subprocess.run(["mkfs.fat", "-F", "32", "--offset", "2048", plain, str(40 << 10)], check=True, capture_output=True)
    pack = {"gz": ["gzip", "-1"], "xz": ["xz", "-0"], "zst": ["zstd", "-q"], "bz2": ["bzip2", "-1"]}[ending]
    subprocess.run([*pack, "-k", plain], check=True)
    facts = source.inspect(plain.with_name(f"disk.img.{ending}"))
    plain.unlink()
    seen = contents.observe_source(facts)
    assert seen.table is not None, seen.table_error
    assert seen.table.scheme == "GPT"
    assert seen.boot_number == 1
    assert not seen.boot_error
    with contents.held(facts, seconds=0.0) as held:
        found = contents.observe_held(held)
    assert found.table is not None, found.table_error
