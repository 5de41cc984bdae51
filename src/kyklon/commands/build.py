"""A build as a whole: make it, open it, check it, change it, issue it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.inside import BUILD_FILE
from kyklon.base.places import demo_folder
from kyklon.base.progress import Watch
from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import OK, STOPS, Folder, Json, catalogue, keep_copies, open_folder, out, tell, watching
from kyklon.model.build import Build, edited
from kyklon.model.fields import describe, described_fields
from kyklon.operations import inspection
from kyklon.operations.inspection import find, observe
from kyklon.parts.view import inspect
from kyklon.record import folder as store

if TYPE_CHECKING:
    from kyklon.model.findings import Finding


def demo(
    name: Annotated[str, Argument(help="lighthouse, camper or school-fair.", metavar="NAME")] = "lighthouse",
    folder: Annotated[Path | None, Option("--folder", help="Where to make it.")] = None,
    no_window: Annotated[bool, Option("--no-window", help="Make it, print its path, and stop.")] = False,
    keep: Annotated[bool, Option("--keep", help="Open the existing one if this version made it.")] = False,
) -> int:
    """Make the demo build and open it."""
    from kyklon.demo.folders import is_current, make_current
    from kyklon.demo.known import DEMOS

    if name not in DEMOS:
        raise WrongUse(f"Unknown demo: {name!r}.", do=f"There are: {', '.join(DEMOS)}.")
    made = DEMOS[name]
    place = folder or demo_folder(made.NAME)

    def make(watch: Watch) -> Path:
        if not keep:
            made.make(place, catalogue(), watch)
            return place
        _place, aside = make_current(made.make, place, catalogue(), watch)
        if aside is not None:
            tell(f"An older version's demo was moved aside to {aside}.")
        return place

    if no_window:
        with watching() as watch:
            print(make(watch))
        return OK
    print(place)
    return _window(place if keep and is_current(place) else make)


def new(folder: Folder, name: Annotated[str, Option("--name", help="Name of the machine.")] = "My machine") -> int:
    """Start a new build in an empty folder."""
    from kyklon.operations.plan.acts import start_build

    print(start_build(folder, name, catalogue()))
    return OK


def open_build(
    path: Annotated[Path, Argument(help="A build folder, its build.json, an archive, or a file of parts.")],
) -> int:
    """Open a build in the window.

    An archive is unpacked beside itself first; a file of parts is shown before it goes onto your shelf.
    """
    if path.is_dir() or not path.exists():
        return _window(path)
    if path.name == BUILD_FILE:
        return _window(path.parent)
    if path.suffix == ".toml":
        from kyklon.app.start import run_start

        return run_start(path)
    if path.suffix != ".tar":
        raise WrongUse(
            f"{path.name} is no file of Kyklon's.",
            do="Open a build folder, an archive (.tar) or a file of parts (.toml).",
        )
    from kyklon.record import archive, builds

    place = path.with_name(path.name.removesuffix(".tar").removesuffix(".kyklon"))

    def unpack(watch: Watch) -> Path:
        archive.open_into(path, place, watch)
        builds.remember(place)
        return place

    return _window(unpack)


def start() -> int:
    """Show the first page: a new build from wishes, a demo, or one begun before."""
    from kyklon.app.start import run_start

    return run_start()


def _window(folder: Path | Callable[[Watch], Path]) -> int:
    from kyklon.app.start import run  # the other commands need no window

    return run(folder)


# --- findings ----------------------------------------------------------------------------------------------------


def check(folder: Folder, as_json: Json = False) -> int:
    """List all findings of a build.

    Exit 1 when one of them stops it.
    """
    found = _findings(folder)
    data = {"findings": [finding_data(finding) for finding in found]}
    out(data, as_json, lambda: [_finding_text(finding) for finding in found])
    return STOPS if any(finding.severity == "stop" for finding in found) else OK


def _findings(folder: Path) -> tuple[Finding, ...]:
    build, parts = open_folder(folder)
    return inspect(build, parts, observe(build, folder, parts))


def finding_data(found: Finding) -> dict[str, Any]:
    """A finding as the commands print it."""
    keys = ("code", "severity", "operation", "subject", "message", "why", "source")
    data = found.model_dump(mode="json", include=set(keys))
    message = f"{found.title}. {found.message}"
    return {key: data[key] for key in keys} | {
        "message": message,
        "remedy": found.remedy.label if found.remedy else None,
    }


def _finding_text(found: Finding) -> str:
    remedy = f"\n      Remedy: {found.remedy.label} (kyklon remedy FOLDER {found.code})" if found.remedy else ""
    return f"{found.operation} {found.severity.upper():8}{found.title}. {found.message}\n      {found.why}{remedy}"


def remedy(folder: Folder, code: Annotated[str, Argument(help="A finding's code.")]) -> int:
    """Apply the remedy of a finding to the build."""
    from kyklon.operations.remedies import apply_remedy

    found = find(_findings(folder), code)
    if found.remedy is None:
        raise WrongUse(f"{found.code} has no remedy that Kyklon can apply.", do=found.why)
    apply_remedy(folder, found.remedy, found.title)
    keep_copies(folder)
    for change in found.remedy.changes:
        print(f"{change.label}: {change.before} → {change.after}")
    return OK


# --- settings ----------------------------------------------------------------------------------------------------


def fields(folder: Folder, as_json: Json = False) -> int:
    """List all settings of a build with their values."""
    build, _parts = open_folder(folder)
    data = build.model_dump(mode="json")
    rows = []
    for field in described_fields(Build):
        value: Any = data
        for name in field.path.split("."):
            value = value[name]
        if field.kind != "other":
            rows.append((field, value))
    told = {field.path: value for field, value in rows}
    out(told, as_json, lambda: [f"{f.path:28} {f.label:22} {f.words(value)}" for f, value in rows])
    return OK


def set_field(
    folder: Folder,
    path: Annotated[str, Argument(help="A setting, as `kyklon fields` lists it.")],
    value: Annotated[str, Argument(help="Its new value.")],
) -> int:
    """Change one setting of a build."""
    from kyklon.record.logbook import Logbook

    try:
        field = describe(Build, path)
    except KeyError as bad:
        raise WrongUse(f"Unknown setting: {path!r}.", do="`kyklon fields FOLDER` lists them.") from bad
    if field.kind == "other":
        raise WrongUse(f"{field.label} is not a single value.", do="Change it in the window.")
    try:
        parsed = field.parse(value)
        store.update(folder, lambda build: edited(build, path, parsed))
        keep_copies(folder)
    except KyklonError:
        raise
    except ValueError as bad:
        raise WrongUse(f"{bad}.", do="Nothing was changed.") from bad
    Logbook(folder).add(0, f"{field.label}: {field.words(parsed)}")
    print(f"{field.label}: {field.words(parsed)}")
    return OK


def way(folder: Folder, as_json: Json = False) -> int:
    """List the steps to the first game and how long they take."""
    from dataclasses import asdict

    from kyklon.operations.plan.way import in_words
    from kyklon.operations.plan.way import way as steps_of

    build, parts = open_folder(folder)
    steps = steps_of(build, parts, inspection.observe(build, folder, parts))

    def lines() -> list[str]:
        return [
            f"{step.operation}  {step.what}: {in_words(step.minutes)}"
            + (", without you" if step.alone else "")
            + (f"; asks: {', '.join(step.asks)}" if step.asks else "")
            for step in steps
        ]

    out([asdict(step) for step in steps], as_json, lines)
    return OK


def issue(folder: Folder, to: Annotated[Path, Option("--to", help="Where the files go.")]) -> int:
    """Write every issued file of a build into a folder."""
    build, parts = open_folder(folder)
    for name in inspection.issue(build, parts, inspection.observe(build, folder, parts), to):
        print(to / name)
    return OK
