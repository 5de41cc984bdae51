"""One multi-boot bundle: its manifest of partitions and archives, and its pictures, wherever its files lie."""

from __future__ import annotations

import difflib
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Protocol

from kyklon.base import reading
from kyklon.base.errors import FormatError, KyklonError, WrongUse
from kyklon.base.inside import files_below, inside
from kyklon.base.progress import Watch
from kyklon.base.quantities import show_bytes
from kyklon.base.reading import bytes_of, text_of
from kyklon.catalogue.image_records import Chooser
from kyklon.model.card import CardContents
from kyklon.model.findings import Severity
from kyklon.operations.card.sets.manifest import BundlePartition, Manifest, read_manifest
from kyklon.operations.card.sets.problems import Problem
from kyklon.operations.card.sources.source import MAGIC
from kyklon.operations.checksums import of_file

_LARGEST_MANIFEST = 1 << 20  # bytes


UNPACKED_TIMES = 2.5  # of an archive's size, CP: where a manifest does not tell what is unpacked


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


class Unsummed(InFolder):
    """For who wants to know soon what the manifests say."""

    def sha256(self, path: str) -> str | None:
        """Override."""
        return None


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


@dataclass(frozen=True)
class Bundle:
    """need: bytes of its partitions on the target, each rounded up. files: bytes on the stick. largest: of one file.
    packed: bytes of each partition's archive, 0 where there is none. released: ISO 8601, as the manifest has it."""

    folder: str
    name: str
    order: int
    need: int
    grows: bool
    files: int
    largest: int
    partitions: tuple[BundlePartition, ...]
    readable: bool = True
    packed: tuple[int, ...] = ()
    released: str = ""


def need_of(partitions: tuple[BundlePartition, ...], align: int) -> int:
    """Bytes on the target: each partition rounded up, and one alignment for its logical table entry."""
    return sum(-(-part.size // align) * align + align for part in partitions)


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
        expected = {self.chooser.manifest, self.chooser.about}
        for part in manifest.partitions:
            self._partition(part, files, expected)
        self._pictures(files)
        for name in sorted(set(files) - expected):
            renamed = any(p.rename and p.rename[0] == name and p.bundle == self.files.name for p in self.problems)
            if not renamed and not self._is_picture(name):
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
            packed=tuple(files.get(part.archive, 0) for part in manifest.partitions),
            released=manifest.released,
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
            about = self.files.text(self.chooser.about) if self.chooser.about in files else ""
            read = read_manifest(self.files.text(name), name, self.chooser.form, self.files.name, about)
            return self._sized(read, files)
        except KyklonError as bad:
            sentence = str(bad)
        self._say("manifest", Severity.STOP, name, sentence, "Without it the chooser does not list the system.")
        return None

    def _sized(self, manifest: Manifest, files: dict[str, int]) -> Manifest:
        """With a guess for what has no size, where the manifests of this chooser tell none."""
        if self.chooser.form.size:
            return manifest
        guessed = tuple(
            part.model_copy(update={"size": part.unpacked or round(files.get(part.archive, 0) * UNPACKED_TIMES) or 1})
            for part in manifest.partitions
        )
        told = f"The manifest gives no sizes: {UNPACKED_TIMES:g} times its archives is assumed."
        self._say("size-guessed", Severity.CAUTION, self.chooser.manifest, told, "It may need more space than that.")
        return manifest.model_copy(update={"partitions": guessed})

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
        names = self.chooser.board_names
        served = [names.get(word, "") if names is not None else word for word in manifest.boards]
        if not self.board or not served or self.board in served:
            return
        if "" in served:
            told = f"{manifest.name} is for {', '.join(manifest.boards)}."
            why = "Check by hand whether your board is among them; the chooser's own words can be added on the shelf."
            self._say("board-unknown", Severity.CAUTION, manifest.name, told, why)
        else:
            self._say(
                "board",
                Severity.STOP,
                manifest.name,
                f"{manifest.name} serves {', '.join(manifest.boards)}, not {self.board}.",
                "It would not start on this machine.",
            )

    def _partition(self, part: BundlePartition, files: dict[str, int], expected: set[str]) -> None:
        if part.kind and part.kind not in self.chooser.makes:
            self._say(
                "kind",
                Severity.STOP,
                part.label,
                f"Partition {part.label} should be {part.kind}, which the chooser cannot create.",
                f"It makes {', '.join(self.chooser.makes)}.",
            )
        if part.unpacked > part.size:
            self._say(
                "partition-small",
                Severity.STOP,
                part.label,
                f"Partition {part.label} has {show_bytes(part.size)}; "
                f"its archive unpacks to {show_bytes(part.unpacked)}.",
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

    def _is_picture(self, name: str) -> bool:
        """In the folder of pictures; without one, by its ending."""
        if self.chooser.pictures:
            return name.startswith(f"{self.chooser.pictures}/")
        return "/" not in name and name.rsplit(".", 1)[-1].lower() in self.chooser.picture_kinds

    def _pictures(self, files: dict[str, int]) -> None:
        views = [name for name in files if self._is_picture(name)]
        if not views:
            self._say(
                "no-pictures",
                Severity.CAUTION,
                self.chooser.pictures or self.files.name,
                f"The folder {self.chooser.pictures} is missing or empty."
                if self.chooser.pictures
                else "There is no picture beside the manifest.",
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
