"""Every operation without a window. Exit codes: 0 fine, 1 findings of severity stop, 2 wrong use, 3 failed.

With --json a command prints one JSON document and nothing else on standard output.
"""

from __future__ import annotations

import sys
from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any

import typer
from typer.exceptions import TyperException

from kyklon import cli_card, cli_picture, cli_sets, inspection, observing, workshop
from kyklon.catalogue.loader import load
from kyklon.cli_tools import FAILED, OK, STOPS, WRONG, Folder, Json, Meter, open_folder, out, tell
from kyklon.errors import KyklonError, WrongUse
from kyklon.model.findings import Finding, Severity
from kyklon.places import catalogue_folder, demo_folder
from kyklon.quantities import show_bytes
from kyklon.record import folder as store

app = typer.Typer(no_args_is_help=True, add_completion=False, pretty_exceptions_enable=False, help=__doc__)
timing_app = typer.Typer(no_args_is_help=True, help="Timings by standard and formula.")
edid_app = typer.Typer(no_args_is_help=True, help="Identification data of displays.")
source_app = typer.Typer(no_args_is_help=True, help="Image files.")
multiboot_app = typer.Typer(no_args_is_help=True, help="Multi-boot bundles.")
baremetal_app = typer.Typer(no_args_is_help=True, help="Bare-metal sets.")
app.add_typer(source_app, name="source")
app.add_typer(multiboot_app, name="multiboot")
app.add_typer(baremetal_app, name="baremetal")
app.add_typer(timing_app, name="timing")
app.add_typer(edid_app, name="edid")


def main() -> None:
    """The entry point: runs a command and turns errors into sentences and exit codes."""
    try:
        code = app(standalone_mode=False)
        sys.exit(code if isinstance(code, int) else OK)
    except typer.Exit as done:
        sys.exit(done.exit_code)
    except typer.Abort:
        sys.exit(FAILED)
    except TyperException as bad:
        if str(bad):
            tell(str(bad))
        sys.exit(WRONG)
    except WrongUse as bad:
        tell(str(bad))
        sys.exit(WRONG)
    except KyklonError as bad:
        tell(str(bad))
        sys.exit(FAILED)


# --- the build -----------------------------------------------------------------------------------------------


@app.command()
def demo(
    folder: Annotated[Path | None, typer.Option(help="Where to make it.")] = None,
    no_window: Annotated[bool, typer.Option("--no-window", help="Make it, print its path, and stop.")] = False,
) -> int:
    """Make the demo build afresh and open it."""
    from kyklon.demo import lighthouse

    made = lighthouse.make(folder or demo_folder(lighthouse.NAME), load(catalogue_folder()))
    print(made)
    return OK if no_window else _window(made)


@app.command()
def new(folder: Folder, name: Annotated[str, typer.Option(help="What the machine is called.")] = "My machine") -> int:
    """Make a new build in an empty folder."""
    from kyklon import fresh

    print(fresh.make(folder, name, load(catalogue_folder())))
    return OK


@app.command("open")
def open_build(folder: Folder) -> int:
    """Open a build in the window."""
    store.load(folder)
    return _window(folder)


def _window(folder: Path) -> int:
    from kyklon.app.start import run  # the commands need no window

    return run(folder)


@app.command()
def check(folder: Folder, as_json: Json = False) -> int:
    """All findings of a build."""
    build, catalogue = open_folder(folder)
    found = inspection.inspect(build, catalogue, observing.observe(build, folder, catalogue))
    out({"findings": [_finding(each) for each in found]}, as_json, lambda: [_finding_text(each) for each in found])
    return STOPS if any(each.severity is Severity.STOP for each in found) else OK


def _finding(found: Finding) -> dict[str, Any]:
    keys = ("code", "severity", "operation", "subject", "message", "why", "source")
    data = found.model_dump(mode="json", include=set(keys))
    message = f"{found.title}. {found.message}"
    return {key: data[key] for key in keys} | {
        "message": message,
        "remedy": found.remedy.label if found.remedy else None,
    }


def _finding_text(found: Finding) -> str:
    remedy = f"\n      remedy: {found.remedy.label} (kyklon remedy FOLDER {found.code})" if found.remedy else ""
    return f"{found.operation} {found.severity.upper():8}{found.title}. {found.message}\n      {found.why}{remedy}"


@app.command()
def remedy(folder: Folder, code: Annotated[str, typer.Argument(help="A finding's code.")]) -> int:
    """Apply the remedy of a finding to the build."""
    build, catalogue = open_folder(folder)
    found = inspection.find(inspection.inspect(build, catalogue, observing.observe(build, folder, catalogue)), code)
    if found.remedy is None:
        raise WrongUse(f"{found.code} has no remedy that the program can apply.", do=found.why)
    workshop.apply_remedy(folder, build, found.remedy, found.title)
    for change in found.remedy.changes:
        print(f"{change.label}: {change.before} → {change.after}")
    return OK


# --- issue and apply ----------------------------------------------------------------------------------------------


@app.command()
def issue(folder: Folder, to: Annotated[Path, typer.Option("--to", help="Where the files go.")]) -> int:
    """Write every issued file of a build into a folder."""
    build, catalogue = open_folder(folder)
    for name in workshop.issue_everything(build, catalogue, observing.observe(build, folder, catalogue), to):
        print(to / name)
    return OK


Card = Annotated[str, typer.Option("--card", help="A simulated drive's name, a drive, or an image file.")]


@app.command()
def apply(
    folder: Folder,
    card: Card,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Show the difference, change nothing.")] = False,
) -> int:
    """Put the build's boot files on a card's FAT partition."""
    from kyklon.card import contents

    build, catalogue = open_folder(folder)
    target = _existing(card, folder)
    if dry_run:
        there = contents.observe(target.path)
        if there.table is None or there.boot_error:
            raise KyklonError(f"{card} has no boot partition. {there.table_error or there.boot_error}")
        put = workshop.plan_boot_files(build, catalogue, there)
    else:
        put = workshop.put_boot_files(folder, build, catalogue, target)
        if target.facts.identity == build.card.drive and put.files:
            from kyklon.model.build import edited
            from kyklon.record.logbook import now

            store.save(folder, edited(build, "card.boot_files_at", now()))
    print("\n".join(put.differences.values()) or "The card has this build's boot files already.")
    return OK


def _existing(name: str, folder: Path) -> workshop.Target:
    target = workshop.find_target(name, folder)
    if not target.path.exists():
        raise WrongUse(f"{name} is not there or was never written.", do="Write the image first.")
    return target


# --- power-on ------------------------------------------------------------------------------------------------


@app.command()
def bringup(folder: Folder, card: Card, as_json: Json = False) -> int:
    """Predict the first power-on from the bytes on a card."""
    from kyklon.card import contents
    from kyklon.poweron.bringup import bring_up, lay_out

    build, catalogue = open_folder(folder)
    world = observing.observe(build, folder, catalogue)
    bench = lay_out(
        build, catalogue, contents.observe(_existing(card, folder).path),
        identification=world.identification, scan=world.scan, on_machine=world.on_machine,
    )  # fmt: skip
    result = bring_up(bench)

    def failure(each: Any) -> dict[str, Any]:
        return {"code": each.code, "cause": each.cause, "remedy": each.remedy.label if each.remedy else None}

    data = {
        "reached": result.reached,
        "events": [asdict(event) for event in result.events],
        "failure": failure(result.failure) if result.failure else None,
        "later": [failure(each) for each in result.failures[1:]],
        "screen": asdict(result.screen),
        "games": result.games,
    }

    def lines() -> list[str]:
        told = [f"{event.at_s:7.1f} s  {event.stage:16} {event.text}  [{event.lamp}]" for event in result.events]
        told.append(f"Reached: {result.reached}. Screen: {result.screen.title}")
        told += [f"  {line}" for line in result.screen.lines]
        for number, each in enumerate(result.failures):
            word = "Fails" if number == 0 else "Then"
            told.append(f"{word}: {each.cause} Remedy: {each.remedy.label if each.remedy else 'none'} ({each.code})")
        return told

    out(data, as_json, lines)
    return STOPS if result.failure else OK


# --- library -------------------------------------------------------------------------------------------------


@app.command()
def scan(
    folder: Folder,
    library: Annotated[Path | None, typer.Option(help="Another library folder.")] = None,
    as_json: Json = False,
) -> int:
    """Which games are ready, and why the rest are not."""
    from kyklon.library import findings
    from kyklon.library.scan import scan as scan_folder

    build, catalogue = open_folder(folder)
    place = library or observing.resolve(folder, build.library.folder)
    found = scan_folder(place, observing.systems_of(build, catalogue), build.library)
    rows = [
        {"system": g.system, "title": g.title, "files": g.files, "bytes": g.size, "discs": g.discs, "ready": g.ready,
         "reasons": [{"code": r.code, "text": r.text} for r in g.reasons]}
        for g in found.games
    ]  # fmt: skip
    told = findings.findings(build, catalogue, found)

    def lines() -> list[str]:
        waiting = [f"{g.system:12} {g.title}: {' '.join(r.text for r in g.reasons)}" for g in found.games if g.reasons]
        return [*waiting, f"{len(found.ready)} of {len(found.games)} games are ready."]

    out({"games": rows, "ready": len(found.ready), "findings": [_finding(each) for each in told]}, as_json, lines)
    return STOPS if any(each.severity is Severity.STOP for each in told) else OK


@app.command()
def transfer(
    folder: Folder, to: Annotated[Path, typer.Option("--to", help="Where the games go.")], as_json: Json = False
) -> int:
    """Move what is ready into the folder layout of the image, and read it back."""
    build, catalogue = open_folder(folder)
    meter = Meter()
    build, report = workshop.move_games(folder, build, catalogue, to, sink=meter)
    store.save(folder, build)
    meter.done()
    out(asdict(report), as_json, lambda: [
        f"{report.games} games, {report.files} files, {show_bytes(report.size)} in {to}; "
        f"{report.already_there} were there already."
    ])  # fmt: skip
    return OK


cli_card.register(app, source_app)
cli_sets.register(app, multiboot_app, baremetal_app)
cli_picture.register(timing_app, edid_app)
