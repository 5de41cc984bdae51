"""What the electricity says against the build."""

from __future__ import annotations

from math import ceil

from kyklon.base.quantities import show_duration
from kyklon.catalogue.cables import joined, why_not_joined
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Cable
from kyklon.model.assembly import AssemblySettings
from kyklon.model.build import Build, remedied
from kyklon.model.fields import describe
from kyklon.model.findings import Change, Finding, Remedy, Severity
from kyklon.model.world import World
from kyklon.operations.assembly.budget import Budget, budget
from kyklon.operations.assembly.case_findings import case_findings
from kyklon.operations.assembly.electrics import cable_drop_v
from kyklon.operations.assembly.heat import THROTTLE_C, heat, helps
from kyklon.operations.assembly.power import feed_of
from kyklon.operations.assembly.rooms import Room, best_room
from kyklon.operations.assembly.space import clashes, inner_of, space_of
from kyklon.operations.assembly.surge import inrush
from kyklon.operations.assembly.switching import least_off_s, stopping
from kyklon.operations.assembly.tree import battery_v, feed
from kyklon.operations.assembly.wire import DROP_SHARE, Run, ampacity_a, lead_for, melts_i2t, opens_on_short, with_gauge

OPERATION = 80
CAUTIONS = (
    "Goggles on when you drill or cut; try the cutter on scrap first.",
    "A tube keeps a lethal charge after the plug is out, and some chassis are live: leave it to someone qualified.",
    "Mains wiring follows your local code and is a licensed electrician's work.",
    "A battery can start a fire through a thin wire: fuse it at its terminal.",
    "Touch bare metal before the board: static kills it silently.",
    "Solder in fresh air; the iron stays hot for minutes.",
    "A cable with the same plug on both ends can connect two power supplies to each other.",
    "A 5 V signal kills a 3.3 V pin.",
)


def findings(build: Build, catalogue: Catalogue, _world: World) -> list[Finding]:
    return [
        *electrical_findings(build, catalogue),
        *_switch(build, catalogue),
        *_clashes(build, catalogue),
        *case_findings(build, catalogue),
    ]


def _switch(build: Build, catalogue: Catalogue) -> list[Finding]:
    """A button that cuts the power before the system has stopped, or that nobody hears."""
    own = build.assembly
    if own.switch in ("plug", "in the line"):
        return []
    found = stopping(build, catalogue)
    deaf = found.stopped_s is None
    if not (found.bad or deaf):
        return []
    remedy = None
    if found.bad and not deaf and not own.board_waits and own.press_s < own.force_s:
        wait = float(ceil(least_off_s(build)))
        change = assembly_change(build, "assembly.board_off_s", wait)
        remedy = Remedy(label=f"Cut after {wait:.0f} s", changes=(change,))
    return [
        Finding(
            code="assembly.switch",
            severity=Severity.CAUTION,
            operation=OPERATION,
            subject="Switch",
            title="Power is cut before the system has halted" if found.bad else "The button does nothing",
            message=found.words,
            why="A card that loses its power in the middle of a write can lose its file system.",
            source="button, watcher and power board in time",
            remedy=remedy,
        )
    ]


_MOST_CLASHES = 6  # that are told at once


def _clashes(build: Build, catalogue: Catalogue) -> list[Finding]:
    """What collides in a case that somebody measured; a proposed one is changed as easily as the things in it."""
    if not inner_of(build, catalogue)[1]:
        return []
    space = space_of(build, catalogue)
    found = []
    for clash in clashes(space)[:_MOST_CLASHES]:
        one, other = space.box(clash.one), space.box(clash.other)
        name = other.name if other is not None else f"the {clash.other}"
        best = best_room(build, catalogue, clash)
        found.append(
            Finding(
                code=f"assembly.clash:{clash.one}-{clash.other}".replace(" ", "-"),
                severity=Severity.CAUTION,
                operation=OPERATION,
                subject=one.name if one is not None else clash.one,
                title=f"{one.name if one else clash.one} and {name} collide",
                message=f"They overlap by {clash.missing:.1f} mm"
                + (f"; assumed: {', '.join(space.assumed)}." if space.assumed else "."),
                why="The lid does not close, or something is bent that should not be.",
                source="boxes in the case's own millimetres",
                remedy=room_remedy(build, best) if best is not None else None,
            )
        )
    return found


def room_remedy(build: Build, room: Room) -> Remedy:
    """What makes room, as an edit of the build."""
    changes = []
    for name in ("bodies", "bent", "openings", "inner_wide", "inner_deep", "inner_high"):
        before, after = getattr(build.assembly, name), getattr(room.build.assembly, name)
        if before != after:
            value = [row.model_dump() for row in after] if name in ("bodies", "openings") else after
            value = list(value) if isinstance(value, tuple) else value
            field = describe(Build, f"assembly.{name}")
            changes.append(
                Change(path=f"assembly.{name}", value=value, label=field.label, before="as it is", after=room.words)
            )
    return Remedy(label=room.words, changes=tuple(changes))


def electrical_findings(build: Build, catalogue: Catalogue) -> list[Finding]:
    """What supply, cable and heat say; nothing of it is observed."""
    power = budget(build, catalogue)
    if power is None:
        return []
    return [
        *_voltage(build, catalogue, power),
        *_plugs(build, catalogue),
        *battery_findings(build, catalogue),
        *_heat(build, catalogue),
    ]


_REACHES_M = 1.0  # m: a supply beside the machine, CP; said as a shorter cable where that is what helps
_OF_BOARD = " The board's peak current is assumed: measure it, or look it up."


def _voltage(build: Build, catalogue: Catalogue, power: Budget) -> list[Finding]:
    if power.board_v is None or power.board_v >= power.board.low_voltage_v or power.cable is None:
        return []
    assumed = power.board.is_assumed("peak_a")
    return [
        Finding(
            code="assembly.low-voltage",
            severity=Severity.CAUTION if assumed else Severity.STOP,
            operation=OPERATION,
            subject=power.cable.name,
            title=f"Only {power.board_v:.2f} V may reach the board"
            if assumed
            else f"Only {power.board_v:.2f} V reach the board",
            message=f"{power.cable.name} loses {power.drop_v:.2f} V at {power.way_a:.2f} A; undervoltage warning "
            f"below {power.board.low_voltage_v:.2f} V.{_OF_BOARD if assumed else ''}",
            why="Below that the board slows down, and the card may be damaged in the middle of a write.",
            source="ASTM B258 and IEC 60028 for the wire; the limit is common practice",
            remedy=_thicker(build, catalogue, power),
        )
    ]


def _thicker(build: Build, catalogue: Catalogue, power: Budget) -> Remedy | None:
    assert power.cable is not None
    link = feed_of(build)
    # a cable may not get shorter than what it has to reach; where nobody said, a longer one always reaches
    reach = (link.needs_m if link else 0.0) or power.cable.length_m
    better = next(
        (
            pieces
            for pieces in _able(power, catalogue, reach, strict=bool(link and link.needs_m))
            if _cures(_fed_by(build, pieces), catalogue)
        ),
        None,
    )
    if better is None:
        return None
    links = _fed_by(build, better).links
    whole = joined(better)
    change = Change(
        path="links",
        value=[link.model_dump() for link in links],
        label="Power supply cable",
        before=power.cable.name,
        after=whole.name,
    )
    shorter = f", {whole.length_m:g} m long" if whole.length_m < reach else ""
    return Remedy(label=f"Use {whole.name}{shorter}", changes=(change,))


def _fed_by(build: Build, pieces: tuple[Cable, ...]) -> Build:
    """A build whose board is fed by these pieces."""
    further = tuple(piece.id for piece in pieces[1:])
    links = tuple(
        link.model_copy(update={"cable": pieces[0].id, "further": further}) if link.end == "board.power" else link
        for link in build.links
    )
    return build.model_copy(update={"links": links})


def _cures(build: Build, catalogue: Catalogue) -> bool:
    power = budget(build, catalogue)
    return power is not None and power.board_v is not None and power.board_v >= power.board.low_voltage_v


def _able(power: Budget, catalogue: Catalogue, reach: float, *, strict: bool) -> list[tuple[Cable, ...]]:
    """Cables, and pairs of a cable and an extension, between the same two sockets: those that are long enough, then,
    where nobody said how far it is, shorter ones; the fewest pieces and the cheapest first."""
    assert power.cable is not None
    cables = [cable for cable in catalogue.all(Cable) if not cable.ties_sync]
    plain: list[tuple[Cable, ...]] = [(cable,) for cable in cables if not cable.socket_end]
    extensions = [piece for piece in cables if piece.socket_end]
    pairs = [pair for (cable,) in plain for piece in extensions for pair in ((cable, piece), (piece, cable))]
    start, end = power.cable.ends
    fitting = [
        pieces
        for pieces in (*plain, *pairs)
        if not why_not_joined(pieces, start, end) and joined(pieces).length_m >= (reach if strict else _REACHES_M)
    ]
    return sorted(
        fitting,
        key=lambda pieces: (
            joined(pieces).length_m < reach,
            len(pieces),
            sum(piece.price for piece in pieces),
            tuple(piece.id for piece in pieces),
        ),
    )


def _heat(build: Build, catalogue: Catalogue) -> list[Finding]:
    found = heat(build, catalogue)
    if found is None or found.throttles_s is None:
        return []
    board = catalogue.get(Board, build.part("board"))
    enough = [way for way in helps(build, catalogue) if way.chip_c < THROTTLE_C]
    how = min(enough, key=lambda way: way.effort, default=None)
    remedy = None
    if how is not None:
        changes = [assembly_change(build, how.path, how.value)]
        if how.value == "case":
            changes.append(assembly_change(build, "assembly.case", "metal"))
        price = f" ({how.price})" if how.price else ""
        remedy = Remedy(label=f"{how.name}: {how.chip_c:.0f} °C{price}", changes=tuple(changes))
    return [
        Finding(
            code="assembly.heat",
            severity=Severity.CAUTION,
            operation=OPERATION,
            subject=board.name,
            title=f"The chip will reach {found.chip_c:.0f} °C",
            message=f"Under {found.load} thermal throttling starts after {show_duration(found.throttles_s)} from cold, "
            f"at about {THROTTLE_C:.0f} °C." + (_OF_BOARD if board.is_assumed("peak_a") else ""),
            why="Games drop frames just when they need the CPU most.",
            source="thermal network of chip, board, case and room; films and shares are common practice",
            remedy=remedy,
        )
    ]


def assembly_change(build: Build, path: str, value: object) -> Change:
    """An edit of the assembly's settings, in words."""
    field = describe(Build, path)
    before = getattr(build.assembly, path.rpartition(".")[2])
    return Change(path=path, value=value, label=field.label, before=field.words(before), after=field.words(value))


def _plugs(build: Build, catalogue: Catalogue) -> list[Finding]:
    """What hangs on the board and gets too few volts."""
    found = feed(build, catalogue, "peak")
    if found is None or found.board_v < found.board.low_voltage_v:
        return []  # what hangs on a starved board starves with it
    low = [
        (sink, found.low.volts[sink.node])
        for sink in found.low.tree.sinks
        if sink.node not in ("board", "supply") and sink.least_v and found.low.volts[sink.node] < sink.least_v
    ]
    return [
        Finding(
            code=f"assembly.device-voltage:{sink.node}",
            severity=Severity.CAUTION,
            operation=OPERATION,
            subject=sink.name,
            title=f"Only {volts:.2f} V at {sink.name}",
            message=f"At the peak it gets {volts:.2f} V; a USB device may expect {sink.least_v:.2f} V.",
            why="Below that it drops off the bus, or shows no picture.",
            source="USB 2.0, 7.2.2; ASTM B258 and IEC 60028 for the wire",
        )
        for sink, volts in low
    ]


def battery_findings(build: Build, catalogue: Catalogue) -> list[Finding]:
    """Fuse, lead and battery against each other and against the load at its peak; with a remedy only where it cures."""
    found = []
    for finding in _battery_rows(build, catalogue):
        if finding.remedy is not None:
            after = {other.code for other in _battery_rows(remedied(build, finding.remedy), catalogue)}
            if finding.code in after:
                finding = finding.model_copy(update={"remedy": None})
        found.append(finding)
    return found


def _battery_rows(build: Build, catalogue: Catalogue) -> list[Finding]:
    found = feed(build, catalogue, "peak")
    if found is None or found.high is None:
        return []
    own, flow = build.assembly, found.high
    if not flow.holds:
        return [
            _of_battery(
                "battery-weak",
                Severity.STOP,
                "The battery cannot supply this",
                "More than half of its volts are lost on the way at the peak.",
                "The converter switches off, and tries again and again.",
                lead_remedy(build, catalogue),
            )
        ]
    amps = flow.root_a
    rows = _fuse_rows(build, catalogue, amps)
    rush = inrush(flow.tree.volts, sum(segment.ohms for segment in flow.tree.segments), own.input_uf * 1e-6)
    if own.fuse_a and rush.i2t > melts_i2t(own.fuse_a, slow=own.fuse_slow):
        rows.append(
            _of_battery(
                "fuse-inrush",
                Severity.CAUTION,
                f"The {own.fuse_a:g} A fuse may open when it is switched on",
                f"{own.input_uf:.0f} µF draw {rush.peak_a:.0f} A for {rush.settles_s * 1000:.1f} ms.",
                "A quick fuse ages at every start.",
                None
                if own.fuse_slow
                else Remedy(
                    label="A slow-blow fuse", changes=(assembly_change(build, "assembly.fuse_slow", value=True),)
                ),
            )
        )
    lost = cable_drop_v(own.lead_awg, own.lead_m, amps, own.wire_c)
    if lost > DROP_SHARE * flow.tree.volts:
        rows.append(
            _of_battery(
                "lead-drop",
                Severity.CAUTION,
                f"The lead loses {lost:.2f} V",
                f"{own.lead_m:g} m of AWG {own.lead_awg} at {amps:.2f} A; {DROP_SHARE:.0%} are the usual limit.",
                "The battery seems empty although it is not.",
                lead_remedy(build, catalogue),
            )
        )
    return rows


def _fuse_rows(build: Build, catalogue: Catalogue, amps: float) -> list[Finding]:
    """The fuse against its lead and the amps of the peak."""
    own = build.assembly
    bears = ampacity_a(own.lead_awg, own.wire_c)
    lead = f"AWG {own.lead_awg}, which bears {bears:.1f} A at {own.wire_c:.0f} °C"
    rows: list[Finding] = []
    if not own.fuse_a:
        rows.append(
            _of_battery(
                "fuse-none",
                Severity.STOP,
                "The battery's lead has no fuse",
                f"{lead}; a short draws about {short_a(own):.0f} A.",
                "A battery can start a fire through a thin wire; the fuse sits at its terminal.",
                lead_remedy(build, catalogue),
            )
        )
    elif own.fuse_a > bears:
        rows.append(
            _of_battery(
                "fuse-large",
                Severity.STOP,
                f"The {own.fuse_a:g} A fuse does not protect its lead",
                f"The lead is {lead}.",
                "The wire burns before the fuse opens.",
                lead_remedy(build, catalogue),
            )
        )
    elif own.fuse_a < amps:
        rows.append(
            _of_battery(
                "fuse-small",
                Severity.CAUTION,
                f"The {own.fuse_a:g} A fuse opens in play",
                f"{amps:.2f} A are drawn from the battery at the peak.",
                "A fuse that carries more than its rating opens sooner or later.",
                lead_remedy(build, catalogue),
            )
        )
    elif not opens_on_short(own.fuse_a, short_a(own)):
        rows.append(
            _of_battery(
                "fuse-slow-on-short",
                Severity.CAUTION,
                "A short at the far end may not open the fuse",
                f"It draws about {short_a(own):.1f} A through {own.lead_m:g} m of AWG {own.lead_awg}.",
                "The wire then gets hot for minutes.",
                lead_remedy(build, catalogue),
            )
        )
    return rows


def short_a(own: AssemblySettings) -> float:
    """Amps of a short at the far end of the battery's lead, cold."""
    ohms = cable_drop_v(own.lead_awg, own.lead_m, 1.0, own.wire_c) + own.battery_mohm / 1000
    return battery_v(own) / ohms if ohms > 0 else float("inf")


def lead_remedy(build: Build, catalogue: Catalogue) -> Remedy | None:
    """The thinnest lead with the fuse that suits it; None where none does, or where it is so already."""
    own, found = build.assembly, feed(build, catalogue, "peak")
    if found is None or found.high is None:
        return None
    amps = found.high.root_a if found.high.holds else found.low.root_a
    run = Run(amps, found.high.tree.volts, own.lead_m, own.wire_c, own.battery_mohm / 1000)
    lead = lead_for(run)
    if lead is None or (lead.gauge == own.lead_awg and lead.fuse_a == own.fuse_a):
        return None
    keep = with_gauge(own.lead_awg, run)
    good = keep.fuse_a and keep.drop_v <= DROP_SHARE * found.high.tree.volts and keep.fuse_a != own.fuse_a
    if good and opens_on_short(keep.fuse_a, keep.short_a):  # the lead that is there is thick enough
        lead = keep
    changes = []
    if lead.gauge != own.lead_awg:
        changes.append(assembly_change(build, "assembly.lead_awg", lead.gauge))
    if lead.fuse_a != own.fuse_a:
        changes.append(assembly_change(build, "assembly.fuse_a", lead.fuse_a))
    return Remedy(label=f"AWG {lead.gauge} and a fuse of {lead.fuse_a:g} A", changes=tuple(changes))


def _of_battery(code: str, severity: Severity, title: str, message: str, why: str, remedy: Remedy | None) -> Finding:
    return Finding(
        code=f"assembly.{code}",
        severity=severity,
        operation=OPERATION,
        subject="Battery",
        title=title,
        message=message,
        why=why,
        source="NFPA 70 and IEC 60127 figures from memory; ASTM B258, IEC 60028",
        remedy=remedy,
    )
