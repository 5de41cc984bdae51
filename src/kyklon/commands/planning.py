"""The plan from its wishes: which parts, why not others, what to buy, and when what is done."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Any

from kyklon.base import durable
from kyklon.base.errors import WrongUse
from kyklon.base.quantities import counted, show_duration, show_money
from kyklon.catalogue.loader import Catalogue
from kyklon.commands.line import Argument, Option
from kyklon.commands.part import kind_of
from kyklon.commands.shared import OK, STOPS, Folder, Json, keep_copies, open_folder, out, tell
from kyklon.model.build import Build, edited
from kyklon.model.plan import Evening
from kyklon.operations import inspection
from kyklon.operations.plan import parts_list, planned
from kyklon.operations.plan import steps as all_steps
from kyklon.operations.plan.compared import as_table, compared
from kyklon.operations.plan.constraints import ROLES
from kyklon.operations.plan.schedule import Schedule, as_icalendar
from kyklon.operations.plan.schedule import schedule as scheduled
from kyklon.operations.plan.solve import Answer, Plan
from kyklon.operations.plan.steps import expected
from kyklon.operations.plan.wishes import Wish, known_name, own_prices, wish_of
from kyklon.record import folder as store
from kyklon.record.builds import steps_done
from kyklon.record.logbook import Logbook

_KIND_ROLES = {kind: role for role, (kind, _record) in ROLES.items()}


def wish(
    folder: Folder,
    system: Annotated[
        list[str] | None, Option("--system", help="alder-8, or alder-8=50 for 50 games; repeatable.")
    ] = None,
    hardest: Annotated[str | None, Option("--hardest", help="The most demanding game, by its title.")] = None,
    place: Annotated[str | None, Option("--place", help="table, living room, camper or school.")] = None,
    software: Annotated[
        str | None, Option("--software", help="complete image, base and installer, bare metal; '' for any.")
    ] = None,
    players: Annotated[int, Option("--players", help="How many play at once.")] = 0,
    screen: Annotated[str | None, Option("--screen", help="A display's short name; '' for any.")] = None,
    reach: Annotated[float, Option("--reach", help="Metres from the machine to the screen.")] = -1.0,
    hand: Annotated[list[str] | None, Option("--at-hand", help="KIND/ID of a part that you have; repeatable.")] = None,
    budget: Annotated[float, Option("--budget", help="The most that it may cost; 0 for no limit.")] = -1.0,
    by: Annotated[str | None, Option("--by", help="Finished by, as 2027-03-01.")] = None,
    fix: Annotated[list[str] | None, Option("--fix", help="ROLE=ID of a part that stays; repeatable.")] = None,
    bundle: Annotated[
        list[str] | None,
        Option("--bundle", help="'NAME=PRICE: KIND/ID KIND/ID', sold together; repeatable, '' for none."),
    ] = None,
    as_json: Json = False,
) -> int:
    """Say or show what the machine shall be."""
    changes: dict[str, Any] = {}
    if system is not None:
        rows = [row.partition("=") for row in system]
        changes["systems"] = [name for name, _, _count in rows]
        changes["plan.games"] = {name: _whole(count, name) for name, _, count in rows if count}
    given = (("hardest", hardest), ("place", place), ("software", software), ("screen", screen), ("by", by))
    changes |= {f"plan.{name}": value for name, value in given if value is not None}
    changes |= {"plan.players": players} if players else {}
    changes |= {"plan.reach_m": reach} if reach >= 0 else {}
    changes |= {"plan.budget": budget} if budget >= 0 else {}
    changes |= {"plan.at_hand": _places(hand)} if hand is not None else {}
    changes |= {"plan.fixed": [row for row in fix if row]} if fix is not None else {}
    changes |= {"plan.bundles": [_bundle(row) for row in bundle if row]} if bundle is not None else {}
    build, catalogue = open_folder(folder)
    if changes:

        def wished(now: Build) -> Build:
            made = _all_edited(now, changes)
            _known(made, catalogue)
            return made

        _change(folder, "Wishes", wished)
        build, catalogue = open_folder(folder)
    else:
        _known(build, catalogue)
    data = {**build.plan.model_dump(exclude={"parts", "evenings", "done"}), "systems": list(build.systems)}
    out(data, as_json, lambda: _wish_lines(build, catalogue))
    return OK


def _wish_lines(build: Build, catalogue: Catalogue) -> list[str]:
    own = wish_of(build, catalogue)
    names = ", ".join(f"{system.name} ({own.games.get(system.id, 50)} games)" for system in own.systems)
    bundles = (f"{row.name}, {show_money(row.price, 2)}: {', '.join(row.parts)}" for row in build.plan.bundles)
    rows = (
        ("systems", names or "none"),
        ("where", f"{own.place}, {own.players} at once"),
        ("software", own.software or "any"),
        ("screen", known_name(catalogue, own.screen) if own.screen else "any"),
        ("budget", show_money(own.budget) if own.budget else "no limit"),
        ("at hand", ", ".join(sorted(own.at_hand)) or "nothing"),
        *(("bundle", words) for words in bundles),
        ("fixed", ", ".join("=".join(row) for row in own.fixed) or "nothing"),
    )
    return [f"{name:12} {words}" for name, words in rows]


def solve(
    folder: Folder,
    take: Annotated[int, Option("--take", help="Use this plan in the build: 1, 2 or 3.")] = 0,
    as_json: Json = False,
) -> int:
    """Find the best plans for the wishes; exit 1 when there is none."""
    build, catalogue = open_folder(folder)
    _known(build, catalogue)
    found = planned.solve(build, catalogue)
    if take:
        if not 0 < take <= len(found.plans):
            raise WrongUse(f"There is no plan {take}.", do=f"There are {len(found.plans)}.")
        plan = found.plans[take - 1]
        _change(folder, "Plan taken", lambda now: planned.taken(now, plan, catalogue))
        keep_copies(folder)
    out(_answer_data(found, catalogue), as_json, lambda: _answer_lines(found, wish_of(build, catalogue), catalogue))
    return OK if found.plans else STOPS


def compare(
    folder: Folder,
    other: Annotated[
        Path | None, Argument(help="Another build folder to compare with; none for the plans.", metavar="OTHER")
    ] = None,
    as_json: Json = False,
) -> int:
    """Compare the build with the plans, or with another build."""
    build, catalogue = open_folder(folder)
    if other is not None:
        second, _its = open_folder(other)
        columns = [compared("this", build, catalogue), compared(second.name, second, catalogue)]
    else:
        _known(build, catalogue)
        plans = planned.solve(build, catalogue).plans
        columns = [compared("now", build, catalogue)]
        columns += [compared(f"plan {number}", plan.build, catalogue, plan) for number, plan in enumerate(plans, 1)]
    data = [{**column.__dict__, "parts": dict(column.parts)} for column in columns]
    out(data, as_json, lambda: as_table(columns, catalogue))
    return OK


def why(
    folder: Folder,
    kind: Annotated[str, Argument(help="A kind of part: board, display, …", metavar="KIND")],
    part_id: Annotated[str, Argument(help="Its short name.", metavar="ID")],
    as_json: Json = False,
) -> int:
    """Show why a part is not in the best plan, or what it would cost more."""
    build, catalogue = open_folder(folder)
    _known(build, catalogue)
    role = _KIND_ROLES.get(kind_of(kind))
    if role is None or part_id not in catalogue.parts[ROLES[role][0]]:
        raise WrongUse(f"The shelf has no {kind} {part_id!r} that is planned.", do="See `kyklon part list`.")
    planner = planned.planner_of(wish_of(build, catalogue), catalogue, own_prices(build))
    if (role, part_id) not in planner.parts:
        raise WrongUse(
            f"{known_name(catalogue, part_id)} is what a system expects, and no part.", do="Choose another one."
        )
    best = planner.best()
    found = planner.why_not((role, part_id), best)
    in_best = best is not None and best.part(role) == part_id
    board = catalogue.parts["boards"].get(part_id)
    way = planned.detour(board, catalogue) if board is not None else None  # type: ignore[arg-type]
    data = {
        "in_best": in_best,
        "rules": list(found.rules),
        "reasons": list(found.words),
        "more": found.more if found.plan else None,
        "detour": list(way.steps) if way else [],
    }

    def lines() -> list[str]:
        name = known_name(catalogue, part_id)
        if in_best:
            return [f"{name} is in the best plan."]
        if found.plan is not None:
            return [f"{name}: possible; the plan costs {show_money(max(0.0, found.more), 2)} more."]
        told = [f"{name}: no plan has {words}." for words in found.words]
        return told + ([f"Another way, with {way.image}:", *(f"  {step}" for step in way.steps)] if way else [])

    out(data, as_json, lines)
    return OK


def parts(
    folder: Folder,
    state: Annotated[list[str] | None, Option("--state", help="KEY=need, ordered, arrived or have.")] = None,
    price: Annotated[list[str] | None, Option("--price", help="KEY=price for one; repeatable.")] = None,
    shop: Annotated[list[str] | None, Option("--shop", help="KEY=shop; repeatable.")] = None,
    csv: Annotated[Path | None, Option("--csv", help="Write the list to this file.")] = None,
    as_json: Json = False,
) -> int:
    """List what the build is made of: what is there, ordered, and to be bought."""
    notes: dict[str, dict[str, Any]] = {}
    for rows, field in ((state, "state"), (price, "price"), (shop, "shop")):
        for row in rows or ():
            key, _, value = row.rpartition("=")
            notes.setdefault(key, {})[field] = _price(value) if field == "price" else value
    build, catalogue = open_folder(folder)
    known = {line.key for line in parts_list.parts_list(build, catalogue).lines}
    for key in notes:
        if key not in known:
            raise WrongUse(f"The list has no line {key!r}.", do=f"It has: {', '.join(sorted(known))}.")

    def with_notes(now: Build) -> Build:
        for key, values in notes.items():
            now = parts_list.noted(now, key, **values)
        return now

    if notes:
        _change(folder, "Parts list", with_notes)
        build, catalogue = open_folder(folder)
    made = parts_list.parts_list(build, catalogue)
    if csv is not None:
        durable.keep(csv.absolute(), parts_list.as_csv(made).encode())
        tell(f"The list is in {csv}.")
    data = {
        "lines": [{**line.__dict__, "cost": line.cost} for line in made.lines],
        "total": made.total,
        "unpriced": made.unpriced,
        "sockets": [use.__dict__ for use in parts_list.socket_use(build, catalogue)],
    }

    def lines() -> list[str]:
        rows = [
            f"{line.state:8} {line.count:4} {line.unit:2} {line.name:40} "
            f"{show_money(line.price, 2) if line.price is not None else '':>10}  {line.key}"
            for line in made.lines
        ]
        more = f", and {made.unpriced} without a price" if made.unpriced else ""
        return [*rows, f"Still to pay for what is essential: {show_money(made.total, 2)}{more}."]

    out(data, as_json, lines)
    return OK


def schedule(
    folder: Folder,
    evening: Annotated[
        list[str] | None,
        Option("--evening", help="2027-03-02, or 2027-03-02@20:00/120 for two hours; repeatable, '' for none."),
    ] = None,
    done: Annotated[list[str] | None, Option("--done", help="STEP, or STEP=45 for its minutes; repeatable.")] = None,
    calendar: Annotated[Path | None, Option("--calendar", help="Write the handwork as iCalendar to this file.")] = None,
    as_json: Json = False,
) -> int:
    """Show all steps to the first game, and fill the evenings with them."""
    changes: dict[str, Any] = {}
    if evening is not None:
        changes["plan.evenings"] = [_evening(row).model_dump() for row in evening if row]
    if done is not None:
        build, catalogue = open_folder(folder)
        known = {step.id for step in all_steps.steps(build, catalogue, inspection.observe(build, folder, catalogue))}
        noted = [row.model_dump() for row in build.plan.done]
        for row in done:
            name, _, minutes = row.partition("=")
            if name not in known:
                raise WrongUse(f"There is no step {name!r}.", do=f"There are: {', '.join(sorted(known))}.")
            noted = [other for other in noted if other["step"] != name]
            noted.append({"step": name, "minutes": _whole(minutes or "0", name), "at": datetime.now(UTC).isoformat()})
        changes["plan.done"] = noted
    if changes:
        _change(folder, "Schedule", lambda build: _all_edited(build, changes))
    build, catalogue = open_folder(folder)
    rows = all_steps.steps(build, catalogue, inspection.observe(build, folder, catalogue), steps_done(folder))
    made = scheduled(rows, build.plan.evenings, datetime.now().replace(second=0, microsecond=0))
    if calendar is not None:
        text = as_icalendar(made, build.name, datetime.now(UTC))
        durable.keep(calendar.absolute(), text.encode())
        tell(f"The calendar is in {calendar}.")
    out(_schedule_data(rows, made), as_json, lambda: _schedule_lines(rows, made))
    return OK


def _schedule_data(rows: tuple[all_steps.Step, ...], made: Schedule) -> dict[str, Any]:
    at = {slot.step.id: slot for slot in made.slots}
    return {
        "steps": [
            {
                "id": step.id,
                "title": step.title,
                "operation": step.operation,
                "hands_min": [round(value, 1) for value in step.hands],
                "alone_min": [round(value, 1) for value in step.alone],
                "after": [name for name, _why in step.after],
                "done": step.done,
                "critical": step.id in made.critical,
                "start": made.at(at[step.id].start).isoformat() if step.id in at else None,
                "end": made.at(at[step.id].end).isoformat() if step.id in at else None,
            }
            for step in rows
        ],
        "left": [step.id for step in made.left],
        "finish": made.at(made.finish).isoformat() if made.slots else None,
        "hands_min": round(made.hands, 1),
    }


def _schedule_lines(rows: tuple[all_steps.Step, ...], made: Schedule) -> list[str]:
    told = [f"done      {step.title} ({step.id})" for step in rows if step.done]
    for slot in made.slots:
        step = slot.step
        alone = (
            f", then {show_duration(round(expected(step.alone)) * 60)} by itself" if expected(step.alone) >= 1 else ""
        )
        mark = "*" if step.id in made.critical else " "
        told.append(
            f"{mark} {made.at(slot.start):%a %d %b %H:%M}  {step.title} ({step.id}): "
            f"{show_duration(round(expected(step.hands)) * 60)}{alone}"
        )
    told += [f"  no time yet       {step.title} ({step.id})" for step in made.left]
    if made.slots:
        told.append(
            f"Finished {made.at(made.finish):%A, %d %B %Y, %H:%M}; {show_duration(round(made.hands) * 60)} of handwork."
        )
    if made.left:
        need = sum(expected(step.hands) for step in made.left)
        told.append(f"About {show_duration(round(need) * 60)} more is needed for {counted(len(made.left), 'step')}.")
    return told


# --- helpers ---------------------------------------------------------------------------------------------------------


def _change(folder: Path, label: str, change: Any) -> None:
    try:
        store.update(folder, change)
    except ValueError as bad:
        raise WrongUse(f"{bad}.", do="Nothing was changed.") from bad
    Logbook(folder).add(10, label)


def _all_edited(build: Build, changes: dict[str, Any]) -> Build:
    for path, value in changes.items():
        build = edited(build, path, value)
    return build


def _known(build: Build, catalogue: Catalogue) -> None:
    """Raises WrongUse for a wish that names what the shelf has not."""
    planned.needed(catalogue)
    systems = catalogue.parts["systems"]
    for name in build.systems:
        if name not in systems:
            raise WrongUse(f"The shelf has no system {name!r}.", do=f"It has: {', '.join(sorted(systems))}.")
    if build.plan.screen and build.plan.screen not in catalogue.parts["displays"]:
        raise WrongUse(f"The shelf has no display {build.plan.screen!r}.", do="See `kyklon part list display`.")
    for bundle in build.plan.bundles:
        for key in bundle.parts:
            kind, _, part = key.partition("/")
            if part not in catalogue.parts.get(kind, {}):
                raise WrongUse(f"The shelf has no part {key!r} for {bundle.name!r}.", do="See `kyklon part list`.")
    for row in build.plan.fixed:
        role, _, part = row.partition("=")
        if role not in ROLES or part not in catalogue.parts[ROLES[role][0]]:
            raise WrongUse(f"The shelf has no part for {row!r}.", do=f"Roles are: {', '.join(ROLES)}.")


def _places(rows: list[str]) -> list[str]:
    """KIND/ID with the kind's name as `kyklon part` takes it."""
    found = []
    for row in rows:
        kind, slash, part_id = row.partition("/")
        if row:
            found.append(f"{kind_of(kind)}/{part_id}" if slash else row)
    return found


def _bundle(text: str) -> dict[str, Any]:
    """NAME=PRICE: KIND/ID …"""
    head, colon, rest = text.partition(":")
    name, equals, price = head.rpartition("=")
    if not (colon and equals and name.strip() and rest.split()):
        raise WrongUse(f"{text!r} is no bundle.", do="Write it as 'Starter kit=79: board/cod supply/ballast-3a'.")
    return {"name": name.strip(), "price": _price(price), "parts": _places(rest.split())}


def _whole(text: str, name: str) -> int:
    if not (text.isascii() and text.isdigit() and len(text) < 7):
        raise WrongUse(f"{name}={text}: {text!r} is no number.", do="Write a whole number.")
    return int(text)


def _price(text: str) -> float:
    try:
        return round(float(text.replace(",", ".")), 2)
    except ValueError:
        raise WrongUse(f"{text!r} is no price.", do="Write it as 12.50.") from None


def _evening(text: str) -> Evening:
    day, _, rest = text.partition("@")
    start, _, minutes = rest.partition("/")
    try:
        datetime.fromisoformat(day)
        row: dict[str, Any] = {"day": day} | ({"start": start} if start else {})
        return Evening(**row, **({"minutes": _whole(minutes, "minutes")} if minutes else {}))
    except ValueError:
        raise WrongUse(f"{text!r} is no evening.", do="Write it as 2027-03-02@19:00/150.") from None


def _plan_data(plan: Plan, catalogue: Catalogue) -> dict[str, Any]:
    return {
        "parts": {role: {"id": part, "name": known_name(catalogue, part)} for role, part in plan.picks},
        "bundle": plan.bundle,
        "price": round(plan.price, 2),
        "guessed": plan.guessed,
        "cables": [{"start": link.start, "end": link.end, "pieces": list(link.pieces)} for link in plan.build.links],
    }


def _answer_data(found: Answer, catalogue: Catalogue) -> dict[str, Any]:
    return {
        "plans": [_plan_data(plan, catalogue) for plan in found.plans],
        "conflict": list(found.conflict),
        "lacking": list(found.lacking),
    }


def _answer_lines(found: Answer, wish: Wish, catalogue: Catalogue) -> list[str]:
    told = []
    for number, plan in enumerate(found.plans, 1):
        about = "about " if plan.guessed else ""
        told.append(f"Plan {number}{', ' + plan.bundle if plan.bundle else ''}, {about}{show_money(plan.price, 2)}")
        told += [f"  {role:10} {known_name(catalogue, part)} ({part})" for role, part in plan.picks]
    told = told or planned.in_words(found, wish, catalogue)
    return told + [f"{name}: nothing of it is used, or it is too dear." for name in found.unused]
