"""A multi-boot chooser learnt from bundles that work with it: their manifests' grammar and which key says what.

Nothing of a key's name is taken for granted: a key is what its values are when they are held against the files beside
the manifest (an archive's name, a size that its archive fits into, 64 hexadecimal digits). Names only decide between
keys that would do equally well.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from kyklon.base.errors import KyklonError
from kyklon.base.inside import files_below
from kyklon.base.quantities import counted, show_bytes
from kyklon.base.reading import bytes_of, text_of
from kyklon.catalogue.image_records import Chooser, Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board
from kyklon.operations.card.sets import multiboot
from kyklon.operations.card.sets.manifest import at, tree_of
from kyklon.parts.draft import Draft
from kyklon.parts.fields import fields_of
from kyklon.parts.manifest_keys import Rows, Sample, archive_kind, partition_keys, stems, top_keys

_LARGEST = 1 << 20  # bytes of a manifest
_MOST_BUNDLES = 200
_GRAMMARS = ("JSON", "TOML", "INI")  # the strictest first
_PICTURES = ("png", "jpg", "jpeg", "gif", "bmp", "svg", "webp")
_KEYS_SHOWN = {
    "name": "Name is under",
    "order": "Place in the list",
    "partitions": "Partitions",
    "label": "Label",
    "kind": "File system",
    "size": "Size",
    "unpacked": "Unpacked size",
    "archive": "Archive",
    "sha256": "SHA-256",
}
_GB = 1_000_000_000


def learn(folder: Path, catalogue: Catalogue) -> Draft:
    """A draft from a stick, or the folder of its bundles. Raises KyklonError where no bundle lies there."""
    top, samples = _bundles(folder)
    names = Counter(path for each in samples for path in each.trees)
    if not names:
        raise KyklonError(
            f"{top} holds archives, but no manifest beside them that is TOML, JSON or INI.",
            do="Choose the folder whose subfolders are the bundles.",
        )
    manifest = max(names, key=lambda name: (_fit(samples, name), names[name], -len(name)))
    grammar = Counter(each.trees[manifest][0] for each in samples if manifest in each.trees).most_common(1)[0][0]
    told = [each for each in samples if each.trees.get(manifest, ("",))[0] == grammar]
    rows, form = partition_keys(told, manifest, grammar)
    by = f"{counted(len(told), 'bundle')} in {top.name}"
    about = next((name for name, count in names.items() if name != manifest and count >= len(told)), "")
    form |= top_keys(told, manifest, form, _board_words(catalogue))
    if about and not form["name"]:
        told = [each for each in told if each.trees.get(about, ("",))[0] == grammar]
        form |= top_keys(told, about, form, _board_words(catalogue))
    else:
        about = ""
    draft = Draft("choosers", asked=tuple(field.name for field in fields_of("choosers") if field.name != "note"))
    draft = draft.with_read(by, name=f"Chooser of {folder.name}"[:120], manifest=manifest, about=about)
    draft = draft.with_read(by, bundles="" if top == folder else top.name)
    draft = draft.with_read(by, **{f"form.{key}": value for key, value in form.items()}, **{"form.closed": False})
    labels = Counter(label for bundle in rows.bundles for label in {row.get(form["label"]) for row, _packed in bundle})
    draft = draft.with_read(by, labels_repeat=bool(form["label"]) and max(labels.values(), default=0) > 1)
    draft = _surroundings(draft, samples, by)
    draft = _boards(draft, told, about or manifest, form["boards"], catalogue)
    draft = _offers(draft, rows, catalogue)
    if top == folder:
        draft = draft.tell(
            f"The bundles lie in {folder.name} itself. Where the stick has them in a folder, type its name under "
            f"“{_label('bundles')}”."
        )
    if any(form.get(unit) == 1 << 20 for unit in ("size_bytes", "unpacked_bytes")):
        draft = draft.tell(
            "Sizes in megabytes are counted as 1 048 576 bytes, so that nothing is said to fit too early."
        )
    left = [each.folder.name for each in samples if each not in told]
    if left:
        draft = draft.tell(f"Without such a manifest: {', '.join(left[:6])}.")
    return _tried(draft, top)


# --- finding them --------------------------------------------------------------------------------------------------


def _bundles(folder: Path) -> tuple[Path, list[Sample]]:
    """Where bundles lie: the folder itself or one within it, the one with most of them."""
    try:
        tops = [folder, *sorted(path for path in folder.iterdir() if path.is_dir() and not path.name.startswith("."))]
        found = [(top, [each for each in _samples(top) if each.archives() and each.trees]) for top in tops[:50]]
    except OSError as bad:
        raise KyklonError(f"{folder} cannot be read: {bad.strerror}.", do="Choose the folder again.") from bad
    top, samples = max(found, key=lambda each: len(each[1]))
    if not samples:
        raise KyklonError(
            f"{folder} holds no bundles: no folder with archives and a manifest beside them.",
            do="Choose the stick, or the folder whose subfolders are the bundles.",
        )
    return top, samples


def _samples(top: Path) -> Iterator[Sample]:
    folders = sorted(path for path in top.iterdir() if path.is_dir() and not path.name.startswith("."))
    for folder in folders[:_MOST_BUNDLES]:
        sizes = {path: status.st_size for path, status in files_below(folder)}
        trees = {}
        for path, size in sizes.items():
            if size <= _LARGEST and path.count("/") <= 1 and not archive_kind(path) and _ending(path) not in _PICTURES:
                tree = _tree(folder / path, path)
                if tree is not None:
                    trees[path] = tree
        yield Sample(folder, sizes, trees)


def _tree(path: Path, name: str) -> tuple[str, dict[str, Any]] | None:
    """A text's grammar and what it says, where it says anything."""
    try:
        text = text_of(bytes_of(path, _LARGEST), name)
    except KyklonError:
        return None
    for grammar in _GRAMMARS:
        try:
            tree = tree_of(text, name, grammar)
        except KyklonError:
            continue
        return (grammar, tree) if tree else None
    return None


def _ending(path: str) -> str:
    return path.rpartition("/")[2].rpartition(".")[2].lower()


def _fit(samples: Sequence[Sample], name: str) -> int:
    """How many archives are named by what stands in the files of this name."""
    hits = 0
    for each in samples:
        if name in each.trees:
            named = {stem for path in each.archives() for stem in stems(path)}
            hits += sum(value in named for value in _texts(each.trees[name][1]))
    return hits


def _texts(tree: Any) -> Iterator[str]:
    if isinstance(tree, str):
        yield tree
    elif isinstance(tree, Mapping):
        for each in tree.values():
            yield from _texts(each)
    elif isinstance(tree, list):
        for each in tree:
            yield from _texts(each)


# --- what is around ------------------------------------------------------------------------------------------------


def _surroundings(draft: Draft, samples: Sequence[Sample], by: str) -> Draft:
    """Pictures and archives, as the bundles have them."""
    places = Counter(
        (path.rpartition("/")[0], _ending(path))
        for each in samples
        for path in each.sizes
        if _ending(path) in _PICTURES
    )
    folders = Counter(place for place, _kind in places.elements())
    shown = folders.most_common(1)[0][0] if folders else ""
    kinds = tuple(sorted(kind for place, kind in places if place == shown)) or ("png",)
    archives = Counter(archive_kind(path) for each in samples for path in each.archives())
    return draft.with_read(by, pictures=shown, picture_kinds=kinds, archive_kinds=tuple(archives))


def _board_words(catalogue: Catalogue) -> dict[str, str]:
    """What a manifest may call a board of the shelf, in small letters, and its id."""
    words: dict[str, str] = {}
    for board in catalogue.all(Board):
        for word in (
            board.id,
            board.name,
            board.compatible,
            board.compatible.rpartition(",")[2],
            board.device_tree.removesuffix(".dtb"),
        ):
            if word:
                words.setdefault(word.lower(), board.id)
    return words


def _boards(draft: Draft, samples: Sequence[Sample], file: str, key: str, catalogue: Catalogue) -> Draft:
    """With what the words for boards, under a key of a file, mean on the shelf."""
    known = _board_words(catalogue)
    lists = [at(each.trees[file][1], key) for each in samples]
    words = {word for each in lists if isinstance(each, list) for word in each if isinstance(word, str)}
    names = {word: known[word.lower()] for word in sorted(words) if word.lower() in known}
    strange = sorted(words - set(names))
    draft = draft.with_read("the manifests and the boards of the shelf", board_names=names)
    if strange:
        draft = draft.tell(
            f"The manifests name {', '.join(strange[:8])}, which no board of the shelf is called. Where one of them is "
            f"your board, type it under “{_label('board_names')}” as WORD=BOARD."
        )
    return draft


def _label(name: str) -> str:
    return next(field.label for field in fields_of("choosers") if field.name == name)


def _offers(draft: Draft, rows: Rows, catalogue: Catalogue) -> Draft:
    images = [image.id for image in catalogue.all(Image) if image.school == "multi-boot"]
    if images:
        draft = draft.offer("the first multi-boot image of the shelf", image=images[0])
    else:
        draft = draft.tell("No multi-boot image is on the shelf: learn the chooser's own image first.")
    count = max((len(bundle) for bundle in rows.bundles), default=0)
    draft = draft.offer("a GUID partition table has 128 entries", most_partitions=max(128, count))
    draft = draft.offer("a usual boot menu with a rescue system; its own card tells it better", own_bytes=_GB)
    return draft.offer("common practice: flash is erased in blocks of 4 MiB", align_bytes=4 << 20)


def _tried(draft: Draft, top: Path) -> Draft:
    """With what the manifests come to when they are read so, which shows whether the keys were understood."""
    rows: list[tuple[str, str]] = [("Manifest", f"{draft.row['manifest']} ({draft.row['form.grammar']})")]
    keys = {key.removeprefix("form."): value for key, value in draft.row.items() if key.startswith("form.")}
    rows += [(words, keys[field]) for field, words in _KEYS_SHOWN.items() if keys.get(field)]
    agreed = replace(draft.agreed(), asked=())
    row = agreed.as_row("sample", "sample") | {"image": agreed.row.get("image", "none")}
    row.pop("known", None)
    chooser = Chooser.model_validate(row)
    found = multiboot.check_quickly(top, chooser, 1 << 62)
    rows += [
        ("Read so", f"{bundle.name}: {len(bundle.partitions)} partitions; {show_bytes(bundle.need)}")
        for bundle in found.bundles
        if bundle.readable
    ]
    bad = [problem for problem in found.problems if problem.code in ("manifest", "no-manifest")]
    for problem in bad[:6]:
        draft = draft.tell(f"{problem.bundle}: {problem.sentence}")
    if not keys.get("size"):
        draft = draft.tell("No key tells a partition's size: type it, or the chooser's manifests cannot be summed.")
    return replace(draft, about=tuple(rows))
