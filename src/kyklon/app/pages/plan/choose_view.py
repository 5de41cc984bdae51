"""From wishes to parts: answers at the left, the best plans beside each other, and why other parts are not in them."""

from __future__ import annotations

from PyQt6.QtWidgets import QBoxLayout, QSizePolicy

from kyklon.app.pages.plan.columns_of import answer, columns_of, why_words
from kyklon.app.pages.plan.plan_columns import PlanColumns
from kyklon.app.pages.plan.wish_form import WishForm
from kyklon.app.pages.tab_view import TabView
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, Sheet, button, column, label, row
from kyklon.base.progress import Watch
from kyklon.model.build import edited
from kyklon.operations.plan import planned
from kyklon.operations.plan.constraints import ROLES
from kyklon.operations.plan.solve import Answer, Plan, WhyNot
from kyklon.operations.plan.wishes import own_prices, wish_of

_NAMES = {"board": "Boards", "display": "Displays", "encoder": "Controls", "supply": "Power supplies", "card": "Cards"}
_NAMES |= {"adapter": "Adapters", "image": "System software", "keyboard": "Keyboards"}

_NOTE = "without a stop, the cheapest first"


class ChooseView(TabView):
    """Solves again after each answer, off the window's thread."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._asked: object = None
        self._answer = Answer(())
        self.form = WishForm(self.theme)
        self.form.changed.connect(self._on_wished)
        wishes = Sheet("Wishes")
        wishes.add(self.form)
        self.instrument = self._columns = PlanColumns(self.theme)
        self._columns.chosen.connect(lambda _number: self._show_buttons())
        self._use = button("Use this plan", self.use, "primary")
        self._keep = button("", self.keep_part, "quiet")
        self._sheet = plans = Sheet("Plans", _NOTE)
        plans.add(self._columns, row(1, self._use))
        plans.body.setStretch(0, 1)
        self._role = Choice(self.theme, "Kind of part", lambda _value: self._fill_parts())
        self._role.set_choices(tuple(_NAMES.items()), "board")
        self._part = Choice(self.theme, "Part", lambda _value: self._ask_why())
        self._part.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._why = label("", wrap=True)
        self._why.setMinimumHeight(round(self.theme.px(38)))
        why = Sheet("Why not another part?")
        why.add(row(self._role, self._part), row(self._why, self._keep))
        why.body.itemAt(1).layout().setStretch(0, 1)
        right = column(plans, why, spacing=12)
        right.setStretch(0, 1)
        if self.theme.scale > 1:  # large text: one below the other, in a page that scrolls
            wishes.setMinimumHeight(round(self.theme.px(560)))
            self._columns.setMinimumHeight(round(self.theme.px(420)))
            layout: QBoxLayout = column(wishes, right, spacing=14)
        else:
            wishes.setFixedWidth(round(self.theme.px(292)))
            layout = row(wishes, right, spacing=14)
        layout.setStretch(1, 1)
        self.setLayout(layout)

    def refresh(self) -> None:
        """Override."""
        build, catalogue = self.build, self.session.catalogue
        self.form.show_wishes(build.plan, build.systems, catalogue)
        asked = (wish_of(build, catalogue), own_prices(build), build.plan.bundles, id(catalogue))
        if asked == self._asked or not self.isVisible():
            return
        self._asked = asked
        self._solve()

    def shown(self) -> None:
        """Override."""
        self.refresh()

    def _solve(self) -> None:
        build, catalogue, asked = self.build, self.session.catalogue, self._asked
        wish, prices, bundles = wish_of(build, catalogue), own_prices(build), build.plan.bundles

        def work(_watch: Watch) -> Answer:
            return answer(wish, catalogue, prices, bundles)

        def done(found: Answer) -> None:
            if asked is not self._asked:
                return  # another answer was given meanwhile
            self._answer = found
            words = tuple(planned.in_words(found, wish, catalogue)) if wish.systems else ()
            self._columns.show_plans(columns_of(found, wish, catalogue), words)
            note = f"{', '.join(found.unused)}: nothing of it is used, or it is too dear" if found.unused else _NOTE
            self._sheet.set_note(note)
            self._fill_parts()
            self._show_buttons()

        self.session.jobs.start("Looking for plans", work, done, cancellable=False)

    def _on_wished(self) -> None:
        build = self.build
        try:
            made = edited(build, "plan", self.form.settings)
            if self.form.systems != build.systems:
                made = edited(made, "systems", list(self.form.systems))
        except ValueError as bad:
            self.session.said.emit(str(bad))
            return
        self.session.put("Wishes", made)

    @property
    def plan(self) -> Plan | None:
        """The plan that is chosen."""
        plans = self._answer.plans
        return plans[self._columns.current] if self._columns.current < len(plans) else None

    def use(self) -> None:
        """Put the chosen plan's parts into the build."""
        plan = self.plan
        if plan is not None:
            made = planned.taken(self.build, plan, self.session.catalogue)
            self.session.put(f"Use plan {self._columns.current + 1}", made)
            self.session.said.emit("The plan's parts are in the build. Ctrl+Z takes them out again.")

    def _show_buttons(self) -> None:
        plan = self.plan
        self._use.setText(f"Use plan {self._columns.current + 1}" if plan else "Use this plan")
        same = plan is not None and all(self.build.part(role) == part for role, part in plan.picks)
        self._use.setEnabled(plan is not None and not same)
        fixed = f"{self._role.value}={self._part.value}" in self.build.plan.fixed
        self._keep.setText("Let it be exchanged" if fixed else "Insist on it")
        self._keep.setEnabled(bool(self._part.value))

    def _fill_parts(self) -> None:
        kind, _record = ROLES[self._role.value]
        before = self._part.value
        parts = tuple((part.id, part.name) for part in self.session.catalogue.parts[kind].values())
        self._part.set_choices(parts, before if before in {part for part, _name in parts} else "")
        self._ask_why()

    def _ask_why(self) -> None:
        build, catalogue = self.build, self.session.catalogue
        role, part = self._role.value, self._part.value
        self._show_buttons()
        wish, prices = wish_of(build, catalogue), own_prices(build)
        best = self._answer.plans[0] if self._answer.plans else None
        name = self._part.currentText()
        if not wish.systems or not part:
            self._why.setText("")
            return

        def work(_watch: Watch) -> WhyNot | None:
            planner = planned.planner_of(wish, catalogue, prices)
            return planner.why_not((role, part), best) if (role, part) in planner.parts else None

        def done(found: WhyNot | None) -> None:
            if (self._role.value, self._part.value) != (role, part):
                return
            none = f"{name} is what a system expects, and no part."
            self._why.setText(why_words(found, name, best, build, catalogue) if found is not None else none)

        self.session.jobs.start("Looking for the reason", work, done, cancellable=False)

    def keep_part(self) -> None:
        """Insist on a part, or let it be exchanged again; the plans are solved anew."""
        row_ = f"{self._role.value}={self._part.value}"
        fixed = [other for other in self.build.plan.fixed if other.partition("=")[0] != self._role.value]
        if row_ not in self.build.plan.fixed:
            fixed.append(row_)
        self.session.edit("plan.fixed", fixed)
