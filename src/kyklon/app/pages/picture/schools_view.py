"""Which modes: three schools compared, and the smallest set for the library, from purist to simple."""

from __future__ import annotations

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import QSlider

from kyklon.app.pages.picture.light import LightView
from kyklon.app.pages.picture.schools_drawing import (
    FrontPlot,
    FrontPoint,
    SchoolDrawn,
    SchoolsDrawing,
    ServedDrawing,
    ServedDrawn,
)
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, Sheet, button, column, label, row, set_tip
from kyklon.base.progress import Watch
from kyklon.base.quantities import show_share
from kyklon.catalogue.chosen import known_systems
from kyklon.model.timing import Mode
from kyklon.operations.picture.schools import SCHOOL_WORDS, Plan, given, plans, taken
from kyklon.operations.picture.smallest import Choice as SetChoice
from kyklon.operations.picture.smallest import Front, Limits, askings_of, front, given_by

_SOON_MS = 150  # after the last change before the set is computed anew
_EASE = ((0.7, "strict"), (1.0, "usual"), (1.6, "easy"))
_JUDDER, _LOST, _BORDER, _ROUND = 60.0, 0.20, 0.50, 0.20  # what fills a bar: frames a minute, and parts


class SchoolsView(LightView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._plans: tuple[Plan, ...] = ()
        self._picked = ""
        self._front: Front | None = None
        self._place = 0
        self._asked: object = None
        self._running = False
        self.drawing = SchoolsDrawing(self.theme)
        self.drawing.chosen.connect(self.pick)
        self.instrument = self.drawing
        self._sheet = Sheet("Three methods", "click one to see it")
        self._use = button("Use these modes", self.take_school, "primary")
        self._stand = Choice(self.theme, "Display orientation", self._on_stand)
        self._stand.setMinimumContentsLength(17)
        self._about = label("", "small", wrap=True)
        controls = row(label("display stands", "small"), self._stand, self._about, self._use)
        controls.setStretch(2, 1)
        self._sheet.add(self.drawing, controls)
        self._sheet.layout().setStretch(1, 1)
        self.plot = FrontPlot(self.theme)
        self.served = ServedDrawing(self.theme)
        self.served.wished.connect(self.wish)
        set_tip(self.served, "Click a system to weigh it more, then less")
        self._set = Sheet("The smallest set", "fewest modes in which every game of the library stays within its limits")
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setAccessibleName("From simple to purist: how many modes")
        self.slider.valueChanged.connect(self._on_slid)
        self._ease = Choice(self.theme, "Error limits for games", lambda _value: self._ask())
        self._ease.set_choices(tuple((f"{by:g}", words) for by, words in _EASE), "1")
        self._use_set = button("Use this set", self.take_set, "outline")
        pictures = row(self.plot, self.served, spacing=10)
        pictures.setStretch(0, 5)
        pictures.setStretch(1, 6)
        self._set.add(
            pictures,
            row(
                label("simple", "small"),
                self.slider,
                label("purist", "small"),
                label("limits", "small"),
                self._ease,
                self._use_set,
            ),
        )
        self._set.layout().setStretch(1, 1)
        whole = column(self._sheet, self._set, spacing=12)
        whole.setStretch(0, 6)
        whole.setStretch(1, 7)
        self.setLayout(whole)
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(_SOON_MS)
        self._soon.timeout.connect(self._compute)

    # --- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Override."""
        build = self.build
        self._plans = plans(build, self.session.catalogue, self.session.world)
        signal_path = self.signal_path
        tube = signal_path is None or signal_path.display.tube
        choices = (
            ("turned with the game", "turned with the game"),
            ("upright", "upright"),
            ("on its side", "on its side"),
        )
        self._stand.set_choices(choices, build.picture.stand)
        picked = self._picked or build.picture.school
        self.drawing.show_schools(tuple(self._drawn(plan, tube) for plan in self._plans), picked)
        chosen = self.plan
        self._use.setEnabled(chosen is not None and chosen.menu is not None and not chosen.why and not self._same())
        self._use.setText("In use" if self._same() else "Use these modes")
        self._about.setText(chosen.why if chosen else "")
        self._ask()

    @property
    def plan(self) -> Plan | None:
        """The school that is looked at."""
        key = self._picked or self.build.picture.school
        return next((each for each in self._plans if each.school == key), None)

    def pick(self, school: str) -> None:
        """Look at a school."""
        self._picked = school
        self.refresh()

    def _same(self) -> bool:
        """Whether the build has these modes already."""
        plan, picture = self.plan, self.build.picture
        if plan is None or plan.menu is None or plan.school != picture.school:
            return False
        return plan.menu.timing == picture.menu.timing and all(
            self.build.system_mode(row.system.id).timing == row.mode.timing for row in plan.rows
        )

    def _drawn(self, plan: Plan, tube: bool) -> SchoolDrawn:
        count = len(plan.modes)
        current = plan.school == self.build.picture.school
        worst = max(plan.rows, key=lambda each: each.play.lost_per_min, default=None)
        speed = max((abs(row.play.speed - 1) for row in plan.rows), default=0.0)
        lost = plan.lost_per_min
        rows = (
            ("repeated or dropped per min", lost / _JUDDER, f"{lost:.0f}" if lost >= 1 else "none"),
            ("speed error", speed / 0.05, show_share(speed, 1) if worst else show_share(0)),
            ("overscan", plan.lost / _LOST, show_share(plan.lost)),
            ("borders (unused area)", plan.border / _BORDER, show_share(plan.border)),
            ("circle error", plan.off_round / _ROUND, show_share(plan.off_round)),
        )
        modes = f"{count} mode{'' if count == 1 else 's'} for {len(plan.rows)} systems"
        return SchoolDrawn(plan.school, SCHOOL_WORDS[plan.school][0 if tube else 1], modes, rows, current, plan.why)

    def _ask(self) -> None:
        """The smallest set, soon and off the window's thread, where something of it changed."""
        build, signal_path = self.build, self.signal_path
        scan = self.session.world.scan
        counts = tuple(len(scan.of(system)) for system in build.systems) if scan is not None else ()
        asked = (
            signal_path,
            build.systems,
            build.picture.stand,
            build.picture.games,
            tuple(build.picture.wishes.items()),
            counts,
            self._ease.value,
        )
        if asked != self._asked:
            self._asked = asked
            self._soon.start()

    def _compute(self) -> None:
        signal_path = self.signal_path
        if signal_path is None or self.session.ended:
            return
        if self._running:
            self._soon.start()
            return
        systems = known_systems(self.build, self.session.catalogue)
        askings = askings_of(self.build, systems, self.session.world.scan)
        limits = Limits().eased(float(self._ease.value))

        def work(_watch: Watch) -> Front:
            return front(askings, signal_path, limits)

        def done(found: Front) -> None:
            self._running = False
            if not self.session.ended:
                self.show_front(found)

        def bad(_error: object) -> None:
            self._running = False

        self._running = True
        self.session.jobs.start("Looking for the smallest set of modes", work, done, bad=bad, cancellable=False)

    def show_front(self, found: Front) -> None:
        """What the solver found."""
        self._front = found
        wanted = self.build.picture.most_modes
        fitting = found.at_most(wanted)
        self._place = found.choices.index(fitting) if fitting is not None and wanted else 0
        self.slider.blockSignals(True)
        self.slider.setRange(0, max(0, len(found.choices) - 1))
        self.slider.setPageStep(1)
        self.slider.setValue(self._place)
        self.slider.blockSignals(False)
        self._show_choice()

    @property
    def choice(self) -> SetChoice | None:
        """The set that is looked at."""
        if self._front is None or not self._front.choices:
            return None
        return self._front.choices[min(self._place, len(self._front.choices) - 1)]

    def _show_choice(self) -> None:
        found, choice = self._front, self.choice
        points = tuple(FrontPoint(len(each.modes), each.cost, each.gap) for each in found.choices) if found else ()
        self.plot.show_front(points, self._place, "No mode serves any game within these limits.")
        self._use_set.setEnabled(choice is not None)
        if found is None or choice is None:
            self.served.show_served((), ())
            return
        modes = tuple(self._mode_words(mode) for mode in choice.modes)
        wishes = self.build.picture.wishes
        rows = tuple(
            ServedDrawn(asking.system.id, asking.name, place, wishes.get(asking.system.id, 1.0))
            for asking, place in zip(found.askings, choice.served, strict=True)
        )
        self.served.show_served(rows, modes)
        scanned = self.session.world.scan is not None
        games = f", {sum(each.weight for each in found.askings):.0f} games" if scanned else ""
        left = f"; nothing serves {', '.join(found.left_out)}" if found.left_out else ""
        self._set.set_note(f"{len(choice.modes)} modes for {len(found.askings)} systems{games}{left}")

    @staticmethod
    def _mode_words(mode: Mode) -> str:
        wide, high = mode.timing.size
        return f"{wide} × {high}{'i' if mode.timing.interlaced else ''} {float(mode.timing.vertical_hz):.2f}\u202fHz"

    # --- acting --------------------------------------------------------------------------------------------------

    def take_school(self) -> None:
        """Give the build the modes of the school that is looked at."""
        plan = self.plan
        remedy = taken(self.build, plan) if plan is not None else None
        if plan is None or remedy is None:
            return
        self.take(remedy, "Modes of a method")
        words = SCHOOL_WORDS[plan.school][0].lower()
        self.session.log(50, "Modes chosen", f"{words}: {len(plan.modes)} for {len(plan.rows)} systems")

    def take_set(self) -> None:
        """Give the build the set that is looked at."""
        found, choice, plan = self._front, self.choice, next((each for each in self._plans if each.menu), None)
        if found is None or choice is None or plan is None or plan.menu is None:
            return
        modes = given_by(choice, found.askings)
        remedy = given(self.build, "own modes", plan.menu, modes)
        self.take(remedy, "Smallest set of modes")
        self.session.log(50, "Modes chosen", f"a set of {len(choice.modes)} for {len(found.askings)} systems")

    def wish(self, system: str) -> None:
        """Weigh a system three times as much, then a third, then as its games again."""
        wishes = dict(self.build.picture.wishes)
        after = {1.0: 3.0, 3.0: 0.33}.get(wishes.get(system, 1.0), 1.0)
        wishes.pop(system, None)
        if after != 1.0:
            wishes[system] = after
        self.session.edit("picture.wishes", wishes)

    def _on_slid(self, place: int) -> None:
        self._place = place
        self._show_choice()

    def _on_stand(self, value: str) -> None:
        if value != self.build.picture.stand:
            self.session.edit("picture.stand", value)
