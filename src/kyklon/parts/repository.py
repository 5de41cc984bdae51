"""A parts repository: a plain folder of part files that many owners share, with an index of sums and a signature.

    index.json                     what is there: kind, id, name, file, SHA-256; what was withdrawn, and why
    index.json.sig                 an OpenSSH signature of it (PROTOCOL.sshsig, Ed25519, namespace 'kyklon-parts')
    parts/KIND/ID.kyklon.toml      as `kyklon part export` writes them

The index is made from the files alone and has one line a part in a fixed order, so that many hands can keep the folder
in version control. Where it lies is the owner's affair: a disk, a share, a stick, the document root of a web server
that is mounted here. Nothing goes over the network by itself, and nothing is taken from it that its user did not agree
to.
"""

from __future__ import annotations

import base64
import hashlib
import json
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import Field

from kyklon.base import durable
from kyklon.base.errors import FormatError, KyklonError, WrongUse
from kyklon.base.inside import inside
from kyklon.base.places import data_folder
from kyklon.base.reading import bytes_of, json_of
from kyklon.base.shown import visible
from kyklon.catalogue import loader
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build
from kyklon.model.findings import Finding, Severity
from kyklon.model.record import Record
from kyklon.parts import exchange
from kyklon.parts.fields import one
from kyklon.parts.store import Step, Store

INDEX, SIGNATURE, PARTS, ENDING = "index.json", "index.json.sig", "parts", ".kyklon.toml"
NAMESPACE = b"kyklon-parts"
MOST_PARTS = 50_000
MOST_BYTES = 64 << 20  # of an index; 20 000 parts take 4 MB
_ARMOUR = "SSH SIGNATURE"


class Entry(Record):
    """One part. file: below the repository. sum: SHA-256 of the file. withdrawn: why it should not be used any more."""

    kind: str
    id: str
    name: str
    file: str
    sum: str
    withdrawn: str = ""

    @property
    def key(self) -> str:
        return f"{self.kind}/{self.id}"


class Index(Record):
    format: int = 1
    name: str
    parts: tuple[Entry, ...] = ()


class Known(Record):
    """A repository that was added. key: fingerprint of whom it is trusted from, '' for an unsigned one."""

    path: str
    key: str = ""


class _Known(Record):
    repositories: tuple[Known, ...] = Field(default=())


@dataclass(frozen=True)
class Repository:
    """One that was read and is as it was signed."""

    path: Path
    index: Index
    key: str

    def entry(self, key: str) -> Entry | None:
        return next((entry for entry in self.index.parts if entry.key == key), None)

    def bytes_of(self, entry: Entry) -> bytes:
        """A part's file. Raises FormatError when it is not what the index names."""
        data = bytes_of(inside(self.path, entry.file))
        if hashlib.sha256(data).hexdigest() != entry.sum:
            raise FormatError(
                entry.file, 0, expected="the file that the index names", got="another one", do="Fetch it again."
            )
        return data


# --- made and signed ---------------------------------------------------------------------------------------------


def make(folder: Path, name: str, shelf: Catalogue) -> Index:
    """Write the index of a folder from its files; reasons of what was withdrawn stay. Raises KyklonError with the file
    that cannot be used. name: of the repository, kept from before when it is ''."""
    before = _index_at(folder) if (folder / INDEX).exists() else Index(name=name or folder.name)
    reasons = {entry.key: entry.withdrawn for entry in before.parts if entry.withdrawn}
    entries: dict[str, Entry] = {}
    for path in _files(folder):
        data, local = bytes_of(path), path.relative_to(folder).as_posix()
        found = exchange.incoming_from(data, local, shelf)[0]
        entry = Entry(
            kind=found.kind,
            id=found.part.id,
            name=found.part.name,
            file=local,
            sum=hashlib.sha256(data).hexdigest(),
            withdrawn=reasons.get(f"{found.kind}/{found.part.id}", ""),
        )
        if entry.key in entries:
            raise KyklonError(
                f"{local} and {entries[entry.key].file} both hold {entry.key}.", do="Remove or rename one of them."
            )
        entries[entry.key] = entry
    made = Index(name=name or before.name, parts=tuple(sorted(entries.values(), key=lambda entry: entry.key)))
    write(folder, made)
    return made


def _files(folder: Path) -> list[Path]:
    place = folder / PARTS
    if not place.is_dir():
        raise WrongUse(
            f"{folder} has no folder {PARTS}.", do=f"Put part files into {PARTS}/: `kyklon part export` makes them."
        )
    found = sorted(path for path in place.rglob(f"*{ENDING}") if path.is_file() and not path.is_symlink())
    if len(found) > MOST_PARTS:
        raise WrongUse(f"{folder} has {len(found)} part files; {MOST_PARTS} are the most.")
    return found


def write(folder: Path, index: Index) -> None:
    """One line a part, so that a merge sees parts and not commas."""
    rows = ",\n".join(
        "  " + json.dumps(entry.model_dump(exclude_defaults=True), ensure_ascii=False, sort_keys=True)
        for entry in index.parts
    )
    text = (
        f'{{"format": {index.format}, "name": {json.dumps(index.name, ensure_ascii=False)}, "parts": [\n{rows}\n]}}\n'
    )
    durable.replace(folder / INDEX, text.encode())


def withdraw(folder: Path, key: str, why: str) -> Index:
    """Mark a part as one that should not be used; why: a sentence for those who do. '' takes the mark away."""
    index = _index_at(folder)
    if not any(entry.key == key for entry in index.parts):
        raise WrongUse(f"{key} is not in {folder / INDEX}.", do="Write KIND/ID as the index has it.")
    rows = [
        entry.model_copy(update={"withdrawn": visible(why.strip())[:300]}) if entry.key == key else entry
        for entry in index.parts
    ]
    made = index.model_copy(update={"parts": tuple(rows)})
    write(folder, made)
    return made


def sign(folder: Path, key: Path) -> str:
    """Sign the index with an OpenSSH key; returns its fingerprint. Raises WrongUse for another kind of key."""
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
    from cryptography.hazmat.primitives.serialization import load_ssh_private_key

    try:
        private = load_ssh_private_key(bytes_of(key), None)
    except (ValueError, TypeError) as bad:
        raise WrongUse(f"{key} is not an OpenSSH key without a pass phrase: {bad}.", do="Name another file.") from bad
    if not isinstance(private, Ed25519PrivateKey):
        raise WrongUse(f"{key} is not an Ed25519 key.", do="Make one: ssh-keygen -t ed25519.")
    public = _public_blob(private.public_key().public_bytes_raw())
    data = bytes_of(folder / INDEX, MOST_BYTES)
    made = private.sign(_signed(data))
    blob = (
        b"SSHSIG"
        + struct.pack(">I", 1)
        + b"".join(map(_string, (public, NAMESPACE, b"", b"sha512", _string(b"ssh-ed25519") + _string(made))))
    )
    body = base64.b64encode(blob).decode()
    lines = [body[start : start + 70] for start in range(0, len(body), 70)]
    text = "\n".join([f"-----BEGIN {_ARMOUR}-----", *lines, f"-----END {_ARMOUR}-----", ""])
    durable.replace(folder / SIGNATURE, text.encode())
    return fingerprint(public)


def fingerprint(public: bytes) -> str:
    """Of a public key, as ssh-keygen -l prints it. public: in the wire format of RFC 4253, 6.6."""
    return "SHA256:" + base64.b64encode(hashlib.sha256(public).digest()).decode().rstrip("=")


def signer_of(folder: Path) -> str:
    """Fingerprint of the key that signed the index as it is; '' for one without a signature. Raises FormatError for a
    signature that is not of this index."""
    if not (folder / SIGNATURE).exists():
        return ""
    return _signer(bytes_of(folder / SIGNATURE), bytes_of(folder / INDEX, MOST_BYTES))


def _signer(armoured: bytes, data: bytes) -> str:
    from cryptography.exceptions import InvalidSignature
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

    try:
        lines = armoured.decode("ascii").split()
        blob = base64.b64decode("".join(lines[3:-3]), validate=True)
        if blob[:6] != b"SSHSIG" or blob[6:10] != struct.pack(">I", 1):
            raise ValueError("it does not begin as one")
        public, space, _reserved, method, signature = _strings(blob[10:], 5)
        kind, raw = _strings(public, 2)
        _kind, made = _strings(signature, 2)
        if kind != b"ssh-ed25519" or space != NAMESPACE or method != b"sha512":
            raise ValueError("it is of another kind")
        Ed25519PublicKey.from_public_bytes(raw).verify(made, _signed(data))
    except InvalidSignature as bad:
        raise FormatError(
            SIGNATURE,
            0,
            expected="a signature of this index",
            got="one of another index",
            do="Do not use it: ask its owner.",
        ) from bad
    except (ValueError, struct.error) as bad:
        raise FormatError(SIGNATURE, 0, expected="an OpenSSH signature", got=str(bad), do="Fetch it again.") from bad
    return fingerprint(public)


def _signed(data: bytes) -> bytes:
    """What is signed: never the bytes themselves, so that no signature is taken for one of something else."""
    digest = hashlib.sha512(data).digest()
    return b"SSHSIG" + b"".join(map(_string, (NAMESPACE, b"", b"sha512", digest)))


def _string(data: bytes) -> bytes:
    return struct.pack(">I", len(data)) + data


def _strings(data: bytes, count: int) -> list[bytes]:
    found, at = [], 0
    for _ in range(count):
        (length,) = struct.unpack_from(">I", data, at)
        if length > len(data) - at - 4:
            raise ValueError("it ends too early")
        found.append(data[at + 4 : at + 4 + length])
        at += 4 + length
    return found


def _public_blob(raw: bytes) -> bytes:
    return _string(b"ssh-ed25519") + _string(raw)


# --- read --------------------------------------------------------------------------------------------------------


def _index_at(folder: Path) -> Index:
    return _index_of(bytes_of(folder / INDEX, MOST_BYTES))


def _index_of(data: bytes) -> Index:
    table = json_of(data, INDEX)
    try:
        index = Index.model_validate(table)
    except ValueError as bad:
        raise FormatError(INDEX, 0, expected="an index of parts", got=str(bad)[:200], do="Fetch it again.") from bad
    if index.format != 1:
        raise FormatError(INDEX, 0, expected="format 1", got=f"format {index.format}", do="Use a newer Kyklon.")
    keys = [entry.key for entry in index.parts]
    if len(keys) > MOST_PARTS or len(set(keys)) != len(keys):
        raise FormatError(INDEX, 0, expected="each part once", got="one twice, or too many", do="Fetch it again.")
    for entry in index.parts:
        if entry.kind not in loader.KINDS:
            raise FormatError(INDEX, 0, expected="a kind of part", got=visible(entry.kind)[:80], do="Fetch it again.")
    return index


def read(folder: Path, key: str = "") -> Repository:
    """A repository as it is now. key: the fingerprint that it must be signed with; '' takes an unsigned one, or one by
    anybody. Raises KyklonError with what is wrong."""
    data = bytes_of(folder / INDEX, MOST_BYTES)  # once: what is checked is what is used
    signer = _signer(bytes_of(folder / SIGNATURE), data) if (folder / SIGNATURE).exists() else ""
    if key and signer != key:
        raise WrongUse(
            f"{folder} is signed by {signer or 'nobody'}, not by {key}.",
            do="Ask its owner before you trust another key; remove it and add it again then.",
        )
    return Repository(folder, _index_of(data), signer)


def check(folder: Path, shelf: Catalogue) -> tuple[str, ...]:
    """What is wrong with a repository, in words; nothing when every file is as its index says and can be used."""
    try:
        found = read(folder)
    except KyklonError as bad:
        return (str(bad),)
    wrong = []
    for entry in found.index.parts:
        try:
            brought = exchange.incoming_from(found.bytes_of(entry), entry.file, shelf)[0]
            if (brought.kind, brought.part.id) != (entry.kind, entry.id):
                wrong.append(f"{entry.file} holds {brought.kind}/{brought.part.id}, the index says {entry.key}.")
        except KyklonError as bad:
            wrong.append(str(bad))
    listed = {entry.file for entry in found.index.parts}
    wrong += [
        f"{path.relative_to(folder)} is not in the index: make it again."
        for path in _files(folder)
        if path.relative_to(folder).as_posix() not in listed
    ]
    return tuple(wrong)


# --- those that were added ---------------------------------------------------------------------------------------


def _list() -> Path:
    return data_folder() / "repositories.json"


def known() -> tuple[Known, ...]:
    """Those that were added; none from a file that is damaged."""
    try:
        return _Known.model_validate(json_of(bytes_of(_list()), str(_list()))).repositories if _list().exists() else ()
    except (KyklonError, ValueError):
        return ()


def add(folder: Path, key: str = "") -> Repository:
    """Add a repository. key: the fingerprint that its owner told you; one that is signed needs it."""
    found = read(folder, key)
    if found.key and not key:
        raise WrongUse(
            f"{folder} is signed by {found.key}.",
            do="Compare that with what its owner tells you, then add it with --key and that fingerprint.",
        )
    rows = [row for row in known() if row.path != str(folder)] + [Known(path=str(folder), key=key)]
    _keep(rows)
    return found


def forget(folder: Path) -> bool:
    """Whether it was there."""
    rows = [row for row in known() if row.path != str(folder)]
    there = len(rows) != len(known())
    _keep(rows)
    return there


def _keep(rows: list[Known]) -> None:
    place = _list()
    place.parent.mkdir(parents=True, exist_ok=True)
    durable.replace(place, _Known(repositories=tuple(rows)).model_dump_json(indent=1).encode())


@dataclass(frozen=True)
class News:
    """A part of a repository that the shelf lacks or has otherwise. others: repositories that have it otherwise too.
    state: new, other, withdrawn."""

    repository: Repository
    entry: Entry
    state: str
    differences: tuple[str, ...] = ()
    others: tuple[str, ...] = ()


def every() -> tuple[tuple[Repository, ...], tuple[str, ...]]:
    """The repositories that were added and can be read, and what is wrong with the others."""
    found, wrong = [], []
    for row in known():
        try:
            found.append(read(Path(row.path), row.key))
        except KyklonError as bad:
            wrong.append(f"{row.path}: {bad}")
    return tuple(found), tuple(wrong)


def news(repositories: tuple[Repository, ...], shelf: Catalogue) -> Iterator[News]:
    """What they have that the shelf has not, or has otherwise, in the order of their keys."""
    sums: dict[str, dict[str, list[str]]] = {}
    for found in repositories:
        for entry in found.index.parts:
            sums.setdefault(entry.key, {}).setdefault(entry.sum, []).append(found.index.name)
    for found in repositories:
        for entry in found.index.parts:
            others = tuple(name for digest, names in sums[entry.key].items() if digest != entry.sum for name in names)
            there = shelf.parts.get(entry.kind, {}).get(entry.id)
            if entry.withdrawn:
                if there is not None:
                    yield News(found, entry, "withdrawn", (entry.withdrawn,), others)
                continue
            if there is None:
                yield News(found, entry, "new", (), others)
                continue
            try:
                brought = exchange.incoming_from(found.bytes_of(entry), entry.file, shelf)[0]
            except KyklonError as bad:
                yield News(found, entry, "other", (str(bad),), others)
                continue
            told = tuple(f"{row.label}: {row.before} here, {row.after} there" for row in brought.differences)
            if told:
                yield News(found, entry, "other", told, others)


def take(found: Repository, key: str, shelf: Catalogue, store: Store, *, replace: bool) -> tuple[Step, ...]:
    """Put a part onto the shelf. Raises WrongUse for one that was withdrawn, KyklonError as exchange.bring_in."""
    entry = found.entry(key)
    if entry is None:
        raise WrongUse(f"{key} is not in {found.index.name}.", do="`kyklon part repository news` lists what is.")
    if entry.withdrawn:
        raise WrongUse(f"{entry.name} was withdrawn: {entry.withdrawn}", do="Use another part.")
    return exchange.bring_in(exchange.incoming_from(found.bytes_of(entry), entry.file, shelf), store, replace=replace)


def brought(found: Repository, key: str, shelf: Catalogue) -> tuple[exchange.Incoming, ...]:
    """What taking a part would put onto the shelf."""
    entry = found.entry(key)
    if entry is None:
        raise WrongUse(f"{key} is not in {found.index.name}.", do="`kyklon part repository news` lists what is.")
    return exchange.incoming_from(found.bytes_of(entry), entry.file, shelf)


_withdrawn: list[tuple[str, Entry]] = []  # name of the repository, and what it withdrew, as last looked


def look() -> None:
    """Remember what the repositories have withdrawn: `findings` is asked at every edit and reads no disk."""
    _withdrawn[:] = [
        (found.index.name, entry) for found in every()[0] for entry in found.index.parts if entry.withdrawn
    ]


def findings(build: Build) -> list[Finding]:
    """Parts of a build that a repository had withdrawn when it was looked at last."""
    used = {f"{copy.kind}/{copy.id}" for copy in build.copies}
    return [
        Finding(
            code=f"plan.withdrawn:{entry.key}",
            severity=Severity.CAUTION,
            operation=10,
            subject=visible(entry.name),
            title=f"{visible(entry.name)} was withdrawn by those who shared it",
            message=f"{visible(name)} says: {visible(entry.withdrawn)}",
            why=f"The {one(entry.kind)} in this build may hold a wrong figure.",
            source="index of a parts repository",
        )
        for name, entry in _withdrawn
        if entry.key in used
    ]


def as_data(row: News) -> dict[str, Any]:
    return {
        "repository": row.repository.index.name,
        "part": row.entry.key,
        "name": row.entry.name,
        "state": row.state,
        "differences": row.differences,
        "others": row.others,
    }
