"""The program's own log: what went wrong, without what is private. It rotates: three files of half a megabyte at most.

Faults of the program go here whole; errors that a user can cure are one line. Nothing of it leaves the computer by
itself; whoever sends it sends what is in it.
"""

from __future__ import annotations

import contextlib
import getpass
import logging
import platform
import re
from logging.handlers import RotatingFileHandler
from pathlib import Path

import platformdirs

from kyklon import __version__
from kyklon.base.secrets import without_secrets
from kyklon.base.shown import visible

NAME = "kyklon.log"
MOST_BYTES, OLD_FILES = 500_000, 2


def place() -> Path:
    return platformdirs.user_log_path("kyklon") / NAME


def without_names(text: str) -> str:
    """A text without keys and passwords, and with this computer's and its user's names taken out of it."""
    text = without_secrets(text)
    home = str(Path.home())
    if len(home) > 1:
        text = re.sub(rf"{re.escape(home)}(?![\w.-])", "~", text)
    for name, sign in ((getpass.getuser(), "USER"), (platform.node(), "HOST")):
        if len(name) > 2 and name not in ("root", "localhost"):
            text = re.sub(rf"(?<![\w.-]){re.escape(name)}(?![\w.-])", sign, text)
    return text


def note(text: str) -> None:
    """Add something, in plain words or as a traceback. Never raises: a full disk is no reason to stop."""
    path = place()
    try:
        path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        handler = RotatingFileHandler(path, maxBytes=MOST_BYTES, backupCount=OLD_FILES, encoding="utf-8")
    except OSError:
        return
    handler.setFormatter(logging.Formatter("%(asctime)s %(message)s"))
    handler.handleError = lambda record: None  # type: ignore[method-assign] # as above
    told = f"Kyklon {__version__}: {visible(without_names(text), lines=True).strip()}"
    with contextlib.closing(handler):
        handler.handle(logging.LogRecord("kyklon", logging.INFO, "", 0, told, None, None))
