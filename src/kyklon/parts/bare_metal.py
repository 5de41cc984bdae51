"""A bare-metal set learnt from its unpacked folder: the image that it is, and its layout with the machines in it.

Kernels are told by their bytes, boards by their trees. Which names a set needs to the letter is what its own program
holds: the name of a file that stands in its bytes is looked for there.
"""

from __future__ import annotations

import hashlib
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path

from kyklon.base import reading
from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.inside import files_below
from kyklon.base.quantities import show_bytes
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.system_records import System
from kyklon.catalogue.text_records import Dialect
from kyklon.model.card import CardContents, DeviceTree, KernelFile
from kyklon.operations.card.volumes.boot_facts import (
    KERNEL_LIMIT,
    TREE_MAGIC,
    is_packed_32,
    kernel_of,
    raw_set,
    strings_in,
    tree_of,
)
from kyklon.parts import image
from kyklon.parts.draft import Draft

_HEAD = 1 << 18  # bytes of a file that are looked at
_TEXT = 1 << 16
_LARGEST_FIRMWARE = 4 << 20  # bytes, CP: firmware of home computers has kilobytes
_MOST_MACHINES = 400
_ENDINGS = ("", "rom", "bin", "fw", "bios")  # CP: what firmware files end in, if in anything
_BESIDE = re.compile(r"(read.?me|licen[cs]e|copying|change|news|todo|last[-_ ])", re.I)
MACHINE, KIND = "{machine}", "{kind}"


@dataclass(frozen=True)
class _Set:
    """A set's folder as it would lie on a card. strings: of all kernels, to look for names in."""

    folder: Path
    contents: CardContents
    strings: bytes

    @property
    def sizes(self) -> Mapping[str, int]:
        return self.contents.sizes

    def knows(self, name: str) -> bool:
        """Whether a kernel has a file's name in it."""
        return len(name) > 3 and name.encode("utf-8", "surrogateescape") in self.strings

    def sha256(self, path: str) -> str:
        with reading.opened(self.folder / path) as file:
            return hashlib.file_digest(file, "sha256").hexdigest()


def learn_image(folder: Path, catalogue: Catalogue) -> Draft:
    """The image of an unpacked set. Raises KyklonError for a folder that cannot be read or has no kernel."""
    found = _read(folder)
    by = f"the set in {folder.name}"
    draft = Draft("images", asked=image.ASKED).with_read(by, name=image.name_of(folder.name), files=[f"{folder.name}*"])
    draft = image.with_boot(draft, found.contents, catalogue, by)
    size = sum(found.sizes.values())
    draft = draft.with_read(by, least_card_bytes=image.card_for(max(size, 64 << 20)), school="bare metal", grows=False)
    name = str(draft.row["name"])
    draft = draft.offer(
        "a set of this kind shows its own menu", front_end=f"{name} menu", front_end_program=_stem(found)
    )
    draft = draft.offer("it has no users", default_user="nobody")
    if b"bluetooth" in found.strings.lower():
        draft = draft.offer("its program speaks of Bluetooth", radio=True)
    machines = _templates(found)
    system_files = machines[0].partition(MACHINE)[0].rstrip("/") if machines else ""
    draft = draft.offer("firmware files lie there in this set", system_files_path=system_files or ".")
    games = _games(found, machines[0] if machines else "")
    draft = draft.offer("most other files lie there", games_path=games)
    rows = (("Files", f"{len(found.sizes)}; {show_bytes(size)}"), *draft.about)
    return replace(draft, about=rows)


def learn(folder: Path, catalogue: Catalogue, template: str = "") -> Draft:
    """The layout of an unpacked set.

    template: where its machines lie, with {machine} and perhaps {kind}, as 'machines/{machine}'; the likeliest
    place when ''. Raises KyklonError for a folder that cannot be read or has no kernel, WrongUse for another
    template.
    """
    return learn_and_places(folder, catalogue, template)[0]


def learn_and_places(folder: Path, catalogue: Catalogue, template: str = "") -> tuple[Draft, tuple[str, ...]]:
    """The same, with all places where its machines may lie, the likeliest first."""
    found = _read(folder)
    able = _templates(found)
    if template and template not in able:
        raise WrongUse(
            f"No machines lie at {template!r}.", do=f"There are: {', '.join(able)}." if able else "Leave it out."
        )
    template = template or next(iter(able), "")
    by = f"the set in {folder.name}"
    draft = Draft("bare_metal", asked=("image", "needed", "trees", "remembered", "games"))
    draft = draft.with_read(by, name=f"{image.name_of(folder.name)} layout"[:120])
    kernels = {kernel.name.lower() for kernel in (*found.contents.kernels, *found.contents.programs)}
    images = [
        each.id
        for each in catalogue.all(Image)
        if each.school == "bare metal" and kernels & {kernel.file.lower() for kernel in each.kernels}
    ]
    if images:
        draft = draft.with_read("the kernels of the set", image=images[0])
    else:
        draft = draft.tell("No image of the shelf has these kernels: learn the image from the same folder first.")
    needed = _needed(found, catalogue)
    folders = Counter(tree.name.rpartition("/")[0] for tree in found.contents.trees)
    machines = _machines(found, template, catalogue)
    draft = draft.with_read(f"{by}: names in its kernel, and boot files", needed=needed)
    draft = draft.with_read(by, trees=folders.most_common(1)[0][0] if folders else "", machines=machines)
    draft = draft.with_read(by, remembered=_remembered(found, [str(each["id"]) for each in machines]))
    draft = draft.offer("most other files lie there", games=_games(found, template).partition("/{folder}")[0])
    if template:
        others = [each for each in able if each != template]
        words = f" Other places: {', '.join(others[:4])}." if others else ""
        draft = draft.tell(f"Its machines were taken from {template}.{words}")
    else:
        draft = draft.tell("No folder of machines was found: the set counts as complete with the files it needs.")
    rows = [("Kernels", ", ".join(f"{each.name} ({each.instruction_set})" for each in _started(found)))]
    rows += [
        ("Machines", f"{each['name']}: {len(each['files'])} firmware file{'s' * (len(each['files']) != 1)}")  # type: ignore[arg-type]
        for each in machines
    ]
    return replace(draft, about=tuple(rows)), able


# --- reading -------------------------------------------------------------------------------------------------------


def _read(folder: Path) -> _Set:
    try:
        sizes = {path: status.st_size for path, status in files_below(folder)}
    except OSError as bad:
        raise KyklonError(f"{folder} cannot be read: {bad.strerror}.", do="Choose the unpacked set's folder.") from bad
    kernels: list[KernelFile] = []
    programs: list[KernelFile] = []
    trees: list[DeviceTree] = []
    texts: dict[str, str] = {}
    strings = b""
    for path, size in sizes.items():
        head = _head(folder / path, _HEAD)
        whole = _head(folder / path, KERNEL_LIMIT) if is_packed_32(head) else head
        kernel, raw = kernel_of(path, size, whole), raw_set(head)
        if kernel is not None or raw:
            kernels += [kernel] if kernel else []
            programs += [] if kernel else [KernelFile(path, size, raw)]
            strings += strings_in(_head(folder / path, KERNEL_LIMIT)) + b"\n"
        elif head[:4] == TREE_MAGIC or path.lower().endswith(".dtb"):
            trees.append(tree_of(path, size, _head(folder / path, 1 << 20)))
        elif size <= _TEXT and b"\0" not in head:
            texts[path.lower()] = head.decode("utf-8", "surrogateescape")
    if not kernels and not programs:
        raise KyklonError(
            f"{folder} holds no kernel for a board.", do="Unpack the set and choose the folder with its kernels."
        )
    names = {path.lower(): path for path in sizes if path.lower() in texts}
    contents = CardContents(
        sizes=sizes, texts=texts, names=names, kernels=tuple(kernels), programs=tuple(programs), trees=tuple(trees)
    )
    return _Set(folder, contents, strings)


def _head(path: Path, most: int) -> bytes:
    try:
        with reading.opened(path) as file:
            return file.read(most)
    except OSError as bad:
        raise KyklonError(f"{path} cannot be read: {bad.strerror}.", do="Check the rights of the set's files.") from bad


def _started(found: _Set) -> tuple[KernelFile, ...]:
    return (*found.contents.kernels, *found.contents.programs)


def _stem(found: _Set) -> str:
    """What the kernels' names have in common, as the name of the program in them."""
    names = [each.name.rpartition("/")[2].rpartition(".")[0] for each in _started(found)]
    match = re.match(r"[A-Za-z][A-Za-z]+", names[0]) if names else None
    return match[0].lower() if match else "program"


# --- where things lie ----------------------------------------------------------------------------------------------


def _templates(found: _Set) -> tuple[str, ...]:
    """Folders of machines with {machine} for their names, those first whose files are most like firmware; of equal ones
    those with more machines."""
    scores: dict[str, tuple[float, int]] = {}
    for template in dict.fromkeys(_possible(found.sizes)):
        machines = _at(found.sizes, template)
        likes = [_firmware_like(found, path) for each in machines.values() for path in each]
        if likes and sum(likes) > 0.5 * len(likes):
            scores[template] = (-round(sum(likes) / len(likes), 1), -len(machines))
    return tuple(sorted(scores, key=lambda each: (scores[each], each)))


def _possible(sizes: Iterable[str]) -> Iterator[str]:
    for path in sizes:
        steps = path.split("/")
        for place in range(min(3, len(steps) - 1)):  # the step that would be the machine's name
            before, rest = steps[:place], steps[place + 1 : -1]
            if not rest:
                yield "/".join([*before, MACHINE])
            elif len(rest) == 1:
                yield "/".join([*before, MACHINE, KIND])


def _at(sizes: Iterable[str], template: str) -> dict[str, list[str]]:
    """The files of each machine at a template, by its folder's name."""
    steps = [re.escape(each) for each in template.split("/")]
    pattern = "/".join(steps).replace(re.escape(MACHINE), "(?P<machine>[^/]+)").replace(re.escape(KIND), "[^/]+")
    found: dict[str, list[str]] = {}
    for path in sizes:
        if match := re.fullmatch(pattern + r"/[^/]+", path):
            found.setdefault(match["machine"], []).append(path)
    return found


def _firmware_like(found: _Set, path: str) -> float:
    """How much a file is like firmware: the kernel knows its name; of a usual size; without an ending of its own."""
    name, size = path.rpartition("/")[2], found.sizes[path]
    ending = name.rpartition(".")[2].lower() if "." in name else ""
    if not 0 < size <= _LARGEST_FIRMWARE or path.lower() in found.contents.texts or ending == "dtb":
        return -1.0
    return 2.0 * found.knows(name) + 0.6 * (size % 512 == 0) + (0.4 if ending in _ENDINGS else -0.5)


def _machines(found: _Set, template: str, catalogue: Catalogue) -> list[dict[str, object]]:
    """The machines at a template, with the firmware files that they have in this set."""
    if not template:
        return []
    systems = {word.lower(): each.id for each in catalogue.all(System) for word in (each.folder, each.id)}
    made = []
    for name, paths in sorted(_at(found.sizes, template).items())[:_MOST_MACHINES]:
        folder = template.partition(MACHINE)[0] + name
        files: list[dict[str, object]] = [
            {"name": path[len(folder) + 1 :], "size": found.sizes[path], "sha256": found.sha256(path), "region": ""}
            for path in sorted(paths)
            if _firmware_like(found, path) > 0
        ]
        if files:
            row: dict[str, object] = {"id": name, "name": image.name_of(name), "folder": folder, "files": files}
            made.append(row | {"system": systems.get(name.lower(), "")})
    return made


def _needed(found: _Set, catalogue: Catalogue) -> list[str]:
    """Files at the set's top that its kernel has by name, and those that a firmware reads."""
    boot = {file.path.lower() for dialect in catalogue.all(Dialect) for file in dialect.files if not file.of_system}
    kernels = {each.name for each in _started(found)}
    tops = [path for path in found.sizes if "/" not in path and path not in kernels and not path.endswith(".dtb")]
    return [path for path in tops if (found.knows(path) and not _BESIDE.match(path)) or path.lower() in boot]


def _remembered(found: _Set, machines: list[str]) -> str:
    """The text at the set's top that holds nothing but a machine's name, '' for none."""
    return next(
        (
            found.contents.names[path]
            for path, text in found.contents.texts.items()
            if "/" not in path and text.strip() in machines
        ),
        "",
    )


def _games(found: _Set, template: str) -> str:
    """Where games would go: the folder with most files in folders of it, that is none of the machines'."""
    first = template.partition("/")[0]
    tops = Counter(
        path.partition("/")[0]
        for path in found.sizes
        if path.count("/") == 2 and path.partition("/")[0] != first and not path.endswith(".dtb")
    )
    return f"{tops.most_common(1)[0][0]}/{{folder}}" if tops else "games/{folder}"
