"""Reads the shipped catalogue and a user's folder over it. Unknown keys, duplicate ids, references to nothing and
templates that cannot work are errors, with file and key."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any, TypeVar

from pydantic import ValidationError

from kyklon.base.errors import CatalogueError, FormatError, KyklonError
from kyklon.base.reading import bytes_of, text_of, toml_of
from kyklon.catalogue import records, templates
from kyklon.model.build import Build
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
    "images": records.Image,
    "systems": records.System,
    "emulators": records.Emulator,
    "panels": records.Panel,
    "dialects": records.Dialect,
    "settings": records.TuningSetting,
    "templates": records.SettingsTemplate,
    "bridges": records.Bridge,
    "disks": records.Disk,
    "bare_metal": records.BareMetal,
    "choosers": records.Chooser,
}

# read when they are first asked for: the window's first page needs none of them
LATE: Mapping[str, type[records.CataloguePart]] = {
    "log_patterns": records.LogPattern,
    "observations": records.Observation,
    "causes": records.Cause,
    "drills": records.Drill,
}

PartT = TypeVar("PartT", bound=records.CataloguePart)


@dataclass(frozen=True)
class Catalogue:
    """All parts, by kind (a file's name) and id."""

    parts: Mapping[str, Mapping[str, records.CataloguePart]] = field(default_factory=dict)
    user_folder: Path | None = None

    def all(self, kind: type[PartT]) -> tuple[PartT, ...]:
        """Every part of a kind, in catalogue order. Raises CatalogueError for a kind of LATE whose file is wrong."""
        name = next(name for name, record in (*KINDS.items(), *LATE.items()) if record is kind)
        rows = _late(name, self.user_folder)[0] if name in LATE else self.parts.get(name, {})
        return tuple(part for part in rows.values() if isinstance(part, kind))

    def warm(self) -> None:
        """Compile every template now, in whatever thread this is, so that none is compiled when it is first shown."""
        entries = (entry for dialect in self.all(records.Dialect) for file in dialect.files for entry in file.entries)
        own = (text for template in self.all(records.SettingsTemplate) for text in (template.path, template.text))
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
        for kind in ("boards", "supplies", "cards", "displays", "adapters", "encoders", "cables", "bridges", "disks"):
            if part_id and part_id in self.parts.get(kind, {}):
                return self.parts[kind][part_id]
        return None


def load(user_folder: Path | None = None) -> Catalogue:
    """The shipped catalogue with the files of user_folder (same names) layered over it, row by row."""
    parts: dict[str, dict[str, records.CataloguePart]] = {}
    own: set[str] = set()
    for kind in KINDS:
        parts[kind], is_own = _layered(kind, user_folder)
        own |= {kind} if is_own else set()
    catalogue = Catalogue(parts, user_folder)
    _check_references(catalogue)
    if own & {"dialects", "templates"}:  # the shipped ones are checked by the tests
        check_templates(catalogue)
    return catalogue


def _layered(kind: str, user_folder: Path | None) -> tuple[dict[str, records.CataloguePart], bool]:
    """The rows of a kind, and whether the user has some of their own."""
    record = KINDS.get(kind) or LATE[kind]
    shipped = resources.files("kyklon.catalogue") / "data" / f"{kind}.toml"
    rows = _read(kind, record, shipped.read_text(encoding="utf-8"), f"{kind}.toml")
    user_file = user_folder / f"{kind}.toml" if user_folder else None
    if user_file is None or not user_file.exists():
        return rows, False
    return rows | _read(kind, record, _user_text(user_file), str(user_file)), True


_late = cache(_layered)


def _user_text(path: Path) -> str:
    try:
        return text_of(bytes_of(path), str(path))
    except KyklonError as bad:
        raise CatalogueError(f"{path} cannot be read: {bad}", do="Repair the file or move it away.") from bad


def _read(kind: str, record: type[records.CataloguePart], text: str, name: str) -> dict[str, records.CataloguePart]:
    try:
        table = toml_of(text, name)
    except FormatError as bad:
        raise CatalogueError(f"{name} is not valid TOML: {bad.got}.", do="Correct the line it names.") from bad
    surplus = set(table) - {kind}
    if surplus:
        raise CatalogueError(f"{name}: unknown table {sorted(surplus)[0]!r}.", do=f"Only [[{kind}]] belongs here.")
    rows: dict[str, records.CataloguePart] = {}
    listed = table.get(kind, [])
    if not isinstance(listed, list):
        raise CatalogueError(f"{name}: {kind} is one value, not a list.", do=f"Begin each part with [[{kind}]].")
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


def _check_references(catalogue: Catalogue) -> None:
    checks: list[tuple[str, str, type[records.CataloguePart], str]] = []
    for board in catalogue.all(records.Board):
        checks += [("boards", board.id, records.Dialect, dialect) for dialect in board.dialects]
    for image in catalogue.all(records.Image):
        checks += [("images", image.id, records.Board, board_id) for board_id in image.boards]
    for layout in catalogue.all(records.BareMetal):
        checks.append(("bare_metal", layout.id, records.Image, layout.image))
    for chooser in catalogue.all(records.Chooser):
        checks.append(("choosers", chooser.id, records.Image, chooser.image))
    for system in catalogue.all(records.System):
        checks.append(("systems", system.id, records.Emulator, system.emulator))
    for emulator in catalogue.all(records.Emulator):
        checks.append(("emulators", emulator.id, records.SettingsTemplate, emulator.template))
    for file, part_id, kind, wanted in checks:
        if catalogue.find(kind, wanted) is None:
            raise CatalogueError(
                f"{file}.toml: {part_id} refers to {kind.__name__.lower()} {wanted!r}, which does not exist.",
                do="Correct the reference or add the part.",
            )


def check_templates(catalogue: Catalogue) -> None:
    """Every setting that a dialect names is a decision of a build, and every template is one, over names it may use."""
    for dialect in catalogue.all(records.Dialect):
        for file in dialect.files:
            for entry in file.entries:
                where = f"dialects.toml: {dialect.id}: {file.path}: {entry.key}"
                try:
                    describe(Build, entry.setting)
                except KeyError as bad:
                    raise CatalogueError(
                        f"{where}: a build has no setting {entry.setting!r}.", do="Use one that `kyklon fields` lists."
                    ) from bad
                templates.check(entry.value, records.TEMPLATE_NAMES, where)
    for template in catalogue.all(records.SettingsTemplate):
        for text in (template.path, template.text):
            templates.check(text, records.SETTINGS_NAMES, f"templates.toml: {template.id}")


@cache
def standard_timings(table: str) -> Mapping[int, records.StandardTiming]:
    """The rows of 'dmt' (VESA DMT 1.13) or 'cta' (CTA-861), by id."""
    text = (resources.files("kyklon.catalogue") / "data" / f"timings_{table}.toml").read_text(encoding="utf-8")
    return {row["id"]: _standard(row) for row in tomllib.loads(text)["rows"]}


def _standard(row: Mapping[str, Any]) -> records.StandardTiming:
    across, down = row["polarity"]
    names = ("active", "front", "sync", "back")
    return records.StandardTiming(
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
