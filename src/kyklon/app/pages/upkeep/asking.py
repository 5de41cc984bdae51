"""What the views share that reach the machine: a password that is kept nowhere, a host key that is asked about once."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtWidgets import QLineEdit, QWidget

from kyklon.app.pages.host_key import accepts
from kyklon.app.session.session import Session
from kyklon.base.errors import KyklonError
from kyklon.base.progress import Watch
from kyklon.devices.secure_copy import UnknownHost


def password_field() -> QLineEdit:
    """A field for the machine's password."""
    made = QLineEdit()
    made.setEchoMode(QLineEdit.EchoMode.Password)
    made.setAccessibleName("Password, not stored")
    made.setPlaceholderText("password, not stored")
    return made


def run(
    session: Session,
    parent: QWidget,
    title: str,
    work: Callable[[Watch], Any],
    done: Callable[[Any], None],
    *,
    cancellable: bool = True,
) -> None:
    """Do something at the machine, as a job; a key that is not known yet is asked about, and then it is done again."""

    def bad(error: KyklonError) -> None:
        if isinstance(error, UnknownHost):
            if accepts(error, parent):
                session.edit("library.host_key", error.host_key)
                run(session, parent, title, work, done, cancellable=cancellable)
        else:
            session.jobs.failed.emit(title, error)

    def job(watch: Watch) -> Any:
        session.flush()
        return work(watch)

    session.jobs.start(title, job, done, bad=bad, cancellable=cancellable)
