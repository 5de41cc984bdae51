"""From what was found to what goes along: named by lists, by titles and by hand, one version of each, what fits."""

from __future__ import annotations

import csv
import io
from collections import defaultdict
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path, PurePosixPath

from kyklon.base import reading
from kyklon.base.errors import KyklonError
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.catalogue.system_records import System
from kyklon.model.build import Build, LibrarySettings
from kyklon.model.library import NO_TEXT, Choice, Game, GameText, ListFile, ListScheme, Naming, Reason, Scan
from kyklon.operations.library import choose, match
from kyklon.operations.library.compare import Titles
from kyklon.operations.library.facts import Facts
from kyklon.operations.library.identify import Index, identify, why_nothing
from kyklon.operations.library.lists import Listed, read_list
from kyklon.operations.library.titles import shown_title
from kyklon.operations.library.versions import without_others
from kyklon.record.answers import Answer, key_of
from kyklon.record.folder import resolve

_NO_GAME = ("unknown", "damaged", "bomb", "empty", "sheet", "archive", "wrong-folder", "duplicate")  # has no title
STICK_CLUSTER = 32_768  # bytes; what a FAT32 stick of more than 32 GB has (Microsoft FAT specification, table)
PICTURE_BYTES = 120_000  # a cover picture, CP


@dataclass(frozen=True)
class Terms:
    """What a scan is named and chosen by. place: makes a path of the build a path. cluster: bytes, of the file system
    that the games go to. answers, texts: what its user said, by key."""

    settings: LibrarySettings
    systems: tuple[System, ...]
    place: Callable[[str], Path]
    answers: Mapping[str, Answer]
    cluster: int = STICK_CLUSTER
    texts: Mapping[str, GameText] = field(default_factory=dict)


def named(scan: Scan, terms: Terms, facts: Facts, watch: Watch = UNWATCHED) -> Scan:
    """The scan with its games named, and a reason at each that does not go along. Raises Cancelled, KyklonError."""
    lists, errors = read_lists(terms, watch)
    games = list(scan.games)
    try:
        games = identify(Path(scan.folder), games, terms.systems, lists, facts, watch)
    except OSError as bad:
        raise KyklonError(
            f"The library's disk was disconnected: {bad.strerror}.", do="Plug its disk in again."
        ) from bad
    finally:
        facts.keep()
    for each in terms.settings.lists:
        if each.system in lists and (why := why_nothing(games, each.system, lists[each.system])):
            errors.append(f"{each.path} matches no game: {why}.")
    try:
        games, threshold = _matched(games, lists, terms, facts, watch)
    finally:
        facts.keep()
    games = with_texts(games, lists, terms.texts)
    games = without_others(games, terms.settings)
    scan = replace(scan, games=tuple(games), list_errors=tuple(errors), threshold=threshold, cluster=terms.cluster)
    return _chosen(scan, terms)


def read_lists(terms: Terms, watch: Watch = UNWATCHED) -> tuple[dict[str, Index], list[str]]:
    """What the lists know, by system, and why one could not be read."""
    lists: dict[str, Index] = defaultdict(Index)
    errors = []
    schemes: dict[str, ListScheme] = {each.id: each for each in terms.settings.schemes}
    for each in terms.settings.lists:
        scheme = schemes.get(each.scheme)
        if each.scheme and scheme is None:
            errors.append(f"{each.path}: its scheme {each.scheme} is missing.")
            continue
        try:
            for game in _games_in(terms.place(each.path), scheme, watch):
                lists[each.system].add(game)
        except KyklonError as bad:
            errors.append(str(bad))
    return dict(lists), errors


_read: dict[tuple[object, ...], tuple[Listed, ...]] = {}
_MOST_READ = 16  # lists that are remembered


def _games_in(path: Path, scheme: ListScheme | None, watch: Watch) -> tuple[Listed, ...]:
    """The games of a list, read again only when the file has changed. Raises KyklonError, Cancelled."""
    try:
        status = path.stat()
    except OSError as bad:
        raise KyklonError(f"The list {path} cannot be read: {bad.strerror}.", do="Choose it again.") from bad
    key = (str(path), status.st_ino, status.st_size, status.st_mtime_ns, status.st_ctime_ns, scheme)
    if key not in _read:
        found = []
        for number, game in enumerate(read_list(path, scheme)):
            if number % 4096 == 0:
                watch.check()
            found.append(game)
        while len(_read) >= _MOST_READ:
            _read.pop(next(iter(_read)), None)
        _read[key] = tuple(found)
    return _read[key]


def _matched(
    games: list[Game], lists: Mapping[str, Index], terms: Terms, facts: Facts, watch: Watch
) -> tuple[list[Game], float]:
    """The rest by their titles, what its user said before all else; and from which confidence on it counts."""
    lessons = [
        (each.features, bool(each.title) and each.title == each.proposed)
        for each in terms.answers.values()
        if each.proposed
    ]
    model = match.taught(match.shipped(), lessons) if lists else match.shipped()
    found: dict[int, match.Match] = {}
    for system, index in lists.items():
        own = [
            n
            for n, game in enumerate(games)
            if game.system == system
            and game.naming is None
            and not any(reason.code in _NO_GAME for reason in game.reasons)
        ]
        titles = Titles(tuple(shown_title(each.title) for each in index.games))
        stems = [PurePosixPath(games[n].key).stem for n in own]
        known = facts.titles.of(titles, model.pair)
        found |= dict(zip(own, match.matches(stems, titles, model, watch, known), strict=True))
    threshold = match.threshold([each.confidence for each in found.values()], terms.settings.wrong_per_1000)
    parents = {
        (system, shown_title(each.title)): shown_title(each.parent)
        for system, index in lists.items()
        for each in index.games
        if each.parent
    }
    named_games = []
    for number, game in enumerate(games):
        name = game.key.rpartition("/")[2]
        answer = terms.answers.get(key_of(game.system, name, game.size)) if terms.answers else None
        told = found.get(number)
        if answer is not None:
            title = answer.title or game.title
            naming = Naming(title, "yours", 1.0, parents.get((game.system, title), ""))
            named_games.append(replace(game, naming=naming))
        elif told is not None and told.title:
            naming = Naming(
                told.title,
                "title",
                told.confidence,
                parents.get((game.system, told.title), ""),
                told.others,
                features=told.features,
            )
            named_games.append(replace(game, naming=naming, doubtful=told.confidence < threshold))
        else:
            named_games.append(game)
    return named_games, threshold


def with_texts(games: list[Game], lists: Mapping[str, Index], own: Mapping[str, GameText]) -> list[Game]:
    """The games with what is told of them: by their user, else by the list that names them."""
    told = {
        (system, shown_title(each.title)): each.text
        for system, index in lists.items()
        for each in index.games
        if each.text != NO_TEXT
    }
    if not told and not own:
        return games
    found = []
    for game in games:
        listed = told.get((game.system, game.called), NO_TEXT)
        said = own.get(key_of(game.system, game.key.rpartition("/")[2], game.size)) if own else None
        text = said.over(listed) if said is not None else listed
        found.append(replace(game, text=text) if text != NO_TEXT else game)
    return found


def items_of(scan: Scan, settings: LibrarySettings, plays: Mapping[str, int]) -> list[choose.Item]:
    """The games that may go along, as things to choose from."""
    statuses: dict[str, int] = {}
    items = []
    for game in scan.games:
        if any(reason.code != "left-out" for reason in game.reasons) or game.key in settings.never:
            continue
        sizes = _sizes(Path(scan.folder), game, statuses)
        worth = choose.worth_of(game.key, settings.favourites, plays)
        items.append(choose.Item(game.key, sizes, worth, game.key in settings.must))
    return items


def _sizes(folder: Path, game: Game, statuses: dict[str, int]) -> tuple[int, ...]:
    if len(game.files) == 1:
        return (game.size,)
    sizes = []
    for name in game.files:
        if name not in statuses:
            try:
                statuses[name] = (folder / name).stat().st_size
            except OSError:
                statuses[name] = 0
        sizes.append(statuses[name])
    return tuple(sizes)


def with_list(settings: LibrarySettings, path: str, system: str, scheme: ListScheme | None) -> LibrarySettings:
    """The settings with one more list. scheme: how it is written, None for one of checksums."""
    schemes = settings.schemes
    scheme_id = ""
    if scheme is not None:
        alike = next(
            (each for each in schemes if each.model_copy(update={"id": ""}) == scheme.model_copy(update={"id": ""})),
            None,
        )
        taken = {each.id for each in schemes}
        free = next(name for name in (scheme.id, *(f"{scheme.id} {n}" for n in range(2, 10_000))) if name not in taken)
        scheme_id = alike.id if alike else free
        schemes = schemes if alike else (*schemes, scheme.model_copy(update={"id": free}))
    row = ListFile(path=path, system=system, scheme=scheme_id)
    rest = tuple(each for each in settings.lists if (each.path, each.system) != (path, system))
    return settings.model_copy(update={"schemes": schemes, "lists": (*rest, row)})


def curve_of(scan: Scan, settings: LibrarySettings, points: int = 200) -> tuple[tuple[int, int], ...]:
    """Room in bytes, and how many of the games that may go along fit into it, the worthiest by the byte first."""
    extra = extra_of(settings)
    rows = []
    for game in scan.games:
        if all(reason.code == "left-out" for reason in game.reasons) and game.key not in settings.never:
            cost = choose.takes((game.size,), scan.cluster, extra)
            worth = choose.worth_of(game.key, settings.favourites, {})
            rows.append((-worth / max(1, cost) if game.key not in settings.must else -1e9, cost))
    rows.sort()
    used, found = 0, []
    for number, (_density, cost) in enumerate(rows, 1):
        used += cost
        if number % max(1, len(rows) // points) == 0 or number == len(rows):
            found.append((used, number))
    return tuple(found)


def chosen_more(scan: Scan, build: Build, folder: Path) -> tuple[int, Choice] | None:
    """What the next larger card would hold: its bytes and the choice; None where all fits or nothing is chosen."""
    if scan.choice is None:
        return None
    settings = build.library
    try:
        plays = plays_of(scan, resolve(folder, settings.plays)) if settings.plays else {}
        card = next((size * 10**9 for size in choose.SIZES if size * 10**9 > settings.room_bytes), settings.room_bytes)
        return choose.next_larger(
            items_of(scan, settings, plays), settings.room_bytes, card, scan.cluster, extra_of(settings)
        )
    except KyklonError:
        return None


def extra_of(settings: LibrarySettings) -> tuple[int, ...]:
    """Bytes that every game takes beside its files."""
    return (settings.save_bytes, *((PICTURE_BYTES,) if settings.pictures else ()))


def _chosen(scan: Scan, terms: Terms) -> Scan:
    settings = terms.settings
    left: dict[str, str] = dict.fromkeys(settings.never, "You left it out.")
    choice = None
    errors = scan.list_errors
    if settings.room_bytes:
        plays: dict[str, int] = {}
        try:
            plays = plays_of(scan, terms.place(settings.plays)) if settings.plays else {}
            items = items_of(scan, settings, plays)
            choice = choose.choose(items, settings.room_bytes, terms.cluster, extra_of(settings))
            left |= dict.fromkeys(choice.left, "No room left; games that rank higher come first.")
        except KyklonError as bad:
            errors = (*errors, str(bad))
    games = tuple(
        replace(game, reasons=(*game.reasons, Reason("left-out", left[game.key])))
        if game.key in left and game.ready
        else game
        for game in scan.games
    )
    return replace(scan, games=games, choice=choice, list_errors=errors)


def plays_of(scan: Scan, path: Path) -> dict[str, int]:
    """How often each game was played, by key, from a CSV of a file name or a title and a number. Raises KyklonError."""
    by_name: dict[str, str] = {}
    for game in scan.games:
        by_name[game.called.casefold()] = game.key
        by_name[PurePosixPath(game.key).name.casefold()] = game.key
    found: dict[str, int] = {}
    try:
        with io.TextIOWrapper(reading.opened(path), encoding="utf-8-sig", errors="replace", newline="") as file:
            for row in csv.reader(file):
                key = by_name.get(row[0].strip().casefold()) if row else None
                count = next((cell.strip() for cell in row[1:] if cell.strip().isdecimal()), "")
                if key and count and len(count) < 10:
                    found[key] = found.get(key, 0) + int(count)
    except (OSError, csv.Error) as bad:
        raise KyklonError(f"The play counts {path} cannot be read: {bad}.", do="Choose a CSV: name, number.") from bad
    return found
