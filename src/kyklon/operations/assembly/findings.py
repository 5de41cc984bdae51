"""What the electricity says against the build."""

from __future__ import annotations

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Cable
from kyklon.model.build import Build
from kyklon.model.findings import Change, Finding, Remedy, Severity
from kyklon.model.world import World
from kyklon.operations.assembly.power import Budget, budget, feed_of, way_drop_v

OPERATION = 80
THROTTLE_C = 80.0  # °C, CP: where such chips slow down
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
    return electrical_findings(build, catalogue)


def electrical_findings(build: Build, catalogue: Catalogue) -> list[Finding]:
    """What supply, cable and heat say; nothing of it is observed."""
    power = budget(build, catalogue)
    if power is None:
        return []
    return [*_voltage(build, catalogue, power), *_heat(power)]


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
            message=f"{power.cable.name} loses {power.drop_v:.2f} V at {power.peak_a:.2f} A; undervoltage warning "
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
    fitting = [
        cable
        for cable in catalogue.all(Cable)
        if sorted(cable.ends) == sorted(power.cable.ends)
        and not cable.socket_end
        and (drop := way_drop_v((cable,), power.peak_a)) is not None
        and power.supply.volts - drop >= power.board.low_voltage_v
        and (cable.length_m >= reach or (not (link and link.needs_m) and cable.length_m >= _REACHES_M))
    ]
    if not fitting:
        return None
    better = min(fitting, key=lambda cable: (cable.length_m < reach, cable.price, cable.id))
    links = tuple(
        link.model_copy(update={"cable": better.id, "further": ()}) if link.end == "board.power" else link
        for link in build.links
    )
    change = Change(
        path="links",
        value=[link.model_dump() for link in links],
        label="Power supply cable",
        before=power.cable.name,
        after=better.name,
    )
    shorter = f", {better.length_m:g} m long" if better.length_m < reach else ""
    return Remedy(label=f"Use {better.name}{shorter}", changes=(change,))


def _heat(power: Budget) -> list[Finding]:
    if power.chip_c < THROTTLE_C:
        return []
    return [
        Finding(
            code="assembly.heat",
            severity=Severity.CAUTION,
            operation=OPERATION,
            subject=power.board.name,
            title=f"The chip will reach {power.chip_c:.0f} °C in a closed case",
            message=f"{power.board.name} throttles from about {THROTTLE_C:.0f} °C."
            + (_OF_BOARD if power.board.is_assumed("peak_a") else ""),
            why="Games drop frames just when they need the CPU most.",
            source="Ta + P · Rth; the limit is common practice",
        )
    ]
