"""The kernel and what it starts: root partition, services, login."""

from __future__ import annotations

from kyklon.base.quantities import show_bytes
from kyklon.model.build import change_of
from kyklon.model.findings import Remedy
from kyklon.model.root_device import root_device
from kyklon.operations.boot.services import WATCHER, track
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import PUT_ON_CARD, Failure, Moment, Screen, Step
from kyklon.operations.poweron.stages.fail import fail, or_put, panic

KERNEL_S = 1.8  # seconds from the kernel's first line to the root partition, CP
EXPANSION_B_S = 2e9  # bytes of card a first boot enlarges the root by per second, CP
SERVICE_S = 0.7  # seconds a service takes to start, CP


def kernel_line(bench: Bench) -> Step:
    given, lamps = bench.kernel_line_words, bench.board.lamps
    if not any(word.startswith("root=") for word in given):
        cause = "The kernel line names no root partition (root=)."
        return fail(panic("kernel line", "boot.no-root", cause, lamps.stuck, _root_remedy(bench)))
    table = bench.contents.table
    meant = root_device(given, table, disk=bench.build.medium == "disk") if table else None
    if meant is not None and meant.partition is None:
        cause = f"root={meant.word}: {meant.why}"
        return fail(panic("kernel line", "boot.root-nowhere", cause, lamps.stuck, _root_remedy(bench)))
    moments = [Moment(f"{len(given)} words.", lamps.reading, KERNEL_S)]
    if bench.settings and bench.settings.line_breaks:
        moments.append(Moment("The kernel line is broken in two: only its first line is read.", lamps.reading, 0.0))
    return Step(tuple(moments))


def root_partition(bench: Bench) -> Step:
    lamps, table = bench.board.lamps, bench.contents.table
    meant = root_device(bench.kernel_line_words, table, disk=bench.build.medium == "disk") if table else None
    if meant is not None and meant.partition is not None and meant.partition.number != bench.contents.root_number:
        cause = f"root={meant.word} is partition {meant.partition.number}, {meant.partition.word}"
        cause += f"; the system is on partition {bench.contents.root_number}." if bench.contents.root_number else "."
        failure = panic("root partition", "boot.root-elsewhere", cause, lamps.stuck, _root_remedy(bench))
        return fail(failure, hides=True)
    if bench.contents.root is None:
        failure = panic("root partition", "card.no-root-partition", bench.contents.root_error, lamps.stuck)
        return fail(failure, hides=True)
    return Step((Moment(f"{bench.contents.root.release or 'Linux'}.", lamps.reading, 0.5),))


def _root_remedy(bench: Bench) -> Remedy | None:
    """Name the partition that holds the system."""
    number = bench.contents.root_number
    if not number:
        return None
    device = f"/dev/sda{number}" if bench.build.medium == "disk" else f"/dev/mmcblk0p{number}"
    words = bench.build.boot.kernel_words
    after = [*(word for word in words if not word.startswith("root=")), f"root={device}"]
    if list(words) == after:
        return PUT_ON_CARD
    change = change_of("boot.kernel_words", after, " ".join(words) or "none", " ".join(after))
    return Remedy(label=f"Name {device}", changes=(change,))


def root_expansion(bench: Bench) -> Step:
    root, table = bench.contents.root, bench.contents.table
    part = table.root() if table else None
    if root is None or part is None or root.expanded or bench.card is None:
        return Step()
    room = bench.card.capacity_bytes - part.start
    text = f"Grows from {show_bytes(part.size)} to {show_bytes(room)}, then restarts."
    return Step((Moment(text, bench.board.lamps.reading, room / EXPANSION_B_S),))


def services(bench: Bench) -> Step:
    root, lamps, front = bench.contents.root, bench.board.lamps, bench.image.foreground_service
    if root is None:
        return Step()
    names = (bench.settings.services if bench.settings else ()) or root.services
    if front not in names:
        remedy = or_put(None, front in bench.build.boot.services)
        screen = Screen(
            "text", "Login prompt", (f"{(bench.settings.hostname if bench.settings else '') or 'games'} login:",)
        )
        cause = f"{bench.image.front_end} is not among the services."
        return fail(Failure("services", "boot.no-front-end", cause, remedy, screen, lamps.idle))
    moments = []
    for step in track(names, front):
        if step.name not in root.services:
            text, seconds = f"{step.name}: the image has no such service, so it is skipped.", 0.1
        elif not step.starts:
            danger = " The shutdown button will do nothing." if step.name == WATCHER else ""
            text, seconds = f"{step.name} never starts: {front} does not return.{danger}", 0.0
        else:
            text, seconds = f"{step.name} starts.", SERVICE_S
        moments.append(Moment(text, lamps.reading, seconds))
    return Step(tuple(moments))


def login(bench: Bench) -> Step:
    root, lamps = bench.contents.root, bench.board.lamps
    user = (bench.settings.user if bench.settings else "") or bench.image.default_user
    if root is None or user in root.users:
        return Step((Moment(f"{user} is logged in.", lamps.reading, 0.3),))
    change = change_of("boot.user", bench.image.default_user, user, bench.image.default_user)
    remedy = Remedy(label=f"Log in as {bench.image.default_user}", changes=(change,))
    screen = Screen("text", "Login prompt", ("Login incorrect",))
    right = bench.build.boot.user in root.users
    cause = f"The image has no user {user}."
    return fail(Failure("login", "boot.user", cause, or_put(remedy, right), screen, lamps.idle))
