"""Checksums that lie beside an image: sha256sum and its sisters (coreutils), plain, --tag or --zero, b2sum's, those of
`openssl dgst`, signed ones (RFC 9580, 7), and SFV; found alone."""

from __future__ import annotations

import hashlib
import re
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO, Protocol

from kyklon.base import reading
from kyklon.base.errors import FormatError, SourceError
from kyklon.model.image_file import SourceFacts, Stated

BLAKE = "BLAKE2b"  # of 512 bits unless it says another number; as long as SHA-512, so a list must say that it is one
BY_LENGTH = {128: "SHA-512", 96: "SHA-384", 64: "SHA-256", 56: "SHA-224", 40: "SHA-1", 32: "MD5", 8: "CRC-32"}  # digits
STRENGTH = ("SHA-512", BLAKE, "SHA-384", "SHA-256", "SHA-224", "SHA-1", "MD5", "CRC-32")
_KINDS = ("sha512", "sha384", "sha256", "sha224", "sha1", "md5", "b2")
NAMES = tuple(
    name
    for kind in _KINDS
    for name in (
        f"{kind.upper()}SUMS",
        f"{kind.upper()}SUMS.txt",
        f"{kind}sum.txt",
        f"{kind}sums.txt",
        f"{kind.upper()}SUMS.asc",
    )
) + ("checksums.sfv", "checksums.txt", "CHECKSUMS")
ENDINGS = tuple(f".{kind}{ending}" for kind in _KINDS for ending in ("", "sum", ".txt", ".asc")) + (".sfv",)
LARGEST = 1 << 20  # bytes; a list of checksums is far smaller
_DIGEST = re.compile(r"[0-9a-fA-F]{8,128}")
# coreutils: SHA256 (name) = sum; openssl: SHA2-256(name)= sum
_TAGGED = re.compile(
    r"(SHA-?1|SHA(?:2-)?(?:512|384|256|224)|MD5|BLAKE2[bB](?:-?\d{1,3})?) ?\((.+)\) ?= ([0-9a-fA-F]+)$", re.DOTALL
)
_SIGNED = re.compile(r"^-----BEGIN PGP SIGNED MESSAGE-----\r?$", re.MULTILINE)
_SIGNED_HEAD, _SIGNATURE = "-----BEGIN PGP SIGNED MESSAGE-----", "-----BEGIN PGP SIGNATURE-----"
_OF_BLAKE = re.compile(r"^b2sums?(\.txt|\.asc)?$|\.b2(sum|\.txt|\.asc)?$")  # names of b2sum's lists
_ESCAPES = {"\\": "\\", "n": "\n", "r": "\r"}  # of names, where a line begins with a backslash (coreutils)


class Sum(Protocol):
    def update(self, data: bytes, /) -> None: ...

    def hexdigest(self) -> str: ...


class _Crc32:
    def __init__(self) -> None:
        self._value = 0

    def update(self, data: bytes, /) -> None:
        self._value = zlib.crc32(data, self._value)

    def hexdigest(self) -> str:
        return f"{self._value:08x}"


def new_sum(algorithm: str) -> Sum:
    """An empty sum of one of STRENGTH; BLAKE2b of other lengths with its bits behind it, as BLAKE2b-256."""
    if algorithm == "CRC-32":
        return _Crc32()
    if algorithm.startswith(BLAKE):
        bits = int(algorithm.partition("-")[2] or 512)
        return hashlib.blake2b(digest_size=bits // 8)
    return hashlib.new(algorithm.replace("-", "").lower())


def strength(stated: Stated) -> int:
    """The place of a checksum's algorithm in STRENGTH: the lower, the stronger."""
    return STRENGTH.index(
        stated.algorithm.partition("-")[0] if stated.algorithm.startswith(BLAKE) else stated.algorithm
    )


def from_text(digest: str) -> Stated:
    """A pasted checksum; what it is shows in its length. Raises FormatError."""
    digest = digest.strip().lower().split()[0] if digest.strip() else ""
    if len(digest) not in BY_LENGTH or not re.fullmatch("[0-9a-f]+", digest):
        raise FormatError(
            "checksum", 0, expected="128, 96, 64, 56, 40, 32 or 8 hexadecimal digits", got=f"{len(digest)} characters"
        )
    return Stated(BY_LENGTH[len(digest)], digest)


def parse(text: str, name: str = "checksum file") -> dict[str, Stated]:
    """File name -> checksum; a bare checksum has the name ''. Raises FormatError with its offset in bytes.

    name: of the list; one of b2sum's says so by it, for its sums are as long as SHA-512's. Of a signed list only what
    is signed counts; the signature itself is not checked.
    """
    found: dict[str, Stated] = {}
    blake = bool(_OF_BLAKE.search(name.lower()))
    lines, zero = _lines(text)
    for offset, line in lines:
        bare = line if zero else line.strip(" \t\r\n")
        if bare.strip() and (zero or bare[0] not in "#;"):
            told = _parse_line(bare, blake=blake, zero=zero)
            if told is None:
                raise FormatError(name, offset, expected="a checksum and a file name", got=repr(bare[:40]))
            if told[0] not in found or strength(told[1]) < strength(found[told[0]]):
                found[told[0]] = told[1]
    return found


def _lines(text: str) -> tuple[list[tuple[int, str]], bool]:
    """The lines that state something, each with its offset in bytes: those between the head and the signature of a
    signed list, or those that a zero byte ends; and whether that is so."""
    first = 1 if text.startswith("\ufeff") else 0  # byte order mark
    signed = _SIGNED.search(text)
    zero = "\0" in text and signed is None
    pieces = text.split("\0") if zero else text.splitlines(keepends=True)
    found, at, inside, head = [], 0, signed is None, signed is not None
    for piece in pieces:
        start = at
        at += len(piece.encode("utf-8", "surrogatepass")) + (1 if zero else 0)
        line = piece[first:] if start == 0 else piece
        if signed is not None:
            bare = line.strip()
            if bare.startswith(_SIGNATURE):
                break
            if head:  # "Hash:" and the like, up to a blank line
                begun = inside or bare == _SIGNED_HEAD
                inside, head = begun, not (begun and not bare)
                continue
            line = line.removeprefix("- ")  # dash-escaped
        found.append((start, line))
    return found, zero


def _unescaped(name: str) -> str:
    """A name as it is, of a line that begins with a backslash."""
    return re.sub(r"\\(.)", lambda each: _ESCAPES.get(each[1], each[0]), name)


def _parse_line(line: str, *, blake: bool = False, zero: bool = False) -> tuple[str, Stated] | None:
    """zero: of a list with zero bytes, whose names are written as they are."""
    escaped = line.startswith("\\") and not zero
    line = line.removeprefix("\\") if escaped else line

    def named(name: str) -> str:
        return _base(_unescaped(name) if escaped else name, slashes=not escaped and not zero)

    if not zero:
        line = line.rstrip(" \t")
    first, _blank, rest = line.replace("\t", " ", 1).partition(" ")
    if _DIGEST.fullmatch(first) and len(first) > 8 and (blake or len(first) in BY_LENGTH):
        algorithm = _blake(len(first)) if blake else BY_LENGTH[len(first)]
        return (
            (named(rest[1:] if rest.startswith("*") else rest.lstrip(" \t")), Stated(algorithm, first.lower()))
            if algorithm
            else None
        )
    if match := _TAGGED.fullmatch(line):
        algorithm = _tagged(match[1], len(match[3]))
        return (named(match[2]), Stated(algorithm, match[3].lower())) if algorithm else None
    name, _blank, last = line.replace("\t", " ").rpartition(" ")
    if _DIGEST.fullmatch(last) and len(last) == 8 and name.strip():
        return named(name.rstrip(" ")), Stated("CRC-32", last.lower())
    return None


def _blake(digits: int) -> str:
    """BLAKE2b of so many digits; '' for a number that it has not."""
    bits = digits * 4
    return "" if digits % 2 or not 8 <= bits <= 512 else BLAKE if bits == 512 else f"{BLAKE}-{bits}"


def _tagged(tag: str, digits: int) -> str:
    """The algorithm of a tag, where the sum is as long as it must be; '' else."""
    if tag.upper().startswith("BLAKE2B"):
        found, bits = _blake(digits), tag[7:].lstrip("-") or "512"
        return found if bits == str(digits * 4) else ""
    told = BY_LENGTH.get(digits, "")
    return told if told.replace("-", "") == tag.replace("SHA2-", "SHA").replace("-", "") else ""


def _base(name: str, *, slashes: bool = True) -> str:
    """The last part of a path. slashes: backslashes part it too, as in lists from elsewhere."""
    return (name.replace("\\", "/") if slashes else name).rsplit("/", 1)[-1]


def _side_files(folder: Path, name: str) -> dict[str, Stated]:
    """Everything the files beside `name` state, the strongest sum of each name."""
    stem = name.rsplit(".", 1)[0]
    own = [folder / f"{each}{ending}" for each in (name, stem) for ending in ENDINGS]
    found: dict[str, Stated] = {}
    for path in (*own, *(folder / each for each in NAMES)):
        try:
            if not path.is_file() or path.stat().st_size > LARGEST:
                continue
            stated = parse(path.read_text(encoding="utf-8"), path.name)
        except (OSError, UnicodeDecodeError, FormatError):
            continue
        bare = stated.pop("", None)
        if bare is not None and path.name.startswith(name):
            stated.setdefault(name, bare)
        for each, told in stated.items():
            if each not in found or strength(told) < strength(found[each]):
                found[each] = told
    return found


def beside(facts: SourceFacts) -> Stated | None:
    """What a file beside the image states of it: of the whole file, or of the image inside by its own name."""
    known = _side_files(facts.path.parent, facts.name)
    inside = Path(facts.member).name or (facts.name.rsplit(".", 1)[0] if facts.kind != "plain" else "")
    return known.get(facts.name) or (known.get(inside) if inside else None)


def check_parts(facts: SourceFacts, check: Callable[[], object] = lambda: None) -> int:
    """Check each part of a split archive that a file beside it states; how many were checked.

    Raises SourceError that names the damaged part. check: called between blocks, to cancel.
    """
    known = _side_files(facts.path.parent, facts.name)
    checked = 0
    for part in facts.parts:
        stated = known.get(part.name)
        if stated is None:
            continue
        with reading.opened(part) as file:
            got = of_file(file, stated.algorithm, check)
        if got != stated.digest:
            raise SourceError(
                f"{part.name} has the {stated.algorithm} {got}; the published one is {stated.digest}.",
                do="Download this part again.",
            )
        checked += 1
    return checked


def of_file(file: BinaryIO, algorithm: str, check: Callable[[], object] = lambda: None) -> str:
    """The sum of the rest of a file."""
    total = new_sum(algorithm)
    while block := file.read(1 << 20):
        check()
        total.update(block)
    return total.hexdigest()
