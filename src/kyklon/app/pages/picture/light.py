"""What all views of operation 50 ask of the session."""

from __future__ import annotations

from kyklon.app.pages.tab_view import SIDE, TabView
from kyklon.operations.picture.ground import Ground, ground_of

__all__ = ["SIDE", "LightView"]


class LightView(TabView):
    @property
    def ground(self) -> Ground | None:
        return ground_of(self.session.build, self.session.catalogue, self.session.world)
