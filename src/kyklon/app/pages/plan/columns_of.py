"""Plans as the columns that are drawn, and the question to the planner off the window's thread."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from kyklon.app.pages.plan.plan_columns import PlanColumn
from kyklon.base.quantities import counted, show_money
from kyklon.catalogue.cables import joined, pieces_of
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Display
from kyklon.model.build import Build
from kyklon.model.plan import Bundle
from kyklon.model.world import World
from kyklon.operations.picture.chain import chain_of
from kyklon.operations.plan import planned
from kyklon.operations.plan.constraints import ROLES
from kyklon.operations.plan.solve import Answer, Plan, WhyNot
from kyklon.operations.plan.wishes import Wish, known_name, load_of

_NO_CABLE_M = 0.01  # m: a card goes straight into its socket
_ROLE_WORDS = {"supply": "supply", "image": "system software", "encoder": "controls"}
_ORDER = ("board", "display", "encoder", "keyboard", "adapter", "supply", "card", "image")
_MOST_LOADS = 3  # the heaviest systems


def columns_of(found: Answer, wish: Wish, catalogue: Catalogue) -> tuple[PlanColumn, ...]:
    """Each plan as a column."""
    return tuple(_column(number, plan, wish, catalogue) for number, plan in enumerate(found.plans, 1))


def _column(number: int, plan: Plan, wish: Wish, catalogue: Catalogue) -> PlanColumn:
    board = catalogue.get(Board, plan.part("board"))
    count = -(-wish.players // _players(catalogue, plan.part("encoder")))
    rows = []
    for role, part in sorted(plan.picks, key=lambda pick: _ORDER.index(pick[0])):
        name = known_name(catalogue, part)
        shown = f"{count} × {name}" if role == "encoder" and count > 1 else name
        rows.append((_ROLE_WORDS.get(role, role), shown, "have" if _has(wish, role, part) else ""))
    rows.append(("picture", _picture(plan, catalogue), ""))
    joint = [joined(pieces) for link in plan.build.links if (pieces := pieces_of(link, catalogue))]
    names = [cable.name for cable in joint if cable.length_m > _NO_CABLE_M]
    rows += [("cable", name, "") for name in names]
    cables = len(names)
    about = "about, " if plan.guessed else ""  # some price of it is the kind's usual one
    loads = [(system.name, load_of(system, board, catalogue, wish)) for system in wish.systems]
    loads.sort(key=lambda load: -load[1])
    further = f"{about}{counted(cables, 'cable')} included"
    title = f"Plan {number}" + (f", {plan.bundle}" if plan.bundle else "")
    return PlanColumn(title, show_money(plan.price), further, tuple(rows), tuple(loads[:_MOST_LOADS]))


def _picture(plan: Plan, catalogue: Catalogue) -> str:
    """The signals on the way to the display, and what it delays in all."""
    chain = chain_of(plan.build, catalogue, World())
    signals = " → ".join(dict.fromkeys(lead.signal for lead in chain.leads))
    display = catalogue.find(Display, plan.part("display"))
    delay = chain.delay_ms + (display.processing_ms if display is not None else 0.0)
    return f"{signals}, {delay:.0f}\u202fms later" if delay >= 0.5 else signals


def _has(wish: Wish, role: str, part: str) -> bool:
    return wish.has(ROLES[role][0], part) or (role == "display" and part == wish.screen)


def _players(catalogue: Catalogue, encoder: str) -> int:
    part = catalogue.parts["encoders"].get(encoder)
    return max(1, getattr(part, "players", 1))


def answer(wish: Wish, catalogue: Catalogue, prices: Mapping[str, float], bundles: Sequence[Bundle] = ()) -> Answer:
    """The plans for a wish, one with each bundle among them; takes up to a second, and more with bundles."""
    if not wish.systems:
        return Answer(())
    return planned.answered(wish, catalogue, prices, bundles)


def why_words(found: WhyNot, name: str, best: Plan | None, build: Build, catalogue: Catalogue) -> str:
    """Why a part is not in the plan, as a sentence."""
    if best is not None and best.part(found.key[0]) == found.key[1]:
        return f"{name} is in plan 1."
    if found.plan is not None:
        more = found.more
        return f"{name}: possible. The plan then costs {show_money(max(0.0, more))} more."
    reasons = "; no plan with it has ".join(found.words)
    text = f"{name}: no plan with it has {reasons}."
    board = catalogue.find(Board, found.key[1]) if found.key[0] == "board" else None
    way = planned.detour(board, catalogue) if board is not None else None
    if way is not None:
        text += f" Another way: {' '.join(way.steps)}"
    return text
