"""Whether the parts fit together: plugs, signals, currents, capacity, image against board, sync."""

from __future__ import annotations

from kyklon.base.quantities import show_bytes
from kyklon.catalogue.chosen import known_systems
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Adapter, Board, Cable, Card, CataloguePart, Display, Port, Supply
from kyklon.model.build import Build, Link, Part, change_of
from kyklon.model.findings import Change, Finding, Remedy, Severity
from kyklon.model.world import World
from kyklon.operations.assembly.budget import budget
from kyklon.operations.assembly.power import RESERVE
from kyklon.operations.picture.chain import chain_of
from kyklon.operations.plan.acts import with_part_used
from kyklon.operations.plan.connections import Connection, connect, connections, port_of, unconnected

OPERATION = 10
ROLES_OF = {"board": "boards", "image": "images", "card": "cards", "adapter": "adapters"}
NEEDED = ("board", "supply", "card", "display", "image", "encoder")


def findings(build: Build, catalogue: Catalogue, _world: World) -> list[Finding]:
    found: list[Finding] = []
    keyed = [system for system in known_systems(build, catalogue) if system.keyboard]
    has_keys = bool(build.part("keyboard") or build.controls.keyboard.layout)
    for role in NEEDED:
        if build.part(role) is None:
            if role == "encoder" and has_keys and len(keyed) == len(build.systems):
                continue  # the keyboard is all that is played with
            found.append(_missing(role))
    if keyed and len(keyed) == len(build.systems) and not has_keys:
        found.append(_no_keys([system.name for system in keyed]))
    found += [
        _dangling(build, catalogue, connection) for connection in connections(build, catalogue) if connection.faults
    ]
    found += _open_ends(build, catalogue)
    return [
        *found,
        *_supply(build, catalogue),
        *_two_feeds(build, catalogue),
        *_usb(build, catalogue),
        *_capacity(build, catalogue),
        *_image(build, catalogue),
        *_sync(build, catalogue),
        *_tried(build, catalogue),
    ]


def _tried(build: Build, catalogue: Catalogue) -> list[Finding]:
    """Parts of this build that did not work together when they were tried; a later trial of the same parts counts."""
    cables = {cable for link in build.links for cable in (link.cable, *link.further)}
    there = {part.part for part in build.parts} | cables
    latest = {frozenset(trial.parts): trial for trial in sorted(build.plan.trials, key=lambda each: each.at)}
    found = []
    for parts, trial in latest.items():
        if trial.works or not parts <= there:
            continue
        names = [record.name if (record := catalogue.any(each)) is not None else each for each in trial.parts]
        found.append(
            Finding(
                code=f"plan.tried:{'+'.join(sorted(parts))}",
                severity=Severity.STOP,
                operation=OPERATION,
                subject=names[0],
                title=f"{' with '.join(names)} did not work when it was tried",
                message=trial.why or "No reason was noted.",
                why=f"Tried on {trial.at[:10]}. Exchange one of them, or note a trial that works."
                if trial.at
                else "Exchange one of them, or note a trial that works.",
                source="a trial on this bench",
            )
        )
    return found


def _missing(role: str) -> Finding:
    return Finding(
        code=f"plan.missing:{role}",
        severity=Severity.CAUTION,
        operation=OPERATION,
        subject=role,
        title=f"No {role} is chosen",
        message=f"The plan has no {role} yet.",
        why="Only planned parts can be checked.",
    )


def _no_keys(names: list[str]) -> Finding:
    return Finding(
        code="plan.keyboard",
        severity=Severity.NOTE,
        operation=OPERATION,
        subject=names[0],
        title="No keyboard is chosen",
        message=f"{', '.join(names)}: games are loaded, and often played, with keys.",
        why="A home computer without a keyboard starts, and waits for something to be typed.",
        source="keyboards of the systems in the catalogue",
    )


def _dangling(build: Build, catalogue: Catalogue, connection: Connection) -> Finding:
    link = connection.link
    remedy = None
    if connection.fitting:
        better = catalogue.get(Cable, connection.fitting)
        links = [
            (other.model_copy(update={"cable": better.id, "further": ()}) if other == link else other).model_dump()
            for other in build.links
        ]
        before = connection.cable.name if connection.cable else "none"
        change = Change(path="links", value=links, label="Cable", before=before, after=better.name)
        remedy = Remedy(label=f"Use {better.name}", changes=(change,))
    else:
        remedy = connect_remedy(build, catalogue)
    return Finding(
        code=f"plan.link:{link.start}-{link.end}",
        severity=Severity.STOP,
        operation=OPERATION,
        subject=f"{link.start} to {link.end}",
        title="This connection does not work",
        message=" ".join(connection.faults),
        why="The plug does not fit, or the other end does not accept the signal.",
        source="ports of the parts in the catalogue",
        remedy=remedy,
    )


def connect_remedy(build: Build, catalogue: Catalogue) -> Remedy | None:
    """Reconnect the parts; None when that changes nothing."""
    links = connect(build, catalogue)
    if links == build.links:
        return None
    change = Change(
        path="links",
        value=[link.model_dump() for link in links],
        label="Cables",
        before=f"{len(build.links)} cables",
        after=", ".join(catalogue.get(Cable, link.cable).name for link in links),
    )
    return Remedy(label="Reconnect the parts", changes=(change,))


def _open_ends(build: Build, catalogue: Catalogue) -> list[Finding]:
    open_ = unconnected(build, catalogue)
    if not open_:
        return []
    names = []
    for name in open_:
        part, port = port_of(name, build, catalogue)
        names.append(f"{part.name if part else name} ({port.label if port else name})")
    return [
        Finding(
            code="plan.unconnected",
            severity=Severity.STOP,
            operation=OPERATION,
            subject=names[0],
            title="Some parts have no cable",
            message=f"Not connected: {', '.join(names)}.",
            why="Parts without a cable do not work.",
            source="ports of the parts in the catalogue",
            remedy=connect_remedy(build, catalogue),
        )
    ]


def _supply(build: Build, catalogue: Catalogue) -> list[Finding]:
    power = budget(build, catalogue)
    if power is None or power.peak_a <= power.usable_a:
        return []
    fitting = [
        supply
        for supply in catalogue.all(Supply)
        if supply.amps * (1 - RESERVE) >= power.peak_a
        and {port.connector for port in supply.ports} == {port.connector for port in power.supply.ports}
    ]
    remedy = None
    if fitting:
        better = fitting[0]
        parts = [Part(role=p.role, part=better.id if p.role == "supply" else p.part).model_dump() for p in build.parts]
        change = Change(path="parts", value=parts, label="Supply", before=power.supply.name, after=better.name)
        remedy = Remedy(label=f"Use {better.name}", changes=(change,))
    over = power.peak_a > power.supply.amps
    return [
        Finding(
            code="plan.supply",
            severity=Severity.STOP if over else Severity.CAUTION,
            operation=OPERATION,
            subject=power.supply.name,
            title=f"A peak of {power.peak_a:.2f} A is {'too much for' if over else 'close to the limit of'} "
            "the power supply",
            message=f"{power.supply.name} is rated {power.supply.amps:.1f} A; with 20 % headroom, "
            f"{power.usable_a:.2f} A is usable.",
            why="A power supply at its limit sags, and the board restarts in the middle of a game.",
            remedy=remedy,
        )
    ]


def _two_feeds(build: Build, catalogue: Catalogue) -> list[Finding]:
    """Two sources on one part: what is switched on first feeds the other through it."""
    found = []
    for part in build.parts:
        feeds = []
        for link in build.links:
            _giver, socket = port_of(link.start, build, catalogue)
            _taker, plug = port_of(link.end, build, catalogue)
            into = link.end.partition(".")[0] == part.role and plug is not None and plug.signal == "power"
            if into and socket is not None:
                feeds.append(link)
        if len(feeds) < 2:
            continue
        names = [giver.name if (giver := port_of(link.start, build, catalogue)[0]) else link.start for link in feeds]
        record = catalogue.any(part.part)
        name = record.name if record else part.role
        kept = [link.model_dump() for link in build.links if link not in feeds[1:]]
        change = Change(path="links", value=kept, label="Cables", before=" and ".join(names), after=f"{names[0]} alone")
        found.append(
            Finding(
                code=f"plan.two-feeds:{part.role}",
                severity=Severity.STOP,
                operation=OPERATION,
                subject=name,
                title=f"Two sources power the {name}",
                message=f"{' and '.join(names)} are both connected to its power.",
                why="The one with the higher voltage feeds the other backwards, which can destroy it.",
                source="USB 2.0, 7.2.1: no current may be driven upstream",
                remedy=Remedy(label=f"Power it by {names[0]} alone", changes=(change,)),
            )
        )
    return found


def _usb(build: Build, catalogue: Catalogue) -> list[Finding]:
    found = []
    for link in build.links:
        _, socket = port_of(link.start, build, catalogue)
        part, plug = port_of(link.end, build, catalogue)
        if socket is None or plug is None or part is None or not socket.supplies_a or socket.signal == "power":
            continue
        if plug.draws_a > socket.supplies_a:
            found.append(_overdrawn(link, part.name, socket, plug))
    return found


def _overdrawn(link: Link, name: str, socket: Port, plug: Port) -> Finding:
    return Finding(
        code=f"plan.usb-current:{link.end}",
        severity=Severity.STOP,
        operation=OPERATION,
        subject=name,
        title=f"{name} needs more current than its socket gives",
        message=f"It draws {plug.draws_a:.2f} A; {socket.label} gives {socket.supplies_a:.2f} A.",
        why="The socket switches off, or the whole board restarts.",
        source="USB 2.0 and 3.2: 500 mA and 900 mA a port",
    )


def _swapped(build: Build, catalogue: Catalogue, role: str, better: CataloguePart) -> Remedy:
    """Another part in a role, with what follows from it in the boot settings and the cables."""
    kind = ROLES_OF[role]
    made = with_part_used(build, kind, better.id, catalogue)
    before = catalogue.any(build.part(role))
    changes = [
        Change(
            path="parts",
            value=[part.model_dump() for part in made.parts],
            label=role.capitalize(),
            before=before.name if before else "none",
            after=better.name,
        )
    ]
    if made.links != build.links:
        changes.append(
            Change(
                path="links",
                value=[link.model_dump() for link in made.links],
                label="Cables",
                before=f"{len(build.links)} cables",
                after=f"{len(made.links)} cables",
            )
        )
    for name in ("dialect", "kernel", "device_tree", "user", "services"):
        old, new = getattr(build.boot, name), getattr(made.boot, name)
        if old != new:
            shown = [", ".join(value) if isinstance(value, tuple) else str(value) for value in (old, new)]
            changes.append(change_of(f"boot.{name}", list(new) if isinstance(new, tuple) else new, *shown))
    return Remedy(label=f"Use {better.name}", changes=tuple(changes))


def _capacity(build: Build, catalogue: Catalogue) -> list[Finding]:
    card, image = catalogue.find(Card, build.part("card")), catalogue.find(Image, build.part("image"))
    board = catalogue.find(Board, build.part("board"))
    if card is None:
        return []
    found = []
    most = board.most_card_bytes if board is not None else 0
    large = [
        other
        for other in sorted(catalogue.all(Card), key=lambda other: other.capacity_bytes)
        if (image is None or other.capacity_bytes >= image.least_card_bytes)
        and (not most or other.capacity_bytes <= most)
    ]
    remedy = _swapped(build, catalogue, "card", large[0]) if large else None
    if image is not None and card.capacity_bytes < image.least_card_bytes:
        found.append(
            Finding(
                code="plan.card-size",
                severity=Severity.STOP,
                operation=OPERATION,
                subject=card.name,
                title="The card is too small for the image",
                message=f"{card.name} holds {show_bytes(card.capacity_bytes)}; {image.name} needs at least "
                f"{show_bytes(image.least_card_bytes)}.",
                why="The write ends before the image does.",
                source=f"{image.name} in the catalogue",
                remedy=remedy,
            )
        )
    if board is not None and most and card.capacity_bytes > most:
        found.append(
            Finding(
                code="plan.card-loader",
                severity=Severity.STOP,
                operation=OPERATION,
                subject=card.name,
                title="The card is too large for the board's loader",
                message=f"{card.name} holds {show_bytes(card.capacity_bytes)}; {board.name} starts from cards up to "
                f"{show_bytes(most)}.",
                why="The board finds nothing to start from, and stays dark.",
                source=f"{board.name} in the catalogue",
                remedy=remedy,
            )
        )
    return found


def _image(build: Build, catalogue: Catalogue) -> list[Finding]:
    board, image = catalogue.find(Board, build.part("board")), catalogue.find(Image, build.part("image"))
    if board is None or image is None or board.id in image.boards:
        return []
    names = [other.name for name in image.boards if (other := catalogue.find(Board, name)) is not None]
    serving = [other for other in catalogue.all(Image) if board.id in other.boards and other.has_system]
    serving.sort(key=lambda other: other.school != image.school)
    message = f"It supports {', '.join(names)}." if names else "It supports no board of the shelf."
    remedy = _swapped(build, catalogue, "image", serving[0]) if serving else None
    if remedy is None and names:
        nearest = [other for name in image.boards if (other := catalogue.find(Board, name)) is not None]
        nearest.sort(key=lambda other: (other.native_set != board.native_set, other.price))
        remedy = _swapped(build, catalogue, "board", nearest[0])
        message += f" No image of the shelf supports the {board.name}."
    return [
        Finding(
            code="plan.image-board",
            severity=Severity.STOP,
            operation=OPERATION,
            subject=image.name,
            title=f"{image.name} does not support the {board.name}",
            message=message,
            why="Without this board's device tree the machine stays dark.",
            source=f"{image.name} in the catalogue",
            remedy=remedy,
        )
    ]


def _sync(build: Build, catalogue: Catalogue) -> list[Finding]:
    display, adapter = catalogue.find(Display, build.part("display")), catalogue.find(Adapter, build.part("adapter"))
    if display is None or not display.tube:
        return []
    if adapter is None or display.sync == adapter.sync_out or chain_of(build, catalogue, World()).whole:
        return []  # what is plugged is judged in Picture, plug by plug
    fitting = [other for other in catalogue.all(Adapter) if other.sync_out == display.sync and _meets(other, display)]
    return [
        Finding(
            code="plan.sync",
            severity=Severity.STOP,
            operation=OPERATION,
            subject=adapter.name,
            title="The sync wires do not match",
            message=f"{adapter.name} gives {adapter.sync_out} sync; {display.name} needs {display.sync} sync.",
            why="Tying the two sync outputs together overdrives the input and can damage it. Use an active "
            "sync combiner, or an adapter with the right sync.",
            remedy=_swapped(build, catalogue, "adapter", fitting[0]) if fitting else None,
        )
    ]


def _meets(adapter: Adapter, display: Display) -> bool:
    """Whether an adapter's output goes into the display."""
    outs = {(port.connector, port.signal) for port in adapter.ports if port.direction == "out"}
    return bool(outs & {(port.connector, port.signal) for port in display.ports if port.direction == "in"})
