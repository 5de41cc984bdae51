"""What all views of operation 50 ask of the session."""

from __future__ import annotations

from kyklon.app.pages.tab_view import TabView
from kyklon.operations.picture.signal_path import SignalPath, signal_path_of


class LightView(TabView):
    @property
    def signal_path(self) -> SignalPath | None:
        return signal_path_of(self.session.build, self.session.catalogue, self.session.world)
