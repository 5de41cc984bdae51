"""Image files: plain, xz, gzip, bzip2, zstd, zip, 7z, whole or split. What they are, and how large once unpacked."""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import BinaryIO

from kyklon.base.archives import ArchiveDamage, open_zip
from kyklon.base.errors import FormatError, SourceError
from kyklon.base.quantities import show_bytes
from kyklon.devices.layers import Layers
from kyklon.model.image_file import SourceFacts
from kyklon.operations.card.sources import formats, unpack
from kyklon.operations.card.sources.joined import open_image, parts_of
from kyklon.operations.card.sources.unpack import CHUNK, DAMAGE

__all__ = ["CHUNK", "MAGIC", "SourceFacts", "chunks", "inspect"]

MAGIC = {
    "xz": formats.XZ_HEADER,
    "gz": b"\x1f\x8b\x08",
    "zip": b"PK\x03\x04",
    "bz2": b"BZh",
    "zst": formats.ZSTD_MAGIC,
    "7z": b"7z\xbc\xaf\x27\x1c",
}
WORDS = {
    "plain": "a plain image",
    "xz": "xz data",
    "gz": "gzip data",
    "zip": "a zip archive",
    "bz2": "bzip2 data",
    "zst": "zstd data",
    "7z": "a 7z archive",
}
SUFFIX = {f".{kind}": kind for kind in MAGIC} | {".img": "plain", ".iso": "plain", ".bin": "plain"}
PLAIN = (".img", ".iso", ".bin")
GZIP_MODULUS = 1 << 32  # RFC 1952, 2.3.1: ISIZE is the size modulo 2^32
_SAMPLE = 8 << 20  # bytes unpacked to estimate a size


def inspect(path: Path) -> SourceFacts:
    """What kind of image a file is. Raises SourceError for one that is missing, mislabelled, cut off or no image."""
    try:
        name, parts = parts_of(path)
        facts = SourceFacts(parts[0] if parts else path, "plain", 0, None, exact=False, parts=parts, name=name)
        with open_image(facts) as file:
            head = file.read(1024)
            size = file.seek(0, 2)
    except OSError as bad:
        raise SourceError(f"{path} cannot be read: {bad.strerror}.", do="Choose the image again.") from bad
    found = next((kind for kind, magic in MAGIC.items() if head.startswith(magic)), "plain")
    named = SUFFIX.get(Path(name).suffix.lower(), "plain")
    if found != named:
        raise SourceError(
            f"{name} is named as {WORDS[named]} but is {_in_words(found, head)}.",
            do="Download it again, or give it the right ending.",
        )
    facts = replace(facts, kind=found, packed=size, place=str(facts.path.resolve()), nodes=_nodes(facts))
    try:
        return _SIZES[found](facts, head)
    except FormatError as bad:
        raise SourceError(f"{name} is cut off or damaged: {bad}", do="Download it again.") from bad
    except OSError as bad:
        raise SourceError(f"{name} cannot be read: {bad.strerror or bad}.", do="Check the disk it is on.") from bad


def _nodes(facts: SourceFacts) -> frozenset[str]:
    layers = Layers()
    return frozenset().union(*(layers.below(path) for path in facts.parts or (facts.path,)))


def _in_words(kind: str, head: bytes) -> str:
    return "a web page" if kind == "plain" and head.lstrip()[:1] == b"<" else WORDS[kind]


def _plain(facts: SourceFacts, head: bytes) -> SourceFacts:
    if head.lstrip()[:1] == b"<":
        raise SourceError(f"{facts.name} is a web page, not an image.", do="Download the image itself.")
    if facts.packed == 0 or facts.packed % 512:
        raise SourceError(
            f"{facts.name} has {facts.packed} bytes, not a whole number of 512-byte sectors: it is cut off.",
            do="Download it again.",
        )
    return replace(facts, unpacked=facts.packed, exact=True)


def _xz(facts: SourceFacts, _head: bytes) -> SourceFacts:
    with open_image(facts) as file:
        blocks = formats.xz_blocks(file)
    return replace(facts, unpacked=sum(block.unpacked for block in blocks), exact=True, blocks=len(blocks))


def _gz(facts: SourceFacts, _head: bytes) -> SourceFacts:
    with open_image(facts) as file:
        file.seek(max(0, facts.packed - 4))
        stated = int.from_bytes(file.read(4), "little")
    likely, whole = _unpacked_so_far(facts)
    if whole:  # the trailer tells of the last member only, so a file that is soon unpacked is counted
        return replace(facts, unpacked=likely, exact=True)
    if likely and abs(likely - stated) % GZIP_MODULUS > GZIP_MODULUS // 2:
        return replace(facts, unpacked=likely)
    wraps = round((likely - stated) / GZIP_MODULUS) if likely else 0
    return replace(facts, unpacked=stated + max(0, wraps) * GZIP_MODULUS)


def _bz2(facts: SourceFacts, _head: bytes) -> SourceFacts:
    return replace(facts, unpacked=_estimate(facts))


def _zst(facts: SourceFacts, _head: bytes) -> SourceFacts:
    with open_image(facts) as file:
        size = formats.zstd_size(file)
    if size is not None:
        return replace(facts, unpacked=size, exact=True)
    return replace(facts, unpacked=_estimate(facts))


def _estimate(facts: SourceFacts) -> int | None:
    """The unpacked size if the whole is packed as well as its beginning; None for damage."""
    return _unpacked_so_far(facts)[0]


def _unpacked_so_far(facts: SourceFacts) -> tuple[int | None, bool]:
    """The same, and whether all of it was unpacked, so that it is no estimate."""
    taken, made = 0, 0

    def count(packed: bytes) -> None:
        nonlocal taken
        taken += len(packed)

    try:
        with open_image(facts) as file:
            for piece in unpack.stream(file, facts.kind, count):
                made += len(piece)
                if made >= _SAMPLE and (taken < facts.packed or made >= 32 * _SAMPLE):
                    break
    except DAMAGE:
        return None, False
    if taken >= facts.packed and made < _SAMPLE:
        return made, True
    return (made if taken >= facts.packed else made * facts.packed // max(1, taken) // 512 * 512), False


def _zip(facts: SourceFacts, _head: bytes) -> SourceFacts:
    try:
        with open_image(facts) as file, open_zip(file) as archive:
            members = [(info.filename, info.file_size) for info in archive.infolist()]
    except (*DAMAGE, RuntimeError, ValueError, struct.error, OSError) as bad:
        raise SourceError(f"{facts.name} is a damaged zip archive: {bad}.", do="Download it again.") from bad
    return _with_member(facts, members)


def _7z(facts: SourceFacts, _head: bytes) -> SourceFacts:
    try:
        members = unpack.members_7z(open_image(facts))
    except (*DAMAGE, OSError) as bad:
        raise SourceError(f"{facts.name} is a damaged 7z archive: {bad}.", do="Download it again.") from bad
    return _with_member(facts, members)


def _with_member(facts: SourceFacts, members: list[tuple[str, int]]) -> SourceFacts:
    images = [(name, size) for name, size in members if name.lower().endswith(PLAIN)]
    if len(images) != 1:
        raise SourceError(
            f"{facts.name} holds {len(images)} image files; one is needed.", do="Unpack it and choose the image."
        )
    return replace(facts, unpacked=images[0][1], exact=True, member=images[0][0])


_SIZES: dict[str, Callable[[SourceFacts, bytes], SourceFacts]] = {
    "plain": _plain,
    "xz": _xz,
    "gz": _gz,
    "bz2": _bz2,
    "zst": _zst,
    "zip": _zip,
    "7z": _7z,
}


def chunks(facts: SourceFacts, on_packed: Callable[[bytes], None] | None = None) -> Iterator[bytes]:
    """The image's bytes in pieces of CHUNK (the last may be shorter).

    on_packed sees the file's own bytes as they are read, for its checksum; not for archives, which are read here and
    there. Raises SourceError for data that is cut off or corrupt, with the position in the unpacked image.
    """
    made = 0
    try:
        for piece in unpack.regroup(_pieces(facts, on_packed or (lambda _data: None))):
            made += len(piece)
            yield piece
    except (*DAMAGE, FormatError) as bad:
        raise _corrupt(facts, made, bad) from bad
    except OSError as bad:
        if bad.errno is None:  # bz2 tells damage so
            raise _corrupt(facts, made, bad) from bad
        raise SourceError(
            f"{facts.name} cannot be read: {bad.strerror or bad}.", do="Check the disk it is on."
        ) from bad


def _corrupt(facts: SourceFacts, made: int, bad: Exception) -> SourceError:
    return SourceError(
        f"{facts.name} is corrupt after {show_bytes(made)} of its contents: {bad}.",
        do="Download it again and check its checksum.",
    )


def _pieces(facts: SourceFacts, on_packed: Callable[[bytes], None]) -> Iterator[bytes]:
    with open_image(facts) as file:
        if facts.kind == "plain":
            while piece := file.read(CHUNK):
                on_packed(piece)
                yield piece
        elif facts.kind == "zip":
            yield from _zip_pieces(file, facts.member)
        elif facts.kind == "7z":
            yield from unpack.stream_7z(file, facts.member)
        elif facts.kind == "xz" and facts.blocks > 1:
            yield from unpack.stream_xz_blocks(file, on_packed)
        else:
            yield from unpack.stream(file, facts.kind, on_packed)


def _zip_pieces(file: BinaryIO, name: str) -> Iterator[bytes]:
    try:
        with open_zip(file) as archive, archive.open(name) as member:
            while piece := member.read(CHUNK):
                yield piece
    except (RuntimeError, ValueError, OverflowError, KeyError, struct.error) as bad:  # encrypted, unknown methods
        raise ArchiveDamage(str(bad)) from bad
