"""Which key of a chooser's manifests says what, told by its values beside the files of the bundles."""

from __future__ import annotations

import difflib
import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Any

from kyklon.catalogue.image_records import ManifestForm
from kyklon.operations.card.sets.manifest import numeric, partitions_of
from kyklon.operations.card.sources.source import MAGIC

_SYSTEM_KINDS = {  # mount(8) and the table of partition kinds of parted(8), by what the chooser makes
    **dict.fromkeys(("fat", "fat16", "fat32", "vfat", "msdos"), "FAT32"),
    **dict.fromkeys(("ext4", "ext3", "ext2", "linux"), "ext4"),
    **dict.fromkeys(("swap", "linux-swap"), "swap"),
}
_OTHER_KINDS = ("btrfs", "xfs", "f2fs", "ntfs", "exfat", "squashfs", "raw", "zfs", "jfs", "none", "empty")
# words by which keys are told apart whose values do not tell, CP
_SUM_WORDS = ("sha256", "sum", "hash", "digest")
_KIND_WORDS = ("type", "kind", "filesystem", "fs")
_LABEL_WORDS = ("label", "name", "volume", "#")
_GROWS_WORDS = ("grow", "expand", "fill", "rest", "maxim", "stretch")
_ORDER_WORDS = ("order", "position", "index", "sort", "rank", "place")
_BOARD_WORDS = ("board", "model", "hardware", "machine", "device", "support", "target")
_UNPACKED_WORDS = re.compile(r"unpack|uncompress|content|used|inside|extract|installed", re.I)
_SIZE_WORDS = re.compile(r"size|length|min|need|m[ei]?b|bytes", re.I)
_LABEL = re.compile(r"[A-Za-z0-9_-]{1,16}")


@dataclass(frozen=True)
class Sample:
    """One bundle: its files with sizes, and its texts that are manifests in some grammar."""

    folder: Path
    sizes: Mapping[str, int]
    trees: Mapping[str, tuple[str, dict[str, Any]]]

    def archives(self) -> tuple[str, ...]:
        return tuple(path for path in self.sizes if archive_kind(path))


def archive_kind(path: str) -> str:
    """'tar.xz' of such a name; '' for a file that is no archive."""
    parts = path.rpartition("/")[2].lower().split(".")
    if len(parts) < 2 or parts[-1] not in MAGIC:
        return ""
    return ".".join(parts[-2:]) if len(parts) > 2 and parts[-2] == "tar" else parts[-1]


def stems(path: str) -> tuple[str, str]:
    """An archive's name, with and without its ending."""
    return path, path[: -len(archive_kind(path)) - 1]


# --- the keys of partitions ----------------------------------------------------------------------------------------

Row = Mapping[str, Any]


@dataclass(frozen=True)
class Rows:
    """The tables of partitions with the sizes of their archives, 0 where they have none, bundle by bundle."""

    bundles: tuple[tuple[tuple[Row, int], ...], ...]

    @property
    def all(self) -> tuple[tuple[Row, int], ...]:
        return tuple(row for bundle in self.bundles for row in bundle)

    def names(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys(key for row, _packed in self.all for key in row))

    def values(self, key: str) -> list[Any]:
        return [row[key] for row, _packed in self.all if key in row]


def partition_keys(samples: Sequence[Sample], manifest: str, grammar: str) -> tuple[Rows, dict[str, Any]]:
    """Where the tables of partitions stand, and which of their keys says what."""
    places = dict.fromkeys(place for each in samples for place in _places(each.trees[manifest][1], grammar))
    form: dict[str, Any] = {"grammar": grammar}
    best, archive, ending, most = "", "", "", -1
    for place in places:
        found, key, end = _archive_key(samples, manifest, ManifestForm(grammar=grammar, partitions=place))
        if found > most:
            best, archive, ending, most = place, key, end, found
    form |= {"partitions": best, "archive": archive, "ending": ending}
    rows = _rows(samples, manifest, ManifestForm(**form))
    rest = [key for key in rows.names() if key != archive]
    form["sha256"] = _named(rest, lambda key: _all(rows, key, _is_sum), _SUM_WORDS)
    form["kind"] = _named(rest, lambda key: _most(rows, key, _is_kind), _KIND_WORDS)
    rest = [key for key in rest if key not in (form["sha256"], form["kind"])]
    form["label"] = _called(rest, lambda key: key == "#" or _is_label(rows, key), _LABEL_WORDS)
    form["grows"] = _called(rest, lambda key: _all(rows, key, _is_switch), _GROWS_WORDS)
    form |= _size_keys(rows, [key for key in rest if key not in (form["label"], form["grows"])])
    words = {str(value).strip().lower() for value in rows.values(form["kind"])} if form["kind"] else set()
    form["kinds"] = {word: _SYSTEM_KINDS[word] for word in sorted(words) if word in _SYSTEM_KINDS}
    return rows, form


def _places(tree: Mapping[str, Any], grammar: str) -> Iterator[str]:
    """Every place where a list of tables, or a table of tables, stands; of INI the beginnings of sections' names."""
    if grammar == "INI":
        sections = [key for key, each in tree.items() if isinstance(each, Mapping)]
        yield from dict.fromkeys(match[0] for key in sections if (match := re.match(r"[^\d\W]+", key)))
        if sections:
            yield ""
        return
    waiting: list[tuple[str, Any]] = [("", tree)]
    while waiting:
        path, here = waiting.pop(0)
        if path and isinstance(here, list) and here and all(isinstance(each, Mapping) for each in here):
            yield path
        if isinstance(here, Mapping) and path.count(".") < 6:
            if path and here and all(isinstance(each, Mapping) for each in here.values()):
                yield path
            waiting += [(f"{path}.{key}" if path else str(key), each) for key, each in here.items()]


def _flat(row: Mapping[str, Any], before: str = "") -> dict[str, Any]:
    """A table with the keys of those within it behind a dot; lists as they are."""
    found: dict[str, Any] = {}
    for key, value in row.items():
        if isinstance(value, Mapping) and before.count(".") < 4:
            found |= _flat(value, f"{before}{key}.")
        else:
            found[f"{before}{key}"] = value
    return found


def _archive_key(samples: Sequence[Sample], manifest: str, form: ManifestForm) -> tuple[int, str, str]:
    """How many archives the best key names, that key, and the ending that it leaves off."""
    hits: Counter[tuple[str, str]] = Counter()
    for each in samples:
        named = {
            stem: ("" if index == 0 else f".{archive_kind(path)}")
            for path in each.archives()
            for index, stem in reversed(list(enumerate(stems(path))))
        }
        for row in partitions_of(each.trees[manifest][1], form):
            hits.update(
                (key, named[value]) for key, value in _flat(row).items() if isinstance(value, str) and value in named
            )
    if not hits:
        return 0, "", ""
    (key, ending), count = max(hits.items(), key=lambda each: (each[1], -len(each[0][1])))
    return count, key, ending


def _rows(samples: Sequence[Sample], manifest: str, form: ManifestForm) -> Rows:
    bundles = []
    for each in samples:
        rows = []
        for row in partitions_of(each.trees[manifest][1], form):
            flat = _flat(row)
            name = flat.get(form.archive)
            rows.append((flat, each.sizes.get(f"{name}{form.ending}", 0) if isinstance(name, str) else 0))
        bundles.append(tuple(rows))
    return Rows(tuple(bundles))


def _called(keys: Iterable[str], fits: Callable[[str], bool], words: Sequence[str]) -> str:
    """Of the keys that fit, the one whose name holds the earliest of the words; '' where none does."""
    ranked = [(rank, key) for key in keys if fits(key) for rank, word in enumerate(words) if word in key.lower()]
    return min(ranked)[1] if ranked else ""


def _named(keys: Sequence[str], fits: Callable[[str], bool], words: Sequence[str]) -> str:
    """The same, but for the first that fits where none is called so."""
    return _called(keys, fits, words) or next(filter(fits, keys), "")


def _all(rows: Rows, key: str, test: Callable[[Any], bool]) -> bool:
    values = [value for value in rows.values(key) if value not in ("", None)]
    return bool(values) and all(map(test, values))


def _most(rows: Rows, key: str, test: Callable[[Any], bool]) -> bool:
    values = rows.values(key)
    return len(values) * 2 > len(rows.all) and sum(map(test, values)) * 2 > len(values)


def _is_sum(value: Any) -> bool:
    return isinstance(value, str) and re.fullmatch(r"[0-9a-fA-F]{64}", value.strip()) is not None


def _is_kind(value: Any) -> bool:
    return isinstance(value, str) and value.strip().lower() in (*_SYSTEM_KINDS, *_OTHER_KINDS)


def _is_switch(value: Any) -> bool:
    return isinstance(value, bool) or (
        isinstance(value, str) and value.strip().lower() in ("yes", "no", "true", "false")
    )


def _is_label(rows: Rows, key: str) -> bool:
    """Whether a key tells a bundle's partitions apart by words that a file system may be called."""
    for bundle in rows.bundles:
        values = [row.get(key) for row, _packed in bundle]
        if not all(isinstance(each, str) and _LABEL.fullmatch(each) for each in values) or len(set(values)) < len(
            values
        ):
            return False
    return True


def _size_keys(rows: Rows, keys: Sequence[str]) -> dict[str, Any]:
    """The keys of a partition's size and of what is unpacked, with their units."""
    units: dict[str, int] = {}
    totals: dict[str, float] = {}
    for key in keys:
        pairs = [(number, packed) for row, packed in rows.all if (number := numeric(row.get(key))) is not None]
        if len(pairs) * 2 <= len(rows.all) or not any(number for number, _packed in pairs):
            continue
        if all(number == packed for number, packed in pairs if packed):
            continue  # the size of the archive itself
        unit = _unit(key, pairs)
        if unit:
            units[key], totals[key] = unit, sum(number * unit for number, _packed in pairs)
    told = [key for key in units if _UNPACKED_WORDS.search(key)]
    sizes = sorted(
        (key for key in units if key not in told), key=lambda key: (not _SIZE_WORDS.search(key), -totals[key])
    )
    size = sizes[0] if sizes else ""
    unpacked = told[0] if told else next((key for key in sizes[1:] if totals[key] < totals[size]), "")
    made: dict[str, Any] = {"size": size, "unpacked": unpacked}
    if size:
        made["size_bytes"] = units[size]
    if unpacked:
        made["unpacked_bytes"] = units[unpacked]
    return made


def _unit(key: str, pairs: Sequence[tuple[float, int]]) -> int:
    """Bytes of one unit, by the key's own word for it, else the smallest that every archive fits into; 0 for none.

    A word that people use for both counts as the larger, so that nothing is said to fit that may not.
    """
    word = re.search(r"(?:^|[^a-z])(bytes?|ki?b|mi?b|gi?b|megs?)(?:$|[^a-z])|(Bytes?|Ki?B|Mi?B|Gi?B)$", key)
    by_word = {"b": 1, "k": 1 << 10, "m": 1 << 20, "g": 1 << 30}
    offered = [by_word[(word[1] or word[2])[0].lower()]] if word else [1, 1 << 10, 1 << 20, 1 << 30]
    for unit in offered:
        fits = all(number * unit >= packed for number, packed in pairs)
        if fits and max(number * unit for number, _packed in pairs) >= 1 << 20:  # no partition is smaller
            return unit
    return 0


# --- the keys of the system ----------------------------------------------------------------------------------------


def top_keys(
    samples: Sequence[Sample], manifest: str, form: Mapping[str, Any], board_words: Iterable[str]
) -> dict[str, Any]:
    """Which keys beside the partitions say name, place in the list, boards and day. board_words: what boards of the
    shelf may be called, in small letters."""
    inner = form["partitions"]
    below = inner if form["grammar"] == "INI" else f"{inner}."
    tables = []
    for each in samples:
        flat = _flat(each.trees[manifest][1])
        inside = [key for key in flat if key == inner or (inner and key.startswith(below))]
        tables.append({key: value for key, value in flat.items() if key not in inside})
    keys = tuple(dict.fromkeys(key for table in tables for key in table))

    def with_all(test: Callable[[Any], bool]) -> list[str]:
        return [key for key in keys if all(test(table.get(key)) for table in tables)]

    def values(key: str) -> list[Any]:
        return [table[key] for table in tables]

    folders = [each.folder.name for each in samples]
    dates = with_all(_is_date)
    texts = [key for key in with_all(lambda value: isinstance(value, str) and bool(value.strip())) if key not in dates]
    counts = with_all(lambda value: isinstance(numeric(value), int))
    lists = with_all(lambda value: isinstance(value, list) and all(isinstance(word, str) for word in value))
    known = set(board_words)
    order = _called(counts, lambda key: True, _ORDER_WORDS) or next(
        (key for key in counts if _is_count(values(key))), ""
    )
    boards = next((key for key in lists if any(word.lower() in known for each in values(key) for word in each)), "")
    return {
        "name": max(texts, key=lambda key: _likeness(key, values(key), folders), default=""),
        "order": order,
        "least_order": 0 if order and 0 in map(numeric, values(order)) else 1,
        "released": _named(dates, lambda key: True, ("release", "date")),
        "boards": boards or _called(lists, lambda key: True, _BOARD_WORDS),
    }


def _is_count(values: Sequence[Any]) -> bool:
    """Whether these number three bundles or more, from 0 or 1."""
    counted = sorted(int(value) for value in values)
    return len(counted) > 2 and counted in ([*range(len(counted))], [*range(1, len(counted) + 1)])


def _is_date(value: Any) -> bool:
    try:
        date.fromisoformat(str(value)[:10])
    except ValueError:
        return False
    return True


def _likeness(key: str, names: Sequence[str], folders: Sequence[str]) -> float:
    """How much a key's texts are like the folders that they stand in, 0 to 1, and half as much more for what is called
    a name; 0 for texts that do not tell bundles apart."""
    if len(set(names)) < len(names):
        return 0.0
    pairs = zip(names, folders, strict=True)
    alike = sum(difflib.SequenceMatcher(None, one.lower(), two.lower()).ratio() for one, two in pairs) / len(names)
    return alike + (0.5 if key.rpartition(".")[2].lower() in ("name", "title") else 0.0)
