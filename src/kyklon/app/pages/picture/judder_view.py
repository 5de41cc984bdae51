"""Judder and pitch: each system on each mode, frame by frame, and as a bar that really judders."""

from __future__ import annotations

import time

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QCheckBox, QWidget

from kyklon.app.pages.picture.judder_drawing import FramesDrawing, MovingDrawing
from kyklon.app.pages.picture.light import LightView
from kyklon.app.pages.tab_view import side_px
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, FigureRows, Sheet, column, label, row
from kyklon.base.quantities import show, show_duration, signed
from kyklon.catalogue.chosen import known_systems
from kyklon.model.timing import Mode
from kyklon.operations.picture.findings import modes_of
from kyklon.operations.picture.glass import Play

_TICK_MS = 8  # oftener than any display's field, so that no field is missed
_HEARD_CENTS = 5.0  # CP: what trained ears tell apart
OWN = "own"


class JudderView(LightView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._system, self._mode = "", OWN
        self.frames = FramesDrawing(self.theme)
        self.moving = MovingDrawing(self.theme)
        self.instrument = self.frames
        self._which = Choice(self.theme, "System", self._on_system)
        self._on = Choice(self.theme, "Mode", self._on_mode)
        for each in (self._which, self._on):
            each.setMinimumContentsLength(16)
        self._sheet = Sheet("Frame pacing", "what the screen shows of each frame of the game")
        self._sheet.add(self.frames)
        self._moving = Sheet("Motion")
        self.play_box = QCheckBox("moving")
        self.play_box.setChecked(not self.theme.still)
        self.play_box.toggled.connect(lambda _on: self._run())
        self._moving.add(self.moving, row(self.play_box, 1))
        self._facts = Sheet("What it costs")
        self._rows = FigureRows(self.theme)
        self._words = label("", "", wrap=True)
        self._facts.add(
            row(label("system", "small"), self._which), row(label("on", "small"), self._on), self._rows, self._words, 1
        )
        self._facts.setFixedWidth(side_px(self.theme))
        left = QWidget()
        inner = column(self._moving)
        left.setLayout(inner)
        below = row(left, self._facts, spacing=12)
        below.setStretch(0, 1)
        whole = column(self._sheet, below, spacing=12)
        whole.setStretch(0, 4)
        whole.setStretch(1, 5)
        self.setLayout(whole)
        self._began = time.monotonic()
        self._clock = QTimer(self)
        self._clock.setInterval(_TICK_MS)
        self._clock.timeout.connect(self._on_tick)
        self._field = -1

    # --- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Override."""
        systems = known_systems(self.build, self.session.catalogue)
        self._which.set_choices(tuple((each.id, each.name) for each in systems), self._system)
        self._system = self._which.value
        modes = tuple(
            (key, f"mode of {name}" if key != "menu" else "the menu's mode")
            for key, name, _mode in modes_of(self.build, self.session.catalogue)
            if key != self._system
        )
        self._on.set_choices(((OWN, "its current mode"), *modes), self._mode)
        self._mode = self._on.value
        system = next((each for each in systems if each.id == self._system), None)
        play = Play(system.refresh_hz, self._timing().timing.vertical_hz) if system else None
        self.frames.show_play(play)
        self.moving.show_play(play)
        if system is None or play is None:
            self._rows.set_rows(())
            self._words.setText("No system is chosen in Plan.")
            return
        self._show(play)

    def _timing(self) -> Mode:
        build = self.build
        key = self._system if self._mode == OWN else self._mode
        return build.picture.menu if key == "menu" else build.system_mode(key)

    @property
    def play(self) -> Play | None:
        return self.moving._play

    def choose(self, system: str, mode: str = OWN) -> None:
        """Look at a system on a mode: 'own', 'menu', or that of another system."""
        self._system, self._mode = system, mode
        self.refresh()

    def _show(self, play: Play) -> None:
        lost, beat = play.lost_per_min, "never"
        if lost:
            beat = f"every {show_duration(60 / lost)}" if lost < 300 else f"{lost / 60:.1f} per second"
        kind = "repeated" if play.doubled else "dropped"
        self._rows.set_rows(
            (
                ("Game", show(float(play.game_hz), "Hz", 3)),
                ("Display", show(float(play.shown_hz), "Hz", 3)),
                (f"A frame {kind}", beat),
                ("A tear moves", f"{lost / 60 * self._timing().timing.vertical.active:.0f} lines per second"),
                ("Or speed changes", f"{signed(100 * (play.speed - 1), 2)}\u202f%"),
                ("Pitch change", f"{signed(play.cents)} cents"),
                ("Audio rate", f"{play.resampled_hz():.0f} for 48000\u202fHz"),
            )
        )
        self._words.setText(self._advice(play))

    @staticmethod
    def _advice(play: Play) -> str:
        if play.lost_per_min < 0.5:
            return "Nobody will notice this."
        if abs(play.cents) <= _HEARD_CENTS:
            return (
                "Let the game follow the display: the change is inaudible and no frame is dropped. The sound "
                "is resampled to match."
            )
        if abs(play.speed - 1) < 0.012:
            return "Following the display is smooth; trained ears hear the pitch change next to the real machine."
        return (
            "The rates are too far apart to match: expect judder, or tearing without V-sync. "
            "Give this system its own mode."
        )

    # --- moving --------------------------------------------------------------------------------------------------

    def shown(self) -> None:
        """Override."""
        self._run()

    def hidden(self) -> None:
        """Override."""
        self._clock.stop()

    def _run(self) -> None:
        if self.play_box.isChecked() and self.isVisible():
            self._clock.start()
        else:
            self._clock.stop()

    def _on_tick(self) -> None:
        play = self.play
        if play is None:
            return
        seconds = time.monotonic() - self._began
        field = int(seconds * float(play.shown_hz))
        if field != self._field:
            self._field = field
            self.moving.at(seconds)

    def _on_system(self, key: str) -> None:
        self.choose(key, self._mode if self._mode != key else OWN)

    def _on_mode(self, key: str) -> None:
        self.choose(self._system, key)
