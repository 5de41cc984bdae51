"""One multi-boot bundle: its manifest of partitions and archives, and its pictures, wherever its files lie."""

from __future__ import annotations

import difflib
import re
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Protocol

from pydantic import Field, ValidationError

from kyklon.base import reading
from kyklon.base.errors import FormatError, KyklonError, WrongUse
from kyklon.base.inside import files_below, inside
from kyklon.base.progress import Watch
from kyklon.base.reading import bytes_of, not_too_deep, text_of
from kyklon.catalogue.image_records import Chooser
from kyklon.model.card import CardContents
from kyklon.model.findings import Severity
from kyklon.model.record import Record
from kyklon.operations.card.sets.problems import Problem
from kyklon.operations.card.sources.source import MAGIC
from kyklon.operations.checksums import of_file

MB = 1_000_000  # bytes, as manifests count
_LARGEST_MANIFEST = 1 << 20  # bytes
_KINDS = ("FAT32", "ext4", "swap")


class BundleFiles(Protocol):
    """A bundle's files by their paths in it. Each raises KyklonError for a file that cannot be read."""

    name: str
    sizes: Mapping[str, int]

    def text(self, path: str) -> str: ...

    def head(self, path: str) -> bytes:
        """The first 8 bytes."""
        ...

    def sha256(self, path: str) -> str | None:
        """None where that is not known and would take too long."""
        ...

    def permits(self, path: str) -> None:
        """Raises WrongUse for a path that leads out of the bundle."""
        ...


class InFolder:
    def __init__(self, folder: Path, watch: Watch) -> None:
        self.folder, self.watch, self.name = folder, watch, folder.name
        self.sizes: Mapping[str, int] = {path: status.st_size for path, status in files_below(folder)}

    def text(self, path: str) -> str:
        return text_of(bytes_of(self.folder / path, _LARGEST_MANIFEST), path)

    def head(self, path: str) -> bytes:
        with reading.opened(self.folder / path) as file:
            return file.read(8)

    def sha256(self, path: str) -> str | None:
        with reading.opened(self.folder / path) as file:
            return of_file(file, "SHA-256", self.watch.check)

    def permits(self, path: str) -> None:
        inside(self.folder, path)


class OnCard:
    """A bundle on the boot partition; top: its folder there, with its slash."""

    def __init__(self, contents: CardContents, top: str) -> None:
        self.contents, self.top, self.name = contents, top, top.rstrip("/").rpartition("/")[2]
        self.sizes: Mapping[str, int] = {
            path[len(top) :]: size for path, size in contents.sizes.items() if path.startswith(top)
        }

    def text(self, path: str) -> str:
        found = self.contents.texts.get(f"{self.top}{path}".lower())
        if found is None:
            raise FormatError(path, 0, expected="a text of at most 64 KB", got="something else")
        return found

    def head(self, path: str) -> bytes:
        return self.contents.heads.get(f"{self.top}{path}".lower(), b"")

    def sha256(self, path: str) -> str | None:
        return self.contents.digests.get(f"{self.top}{path}".lower())

    def permits(self, path: str) -> None:
        """Nothing but what the partition lists is ever looked at."""


class BundlePartition(Record):
    """mb: least size in MB (10^6 bytes). unpacked_mb: of what its archive holds. archive: '' for an empty one."""

    label: str = Field(pattern=r"^[A-Za-z0-9_-]{1,16}$")
    kind: str
    mb: int = Field(gt=0, le=4_000_000)
    unpacked_mb: int = Field(default=0, ge=0)
    archive: str = ""
    sha256: str = Field(default="", pattern=r"^([0-9a-f]{64})?$")
    grows: bool = False


class Manifest(Record):
    """order: place in the chooser's list, from 1."""

    name: str = Field(min_length=1)
    order: int = Field(ge=1)
    boards: tuple[str, ...] = ()
    released: str = ""
    partitions: tuple[BundlePartition, ...] = Field(min_length=1)


@dataclass(frozen=True)
class Bundle:
    """need: bytes of its partitions on the target, each rounded up. files: bytes on the stick. largest: of one file."""

    folder: str
    name: str
    order: int
    need: int
    grows: bool
    files: int
    largest: int
    partitions: tuple[BundlePartition, ...]
    readable: bool = True


def read_manifest(text: str, name: str = "manifest") -> Manifest:
    """Raises FormatError with its offset in bytes."""
    try:
        not_too_deep(text, name)
        return Manifest.model_validate(tomllib.loads(text))
    except tomllib.TOMLDecodeError as bad:
        offset = _offset_told(str(bad), text)
        raise FormatError(name, offset, expected="TOML", got=str(bad)) from bad
    except (RecursionError, OverflowError) as bad:
        raise FormatError(name, 0, expected="TOML", got=str(bad)) from bad
    except ValidationError as bad:
        first = bad.errors()[0]
        key = ".".join(str(step) for step in first["loc"])
        last = next((str(step) for step in reversed(first["loc"]) if isinstance(step, str)), "")
        place = text.find(last) if last else 0
        offset = len(text[: max(0, place)].encode("utf-8", "surrogatepass"))
        raise FormatError(name, offset, expected=first["msg"], got=f"{key} = {str(first['input'])[:40]!r}") from bad


def _offset_told(words: str, text: str) -> int:
    """The byte at the line and column that tomllib names, the end of the text where it names none."""
    match = re.search(r"line (\d+), column (\d+)", words)
    lines = text.splitlines(keepends=True)
    if match is None or int(match[1]) > len(lines):
        return len(text.encode("utf-8", "surrogatepass"))
    row, column = int(match[1]) - 1, int(match[2]) - 1
    return len(("".join(lines[:row]) + lines[row][:column]).encode("utf-8", "surrogatepass"))


def need_of(partitions: tuple[BundlePartition, ...], align: int) -> int:
    """Bytes on the target: each partition rounded up, and one alignment for its logical table entry."""
    return sum(-(-part.mb * MB // align) * align + align for part in partitions)


class Work:
    """One bundle."""

    def __init__(self, files: BundleFiles, chooser: Chooser, board: str, problems: list[Problem]) -> None:
        self.files, self.chooser, self.board, self.problems = files, chooser, board, problems

    def _say(
        self,
        code: str,
        severity: Severity,
        subject: str,
        sentence: str,
        why: str,
        rename: tuple[str, str] | None = None,
    ) -> None:
        self.problems.append(Problem(code, severity, subject, sentence, why, rename, self.files.name))

    def bundle(self) -> Bundle:
        files = dict(self.files.sizes)
        total, largest = sum(files.values()), max(files.values(), default=0)
        manifest = self._manifest(files)
        if manifest is None:
            return Bundle(self.files.name, self.files.name, 10_000, 0, False, total, largest, (), readable=False)
        self._board(manifest)
        self._age(manifest)
        expected = {self.chooser.manifest}
        for part in manifest.partitions:
            self._partition(part, files, expected)
        self._pictures(files)
        for name in sorted(set(files) - expected):
            renamed = any(p.rename and p.rename[0] == name and p.bundle == self.files.name for p in self.problems)
            if not renamed and not name.startswith(f"{self.chooser.pictures}/"):
                self._say(
                    "surplus", Severity.NOTE, name, f"{name} is not in the manifest.", "It takes space and is not used."
                )
        return Bundle(
            self.files.name,
            manifest.name,
            manifest.order,
            need_of(manifest.partitions, self.chooser.align_bytes),
            any(part.grows for part in manifest.partitions),
            total,
            largest,
            manifest.partitions,
        )

    def _manifest(self, files: dict[str, int]) -> Manifest | None:
        name = self.chooser.manifest
        if name not in files:
            near = _near(name, files)
            self._say(
                "no-manifest",
                Severity.STOP,
                name,
                f"{near} should be named {name}." if near else f"{name} is missing.",
                "Without it the chooser does not list the system.",
                (near, name) if near else None,
            )
            return None
        try:
            return read_manifest(self.files.text(name), name)
        except KyklonError as bad:
            sentence = str(bad)
        self._say("manifest", Severity.STOP, name, sentence, "Without it the chooser does not list the system.")
        return None

    def _age(self, manifest: Manifest) -> None:
        """A system that came out after the chooser did."""
        dates = []
        for text in (manifest.released, self.chooser.released):
            try:
                dates.append(date.fromisoformat(text[:10]))
            except ValueError:
                return
        if dates[0] > dates[1]:
            told = f"It came out on {dates[0]}, after {self.chooser.name} of {dates[1]}."
            do = "The chooser may not know what it needs: look for a newer one before you copy it."
            self._say("newer", Severity.CAUTION, "released", told, do)

    def _board(self, manifest: Manifest) -> None:
        if self.board and manifest.boards and self.board not in manifest.boards:
            self._say(
                "board",
                Severity.STOP,
                manifest.name,
                f"{manifest.name} serves {', '.join(manifest.boards)}, not {self.board}.",
                "It would not start on this machine.",
            )

    def _partition(self, part: BundlePartition, files: dict[str, int], expected: set[str]) -> None:
        if part.kind not in _KINDS:
            self._say(
                "kind",
                Severity.STOP,
                part.label,
                f"Partition {part.label} should be {part.kind}, which the chooser cannot create.",
                f"It makes {', '.join(_KINDS)}.",
            )
        if part.unpacked_mb > part.mb:
            self._say(
                "partition-small",
                Severity.STOP,
                part.label,
                f"Partition {part.label} has {part.mb} MB; its archive unpacks to {part.unpacked_mb} MB.",
                "Unpacking stops halfway.",
            )
        if not part.archive:
            return
        try:
            self.files.permits(part.archive)
        except WrongUse as bad:
            self._say("archive-outside", Severity.STOP, part.archive, bad.what, "A bundle must stay in its own folder.")
            return
        if part.archive not in files:
            near = _near(part.archive, set(files) - expected)
            self._say(
                "archive-name",
                Severity.STOP,
                part.archive,
                f"{near} is not the name in the manifest, {part.archive}." if near else f"{part.archive} is missing.",
                "Archives are found by exactly the name in the manifest.",
                (near, part.archive) if near else None,
            )
            return
        expected.add(part.archive)
        self._archive(part)

    def _archive(self, part: BundlePartition) -> None:
        kind = next((kind for kind in self.chooser.archive_kinds if part.archive.endswith(f".{kind}")), "")
        if not kind:
            self._say(
                "archive-kind",
                Severity.STOP,
                part.archive,
                f"{part.archive} is an archive type that the chooser cannot unpack.",
                f"It unpacks {', '.join(self.chooser.archive_kinds)}.",
            )
            return
        head = self.files.head(part.archive)
        if not head.startswith(MAGIC[kind.rsplit(".", 1)[-1]]):
            found = next((k for k, magic in MAGIC.items() if head.startswith(magic)), "no archive")
            self._say(
                "archive-kind",
                Severity.STOP,
                part.archive,
                f"{part.archive} is named {kind} but holds {found}.",
                "The chooser unpacks by the name.",
            )
            return
        got = self.files.sha256(part.archive) if part.sha256 else None
        if got is not None and got != part.sha256:
            self._say(
                "archive-sum",
                Severity.STOP,
                part.archive,
                f"{part.archive} does not match the SHA-256 in the manifest.",
                "The download is damaged. Download it again.",
            )

    def _pictures(self, files: dict[str, int]) -> None:
        views = [name for name in files if name.startswith(f"{self.chooser.pictures}/")]
        if not views:
            self._say(
                "no-pictures",
                Severity.CAUTION,
                self.chooser.pictures,
                f"The folder {self.chooser.pictures} is missing or empty.",
                "The chooser shows no picture for the system.",
            )
        for name in views:
            if name.rsplit(".", 1)[-1].lower() not in self.chooser.picture_kinds:
                self._say(
                    "picture-kind",
                    Severity.CAUTION,
                    name,
                    f"{name} is no {' or '.join(self.chooser.picture_kinds)} picture.",
                    "The chooser does not show it.",
                )


def _near(name: str, files: dict[str, int] | set[str]) -> str | None:
    """A file that is probably meant by a name: the same but for case, or nearly the same."""
    for file in files:
        if file.lower() == name.lower() and file != name:
            return file
    found = difflib.get_close_matches(name, [file for file in files if "/" not in file], 1, 0.8)
    return found[0] if found else None
