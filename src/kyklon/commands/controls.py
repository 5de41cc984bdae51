"""Controls: paths, wiring, the guided proof, maps and exports; keyboards; the pin header."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

from kyklon.base import durable
from kyklon.base.errors import Cancelled, KyklonError, WrongUse
from kyklon.base.inside import inside
from kyklon.base.quantities import counted
from kyklon.catalogue.control_records import Header, Keyboard
from kyklon.catalogue.records import Board, Encoder, Overlay
from kyklon.catalogue.system_records import System
from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import OK, STOPS, Folder, Json, open_folder, out, tell, watching
from kyklon.devices.simulated import panel as panels
from kyklon.model.build import edited
from kyklon.model.world import World
from kyklon.operations.controls import exports, keymaps, maps, standin, wiring
from kyklon.operations.controls import pins as heads
from kyklon.operations.controls.acts import wired
from kyklon.operations.controls.exports import held_together, lines_of, target_of
from kyklon.operations.controls.fault_words import name_of, told
from kyklon.operations.controls.faulty import Plan
from kyklon.operations.controls.findings import fingerprint
from kyklon.operations.controls.hookup import hookup_of
from kyklon.operations.controls.mapping import event_code, paths
from kyklon.operations.controls.matrix import cures, read_readings, reconstruct
from kyklon.operations.controls.matrix import ghosts as ghosts_of
from kyklon.operations.controls.proof import Reasoner, Session, kept
from kyklon.operations.controls.reports import Listener
from kyklon.operations.controls.sources import PluggedSource
from kyklon.operations.plan.acts import with_another_encoder
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook

if TYPE_CHECKING:
    from kyklon.catalogue.loader import Catalogue
    from kyklon.catalogue.system_records import System
    from kyklon.model.build import Build
    from kyklon.model.controls import ControlSettings
    from kyklon.operations.controls.faulty import Plan
    from kyklon.operations.controls.hookup import Hookup
    from kyklon.operations.controls.proof import Session

SystemId = Annotated[str, Option("--system", help="A system's short name.")]
_PATIENCE_S = 20.0  # s that a control is waited for before it is left out, CP


def _hookup(build: Build, parts: Catalogue) -> Hookup:
    hookup = hookup_of(build, parts)
    if hookup is None:
        raise WrongUse("The build has no panel, or no encoder.", do="Choose them, then try again.")
    return hookup


def _system(build: Build, parts: Catalogue, name: str) -> System:
    if name not in build.systems:
        raise WrongUse(f"The build has no system {name!r}.", do=f"It has: {', '.join(build.systems)}.")
    return parts.get(System, name)


def show(folder: Folder, system: SystemId = "", as_json: Json = False) -> int:
    """Trace every switch to its terminal, event code and game."""
    build, parts = open_folder(folder)
    hookup = _hookup(build, parts)
    rows: list[dict[str, Any]] = []
    for path in paths(hookup, _system(build, parts, system) if system else None):
        terminal = path.terminal
        rows.append(
            {
                "switch": path.control,
                "encoder": path.device.title if path.device else "",
                "terminal": terminal.printed if terminal else "",
                "event": terminal.event if terminal else "",
                "code": event_code(terminal.event) if terminal else None,
                "player": path.player,
                "inputs": list(path.inputs),
            }
        )
    seats = len(hookup.layout.seats)
    data = {"seats": seats, "encoders": [device.title for device in hookup.devices], "switches": rows}

    def lines() -> list[str]:
        return [
            f"{row['switch']:14} {row['terminal'] or 'not wired':10} {row['event']:16} {row['encoder']:22} "
            f"{' / '.join(row['inputs'])}".rstrip()
            for row in rows
        ]

    out(data, as_json, lines)
    return STOPS if any(not row["terminal"] for row in rows) else OK


def wire(
    folder: Folder,
    add: Annotated[list[str] | None, Option("--add", help="Add an encoder by its ID; repeatable.")] = None,
    school: Annotated[str, Option("--school", help="terminals, or printed: match what the encoder prints.")] = "",
    as_json: Json = False,
) -> int:
    """Wire every switch to a terminal and list the wires to cut and crimp."""
    build, parts = open_folder(folder)
    for name in add or []:
        parts.get(Encoder, name)

    def change(now: Build) -> Build:
        for name in add or []:
            now = with_another_encoder(now, name, parts)
        if school:
            now = edited(now, "controls.wiring", school)
        return wired(now, parts)

    try:
        build = change(build)
        store.update(folder, change)
    except ValueError as bad:
        raise WrongUse(f"{bad}.", do="Nothing was changed.") from bad
    hookup = _hookup(build, parts)
    made = wiring.harness(hookup)
    Logbook(folder).add(40, "Wired", f"{len(hookup.wired)} of {len(hookup.switches)} switches")
    data = {
        "wired": len(hookup.wired),
        "switches": len(hookup.switches),
        "metres": made.metres,
        "crimps": {f"{width:g}": count for width, count in made.crimps.items()},
        "mixed": made.mixed,
        "runs": [asdict(run) for run in made.runs],
    }

    def lines() -> list[str]:
        rows = [
            f"{run.control:14} {run.printed:8} {run.colour:8} {run.length:5.0f} mm  crimps {run.tabs[0]:g} and "
            f"{run.tabs[1]:g} mm"
            for run in made.runs
        ]
        rows.append(
            f"{sum(made.metres.values()):.1f} m of wire; quick-connects: "
            + ", ".join(f"{count} of {width:g} mm" for width, count in made.crimps.items())
        )
        mixed = sum(made.mixed.values())
        if mixed:
            rows.append(
                f"A ready harness of one width does not fit: {mixed} runs want another quick-connect at each end."
            )
        return rows

    out(data, as_json, lines)
    return OK


def prove(
    folder: Folder,
    faults: Annotated[int, Option("--faults", help="On a simulated panel: add so many faults first.")] = 0,
    seed: Annotated[int, Option("--seed", help="Which faults.")] = 1,
    plugged: Annotated[bool, Option("--plugged", help="Use the connected devices; press what is asked for.")] = False,
    as_json: Json = False,
) -> int:
    """Test every wire: press each control when asked; wiring faults are listed."""
    build, parts = open_folder(folder)
    plan = Plan(_hookup(build, parts))
    if not plan.switches:
        raise WrongUse("No switch is wired yet.", do=f"`kyklon controls wire {folder}` wires them.")
    if not 0 <= faults <= 3:
        raise WrongUse("A simulated panel takes 0 to 3 faults at once.")
    session = Session(Reasoner(plan))
    session = _ask(plan, session) if plugged else _press(folder, plan, session, faults, seed)
    with watching() as watch:
        diagnosis = session.explained(watch)
    rows = [told(plan, fault) for fault in diagnosis.faults or ()]
    made = kept(session, tuple(row.title for row in rows), fingerprint(plan.hookup), clear=diagnosis.faults is not None)
    store.update(folder, lambda now: edited(now, "controls.proof", made))
    Logbook(folder).add(40, "Wiring proven", "; ".join(made.faults) or f"every switch is right, {made.presses} presses")
    data = {
        "right": diagnosis.right,
        "presses": made.presses,
        "clear": diagnosis.faults is not None,
        "faults": [
            {
                "kind": row.fault.kind,
                "controls": list(row.fault.controls),
                "title": row.title,
                "cure": row.cure,
                "software": row.software,
            }
            for row in rows
        ],
        "skipped": [list(act) for act in session.skipped],
        "unexplained": list(diagnosis.unexplained),
    }

    def lines() -> list[str]:
        if diagnosis.right:
            return [f"Every switch does what it should: {made.presses} presses."]
        if diagnosis.faults is None:
            odd = ", ".join(diagnosis.unexplained)
            return [f"No set of up to five faults explains these presses. Repeat: {odd}."]
        return [f"{row.title}. {row.cure}." for row in rows]

    out(data, as_json, lines)
    return OK if diagnosis.right else STOPS


def _press(folder: Path, plan: Plan, session: Session, faults: int, seed: int) -> Session:
    """The proof on the build's stand-in, or on one with faults."""
    from dataclasses import replace

    from kyklon.devices import choose

    there = panels.load(folder / choose.STAND_INS)
    drawn = standin.drawn(plan, faults, seed)
    hand = standin.Hand(standin.of(plan, drawn, seed) if drawn or there is None else standin.followed(there, plan))
    return hand.prove(replace(session, rest=hand.listener.active))


def _ask(plan: Plan, session: Session) -> Session:
    """The proof with real devices: each control is asked for on the terminal; what does not come is left out."""
    from dataclasses import replace

    from kyklon.devices import choose

    inputs = choose.inputs_of(None)
    source = PluggedSource(inputs, plan.hookup)
    for words in source.attach(inputs.list()):
        tell(words)
    if not source.roles:
        barred = inputs.barred()
        if barred:
            raise KyklonError(
                f"No permission to read {len(barred)} input devices, {barred[0]} included.",
                do="Add your user to the 'input' group, then log in again.",
            )
        raise KyklonError("No encoder from this build is connected.", do="Plug one in and start again.")
    listener = Listener()
    with watching() as watch:
        session = replace(session, rest=listener.active)
        while (act := session.current) is not None:
            tell(f"{' and '.join(name_of(plan.hookup, each) for each in act)}: press and release.")
            listener, until = listener.asked(), time.monotonic() + _PATIENCE_S
            while not listener.ready(time.time()) and time.monotonic() < until:
                watch.check()
                heard = source.poll()
                for words in heard.said:
                    tell(words)
                if not source.roles:
                    raise Cancelled
                for role, event in heard.events:
                    listener = listener.heard(role, event)
                time.sleep(0.005)
            session = session.answered(listener.answer) if listener.began_at is not None else session.skip()
    source.close()
    return session


def map_(
    folder: Folder,
    solve: Annotated[
        bool, Option("--solve", help="Find the cheapest mapping for all systems together and save it.")
    ] = False,
    hold: Annotated[
        list[str] | None, Option("--hold", help="SYSTEM:INPUT=BUTTON locks an input to a button; repeatable.")
    ] = None,
    as_json: Json = False,
) -> int:
    """Show the button mapping and its cost."""
    build, parts = open_folder(folder)
    hookup = _hookup(build, parts)
    systems = [_system(build, parts, name) for name in build.systems]
    settings = build.controls
    for word in hold or []:
        settings = _held(word, build, parts, hookup, systems, settings)
    told = maps.solve(hookup.layout, systems, settings) if solve else maps.priced(hookup.layout, systems, settings)
    if solve:
        settings = maps.taken(settings, told)
    if solve or hold:
        store.update(folder, lambda now: edited(now, "controls.maps", settings.maps))
        Logbook(folder).add(40, "Systems mapped", f"{len(systems)} systems, {told.total:.1f} button spacings")
    data: dict[str, Any] = {
        "total": round(told.total, 4),
        "bound": round(told.bound, 4) if solve else None,
        "systems": {
            system.id: [
                {
                    "input": pair.input.id,
                    "place": pair.place,
                    "cost": round(pair.cost, 4),
                    "why": [f"{term.name}: {term.cost:.2f}" for term in pair.terms],
                }
                for pair in told.costs[system.id]
            ]
            for system in systems
        },
    }

    def lines() -> list[str]:
        rows = []
        for system in systems:
            pairs = ", ".join(f"{pair.input.label} on {pair.place or 'no button'}" for pair in told.costs[system.id])
            rows.append(f"{system.name:16} {pairs}")
        gap = (
            f", at most {100 * told.gap:.1f} % above the best"
            if solve and told.gap > 1e-6
            else ", the best"
            if solve
            else ""
        )
        return [*rows, f"{told.total:.1f} button spacings in all{gap}"]

    out(data, as_json, lines)
    return OK


def _held(
    word: str, build: Build, parts: Catalogue, hookup: Hookup, systems: Sequence[System], settings: ControlSettings
) -> ControlSettings:
    """The settings with one input held on a button. word: SYSTEM:INPUT=PLACE. Raises WrongUse."""
    name, _, rest = word.partition(":")
    input_id, equals, place = rest.partition("=")
    system = _system(build, parts, name)
    if not equals or input_id not in {each.id for each in system.inputs}:
        raise WrongUse(f"{word!r} has no lock to set.", do=f"Write it as {system.id}:{system.inputs[0].id}=b1.")
    free = maps.Board(hookup.layout).free
    if place and place not in free:
        raise WrongUse(f"No seat has a button {place!r} for play.", do=f"There are {', '.join(free)}.")
    made, _cost = maps.moved(hookup.layout, systems, settings, name, input_id, place)
    return maps.with_map(settings, made)


def export(
    folder: Folder,
    into: Annotated[Path, Option("--into", help="An empty or new folder.")] = Path("controls"),
    as_json: Json = False,
) -> int:
    """Export mappings, rules, lists and drawings of the controls to a folder."""
    build, parts = open_folder(folder)
    files = exports.issue(build, parts, World())
    if not files:
        raise WrongUse("There is nothing to export yet.", do="Choose a panel and an encoder, or an old keyboard.")
    names = []
    for path, text in files.items():
        place = inside(into, path.removeprefix("controls/"))
        durable.keep(place, text.encode())
        names.append(str(place))
    out({"files": names}, as_json, lambda: [*names, counted(len(names), "file")])
    return OK


# --- keyboards ---------------------------------------------------------------------------------------------------


def matrix(
    readings: Annotated[Path, Argument(help="Text file: key, pin, pin on each line.", metavar="FILE")],
    as_json: Json = False,
) -> int:
    """Find the rows and columns of a keyboard ribbon from the pins each key connects."""
    found = reconstruct(read_readings(readings))
    places = {key: list(pair) for key, pair in found.keys.items()}
    data = {
        "rows": list(found.rows),
        "columns": list(found.columns),
        "keys": places,
        "doubtful": dict(found.doubtful),
        "loose": list(found.loose),
    }

    def lines() -> list[str]:
        rows = [f"rows {' '.join(map(str, found.rows))}; columns {' '.join(map(str, found.columns))}"]
        rows += [
            f"{key:12} row {row}, column {column}"
            for key, (row, column) in found.keys.items()
            if key not in found.doubtful
        ]
        rows += [f"{key:12} to read again: {why}" for key, why in found.doubtful.items()]
        return rows

    out(data, as_json, lines)
    return STOPS if found.doubtful else OK


def ghosts(
    folder: Folder,
    keys: Annotated[str, Option("--keys", help="Keys held together, comma-separated; the build's by default.")] = "",
    as_json: Json = False,
) -> int:
    """List key combinations that ghost, and the diodes that prevent it."""
    build, parts = open_folder(folder)
    settings = build.controls.keyboard
    own = parts.find(Keyboard, settings.layout)
    if own is None:
        raise WrongUse("The build has no old keyboard.", do="Choose one in the window, under Controls, Keyboard.")
    lines = lines_of(build, parts)
    held = [word.strip() for word in keys.split(",") if word.strip()]
    sets = [held] if held else [list(own_keys) for _name, own_keys in held_together(build, parts)]
    unknown = [each for each in held if each not in lines]
    if unknown:
        raise WrongUse(f"The ribbon has no key {', '.join(unknown)}.")
    found = ghosts_of(lines, sets or None, settings.diodes)
    needed = cures(found)
    data = {
        "ghosts": [{"held": list(each.held), "seen": each.seen, "diode": each.cure} for each in found],
        "diodes": list(needed),
    }

    def told() -> list[str]:
        rows = [f"{' + '.join(each.held)} read as {each.seen} too: diode at {each.cure}" for each in found]
        return rows or ["None of them ghosts."]

    out(data, as_json, told)
    return STOPS if found else OK


def keys(
    folder: Folder,
    school: Annotated[str, Option("--school", help="position, or symbol.")] = "",
    as_json: Json = False,
) -> int:
    """Map the old keyboard's keys to the machine's keys."""
    build, parts = open_folder(folder)
    own = parts.find(Keyboard, build.controls.keyboard.layout)
    if own is None:
        raise WrongUse("The build has no old keyboard.", do="Choose one in the window, under Controls, Keyboard.")
    if school not in ("", "position", "symbol"):
        raise WrongUse(f"Unknown method: {school!r}.", do="It is position, or symbol.")
    target = target_of(build, parts) or own
    pairs = keymaps.pairs_of(own, target, school or build.controls.keyboard.school)
    rows = [
        {"key": pair.target.id, "on": pair.own.id if pair.own else "", "shift": pair.shift, "why": pair.why}
        for pair in pairs
    ]
    data = {"keyboard": own.id, "machine": target.id, "keys": rows}
    out(data, as_json, lambda: keymaps.table(pairs).splitlines())
    return OK


# --- the header --------------------------------------------------------------------------------------------------


def pins(
    folder: Folder,
    add: Annotated[
        list[str] | None, Option("--add", help="Hardware to connect to the header, by its ID; repeatable.")
    ] = None,
    write: Annotated[bool, Option("--write", help="Put the lines into the build's boot settings.")] = False,
    as_json: Json = False,
) -> int:
    """Assign header pins to all hardware, or show why it is impossible."""
    build, parts = open_folder(folder)
    board = parts.find(Board, build.part("board"))
    header = parts.find(Header, board.header) if board is not None else None
    if header is None:
        raise WrongUse("The build's board has no pin header in the catalogue.")
    wishes = heads.wishes_of(build.boot.overlays, parts)
    fresh = tuple(heads.Wish(parts.get(Overlay, name), {}) for name in add or [])
    told = heads.allocate(heads.with_buses((*wishes, *fresh), parts), header)
    if told.conflict is not None:  # wires that have a pin may have to move
        moved = tuple(heads.Wish(wish.overlay, {}) for wish in (*wishes, *fresh))
        told = heads.allocate(heads.with_buses(moved, parts), header)
    conflict = told.conflict
    if write and conflict is None:
        store.update(folder, lambda now: edited(now, "boot.overlays", told.words))
        Logbook(folder).add(40, "Header pins allocated", ", ".join(told.words))
    data = {
        "pins": [{"pin": pin, "overlay": owner, "wire": line} for (owner, line), pin in told.pins.items()],
        "words": list(told.words),
        "ma": told.ma,
        "notes": list(told.notes),
        "conflict": {"wishes": list(conflict.wishes), "reason": conflict.reason} if conflict else None,
    }

    def lines() -> list[str]:
        if conflict is not None:
            return [f"{' and '.join(conflict.wishes)} cannot be used together: {conflict.reason}."]
        rows = [
            f"pin {pin:2}  {owner}: {line}"
            for (owner, line), pin in sorted(told.pins.items(), key=lambda each: each[1])
        ]
        return [
            *rows,
            *told.notes,
            f"{told.ma:g} of {header.most_ma[1]:g} mA; for the boot file: {', '.join(told.words)}",
        ]

    out(data, as_json, lines)
    return STOPS if conflict else OK
