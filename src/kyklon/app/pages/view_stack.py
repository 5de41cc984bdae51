"""Views of a page, made when they are first wanted, or one between two events."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QStackedWidget, QWidget

from kyklon.app.session.session import Session

_BETWEEN_MS = 40  # between two views that are made before they are wanted


class ViewStack(QStackedWidget):
    """makers: of each view, in order. made: called with every new view."""

    def __init__(
        self,
        session: Session,
        makers: Sequence[Callable[[Session], Any]],
        made: Callable[[Any], object] = lambda _view: None,
    ) -> None:
        super().__init__()
        self._session, self._makers, self._told = session, makers, made
        self._made: dict[int, Any] = {}
        for _maker in makers:
            self.addWidget(QWidget())
        QTimer.singleShot(_BETWEEN_MS, self._prepare)

    @property
    def made(self) -> Mapping[int, Any]:
        return self._made

    def view(self, index: int) -> Any:
        """A view, made if it is not there yet."""
        if index not in self._made:
            made = self._made[index] = self._makers[index](self._session)
            self._told(made)
            place = self.widget(index)
            self.insertWidget(index, made)
            if place is not None:
                self.removeWidget(place)
                place.deleteLater()
        return self._made[index]

    def _prepare(self) -> None:
        left = next((index for index in range(len(self._makers)) if index not in self._made), None)
        if left is not None and not self._session.ended:
            self.view(left)
            QTimer.singleShot(_BETWEEN_MS, self._prepare)
