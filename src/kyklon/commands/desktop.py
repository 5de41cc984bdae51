"""Kyklon on this desktop: what it lacks, where it is found, and how it is taken away again."""

from __future__ import annotations

import gzip
import shutil
import sys
from dataclasses import asdict
from pathlib import Path
from typing import Annotated

from kyklon.base.quantities import counted
from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import OK, STOPS, Json, out

Prefix = Annotated[
    Path | None, Option("--prefix", help="Where, for example /usr/local; your own desktop when it is left out.")
]


def doctor(as_json: Json = False) -> int:
    """Show what this computer lacks for Kyklon, with the lines to type.

    It only looks. Exit 1 when something is missing that Kyklon cannot do without.
    """
    from kyklon.app.shell.qt_loaded import qt_checks
    from kyklon.desktop import doctor as examination

    checks = examination.examine(qt_checks)
    data = {
        "verdict": examination.verdict(checks),
        "checks": [asdict(check) for check in checks],
        "type": examination.lines_to_type(checks),
    }
    out(data, as_json, lambda: list(examination.report(checks)))
    return STOPS if examination.verdict(checks) == "missing" else OK


def add(prefix: Prefix = None, as_json: Json = False) -> int:
    """Put Kyklon into the desktop's menu, with file types and manual pages.

    A file that is there already and is not Kyklon's stays as it is.
    """
    from kyklon.app.theme.icon_file import pixels
    from kyklon.desktop import files, installing

    share = prefix / "share" if prefix is not None else installing.own_share()
    everything = {**files.share(pixels, _program()), **texts()}
    done = installing.put(share, everything)

    def lines() -> list[str]:
        rows = [f"{counted(len(done.files), 'file')} below {share}."]
        rows += [f"{path} was left as it is. {why}" for path, why in done.kept]
        return [*rows, "`kyklon desktop remove` takes them away."]

    out({"share": str(share), "files": list(map(str, done.files)), "kept": _kept(done.kept)}, as_json, lines)
    return OK


def remove(prefix: Prefix = None, as_json: Json = False) -> int:
    """Take away what `kyklon desktop add` put there.

    Builds, parts and settings are yours and stay.
    """
    from kyklon.base import places
    from kyklon.desktop import installing

    share = prefix / "share" if prefix is not None else installing.own_share()
    done = installing.take_away(share)

    def lines() -> list[str]:
        rows = [
            f"{counted(len(done.files), 'file')} removed below {share}."
            if done.files
            else f"Nothing of it is in {share}."
        ]
        rows += [f"{path} stays. {why}" for path, why in done.kept]
        return [*rows, f"Builds are in {places.data_folder()}, your own parts in {places.catalogue_folder()}."]

    out({"share": str(share), "files": list(map(str, done.files)), "kept": _kept(done.kept)}, as_json, lines)
    return OK


def completion(shell: Annotated[str, Argument(help="bash, zsh or fish.", metavar="SHELL")]) -> int:
    """Print the completion script of a shell: bash, zsh or fish."""
    from kyklon.commands.manual import completion as script

    print(script(shell), end="")
    return OK


def texts() -> dict[Path, bytes]:
    """Manual pages and completion scripts, below a share folder."""
    from kyklon.commands.manual import completion as script
    from kyklon.commands.manual import manual_pages

    found = {
        Path("bash-completion/completions/kyklon"): script("bash").encode(),
        Path("zsh/site-functions/_kyklon"): script("zsh").encode(),
        Path("fish/vendor_completions.d/kyklon.fish"): script("fish").encode(),
    }
    for name, text in manual_pages().items():
        found[Path("man/man1") / f"{name}.gz"] = gzip.compress(text.encode(), 9, mtime=0)
    return found


def _program() -> str:
    """How a desktop starts this program: by name where the name leads here, else by its full path."""
    own = Path(sys.argv[0]).absolute()
    named = shutil.which("kyklon")
    if named is not None and (not own.exists() or Path(named).resolve() == own.resolve()):
        return "kyklon"
    return str(own) if own.name == "kyklon" else "kyklon"


def _kept(rows: tuple[tuple[Path, str], ...]) -> list[dict[str, str]]:
    return [{"path": str(path), "why": why} for path, why in rows]
