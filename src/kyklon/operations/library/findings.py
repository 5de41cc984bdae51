"""What the scan says against the build."""

from __future__ import annotations

from collections import Counter
from pathlib import PurePosixPath

from kyklon.base.quantities import counted
from kyklon.catalogue.chosen import known_systems
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.system_records import System
from kyklon.model.build import Build, RightName, change_of
from kyklon.model.findings import Finding, Remedy, Severity
from kyklon.model.library import REASONS, FoundSystemFile, Scan
from kyklon.model.world import World

OPERATION = 60
_WHY = {
    "duplicate": "It would be listed twice and waste space.",
    "left-out": "Games that are left out are not in the menu.",
    "members": "A set with missing members does not start.",
    "bomb": "It is damaged or an archive bomb; nothing is unpacked.",
    "version": "Each game is listed once; keep all of them where you want to compare.",
}


def findings(build: Build, catalogue: Catalogue, world: World) -> list[Finding]:
    scan = world.scan
    if world.scan_error:
        return [
            Finding(
                code="library.gone",
                severity=Severity.CAUTION,
                operation=OPERATION,
                subject="Library folder",
                title="The library folder cannot be read",
                message=world.scan_error,
                why="Without it nothing can be checked or copied.",
                source="the folder itself",
            )
        ]
    if scan is None:
        return []
    found = [_system_file(build, catalogue, file, scan) for file in scan.system_files if not file.usable]
    found += [_revision(catalogue, file) for file in scan.system_files if file.usable and file.rank]
    counts = Counter(reason.code for game in scan.games for reason in game.reasons if reason.code != "system-file")
    found += [_mess(scan, code, count) for code, count in sorted(counts.items())]
    found += [_list_error(error) for error in scan.list_errors]
    return [*found, *_on_machine(build, catalogue, world)]


def _list_error(told: str) -> Finding:
    return Finding(
        code=f"library.list:{told.partition(':')[0][-80:]}",
        severity=Severity.CAUTION,
        operation=OPERATION,
        subject="List of games",
        title="A list of games cannot be used",
        message=told,
        why="Games only found in that list keep their file names.",
        source="the list itself",
    )


def _on_machine(build: Build, catalogue: Catalogue, world: World) -> list[Finding]:
    """What keeps games that are on the machine out of its menu."""
    there, found = world.on_machine, []
    if there is None:
        return []
    for system in known_systems(build, catalogue):
        barred = there.unreadable.get(system.id, 0)
        if barred:
            found.append(
                Finding(
                    code=f"library.unreadable:{system.id}",
                    severity=Severity.CAUTION,
                    operation=OPERATION,
                    subject=system.name,
                    title=f"{barred} files of {system.name} cannot be read on the machine",
                    message=f"The machine's user has no read permission for {barred} files.",
                    why="The menu lists them, but they do not start.",
                    source="file permissions on the machine",
                )
            )
        if system.id in there.hidden and not there.games.get(system.id):
            found.append(
                Finding(
                    code=f"library.hidden:{system.id}",
                    severity=Severity.NOTE,
                    operation=OPERATION,
                    subject=system.name,
                    title=f"{system.name} is set aside",
                    message="Its folder was moved aside on the machine.",
                    why="The menu does not list it until it is shown again and the front end restarted.",
                )
            )
        elif (
            there.games
            and world.scan
            and not there.games.get(system.id)
            and any(game.ready for game in world.scan.of(system.id))
        ):
            found.append(
                Finding(
                    code=f"library.empty:{system.id}",
                    severity=Severity.NOTE,
                    operation=OPERATION,
                    subject=system.name,
                    title=f"{system.name} is empty on the machine",
                    message="Its games are ready but were not copied.",
                    why="A front end shows a system only when its folder holds a game, and only after a restart.",
                )
            )
    return found


def right_name_remedy(build: Build, each: FoundSystemFile) -> Remedy:
    """Put the file on the machine under its right name; the library itself is left as it is."""
    right = RightName(system=each.system, found=each.found, name=each.wanted.name)
    names = (*build.library.right_names, right)
    rows = [name.model_dump() for name in names]
    change = change_of("library.right_names", rows, PurePosixPath(each.found).name, each.wanted.name)
    return Remedy(label=f"Copy it as {each.wanted.name}", changes=(change,))


def _system_file(build: Build, catalogue: Catalogue, each: FoundSystemFile, scan: Scan) -> Finding:
    system = catalogue.get(System, each.system)
    games = len(scan.of(system.id))
    if each.found:
        return Finding(
            code=f"library.system-file-name:{system.id}",
            severity=Severity.STOP if each.wanted.required else Severity.CAUTION,
            operation=OPERATION,
            subject=system.name,
            title=f"The firmware file (BIOS) of {system.name} has the wrong name",
            message=f"By its checksum {PurePosixPath(each.found).name} is {each.wanted.name}; {games} games need it.",
            why="Emulators look for the exact name; with any other name the game stays black.",
            source="SHA-256 in the catalogue",
            remedy=right_name_remedy(build, each),
        )
    return Finding(
        code=f"library.system-file-missing:{each.wanted.name}",
        severity=Severity.STOP if each.wanted.required else Severity.CAUTION,
        operation=OPERATION,
        subject=system.name,
        title=f"{each.wanted.name} of {system.name} is not in the library",
        message=f"No file of {each.wanted.size} bytes with its checksum is in system-files/."
        + ("" if each.wanted.required else " Some games may do without."),
        why="Use only a file you have the right to; nothing is downloaded.",
        source="SHA-256 in the catalogue",
    )


def _revision(catalogue: Catalogue, each: FoundSystemFile) -> Finding:
    system = catalogue.get(System, each.system)
    note = each.wanted.revisions[each.rank - 1].note
    return Finding(
        code=f"library.system-file-revision:{each.wanted.name}",
        severity=Severity.NOTE,
        operation=OPERATION,
        subject=system.name,
        title=f"{each.wanted.name} of {system.name} is not the best revision",
        message=f"{PurePosixPath(each.found).name}: {note or 'games start with it'}. The one that is asked for has "
        f"{each.wanted.size} bytes and another checksum.",
        why="Some games may behave differently with it.",
        source="revisions in the catalogue, the best first",
    )


def _mess(scan: Scan, code: str, count: int) -> Finding:
    first = next(game for game in scan.games if any(reason.code == code for reason in game.reasons))
    reason = next(reason for reason in first.reasons if reason.code == code)
    severity = Severity.NOTE if code in ("duplicate", "unknown", "version", "left-out") else Severity.CAUTION
    return Finding(
        code=f"library.{code}",
        severity=severity,
        operation=OPERATION,
        subject=REASONS[code],
        title=f"{REASONS[code]}: {counted(count, 'file')}",
        message=f"{PurePosixPath(first.files[0]).name}: {reason.text}",
        why=_WHY.get(code, "The front end will not show it."),
        source="the system's rules in the catalogue",
    )
