"""Multi-boot bundles: a folder a system, with a manifest of partitions and archives, and pictures. Checked against the
manifest, summed against the target, laid out on a stick."""

from __future__ import annotations

import difflib
import re
import tomllib
from dataclasses import dataclass
from pathlib import Path

from pydantic import Field, ValidationError

from kyklon.base.errors import FormatError, KyklonError, WrongUse
from kyklon.base.inside import files_below, inside
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.quantities import show_bytes
from kyklon.base.reading import bytes_of, not_too_deep, text_of
from kyklon.catalogue.records import Chooser
from kyklon.model.findings import Severity
from kyklon.model.record import Record
from kyklon.operations.card.sets.problems import Problem
from kyklon.operations.card.sources.checksums import of_file
from kyklon.operations.card.sources.source import MAGIC

MB = 1_000_000  # bytes, as manifests count
LARGEST_FAT32 = (1 << 32) - 1  # bytes of a file: Microsoft FAT specification
_LARGEST_MANIFEST = 1 << 20  # bytes
_KINDS = ("FAT32", "ext4", "swap")


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


@dataclass(frozen=True)
class Check:
    """usable: bytes of the target that bundles may fill. need: of the chosen ones. stick: file system that
    their files ask for."""

    bundles: tuple[Bundle, ...]
    chosen: tuple[str, ...]
    problems: tuple[Problem, ...]
    usable: int
    need: int
    stick: str

    @property
    def fits(self) -> bool:
        return self.need <= self.usable

    @property
    def ready(self) -> bool:
        return bool(self.chosen) and self.fits and not any(p.severity is Severity.STOP for p in self.problems)


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


def check(
    folder: Path,
    chooser: Chooser,
    target_bytes: int,
    *,
    board: str = "",
    chosen: tuple[str, ...] | None = None,
    watch: Watch = UNWATCHED,
) -> Check:
    """Check the bundles of a folder (the stick's top or the folder of the bundles itself).

    chosen: folders of the bundles that go on; all readable ones when None. Slow: archives' checksums are checked.
    Raises WrongUse for a folder without bundles, Cancelled.
    """
    top = top_of(folder, chooser)
    try:
        folders = sorted(each for each in top.iterdir() if each.is_dir() and not each.name.startswith("."))
    except OSError as bad:
        raise WrongUse(f"{top} cannot be read: {bad.strerror}.", do="Name the folder of the bundles.") from bad
    if not folders:
        raise WrongUse(f"{top} holds no bundles.", do="Unpack each bundle into a folder of its own.")
    problems: list[Problem] = []
    bundles = []
    for each in folders:
        watch.check()
        bundles.append(_Work(each, chooser, board, problems, watch).bundle())
    bundles.sort(key=lambda bundle: (bundle.order, bundle.folder))
    names = [bundle.folder for bundle in bundles if bundle.readable]
    picked = tuple(name for name in (chosen if chosen is not None else names) if name in names)
    going = [bundle for bundle in bundles if bundle.folder in picked]
    usable = max(0, target_bytes - chooser.own_bytes)
    need = sum(bundle.need for bundle in going)
    problems += _together(going, chooser, usable, need)
    problems += [
        Problem(
            "stray-file",
            Severity.NOTE,
            each.name,
            f"{each.name} lies beside the bundles.",
            "The chooser ignores it.",
        )
        for each in sorted(top.iterdir())
        if each.is_file()
    ]
    largest = max((bundle.largest for bundle in going), default=0)
    return Check(tuple(bundles), picked, tuple(problems), usable, need, "exFAT" if largest > LARGEST_FAT32 else "FAT32")


def _together(going: list[Bundle], chooser: Chooser, usable: int, need: int) -> list[Problem]:
    """What is wrong only with all of them in view."""
    found = []
    if need > usable:
        told = f"The chosen systems need {show_bytes(need)}; {show_bytes(usable)} is usable."
        do = f"Leave one out, or use a target {show_bytes(need - usable)} larger."
        found.append(Problem("too-much", Severity.STOP, "space", told, do))
    count = sum(len(bundle.partitions) for bundle in going)
    if count > chooser.most_partitions:
        told = f"The chosen systems have {count} partitions; {chooser.most_partitions} fit."
        found.append(Problem("too-many", Severity.STOP, "partitions", told, "Leave one out."))
    found += _clashes(going)
    for bundle in going:
        if bundle.largest > LARGEST_FAT32:
            told = f"Its largest file has {show_bytes(bundle.largest)}; a FAT32 stick holds up to 4.29 GB a file."
            do = "Format the stick as exFAT."
            found.append(Problem("large-file", Severity.CAUTION, "stick", told, do, bundle=bundle.folder))
    return found


def _clashes(going: list[Bundle]) -> list[Problem]:
    """Two systems that want the same place or the same name."""
    orders: dict[str, list[str]] = {}
    labels: dict[str, list[str]] = {}
    for bundle in going:
        orders.setdefault(str(bundle.order), []).append(bundle.folder)
        for label in {part.label for part in bundle.partitions}:
            labels.setdefault(label, []).append(bundle.folder)
    found = []
    for order, names in orders.items():
        if len(names) > 1:
            told = f"{' and '.join(names)} both ask for place {order} in the list."
            do = "The chooser sorts them by name then."
            found.append(Problem("same-order", Severity.CAUTION, f"order {order}", told, do, bundle=names[1]))
    for label, names in labels.items():
        if len(names) > 1:
            told = f"{' and '.join(names)} both name a partition {label}."
            do = "Systems that find their partitions by label take the wrong one."
            found.append(Problem("same-label", Severity.STOP, label, told, do, bundle=names[1]))
    return found


class _Work:
    """One bundle."""

    def __init__(self, folder: Path, chooser: Chooser, board: str, problems: list[Problem], watch: Watch) -> None:
        self.folder, self.chooser, self.board, self.problems, self.watch = folder, chooser, board, problems, watch

    def _say(
        self,
        code: str,
        severity: Severity,
        subject: str,
        sentence: str,
        why: str,
        rename: tuple[str, str] | None = None,
    ) -> None:
        self.problems.append(Problem(code, severity, subject, sentence, why, rename, self.folder.name))

    def bundle(self) -> Bundle:
        files = {path: status.st_size for path, status in files_below(self.folder)}
        total, largest = sum(files.values()), max(files.values(), default=0)
        manifest = self._manifest(files)
        if manifest is None:
            return Bundle(self.folder.name, self.folder.name, 10_000, 0, False, total, largest, (), readable=False)
        self._board(manifest)
        expected = {self.chooser.manifest}
        for part in manifest.partitions:
            self._partition(part, files, expected)
        self._pictures(files)
        for name in sorted(set(files) - expected):
            renamed = any(p.rename and p.rename[0] == name and p.bundle == self.folder.name for p in self.problems)
            if not renamed and not name.startswith(f"{self.chooser.pictures}/"):
                self._say(
                    "surplus", Severity.NOTE, name, f"{name} is not in the manifest.", "It takes space and is not used."
                )
        return Bundle(
            self.folder.name,
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
            return read_manifest(text_of(bytes_of(self.folder / name, _LARGEST_MANIFEST), name), name)
        except KyklonError as bad:
            sentence = str(bad)
        self._say("manifest", Severity.STOP, name, sentence, "Without it the chooser does not list the system.")
        return None

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
                f"Partition {part.label} is to be {part.kind}, which the chooser does not make.",
                f"It makes {', '.join(_KINDS)}.",
            )
        if part.unpacked_mb > part.mb:
            self._say(
                "partition-small",
                Severity.STOP,
                part.label,
                f"Partition {part.label} has {part.mb} MB; its archive unpacks to {part.unpacked_mb} MB.",
                "Unpacking stops half-way.",
            )
        if not part.archive:
            return
        try:
            inside(self.folder, part.archive)
        except WrongUse as bad:
            self._say("archive-outside", Severity.STOP, part.archive, bad.what, "A bundle keeps to its own folder.")
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
        path = self.folder / part.archive
        kind = next((kind for kind in self.chooser.archive_kinds if part.archive.endswith(f".{kind}")), "")
        if not kind:
            self._say(
                "archive-kind",
                Severity.STOP,
                part.archive,
                f"{part.archive} is a kind of archive that the chooser cannot unpack.",
                f"It unpacks {', '.join(self.chooser.archive_kinds)}.",
            )
            return
        with path.open("rb") as file:
            head = file.read(8)
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
        if part.sha256:
            with path.open("rb") as file:
                got = of_file(file, "SHA-256", self.watch.check)
            if got != part.sha256:
                self._say(
                    "archive-sum",
                    Severity.STOP,
                    part.archive,
                    f"{part.archive} does not have the SHA-256 that the manifest states.",
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
                "The chooser shows a blank place for the system.",
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
    for each in files:
        if each.lower() == name.lower() and each != name:
            return each
    found = difflib.get_close_matches(name, [each for each in files if "/" not in each], 1, 0.8)
    return found[0] if found else None


def top_of(folder: Path, chooser: Chooser) -> Path:
    """The folder of the bundles: below a stick's top, or the folder itself."""
    return folder / chooser.bundles if (folder / chooser.bundles).is_dir() else folder
