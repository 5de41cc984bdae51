"""Plans from wishes against every combination there is; reasons that are true; the smallest conflicts."""

from __future__ import annotations

import random
from collections.abc import Mapping
from dataclasses import replace
from itertools import product

import pytest

from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Cable, Card, CataloguePart, Display, Encoder
from kyklon.catalogue.system_records import System
from kyklon.demo import camper, lighthouse, school_fair
from kyklon.model.build import Build
from kyklon.model.plan import Bundle
from kyklon.operations.plan import planned
from kyklon.operations.plan.compared import as_table, compared
from kyklon.operations.plan.constraints import NEEDED, ROLES
from kyklon.operations.plan.parts_list import parts_list
from kyklon.operations.plan.solve import Planner
from kyklon.operations.plan.wishes import Wish, buttons_of, card_bytes, load_of, terminals_of, unsuited, wish_of


def wish(catalogue: Catalogue, *systems: str, **further: object) -> Wish:
    found = tuple(catalogue.get(System, name) for name in systems or ("alder-8", "birch-16"))
    return Wish(found, {}, **further)  # type: ignore[arg-type]


def small_shelf(catalogue: Catalogue, chance: random.Random) -> Catalogue:
    """A few parts of each role and all cables, with prices of its own."""
    parts = dict(catalogue.parts)
    for role, (kind, _record) in ROLES.items():
        rows = list(catalogue.parts[kind].values())
        count = 4 if role in ("board", "display") else 2
        kept = chance.sample(rows, min(count, len(rows)))
        parts[kind] = {part.id: part.model_copy(update={"price": chance.randint(5, 90)}) for part in kept}
    parts["cables"] = {
        cable.id: cable.model_copy(update={"price": chance.randint(1, 9)} if cable.length_m > 0.01 else {})
        for cable in catalogue.all(Cable)
    }
    return replace(catalogue, parts=parts)


def cheapest_of_all(asked: Wish, shelf: Catalogue) -> float | None:
    """Every combination of parts and of cables, by the same rules on finished builds."""
    counter = planned.planner_of(asked, shelf)
    roles = (*NEEDED, "encoder")
    rows = [list(shelf.parts[ROLES[role][0]].values()) for role in roles]
    adapters: list[CataloguePart | None] = [None, *shelf.parts["adapters"].values()]
    power = [cable for cable in shelf.all(Cable) if not cable.socket_end and "power" in cable.signals]
    video = [cable for cable in shelf.all(Cable) if not cable.socket_end and not cable.ties_sync]
    best: float | None = None
    for picks in product(*rows):
        found = dict(zip(roles, picks, strict=True))
        board, image, display = found["board"], found["image"], found["display"]
        assert isinstance(board, Board)
        assert isinstance(image, Image)
        assert isinstance(display, Display)
        card, encoder = found["card"], found["encoder"]
        assert isinstance(card, Card)
        assert isinstance(encoder, Encoder)
        if not image.has_system or unsuited(display, asked.place) or card.capacity_bytes < card_bytes(asked, image):
            continue
        if board.most_card_bytes and card.capacity_bytes > board.most_card_bytes:
            continue
        if any(load_of(system, board, shelf, asked) > 1 for system in asked.systems):
            continue
        if any(terminals_of(encoder) < buttons_of(system) for system in asked.systems):
            continue
        if encoder.link == "nine-pin" or (encoder.link == "header" and "header" not in board.honours):
            continue
        supply_ends = {port.connector for port in found["supply"].ports}
        board_ends = {port.connector for port in board.ports if port.id == "power"}
        wires = [
            cable
            for cable in power
            if set(cable.ends) == supply_ends | board_ends
            or (
                set(cable.ends) <= supply_ends | board_ends
                and set(cable.ends) & supply_ends
                and set(cable.ends) & board_ends
            )
        ]
        for adapter in adapters:
            names = {role: part.id for role, part in found.items()} | ({"adapter": adapter.id} if adapter else {})
            for wire in wires:
                links = {"power": (wire.id,)}
                ways = (
                    (("first", board, adapter), ("second", adapter, display))
                    if adapter
                    else (("direct", board, display),)
                )
                for way, giver, taker in ways:
                    assert giver is not None
                    assert taker is not None
                    fitting = [
                        cable
                        for cable in video
                        for start in giver.ports
                        for end in taker.ports
                        if start.direction == "out"
                        and end.direction == "in"
                        and start.signal != "power"
                        and sorted(cable.ends) == sorted((start.connector, end.connector))
                        and start.signal in cable.signals
                        and start.signal == end.signal
                    ]
                    if fitting:
                        links[way] = (min(fitting, key=lambda cable: cable.price).id,)
                if len(links) != len(ways) + 1:
                    continue
                build = planned.build_of(asked, shelf, names, links)
                if planned.stops_of(build, shelf, asked):
                    continue
                price = counter.price_of(build)
                if best is None or price < best:
                    best = price
    return best


@pytest.mark.long(keep=8)
@pytest.mark.parametrize("seed", range(100))
def test_the_best_plan_is_that_of_exhaustive_search(seed: int, catalogue: Catalogue) -> None:
    chance = random.Random(seed)
    shelf = small_shelf(catalogue, chance)
    systems = chance.sample(["alder-8", "birch-16", "dogwood-pocket", "fir-board-h"], 2)
    asked = wish(shelf, *systems, place=chance.choice(["table", "table", "camper", "living room"]))
    found = planned.planner_of(asked, shelf).best()
    best = cheapest_of_all(asked, shelf)
    assert (found is None) == (best is None)
    if found is not None:
        assert best is not None
        assert not planned.stops_of(found.build, shelf, asked)
        assert found.price == pytest.approx(best, abs=0.5), (found.picks, best)


@pytest.mark.parametrize("seed", range(6))
def test_a_part_is_eligible_once_its_reason_is_lifted(seed: int, catalogue: Catalogue) -> None:
    """Every 'why not' is true and enough: with those rules lifted there is a plan with the part, and not before."""
    chance = random.Random(seed)
    asked = wish(
        catalogue,
        chance.choice(["alder-8", "gorse-twin", "cedar-disc"]),
        place=chance.choice(["table", "camper"]),
        players=chance.choice([1, 2]),
        budget=chance.choice([0.0, 130.0]),
    )
    planner = planned.planner_of(asked, catalogue)
    keys = [key for key in planner.parts if key[0] != "cables"]
    for key in chance.sample(keys, 5):
        why = planner.why_not(key)
        if why.plan is not None:
            assert why.plan.part(key[0]) == key[1]
            assert not planned.stops_of(why.plan.build, catalogue, asked)
            continue
        assert why.rules, key
        assert planner.best(forced=key) is None
        eased = planner.best(forced=key, lifted=frozenset(why.rules))
        assert eased is not None, (key, why.rules)
        assert eased.part(key[0]) == key[1]
        for rule in why.rules:  # none of them is too much
            assert planner.best(forced=key, lifted=frozenset(why.rules) - {rule}) is None, (key, why.rules, rule)


def test_wishes_that_exclude_each_other_are_the_fewest(catalogue: Catalogue) -> None:
    asked = wish(catalogue, "gorse-twin", screen="casement-19", place="school", budget=400.0)
    found = planned.planner_of(asked, catalogue).answer()
    assert not found.plans
    assert found.conflict == (
        "a display that suits the school",
        f"{catalogue.get(Display, 'casement-19').name} as the screen",
    )
    for eased in ({"place": "table"}, {"screen": ""}):  # each of them alone can be had
        assert planned.planner_of(replace(asked, **eased), catalogue).best() is not None  # type: ignore[arg-type]
    dear = planned.planner_of(wish(catalogue, "gorse-twin", budget=30.0), catalogue).answer()
    assert [words.partition(" of")[0] for words in dear.conflict] == ["a price"]
    bare = replace(catalogue, parts={**catalogue.parts, "supplies": {}})
    lacking = planned.planner_of(wish(bare), bare).answer()
    assert lacking.conflict == ()
    assert "a supply on the shelf" in lacking.lacking


def test_what_is_at_hand_costs_nothing_and_what_is_fixed_stays(catalogue: Catalogue) -> None:
    plain = planned.planner_of(wish(catalogue), catalogue).best()
    assert plain is not None
    owned = wish(catalogue, at_hand=frozenset({"boards/cod", "displays/pane-24", "supplies/ballast-3a"}))
    found = planned.planner_of(owned, catalogue).best()
    assert found is not None
    assert (found.part("board"), found.part("display")) == ("cod", "pane-24")
    assert found.price < plain.price
    fixed = planned.planner_of(wish(catalogue, fixed=(("board", "ling"),)), catalogue).best()
    assert fixed is not None
    assert fixed.part("board") == "ling"
    through = planned.planner_of(wish(catalogue, fixed=(("adapter", "gantry-rgb"),)), catalogue).best()
    assert through is not None
    assert through.part("adapter") == "gantry-rgb", "what one could do without"
    assert planned.planner_of(wish(catalogue, screen="casement-19"), catalogue).best().part("display") == "casement-19"  # type: ignore[union-attr]


def test_the_three_plans_differ_in_kind(catalogue: Catalogue) -> None:
    plans = planned.planner_of(wish(catalogue), catalogue).answer().plans
    assert len(plans) == 3
    assert len({plan.kind for plan in plans}) == 3
    assert plans[0].part("board") != plans[2].part("board")
    assert plans[0].part("display") != plans[2].part("display")
    assert plans[0].price <= min(plans[1].price, plans[2].price)
    for plan in plans:
        assert not planned.stops_of(plan.build, catalogue, wish(catalogue))


def test_five_hundred_parts(catalogue: Catalogue) -> None:
    """As many copies as make five hundred: the answer is that of the shelf without them. What it takes is measured in
    benchmarks/planning.py."""
    priced = dict(catalogue.parts)
    for kind in (*(kind for kind, _record in ROLES.values()), "cables"):
        rows = catalogue.parts[kind].values()
        priced[kind] = {row.id: row.model_copy(update={"price": row.price or 30}) for row in rows}
    catalogue, parts = replace(catalogue, parts=priced), dict(priced)
    for kind, _record in ROLES.values():
        rows = priced[kind].values()
        copies = (
            row.model_copy(update={"id": f"{row.id}-{n}", "price": row.price + n}) for row in rows for n in range(1, 12)
        )
        parts[kind] = {row.id: row for row in (*rows, *copies)}
    many = replace(catalogue, parts=parts)
    assert sum(len(many.parts[kind]) for kind, _record in ROLES.values()) > 450
    one = planned.planner_of(wish(catalogue, screen="pane-24"), catalogue).best()
    other = planned.planner_of(wish(many, screen="pane-24"), many).best()
    assert one is not None
    assert other is not None
    assert other.price == pytest.approx(one.price)


def test_a_board_that_nothing_serves_is_reached_by_a_detour(catalogue: Catalogue) -> None:
    own = catalogue.get(Board, "ling").model_copy(update={"id": "own", "name": "Own", "device_tree": "own.dtb"})
    shelf = replace(catalogue, parts={**catalogue.parts, "boards": {**catalogue.parts["boards"], "own": own}})
    way = planned.detour(own, shelf)
    assert way is not None
    assert way.lacking == ("own.dtb",)
    assert len(way.steps) == 4
    assert planned.detour(catalogue.get(Board, "ling"), catalogue) is None
    why = planned.planner_of(wish(shelf), shelf).why_not(("board", "own"))
    assert "image" in why.rules


@pytest.mark.parametrize("name", ["lighthouse", "camper", "school_fair"])
def test_a_demo_planned_from_its_wishes_comes_out_as_shipped_or_better(name: str, catalogue: Catalogue) -> None:
    demos = {"lighthouse": lighthouse, "camper": camper}
    build = demos[name].build(catalogue, "0" * 64) if name in demos else school_fair.build()
    asked = wish_of(build, catalogue)
    assert not planned.stops_of(build, catalogue, asked)
    for wished in (asked, replace(asked, at_hand=frozenset())):
        planner = planned.planner_of(wished, catalogue)
        best = planner.best()
        assert best is not None
        assert best.price <= planner.price_of(build)
    dear = planned.solve(build.model_copy(update={"plan": build.plan.model_copy(update={"budget": 1.0})}), catalogue)
    assert (dear.plans != ()) is (name == "lighthouse"), "all of it is at hand"
    if not dear.plans:
        assert "a price of at most" in " ".join(planned.in_words(dear))


def test_a_home_computer_is_planned_with_a_keyboard(catalogue: Catalogue) -> None:
    """One player needs nothing else; two need something to hold; a ribbon and an encoder do not share a header."""
    alone = planned.planner_of(wish(catalogue, "elm-micro"), catalogue).best()
    assert alone is not None
    assert (alone.part("keyboard"), alone.part("encoder")) == ("full", "")
    assert alone.build.controls.keyboard.layout == "full"
    assert any(link.end == "keyboard.usb" for link in alone.build.links)
    two = planned.planner_of(wish(catalogue, "elm-micro", players=2), catalogue).best()
    assert two is not None
    assert two.part("encoder")
    assert two.part("keyboard")
    none = planned.planner_of(wish(catalogue), catalogue)
    assert not none.best().part("keyboard")  # type: ignore[union-attr]
    assert none.why_not(("keyboard", "full")).rules == ("keys",)
    both = (("keyboard", "fair-50"), ("encoder", "fairlead-bank"))
    assert planned.planner_of(wish(catalogue, "elm-micro", fixed=both), catalogue).best() is None
    assert planned.planner_of(wish(catalogue, "elm-micro", fixed=both[:1]), catalogue).best() is not None
    bare = replace(
        catalogue, parts={**catalogue.parts, "keyboards": {"elm-keys": catalogue.parts["keyboards"]["elm-keys"]}}
    )
    assert planned.planner_of(wish(bare, "elm-micro"), bare).answer().lacking == ("a keyboard for Elm Micro",)


def test_bare_metal_is_what_its_sets_can_be(catalogue: Catalogue) -> None:
    plain = planned.planner_of(wish(catalogue, "elm-micro", software="bare metal"), catalogue)
    assert plain.best().part("image") == "tidepool"  # type: ignore[union-attr]
    assert plain.why_not(("image", "quayside")).words == ("system software of the kind “bare metal”",)
    mixed = planned.planner_of(wish(catalogue, "elm-micro", "alder-8", software="bare metal"), catalogue).answer()
    assert set(mixed.conflict) == {
        "system software of the kind “bare metal”",
        "system software that itself runs Alder 8",
    }
    air = (("encoder", "thole-air"),)
    wireless = wish(catalogue, "elm-micro", software="bare metal", fixed=air)
    assert planned.planner_of(wireless, catalogue).best() is None
    tidepool = catalogue.get(Image, "tidepool").model_copy(update={"radio": True})
    driven = replace(catalogue, parts={**catalogue.parts, "images": {"tidepool": tidepool}})
    assert planned.planner_of(wireless, driven).best() is not None
    chooser = planned.planner_of(wish(catalogue), catalogue).why_not(("image", "slipway"))
    assert chooser.plan is None
    assert {rule.partition(":")[0] for rule in chooser.rules} == {"plays"}


def test_a_bundle_is_one_more_plan(catalogue: Catalogue) -> None:
    asked = wish(catalogue, screen="pane-24")
    alone = planned.answered(asked, catalogue)
    assert len(alone.plans) == 3
    held = tuple(f"{kind}/{alone.plans[0].part(role)}" for role, kind in (("board", "boards"), ("supply", "supplies")))
    price = sum(catalogue.parts[kind][part].price for kind, _, part in (key.partition("/") for key in held))
    for asks in (price - 5, price + 5):
        found = planned.answered(asked, catalogue, None, (Bundle(name="Kit", price=asks, parts=held),)).plans
        assert [plan.bundle for plan in found] == ["", "", "", "Kit"]
        assert found[3].price == pytest.approx(found[0].price + asks - price)
    useless = Bundle(name="Tubes", price=1, parts=("displays/casement-19",))
    assert planned.answered(asked, catalogue, None, (useless,)) == replace(alone, unused=("Tubes",))
    dear = Bundle(name="Kit", price=price + 5, parts=held)
    tight = replace(asked, budget=alone.plans[0].price)
    assert all(not plan.bundle for plan in planned.answered(tight, catalogue, None, (dear,)).plans)
    build = school_fair.build()
    build = build.model_copy(update={"plan": build.plan.model_copy(update={"bundles": (dear,), "screen": "pane-24"})})
    taken = planned.taken(build, planned.solve(build, catalogue).plans[-1], catalogue)
    assert taken.plan.bundle == "Kit"
    lines = {line.key: line.price for line in parts_list(taken, catalogue).lines}
    assert lines["extra/bundle"] == price + 5
    assert {lines[key] for key in held if key in lines} == {0.0}


def test_plans_and_builds_are_compared(catalogue: Catalogue) -> None:
    build = school_fair.build()
    plan = planned.solve(build, catalogue).plans[0]
    columns = [compared("now", build, catalogue), compared("plan 1", plan.build, catalogue, plan)]
    assert columns[1].price < columns[0].price
    table = as_table(columns, catalogue)
    assert next(line for line in table if line.startswith("display")).split()[-1] == "="
    assert next(line for line in table if line.startswith("board")).endswith("Merrow Sprat")


def test_more_players_than_any_panel_has_is_said_as_one_wish(catalogue: Catalogue) -> None:
    answer = planned.planner_of(wish(catalogue, players=9), catalogue).answer()
    assert not answer.plans
    assert answer.conflict == ("controls for 9 players",)


def test_a_search_that_ends_early_claims_no_proof(catalogue: Catalogue) -> None:
    asked = wish(catalogue)

    def make(picks: Mapping[str, str], cables: Mapping[str, tuple[str, ...]]) -> Build:
        return planned.build_of(asked, catalogue, picks, cables)

    answer = Planner(asked, catalogue, make, lambda _build: (("check", ()),)).answer()
    assert answer.gave_up
    assert not answer.plans
    assert not answer.conflict
    assert not answer.lacking
    assert "the search ends there" in planned.in_words(answer)[0]
