"""Assembly without a window: the way of the current, the heat, and what a meter said."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

from kyklon.base import durable
from kyklon.base.errors import WrongUse
from kyklon.base.quantities import counted, show_duration, signed
from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import OK, STOPS, Folder, Json, open_folder, out
from kyklon.model.assembly import LOADS, Load
from kyklon.model.build import Build
from kyklon.operations.assembly import connectors, order, templates
from kyklon.operations.assembly.findings import battery_findings, electrical_findings
from kyklon.operations.assembly.heat import THROTTLE_C, heat, helps, most_mhz
from kyklon.operations.assembly.measured import with_celsius, with_volts
from kyklon.operations.assembly.surge import Step
from kyklon.operations.assembly.switching import stopping
from kyklon.operations.assembly.tree import Feed, feed, hold_s, run_time, stepped
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook

_LOAD_HELP = f"{', '.join(LOADS)}; the build's own when not given."


def power(
    folder: Folder,
    load: Annotated[str, Option("--load", help=_LOAD_HELP)] = "",
    measured: Annotated[float, Option("--measured", help="Volts at the board's socket, read under that load.")] = 0.0,
    as_json: Json = False,
) -> int:
    """Show the voltage drop from the source to every load; exit 1 when it has a stop."""
    wanted = _load(load)
    if measured:
        known = open_folder(folder)[1]
        store.update(folder, lambda now: with_volts(now, known, measured, wanted or now.assembly.load))
        Logbook(folder).add(80, "Measured", f"{measured:g} V at the board")
    build, catalogue = open_folder(folder)
    found = feed(build, catalogue, wanted)
    if found is None:
        raise WrongUse("The build has no board or no power supply.", do="Choose both in Plan.")
    stops = [finding for finding in electrical_findings(build, catalogue) if finding.severity == "stop"]
    runs, step = run_time(found), stepped(build, catalogue)
    data: dict[str, Any] = {
        "step_least_v": round(step.least_v, 3) if step else None,
        "holds_ms": round(hold_s(build, catalogue) * 1000, 2),
        "load": found.load,
        "board_v": round(found.board_v, 4),
        "low_v": found.board.low_voltage_v,
        "amps": round(found.low.root_a, 4),
        "usable_a": round(found.usable_a, 3),
        "hidden_mohm": round(found.hidden_ohm * 1000, 2),
        "way": _segments(found),
        "loads": [
            {"name": sink.name, "watts": round(sink.watts, 3), "volts": round(found.low.volts[sink.node], 4)}
            for sink in found.low.tree.sinks
        ],
        "battery_a": round(found.high.root_a, 4) if found.high else None,
        "hours": round(runs.hours, 2) if runs else None,
        "ends_by": runs.ends_by if runs else None,
        "findings": [finding.code for finding in battery_findings(build, catalogue)],
    }
    out(data, as_json, lambda: [*_power_lines(found, build), *_in_time(step, hold_s(build, catalogue))])
    return STOPS if stops else OK


def _in_time(step: Step | None, hold: float) -> list[str]:
    told = []
    if step is not None:
        told.append(f"A load step from menu to peak takes the board down to {step.least_v:.2f} V.")
    return [
        *told,
        f"After a power cut its own capacitors hold it up for {hold * 1000:.1f} ms: no time to shut down.",
    ]


def _segments(found: Feed) -> list[dict[str, Any]]:
    rows = []
    for flow in (found.high, found.low):
        if flow is None:
            continue
        for number, (segment, amps) in enumerate(zip(flow.tree.segments, flow.amps, strict=True)):
            rows.append(
                {
                    "name": segment.name,
                    "mohm": round(segment.ohms * 1000, 2),
                    "amps": round(amps, 4),
                    "loses_v": round(amps * segment.ohms, 4),
                    "watts": round(flow.lost_w(number), 4),
                }
            )
    return rows


def _power_lines(found: Feed, build: Build) -> list[str]:
    lines = [f"{'':36} {'mΩ':>8} {'A':>7} {'V lost':>8}"]
    if found.high is not None:
        lines.append(f"{build.assembly.battery.capitalize()} battery, {found.high.tree.volts:.2f} V at rest")
    rows = _segments(found)
    count = len(found.high.tree.segments) if found.high is not None else 0
    for number, row in enumerate(rows):
        if number == count:
            lines.append(f"{found.supply.name}, {found.low.tree.volts:.2f} V")
        lines.append(f"  {row['name'][:34]:34} {row['mohm']:>8.1f} {row['amps']:>7.3f} {row['loses_v']:>8.3f}")
    for sink in found.low.tree.sinks:
        low = " (too few)" if sink.least_v and found.low.volts[sink.node] < sink.least_v else ""
        lines.append(f"{sink.name:36} {sink.watts:6.2f} W at {found.low.volts[sink.node]:.2f} V{low}")
    lines.append(
        f"With {found.load}: {found.low.root_a:.2f} A of {found.usable_a:.2f} A; {found.board_v:.2f} V at the board, "
        f"undervoltage warning below {found.board.low_voltage_v:.2f} V."
    )
    if found.hidden_ohm:
        lines.append(f"The meter reading means {found.hidden_ohm * 1000:.0f} mΩ more than the parts have.")
    runs = run_time(found)
    if runs is not None:
        lines.append(f"Run time on the battery: about {show_duration(runs.hours * 3600)}; it ends when {runs.ends_by}.")
    return lines


def warmth(
    folder: Folder,
    load: Annotated[str, Option("--load", help=_LOAD_HELP)] = "",
    measured: Annotated[float, Option("--measured", help="°C of the chip, read under that load.")] = 0.0,
    room: Annotated[float, Option("--room", help="°C of the room then.")] = 22.0,
    as_json: Json = False,
) -> int:
    """Show the chip's temperature, cooling options and the fastest clock; exit 1 when it throttles."""
    wanted = _load(load)
    if measured:
        known = open_folder(folder)[1]
        store.update(folder, lambda now: with_celsius(now, known, measured, wanted or now.assembly.load, room))
        Logbook(folder).add(80, "Measured", f"{measured:g} °C of the chip")
    build, catalogue = open_folder(folder)
    found = heat(build, catalogue, wanted)
    if found is None:
        raise WrongUse("The build has no board.", do="Choose one in Plan.")
    ways = helps(build, catalogue, wanted)
    fastest = most_mhz(build, catalogue, wanted)
    data = {
        "load": found.load,
        "watts": round(found.watts, 3),
        "celsius": {name: round(value, 2) for name, value in found.celsius.items()},
        "throttles_after_s": None if found.throttles_s is None else round(found.throttles_s),
        "correction": round(found.factor, 3),
        "helps": [
            {"name": way.name, "brings_k": round(way.brings_k, 1), "chip_c": round(way.chip_c, 1)} for way in ways
        ],
        "most_mhz": fastest,
        "assumed": list(found.assumed),
    }

    def lines() -> list[str]:
        told = [f"With {found.load}, {found.watts:.1f} W:"]
        told += [f"  {name:6} {value:6.1f} °C" for name, value in found.celsius.items()]
        if found.throttles_s is None:
            told.append(f"No fan is needed: {found.margin_k:.0f} K below {THROTTLE_C:.0f} °C, where it throttles.")
        else:
            told.append(f"It throttles {show_duration(found.throttles_s)} after a cold start.")
        for way in ways:
            price = f"; {way.price}" if way.price else ""
            told.append(f"  {way.name:36} {signed(-way.brings_k):>5} K, to {way.chip_c:.0f} °C{price}")
        told.append(f"Fastest clock that holds: {fastest} MHz." if fastest else "No clock holds with this load.")
        told.append(f"Assumed: {', '.join(found.assumed)}.")
        return told

    out(data, as_json, lines)
    return OK if found.throttles_s is None else STOPS


def wires(
    folder: Folder,
    read: Annotated[Path | None, Option("--read", help="A CSV table of connectors, taken into the build.")] = None,
    write: Annotated[Path | None, Option("--write", help="Write all connectors as such a table.")] = None,
    tick: Annotated[list[str] | None, Option("--tick", help="ID of a check that the meter passed; repeatable.")] = None,
    untick: Annotated[list[str] | None, Option("--untick", help="ID of one to be tested again.")] = None,
    remove: Annotated[list[str] | None, Option("--remove", help="ID of a connector of your own.")] = None,
    as_json: Json = False,
) -> int:
    """Show the wires contact by contact with a continuity test; exit 1 when contacts must not meet."""
    if read is not None or tick or untick or remove:
        known = open_folder(folder)[1]
        rows = connectors.read_table(read) if read is not None else ()

        def changed(now: Build) -> Build:
            for name in remove or ():
                now = connectors.without_connector(now, name)
            now = connectors.with_connectors(now, rows) if rows else now
            there = {row.id for row in connectors.checks(now, known)}
            for name, done in (*((name, True) for name in tick or ()), *((name, False) for name in untick or ())):
                if name not in there:
                    raise ValueError(f"There is no check {name!r}")
                now = connectors.with_tick(now, name, done=done)
            return now

        try:
            store.update(folder, changed)
        except ValueError as bad:
            raise WrongUse(f"{bad}.", do="See `kyklon wires FOLDER --json` for the IDs.") from bad
        told = [f"{len(rows)} connectors read"] if rows else []
        told += [f"{len(tick)} checks ticked"] if tick else []
        told += [f"{len(untick)} checks unticked"] if untick else []
        Logbook(folder).add(80, "Wires", ", ".join([*told, *(remove or ())]))
    build, catalogue = open_folder(folder)
    found = connectors.connectors(build, catalogue)
    wrong, tests = connectors.faults(found), connectors.checks(build, catalogue)
    if write is not None:
        durable.keep(write.absolute(), connectors.as_table(found).encode())
    data = {
        "connectors": [row.model_dump() for row in found],
        "faults": [fault.__dict__ for fault in wrong],
        "checks": [{"id": row.id, "words": row.words, "beeps": row.beep, "done": row.done} for row in tests],
    }

    def lines() -> list[str]:
        told = []
        for row in found:
            told.append(f"{row.name} ({row.id}): {row.one} to {row.other}")
            told += [f"  {each.one:14} {each.other:24} {each.signal:12} {each.colour}" for each in row.contacts]
        told += [f"{'STOP' if fault.stop else 'Caution'}: {fault.words}" for fault in wrong]
        told += ["Continuity test, power off:"] if tests else ["No connector yet: read one with --read."]
        return [*told, *(f"  [{'x' if row.done else ' '}] {row.words}" for row in tests)]

    out(data, as_json, lines)
    return STOPS if any(fault.stop for fault in wrong) else OK


def template(
    folder: Folder,
    to: Annotated[Path, Argument(help="The folder that they go to.", metavar="TO")],
    as_json: Json = False,
) -> int:
    """Write drill and cut templates at 1:1: SVG, SVG in A4 pages with a ruler, DXF; and the bits for each."""
    build, catalogue = open_folder(folder)
    made = templates.plates(build, catalogue)
    files: dict[str, str] = {}
    for plate in made:
        files[f"{plate.name}.svg"] = templates.as_svg(plate)
        files[f"{plate.name}.dxf"] = templates.as_dxf(plate)
        for number, page in enumerate(templates.as_pages(plate), 1):
            files[f"{plate.name}-page-{number}.svg"] = page
    for name, text in files.items():
        durable.keep(to.absolute() / name, text.encode())
    data = {"files": sorted(files), "steps": {plate.name: list(templates.steps_of(plate)) for plate in made}}

    def lines() -> list[str]:
        told = [f"{counted(len(files), 'file')} in {to}. Print at 100 % and measure the ruler before you cut."]
        for plate in made:
            told.append(f"{plate.title}, {plate.wide:g} × {plate.high:g} mm")
            told += [f"  {step}" for step in templates.steps_of(plate)]
        return told

    out(data, as_json, lines)
    return OK


def sequence(folder: Folder, as_json: Json = False) -> int:
    """Show the assembly order: what must come first, why, and with which screws."""
    build, catalogue = open_folder(folder)
    made, all_screws = order.acts(build, catalogue), order.screws(build, catalogue)
    titles = {act.id: act.title for act in made}
    data = {
        "steps": [
            {
                "id": act.id,
                "title": act.title,
                "after": [name for name, _why in act.before],
                "screws": dict(act.screws),
                "undo": act.undo,
                "caution": act.caution,
            }
            for act in made
        ],
        "screws": all_screws,
    }

    def lines() -> list[str]:
        told = []
        for number, act in enumerate(made, 1):
            told.append(f"{number:2}  {act.title}")
            told += [f"      after “{titles[name]}”: {why}" for name, why in act.before]
            told += [f"      {count} × {kind}" for kind, count in act.screws]
            told += [f"      if you take it apart: {act.undo}"] if act.undo else []
            told += [f"      ! {act.caution}"] if act.caution else []
        told.append("Screws in all: " + ", ".join(f"{count} × {kind}" for kind, count in all_screws.items()))
        return told

    out(data, as_json, lines)
    return OK


def switch(folder: Folder, as_json: Json = False) -> int:
    """Show the shutdown second by second: button, system, power, LED; exit 1 when the card is at risk."""
    build, catalogue = open_folder(folder)
    found = stopping(build, catalogue)
    data = {
        "stopped_s": found.stopped_s,
        "cut_s": found.cut_s,
        "at_risk": found.bad,
        "lanes": {lane.name: [span.__dict__ for span in lane.spans] for lane in found.lanes},
    }

    def lines() -> list[str]:
        told = []
        for lane in found.lanes:
            spans = ", ".join(f"{span.start:g} to {span.end:g} s {span.state or '–'}" for span in lane.spans)
            told.append(f"{lane.name:8} {spans}")
        return [*told, found.words]

    out(data, as_json, lines)
    return STOPS if found.bad else OK


def _load(text: str) -> Load | None:
    if not text:
        return None
    found: Load | None = next((load for load in LOADS if load == text), None)
    if found is None:
        raise WrongUse(f"There is no load {text!r}.", do=f"There are: {', '.join(LOADS)}.")
    return found
