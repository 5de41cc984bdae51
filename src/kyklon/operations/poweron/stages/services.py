"""The services, whatever starts them, and the user who is logged in."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from kyklon.catalogue.records import Rhythm
from kyklon.model.build import change_of
from kyklon.model.card import Program, RootFacts, Unit
from kyklon.model.findings import Remedy
from kyklon.operations.boot.services import by_dependencies, told_dependencies, track
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import PUT_ON_CARD, Failure, Moment, Screen, Step
from kyklon.operations.poweron.stages import mounts
from kyklon.operations.poweron.stages.add_ons import add_ons
from kyklon.operations.poweron.stages.fail import fail, or_put
from kyklon.operations.poweron.stages.init import why_not_started
from kyklon.operations.poweron.stages.root import root_of

SERVICE_S = 0.7  # seconds a service takes to start, CP


def services(bench: Bench) -> Step:
    found = _services(bench)
    if any(each.blocks for each in found.failures):
        return found
    extra = add_ons(bench)
    return Step((*found.moments, *extra.moments), (*found.failures, *extra.failures))


def _services(bench: Bench) -> Step:
    root, lamps, front = root_of(bench), bench.board.lamps, bench.image.foreground_service
    if root is None:
        return Step()
    if root.pulled:
        return _by_target(bench, root)
    settings = mounts.system_settings(bench)
    if root.numbered and (bad := mounts.checked(bench, root)):
        return fail(bad)
    names = (settings.services if settings else ()) or tuple(unit.name for unit in root.services)
    names = root.numbered or names
    there = root.unit(front) or _installed(bench, root, names)
    if bench.image.is_base or root.session is not None:
        there = there or Unit(front, None)
    elif front not in names or there is None:
        remedy = or_put(None, front in bench.build.boot.services) if there else None
        host = (settings.hostname if settings else "") or "games"
        cause = (
            f"{bench.image.front_end} is not in the list of services."
            if there
            else f"The image has no service {front}."
        )
        screen = Screen("text", "Text screen", (f"{host} login:",))
        return fail(Failure("services", "boot.no-front-end", cause, remedy, screen, lamps.idle))
    moments: list[Moment] = []
    for step in track(names, front):
        unit = root.unit(step.name) or (there if step.name == front else None)
        if step.name == bench.image.installer_service and unit is not None and root.unit(front) is None:
            if bad := _no_network(bench, names):
                return Step(tuple(moments), (bad,))
            low, high = bench.image.unattended_min
            moments.append(
                Moment(
                    f"{step.name} downloads {bench.image.front_end}: {low} to {high} minutes unattended.",
                    lamps.reading,
                    (low + high) * 30.0,
                    once=True,
                )
            )
            continue
        if unit is None:
            text, seconds = f"{step.name}: the image has no such service, so it is skipped.", 0.1
        elif not step.starts:
            danger = " The shutdown button will do nothing." if step.name == bench.image.watcher_service else ""
            text, seconds = f"{step.name} never starts: {front} never exits.{danger}", 0.0
        elif step.name != front and _never_returns(unit):
            text = f"Boot waits for {step.name}, which never exits, so {bench.image.front_end} never starts."
            screen = Screen("text", "Text screen", (f"start: {step.name}",))
            return Step(tuple(moments), (Failure("services", "boot.never-returns", text, None, screen, lamps.idle),))
        elif step.name != front and (why := why_not_started(bench, unit.program)):
            danger = " The shutdown button will do nothing." if step.name == bench.image.watcher_service else ""
            text, seconds = f"{step.name} does not run: {why}.{danger}", 0.1
        else:
            text, seconds = f"{step.name} starts.", SERVICE_S
        moments.append(Moment(text, lamps.reading, seconds))
        moments += missed(step.name, unit.program, lamps.reading) if step.starts and unit is not None else ()
    units = {unit.name: unit for unit in root.services}
    moments += [Moment(f"{words}.", lamps.reading, 0.0) for _name, words in told_dependencies(names, units)]
    return Step(tuple(moments))


def missed(name: str, program: Program | None, lamp: Rhythm) -> Iterable[Moment]:
    """What a service's script calls in vain."""
    for words in program.misses if program is not None and not program.trouble else ():
        yield Moment(f"{name} runs {program.path if program else ''}: {words}.", lamp, 0.0)


def _never_returns(unit: Unit) -> bool:
    """Whether what starts it waits for its end, and its script loops for ever."""
    return unit.foreground and unit.program is not None and unit.program.endless


def _by_target(bench: Bench, root: RootFacts) -> Step:
    """Services that systemd starts for its default target."""
    lamps, front = bench.board.lamps, bench.image.foreground_service

    def runs(unit: Unit) -> str:
        if unit.trouble:
            return unit.trouble
        if unit.user and (why := _as_user(root, unit)):
            return why
        return why_not_started(bench, unit.program) if unit.name != front else ""  # the front end has its own stage

    if target := _other_target(bench, root):
        screen = Screen("text", "Text screen", ("Give root password for maintenance",))
        cause = f"The kernel command line has {target}, so the default target is not started."
        failure = Failure("services", "boot.no-front-end", cause, None, screen, lamps.idle)
        return Step((), (failure,))

    if bad := mounts.emergency(bench, root):
        return fail(bad)
    masked = {word.removesuffix(".service") for word in bench.words_of("systemd.mask")}
    pulled = {
        name: replace(unit, kind="masked", program=None) if name in masked else unit
        for name, unit in root.pulled.items()
    }
    rows, _circles = by_dependencies(pulled, front, runs)
    moments: list[Moment] = []
    for row in rows:
        unit = pulled[row.name]
        if "." in row.name and unit.kind != "missing":
            continue  # targets and the like take no time of their own
        if row.why and "." not in row.name:
            danger = " The shutdown button will do nothing." if row.name == bench.image.watcher_service else ""
            moments.append(Moment(f"{row.name} does not start: {row.why}.{danger}", lamps.reading, 0.1))
        elif not row.why:
            moments.append(Moment(f"{row.name} starts.", lamps.reading, 0.1))
            moments += missed(row.name, unit.program, lamps.reading)
    found = next((row for row in rows if row.name == front), None)
    if bench.image.is_base:
        return Step(tuple(moments))
    if found is None or found.why:
        host = (bench.settings.hostname if bench.settings else "") or "games"
        why = found.why if found else "the default target does not pull it in"
        screen = Screen("text", "Text screen", (f"{host} login:",))
        cause = f"{bench.image.front_end} does not start: {why}."
        failure = Failure("services", "boot.no-front-end", cause, None, screen, lamps.idle)
        return Step(tuple(moments), (failure,))
    return Step(tuple(moments))


# words by which systemd goes to another target (systemd(1), kernel command line; kernel-command-line(7))
_TARGETS = {
    "single": "rescue.target",
    "s": "rescue.target",
    "S": "rescue.target",
    "1": "rescue.target",
    "rescue": "rescue.target",
    "emergency": "emergency.target",
    "-b": "emergency.target",
    "2": "multi-user.target",
    "3": "multi-user.target",
    "4": "multi-user.target",
    "5": "graphical.target",
}


def _other_target(bench: Bench, root: RootFacts) -> str:
    """The word that makes systemd start something else than the default target, '' for none."""
    found = ""
    for word in bench.kernel_line_words:
        name, equals, value = word.partition("=")
        target = value if equals and name == "systemd.unit" else _TARGETS.get(word, "")
        if target:
            found = "" if target in root.pulled or target == "default.target" else word
    return found


def _as_user(root: RootFacts, unit: Unit) -> str:
    """Why a unit that runs as another user does not start, '' when it does (systemd.exec(5), User=)."""
    user = root.user(unit.user) or next((each for each in root.users if str(each.number) == unit.user), None)
    if user is None:
        return f"it runs as {unit.user}, a user that does not exist"
    barred = unit.program.barred(user.number, user.group) if unit.program else ""
    return f"{unit.user} has no permission for {barred}" if barred else ""


def _installed(bench: Bench, root: RootFacts, names: tuple[str, ...]) -> Unit | None:
    """The front end's unit as the installer will have left it, where one runs before it."""
    installer, front = bench.image.installer_service, bench.image.foreground_service
    if not installer or root.unit(installer) is None or installer not in names or front not in names:
        return None
    if names.index(installer) > names.index(front) or why_not_started(bench, root.unit(installer).program):  # type: ignore[union-attr]
        return None
    return Unit(front, None, foreground=True)


def _no_network(bench: Bench, names: tuple[str, ...]) -> Failure | None:
    """What the installer ends with where it finds no network."""
    network, settings = bench.image.network_service, mounts.system_settings(bench)
    installer = bench.image.installer_service
    before = names[: names.index(installer)]
    if network in before and settings is not None and settings.country:
        return None
    cause = f"{installer} cannot fetch {bench.image.front_end}: "
    cause += (
        "no Wi-Fi country is set, so the radio stays off."
        if network in before
        else f"{network} does not start before it."
    )
    screen = Screen("text", "Text screen", ("No network",))
    right = bool(bench.build.boot.country) if network in before else network in bench.build.boot.services
    remedy = PUT_ON_CARD if right else None
    return Failure("services", "boot.installer-network", cause, remedy, screen, bench.board.lamps.idle)


def login(bench: Bench) -> Step:
    root, lamps = root_of(bench), bench.board.lamps
    settings = mounts.system_settings(bench)
    name = (settings.user if settings else "") or bench.image.default_user
    if root is not None and (root.session is not None or bench.image.is_base):
        name = root.session.user if root.session is not None and not root.session.trouble else ""
        if not name:
            return Step((Moment("The screen asks for a login.", lamps.idle, 0.3),))
    user = root.user(name) if root else None
    if root is None:
        return Step((Moment(f"{name} is logged in.", lamps.reading, 0.3),))
    screen = Screen("text", "Text screen", ("Login incorrect",))
    right = root.user(bench.build.boot.user) is not None
    if user is None:
        change = change_of("boot.user", bench.image.default_user, name, bench.image.default_user)
        remedy: Remedy | None = Remedy(label=f"Log in as {bench.image.default_user}", changes=(change,))
        if root.user(bench.image.default_user) is None:
            remedy = None
        cause = f"The image has no user {name}."
        return fail(Failure("login", "boot.user", cause, or_put(remedy, right), screen, lamps.idle))
    barred = user.shell.barred(user.number, user.group)
    if why := why_not_started(bench, user.shell) or (f"{name} has no permission for {barred}" if barred else ""):
        cause = f"{name} cannot log in: {why}."
        return fail(Failure("login", "system.shell", cause, None, screen, lamps.idle))
    moments = [Moment(f"{name} is logged in.", lamps.reading, 0.3)]
    if user.home_why:
        moments.append(Moment(f"{user.home_why}, so nothing can be saved there.", lamps.reading, 0.0))
    return Step(tuple(moments))
