"""Multi-boot bundles together: checked one by one, summed against the target, in the order of the chooser's list."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

from kyklon.base.errors import WrongUse
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.quantities import show_bytes
from kyklon.catalogue.image_records import Chooser
from kyklon.model.card import CardContents
from kyklon.model.findings import Severity
from kyklon.operations.card.sets.bundle import Bundle, BundleFiles, InFolder, OnCard, Unsummed, Work
from kyklon.operations.card.sets.problems import Problem

LARGEST_FAT32 = (1 << 32) - 1  # bytes of a file: Microsoft FAT specification


@dataclass(frozen=True)
class Check:
    """usable: bytes of the target that bundles may fill. need: of the chosen ones. stick: file system that
    their files ask for. stops: of the problems, those that keep what was asked for off the stick; a bundle that nobody
    chose may be as it is."""

    bundles: tuple[Bundle, ...]
    chosen: tuple[str, ...]
    problems: tuple[Problem, ...]
    usable: int
    need: int
    stick: str
    stops: tuple[Problem, ...] = ()

    @property
    def fits(self) -> bool:
        return self.need <= self.usable

    @property
    def ready(self) -> bool:
        return bool(self.chosen) and self.fits and not self.stops


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
    return _checked(*_held(folder, chooser, InFolder, watch), chooser, target_bytes, board, chosen, watch)


def check_quickly(
    folder: Path,
    chooser: Chooser,
    target_bytes: int,
    *,
    board: str = "",
    chosen: tuple[str, ...] | None = None,
    watch: Watch = UNWATCHED,
) -> Check:
    """The same, but for the archives' checksums."""
    return _checked(*_held(folder, chooser, Unsummed, watch), chooser, target_bytes, board, chosen, watch)


def _held(folder: Path, chooser: Chooser, kind: type[InFolder], watch: Watch) -> tuple[list[InFolder], tuple[str, ...]]:
    """The bundles of a folder, and the files beside them."""
    top = top_of(folder, chooser)
    try:
        folders = sorted(path for path in top.iterdir() if path.is_dir() and not path.name.startswith("."))
        held = [kind(each, watch) for each in folders]
        beside = tuple(path.name for path in sorted(top.iterdir()) if path.is_file())
    except OSError as bad:
        raise WrongUse(f"{top} cannot be read: {bad.strerror}.", do="Choose the folder of the bundles.") from bad
    files = [each for each in held if is_bundle(each, chooser)]
    if not files:
        raise WrongUse(f"{top} holds no bundles.", do="Unpack each bundle into its own folder.")
    return files, beside


def check_card(contents: CardContents, chooser: Chooser, *, board: str = "", size: int = 0) -> Check:
    """Check the bundles on a card's boot partition, as far as a look has read them (of large archives not the sums).

    size: of the whole card in bytes. Without bundles, a Check of none.
    """
    top = f"{chooser.bundles}/".lower() if chooser.bundles else ""
    inner = sorted(path for path in contents.sizes if path.lower().startswith(top))
    within = [path[len(top) :] for path in inner]
    names = dict.fromkeys(path.split("/")[0] for path in within if "/" in path)
    spelt = inner[0][: len(top)] if inner else top
    held = (OnCard(contents, f"{spelt}{name}/") for name in names if not name.startswith("."))
    files = [each for each in held if is_bundle(each, chooser)]
    beside = tuple(path for path in within if "/" not in path) if top else ()
    return _checked(files, beside, chooser, size or contents.size, board, None, UNWATCHED)


def _checked(
    held: Iterable[BundleFiles],
    beside: tuple[str, ...],
    chooser: Chooser,
    target_bytes: int,
    board: str,
    chosen: tuple[str, ...] | None,
    watch: Watch,
) -> Check:
    problems: list[Problem] = []
    bundles = []
    for bundle_files in held:
        watch.check()
        bundles.append(Work(bundle_files, chooser, board, problems).bundle())
    bundles.sort(key=lambda bundle: (bundle.order, bundle.folder))
    names = [bundle.folder for bundle in bundles if bundle.readable]
    picked = tuple(name for name in (chosen if chosen is not None else names) if name in names)
    going = [bundle for bundle in bundles if bundle.folder in picked]
    usable = max(0, target_bytes - chooser.own_bytes)
    need = sum(bundle.need for bundle in going)
    problems += _together(going, chooser, usable, need)
    problems += [
        Problem("stray-file", Severity.NOTE, name, f"{name} is not part of any bundle.", "The chooser ignores it.")
        for name in beside
    ]
    largest = max((bundle.largest for bundle in going), default=0)
    stops = (p for p in problems if p.severity is Severity.STOP and (chosen is None or p.bundle in ("", *chosen)))
    return Check(tuple(bundles), picked, tuple(problems), usable, need, stick_for(chooser, largest), tuple(stops))


def stick_for(chooser: Chooser, largest: int) -> str:
    """The file system that a stick needs for its largest file, of those that the chooser reads; its first one where
    none of them holds such a file."""
    able = [kind for kind in chooser.reads if kind != "FAT32" or largest <= LARGEST_FAT32]
    return able[0] if able else chooser.reads[0]


def chooser_for(choosers: Sequence[Chooser], image: str = "", folder: Path | None = None, wanted: str = "") -> Chooser:
    """The chooser by its id, else the one whose bundles lie in the folder, else that of the build's image, else the
    only one. Raises WrongUse for one that is not known, or where nothing tells which."""
    ids = ", ".join(chooser.id for chooser in choosers)
    if wanted:
        found = next((chooser for chooser in choosers if chooser.id == wanted), None)
        if found is None:
            raise WrongUse(f"There is no chooser {wanted!r}.", do=f"There are: {ids}.")
        return found
    if folder is not None and folder.is_dir():
        held = [chooser for chooser in choosers if _holds(folder, chooser)]
        if len(held) > 1:
            held = [chooser for chooser in held if chooser.image == image] or held
        if held:
            return held[0]
    of_image = [chooser for chooser in choosers if chooser.image == image]
    if of_image:
        return of_image[0]
    if len(choosers) == 1:
        return choosers[0]
    raise WrongUse("Nothing tells which chooser this is for.", do=f"Name one: {ids}.")


def _holds(folder: Path, chooser: Chooser) -> bool:
    """Whether a bundle of this chooser lies in a folder."""
    try:
        return any((each / chooser.manifest).is_file() for each in top_of(folder, chooser).iterdir())
    except OSError:
        return False


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
    found += _clashes(going, chooser)
    for bundle in going:
        if bundle.largest > LARGEST_FAT32 and "FAT32" in chooser.reads:
            kind = stick_for(chooser, bundle.largest)
            told = f"Its largest file has {show_bytes(bundle.largest)}; a FAT32 stick holds up to 4.29 GB a file."
            able = kind != "FAT32"
            do = f"Format the stick as {kind}." if able else f"{chooser.name} reads no other stick: leave it out."
            worst = Severity.CAUTION if able else Severity.STOP
            found.append(Problem("large-file", worst, "stick", told, do, bundle=bundle.folder))
    return found


def _clashes(going: list[Bundle], chooser: Chooser) -> list[Problem]:
    """Two systems that want the same place or the same name."""
    orders: dict[str, list[str]] = {}
    labels: dict[str, list[str]] = {}
    for bundle in going:
        if chooser.form.order:
            orders.setdefault(str(bundle.order), []).append(bundle.folder)
        for label in {part.label for part in bundle.partitions if part.label}:
            labels.setdefault(label, []).append(bundle.folder)
    found = []
    for order, names in orders.items():
        if len(names) > 1:
            told = f"{' and '.join(names)} both use list position {order}."
            do = "The chooser then sorts them by name."
            found.append(Problem("same-order", Severity.CAUTION, f"order {order}", told, do, bundle=names[1]))
    for label, names in labels.items():
        if len(names) > 1:
            told = f"{' and '.join(names)} both name a partition {label}."
            do = "Systems that find partitions by label use the wrong one."
            worst = Severity.CAUTION if chooser.labels_repeat else Severity.STOP
            found.append(Problem("same-label", worst, label, told, do, bundle=names[1]))
    return found


def is_bundle(held: BundleFiles, chooser: Chooser) -> bool:
    """Whether a folder is taken for a bundle. At the stick's own top other folders lie beside them: there it takes a
    manifest, or an archive of a kind that the chooser unpacks."""
    if chooser.bundles:
        return True
    endings = tuple(f".{kind}" for kind in chooser.archive_kinds)
    return any(path == chooser.manifest or ("/" not in path and path.lower().endswith(endings)) for path in held.sizes)


def top_of(folder: Path, chooser: Chooser) -> Path:
    """The folder of the bundles: below a stick's top, or the folder itself."""
    return folder / chooser.bundles if chooser.bundles and (folder / chooser.bundles).is_dir() else folder
