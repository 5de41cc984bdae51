"""Reads the shipped catalogue and a user's folder over it. Unknown keys, duplicate ids, references to nothing and
templates that cannot work are errors, with file and key.

A user's parts are files of their own, `<kind>/<id>.toml`, or rows of `<kind>.toml`; each holds [[kind]] tables.
"""

from __future__ import annotations

import os
import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any, TypeVar

from pydantic import ValidationError

from kyklon.base.errors import CatalogueError, FormatError, KyklonError
from kyklon.base.reading import bytes_of, text_of, toml_of
from kyklon.catalogue import (
    add_on_records,
    control_records,
    fault_records,
    image_records,
    records,
    remembered,
    system_records,
    templates,
    text_records,
)
from kyklon.model.build import Build, PartCopy
from kyklon.model.fields import describe
from kyklon.model.timing import Axis, Timing

KINDS: Mapping[str, type[records.CataloguePart]] = {
    "boards": records.Board,
    "overlays": records.Overlay,
    "supplies": records.Supply,
    "cables": records.Cable,
    "cards": records.Card,
    "displays": records.Display,
    "adapters": records.Adapter,
    "encoders": records.Encoder,
    "images": image_records.Image,
    "systems": system_records.System,
    "emulators": system_records.Emulator,
    "panels": system_records.Panel,
    "dialects": text_records.Dialect,
    "settings": text_records.TuningSetting,
    "templates": text_records.SettingsTemplate,
    "workarounds": text_records.Workaround,
    "bridges": records.Bridge,
    "disks": records.Disk,
    "bare_metal": image_records.BareMetal,
    "choosers": image_records.Chooser,
    "headers": control_records.Header,
    "arrangements": control_records.Arrangement,
    "keyboards": control_records.Keyboard,
    "add_ons": add_on_records.AddOn,
}

# read when they are first asked for: the window's first page needs none of them
LATE: Mapping[str, type[records.CataloguePart]] = {
    "log_patterns": fault_records.LogPattern,
    "observations": fault_records.Observation,
    "causes": fault_records.Cause,
    "drills": fault_records.Drill,
}

PartT = TypeVar("PartT", bound=records.CataloguePart)


@dataclass(frozen=True)
class Broken:
    """A user's part that cannot be used, or a whole file of them: it is left as it is, and passed over."""

    path: Path
    error: CatalogueError


@dataclass(frozen=True)
class Catalogue:
    """All parts, by kind (a file's name) and id. own: where the user's own come from, by kind and id. broken: what was
    passed over. shelf: the shelf's part where a build brings another one of that id, None where there is none."""

    parts: Mapping[str, Mapping[str, records.CataloguePart]] = field(default_factory=dict)
    user_folder: Path | None = None
    own: Mapping[tuple[str, str], Path] = field(default_factory=dict)
    broken: tuple[Broken, ...] = ()
    shelf: Mapping[tuple[str, str], records.CataloguePart | None] = field(default_factory=dict)

    def all(self, kind: type[PartT]) -> tuple[PartT, ...]:
        """Every part of a kind, in catalogue order."""
        name = _name_of(kind)
        rows = _late(name, self.user_folder) if name in LATE else self.parts.get(name, {})
        return tuple(part for part in rows.values() if isinstance(part, kind))

    def warm(self) -> None:
        """Compile every template now, in whatever thread this is, so that none is compiled when it is first shown."""
        entries = (
            entry for dialect in self.all(text_records.Dialect) for file in dialect.files for entry in file.entries
        )
        own = (text for template in self.all(text_records.SettingsTemplate) for text in (template.path, template.text))
        for text in (*(entry.value for entry in entries), *own):
            templates.compiled(text)

    def warm_late(self) -> None:
        """Read what is only read when it is asked for, now, in whatever thread this is."""
        for record in LATE.values():
            self.all(record)

    def find(self, kind: type[PartT], part_id: str | None) -> PartT | None:
        return next((part for part in self.all(kind) if part.id == part_id), None)

    def get(self, kind: type[PartT], part_id: str | None) -> PartT:
        """The part. Raises CatalogueError that names the kind and what there is."""
        found = self.find(kind, part_id)
        if found is None:
            known = ", ".join(part.id for part in self.all(kind))
            raise CatalogueError(f"The catalogue has no {kind.__name__.lower()} {part_id!r}.", do=f"It knows: {known}.")
        return found

    def any(self, part_id: str | None) -> records.CataloguePart | None:
        """The hardware part with that id, whatever its kind."""
        for kind in (
            "boards",
            "supplies",
            "cards",
            "displays",
            "adapters",
            "encoders",
            "keyboards",
            "cables",
            "bridges",
            "disks",
        ):
            if part_id and part_id in self.parts.get(kind, {}):
                return self.parts[kind][part_id]
        return None


def load(user_folder: Path | None = None, *, strict: bool = True) -> Catalogue:
    """The shipped catalogue with the files of user_folder layered over it, part by part.

    strict: raise CatalogueError for the first part that cannot be used; else it is passed over and named in `broken`.
    """
    ships = {kind: shipped(kind) for kind in KINDS}
    parts: dict[str, dict[str, records.CataloguePart]] = {kind: dict(rows) for kind, rows in ships.items()}
    own: dict[tuple[str, str], Path] = {}
    broken: list[Broken] = []
    files = user_files(user_folder) if user_folder else []
    if user_folder:
        remembered.load(user_folder, len(files))
    for kind, path in files:
        try:
            rows = read_file(path, kind)
        except CatalogueError as bad:
            if strict:
                raise
            broken.append(Broken(path, bad))
            continue
        for part in rows.values():
            parts[kind][part.id] = part
            own[kind, part.id] = path
    for kind in LATE if user_folder else ():
        try:
            _own_late(kind, user_folder)
        except CatalogueError as bad:
            if strict:
                raise
            assert user_folder is not None
            broken.append(Broken(user_folder / f"{kind}.toml", bad))
    if user_folder:
        remembered.keep(user_folder)
    return _consistent(Catalogue(parts, user_folder, own), ships, broken, strict=strict)


def user_files(folder: Path) -> list[tuple[str, Path]]:
    """The files of a user's folder, with the kind that each holds; those of one part each last, so that they count."""
    found = [(kind, path) for kind in KINDS if (path := folder / f"{kind}.toml").is_file()]
    for kind in KINDS:
        try:
            with os.scandir(folder / kind) as entries:
                names = sorted(entry.name for entry in entries if entry.name.endswith(".toml") and entry.is_file())
        except OSError:  # nobody has parts of that kind
            continue
        found += [(kind, folder / kind / name) for name in names if not name.startswith(".")]
    return found


def read_file(path: Path, kind: str) -> dict[str, records.CataloguePart]:
    """The parts of one of the user's files, by id. Raises CatalogueError with file and key."""
    name = str(path)

    def read() -> tuple[list[Any], dict[str, records.CataloguePart]]:
        listed = _listed(kind, _user_text(path), name)
        return listed, _checked(kind, KINDS[kind], listed, name)

    found: dict[str, records.CataloguePart] = remembered.parts_in(
        path, read, lambda rows: _checked(kind, KINDS[kind], rows, name)
    )
    return found


def part_of(kind: str, row: Mapping[str, Any], name: str) -> records.CataloguePart:
    """One part from its values. name: of where they stand, for the error. Raises CatalogueError with the key."""
    return _row(KINDS[kind], row, name, 1)


def _consistent(
    catalogue: Catalogue,
    ships: Mapping[str, Mapping[str, records.CataloguePart]],
    broken: list[Broken],
    *,
    strict: bool,
) -> Catalogue:
    """A catalogue in which every reference leads somewhere and every template works. The user's parts that spoil it go;
    a shipped one of that id comes back."""
    while True:
        spoilt = _first_spoilt(catalogue)
        if spoilt is None:
            return replace(catalogue, broken=tuple(broken))
        places, bad = spoilt
        place = next((each for each in places if each in catalogue.own), None)
        if strict or place is None:
            raise bad
        path = catalogue.own[place]
        kind, part_id = place
        broken.append(Broken(path, bad))
        rows = {key: part for key, part in catalogue.parts[kind].items() if key != part_id}
        if part_id in ships[kind]:
            rows[part_id] = ships[kind][part_id]
        own = {key: each for key, each in catalogue.own.items() if key != place}
        catalogue = replace(catalogue, parts={**catalogue.parts, kind: rows}, own=own)


def _first_spoilt(catalogue: Catalogue) -> tuple[tuple[tuple[str, str], ...], CatalogueError] | None:
    """What does not go together, with the parts that may be to blame, the likeliest first: kind and id."""
    for file, part_id, kind, wanted in _references(catalogue):
        if wanted not in catalogue.parts[_name_of(kind)]:
            return ((file, part_id),), CatalogueError(
                f"{file}.toml: {part_id} refers to {kind.__name__.lower()} {wanted!r}, which does not exist.",
                do="Correct the reference or add the part.",
            )
    for system in catalogue.all(system_records.System):
        its = catalogue.find(control_records.Keyboard, system.keyboard)
        for key in {each for held in system.held for each in held}:
            if its is None or its.key(key) is None:
                return (("systems", system.id), ("keyboards", system.keyboard)), CatalogueError(
                    f"systems.toml: {system.id} holds the key {key!r}, which its keyboard has not.",
                    do="Correct the system's keys or its keyboard.",
                )
    for own_kind, part_id in catalogue.own:
        if own_kind in ("dialects", "templates"):  # the shipped ones are checked by the tests
            try:
                check_templates_of(catalogue.parts[own_kind][part_id])
            except CatalogueError as bad:
                return ((own_kind, part_id),), bad
    return None


def with_copies(catalogue: Catalogue, copies: Iterable[PartCopy]) -> Catalogue:
    """The catalogue as a build sees it: the parts that it brings go before those of the same id on the shelf.

    One that cannot be used is passed over and named in `broken`.
    """
    copies = tuple(copies)
    if not copies:
        return catalogue
    parts = {kind: dict(rows) for kind, rows in catalogue.parts.items()}
    shelf: dict[tuple[str, str], records.CataloguePart | None] = {}
    own, broken = dict(catalogue.own), list(catalogue.broken)
    for copy in copies:
        if copy.kind not in KINDS:
            continue
        place = (copy.kind, copy.id)
        path = Path(f"{copy.kind}/{copy.id}.toml")
        try:
            part = part_of(copy.kind, copy.row, f"the build's own {path}")
            if part.id != copy.id:
                raise CatalogueError(f"The build's own {path} holds {part.id!r}.")
        except CatalogueError as bad:
            broken.append(Broken(path, bad))
            continue
        there = parts[copy.kind].get(copy.id)
        if there != part:
            shelf[place] = there
            parts[copy.kind][copy.id] = part
            own.setdefault(place, path)
    made = replace(catalogue, parts=parts, own=own, broken=(), shelf=shelf)
    return _consistent(made, catalogue.parts, broken, strict=False)


@cache
def shipped(kind: str) -> Mapping[str, records.CataloguePart]:
    """The parts of a kind that ship, by id."""
    text = (resources.files("kyklon.catalogue") / "data" / f"{kind}.toml").read_text(encoding="utf-8")
    return _read(kind, KINDS.get(kind) or LATE[kind], text, f"{kind}.toml")


@cache
def _late(kind: str, user_folder: Path | None) -> Mapping[str, records.CataloguePart]:
    """The rows of a kind of LATE; those that ship alone where the user's file cannot be used (`load` names it)."""
    try:
        return {**shipped(kind), **_own_late(kind, user_folder)}
    except CatalogueError:
        return shipped(kind)


def _own_late(kind: str, user_folder: Path | None) -> Mapping[str, records.CataloguePart]:
    """The user's rows of a kind of LATE. Raises CatalogueError."""
    user_file = user_folder / f"{kind}.toml" if user_folder else None
    if user_file is None or not user_file.is_file():
        return {}
    return _read(kind, LATE[kind], _user_text(user_file), str(user_file))


def _user_text(path: Path) -> str:
    try:
        return text_of(bytes_of(path), str(path))
    except KyklonError as bad:
        raise CatalogueError(f"{path} cannot be read: {bad}", do="Repair the file or move it away.") from bad


def _read(kind: str, record: type[records.CataloguePart], text: str, name: str) -> dict[str, records.CataloguePart]:
    return _checked(kind, record, _listed(kind, text, name), name)


def _listed(kind: str, text: str, name: str) -> list[Any]:
    """The rows of a file's text, unchecked."""
    try:
        table = toml_of(text, name)
    except FormatError as bad:
        raise CatalogueError(f"{name} is not valid TOML: {bad.got}.", do="Correct the line it names.") from bad
    surplus = set(table) - {kind}
    if surplus:
        raise CatalogueError(f"{name}: unknown table {sorted(surplus)[0]!r}.", do=f"Only [[{kind}]] belongs here.")
    listed = table.get(kind, [])
    if not isinstance(listed, list):
        raise CatalogueError(f"{name}: {kind} is one value, not a list.", do=f"Begin each part with [[{kind}]].")
    return listed


def _checked(
    kind: str, record: type[records.CataloguePart], listed: list[Any], name: str
) -> dict[str, records.CataloguePart]:
    rows: dict[str, records.CataloguePart] = {}
    for number, row in enumerate(listed, 1):
        part = _row(record, row, name, number)
        if part.id in rows:
            raise CatalogueError(f"{name}: the id {part.id!r} appears twice.", do="Give one of them another id.")
        rows[part.id] = part
    return rows


def _row(record: type[records.CataloguePart], row: Any, name: str, number: int) -> records.CataloguePart:
    try:
        return record.model_validate(row)
    except ValidationError as bad:
        first = bad.errors()[0]
        key = ".".join(str(step) for step in first["loc"])
        called = row.get("id", f"row {number}") if isinstance(row, dict) else f"row {number}"
        raise CatalogueError(f"{name}: {called}: {key}: {first['msg']}.", do="Correct that key.") from bad


def _name_of(kind: type[records.CataloguePart]) -> str:
    return next(name for name, record in (*KINDS.items(), *LATE.items()) if record is kind)


def _references(catalogue: Catalogue) -> list[tuple[str, str, type[records.CataloguePart], str]]:
    """Every reference: kind and id of who refers, and what to."""
    checks: list[tuple[str, str, type[records.CataloguePart], str]] = []
    for board in catalogue.all(records.Board):
        checks += [("boards", board.id, text_records.Dialect, dialect) for dialect in board.dialects]
        if board.header:
            checks.append(("boards", board.id, control_records.Header, board.header))
    for image in catalogue.all(image_records.Image):
        checks += [("images", image.id, records.Board, board_id) for board_id in image.boards]
    for layout in catalogue.all(image_records.BareMetal):
        checks.append(("bare_metal", layout.id, image_records.Image, layout.image))
        checks += [
            ("bare_metal", layout.id, system_records.System, machine.system)
            for machine in layout.machines
            if machine.system
        ]
    for chooser in catalogue.all(image_records.Chooser):
        checks.append(("choosers", chooser.id, image_records.Image, chooser.image))
    for system in catalogue.all(system_records.System):
        checks.append(("systems", system.id, system_records.Emulator, system.emulator))
        checks += [("systems", system.id, system_records.Emulator, other) for other in system.also]
        if system.keyboard:
            checks.append(("systems", system.id, control_records.Keyboard, system.keyboard))
    for note in catalogue.all(text_records.Workaround):
        checks.append(("workarounds", note.id, text_records.TuningSetting, note.setting))
        checks += [("workarounds", note.id, system_records.System, each) for each in note.systems]
        checks += [("workarounds", note.id, system_records.Emulator, each) for each in note.emulators]
    for emulator in catalogue.all(system_records.Emulator):
        checks.append(("emulators", emulator.id, text_records.SettingsTemplate, emulator.template))
        if emulator.map_template:
            checks.append(("emulators", emulator.id, text_records.SettingsTemplate, emulator.map_template))
    for encoder in catalogue.all(records.Encoder):
        if encoder.overlay:
            checks.append(("encoders", encoder.id, records.Overlay, encoder.overlay))
    return checks


def check_templates(catalogue: Catalogue) -> None:
    """Check every part that holds templates. Raises CatalogueError."""
    for part in (*catalogue.all(text_records.Dialect), *catalogue.all(text_records.SettingsTemplate)):
        check_templates_of(part)


def check_templates_of(part: records.CataloguePart) -> None:
    """Every setting that a dialect names is a decision of a build, and every template is one, over names it may use."""
    if isinstance(part, text_records.Dialect):
        for file in part.files:
            for entry in file.entries:
                where = f"dialects.toml: {part.id}: {file.path}: {entry.key}"
                try:
                    describe(Build, entry.setting)
                except KeyError as bad:
                    raise CatalogueError(
                        f"{where}: a build has no setting {entry.setting!r}.", do="Use one that `kyklon fields` lists."
                    ) from bad
                templates.check(entry.value, text_records.TEMPLATE_NAMES, where)
    if isinstance(part, text_records.SettingsTemplate):
        names = {"map": text_records.MAP_NAMES, "list": text_records.LIST_NAMES}.get(
            part.use, text_records.SETTINGS_NAMES
        )
        for text in (part.path, part.text):
            templates.check(text, names, f"templates.toml: {part.id}")


@cache
def standard_timings(table: str) -> Mapping[int, system_records.StandardTiming]:
    """The rows of 'dmt' (VESA DMT 1.13) or 'cta' (CTA-861), by id."""
    text = (resources.files("kyklon.catalogue") / "data" / f"timings_{table}.toml").read_text(encoding="utf-8")
    return {row["id"]: _standard(row) for row in tomllib.loads(text)["rows"]}


def _standard(row: Mapping[str, Any]) -> system_records.StandardTiming:
    across, down = row["polarity"]
    names = ("active", "front", "sync", "back")
    return system_records.StandardTiming(
        id=row["id"],
        aspect=row["aspect"],
        timing=Timing(
            clock_hz=row["clock_hz"],
            horizontal=Axis(**dict(zip(names, row["h"], strict=True)), positive=across == "+"),
            vertical=Axis(**dict(zip(names, row["v"], strict=True)), positive=down == "+"),
            interlaced=row["interlaced"],
            half_line=row.get("half_line", True),
        ),
    )
