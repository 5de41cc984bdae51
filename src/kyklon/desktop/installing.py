"""Puts what a desktop finds Kyklon by below a prefix, and takes exactly that away again.

A list of what was put there lies beside it; only files that still hold what was put there are taken away, so a file
that somebody changed, or that another package owns, stays.
"""

from __future__ import annotations

import hashlib
import json
import subprocess
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import platformdirs

from kyklon.base import durable, tools
from kyklon.base.errors import KyklonError

LIST = Path("kyklon/desktop.json")  # below the share folder: path -> SHA-256 of what was put there


@dataclass(frozen=True)
class Done:
    """files: that were put there or taken away. kept: that stay, each with the reason."""

    files: tuple[Path, ...]
    kept: tuple[tuple[Path, str], ...] = ()


def own_share() -> Path:
    """The user's own share folder (XDG_DATA_HOME)."""
    return platformdirs.user_data_path()


def put(share: Path, files: Mapping[Path, bytes]) -> Done:
    """Write files below a share folder. A file that is there and was not put there by Kyklon stays. Raises KyklonError.

    What an earlier version put there and this one does not is taken away.
    """
    known, kept, done = _known(share), [], {}
    for path, data in files.items():
        place = share / path
        there = _digest(place)
        if there is None and (place.is_symlink() or place.exists()):
            kept.append((place, "A link or a folder stands there."))
            continue
        if there is not None and there != known.get(str(path)) and place.read_bytes() != data:
            kept.append((place, "It is there already and is not Kyklon's."))
            continue
        done[str(path)] = hashlib.sha256(data).hexdigest()
        try:
            place.parent.mkdir(parents=True, exist_ok=True)
            durable.replace(place, data)
        except OSError as bad:
            raise KyklonError(f"{place} cannot be written: {bad.strerror}.", do="Choose another --prefix.") from bad
    for name in sorted(set(known) - set(done)):
        _take(share, name, known[name])
    durable.replace(share / LIST, json.dumps(done, indent=1, sort_keys=True).encode())
    refresh(share)
    return Done(tuple(share / path for path in done), tuple(kept))


def take_away(share: Path) -> Done:
    """Remove what was put there, and folders that are empty then."""
    gone, kept = [], []
    known = _known(share)
    for path, digest in known.items():
        place = share / path
        if _take(share, path, digest):
            gone.append(place)
        elif place.exists():
            kept.append((place, "It was changed since."))
    (share / LIST).unlink(missing_ok=True)
    _empty(share, (share / LIST).parent)
    refresh(share)
    return Done(tuple(gone), tuple(kept))


def _known(share: Path) -> dict[str, str]:
    try:
        told = json.loads((share / LIST).read_text(encoding="utf-8"))
    except FileNotFoundError:
        return {}
    except (OSError, ValueError) as bad:
        raise KyklonError(f"{share / LIST} cannot be read: {bad}.", do="Remove it, and the files by hand.") from bad
    rows = told.items() if isinstance(told, dict) else ()
    return {str(path): str(digest) for path, digest in rows if _below(share, str(path))}


def _below(share: Path, path: str) -> bool:
    """Whether a path of the list leads to a place below the share folder: the list is a file like any other."""
    parts = Path(path).parts
    return bool(parts) and not Path(path).is_absolute() and ".." not in parts


def _take(share: Path, path: str, digest: str) -> bool:
    place = share / path
    if _digest(place) != digest:
        return False
    place.unlink()
    _empty(share, place.parent)
    return True


def _empty(share: Path, folder: Path) -> None:
    """Remove folders upwards as long as they are empty, up to the share folder itself."""
    while folder != share and folder.is_relative_to(share):
        try:
            folder.rmdir()
        except OSError:  # something is in it
            return
        folder = folder.parent


def _digest(place: Path) -> str | None:
    """Of a plain file; None for nothing and for whatever else stands there."""
    if place.is_symlink() or not place.is_file():
        return None
    return hashlib.sha256(place.read_bytes()).hexdigest()


def refresh(share: Path) -> None:
    """Have the desktop read the folders again; where a program for that is missing, the desktop does it in its time."""
    for words in (
        ("update-desktop-database", "-q", str(share / "applications")),
        ("update-mime-database", str(share / "mime")),
        ("gtk-update-icon-cache", "-q", "-t", "-f", str(share / "icons/hicolor")),
    ):
        if tools.where(words[0]) is not None and Path(words[-1]).is_dir():
            subprocess.run([tools.find(words[0]), *words[1:]], capture_output=True, timeout=120, check=False)
