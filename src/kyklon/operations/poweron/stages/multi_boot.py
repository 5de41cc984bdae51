"""A multi-boot chooser: one program without a system below it, which lists the bundles on its own card and unpacks
those that are picked.

What it looks for is catalogue data (`choosers.toml`); the bundles are judged by the rules of `card/sets/bundle.py`.
"""

from __future__ import annotations

from kyklon.base.quantities import show_bytes, show_minutes
from kyklon.catalogue.image_records import Chooser
from kyklon.model.findings import Severity
from kyklon.operations.card.disk import unpacking_speeds
from kyklon.operations.card.sets.multiboot import Check, check_card
from kyklon.operations.card.sets.problems import Problem
from kyklon.operations.card.sets.unpacking import seconds
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import Failure, Moment, Screen, Step

LIST_S = 2.0  # seconds from the chooser's start to its list, CP
UNLISTED = ("no-manifest", "manifest", "board")  # problems with which a bundle is not offered at all


def chooser_of(bench: Bench) -> Chooser | None:
    return next((each for each in bench.catalogue.all(Chooser) if each.image == bench.image.id), None)


def checked(bench: Bench) -> Check | None:
    """The bundles on this card; None where the catalogue does not say what the chooser looks for."""
    chooser = chooser_of(bench)
    return check_card(bench.contents, chooser, board=bench.board.id, size=bench.card_bytes) if chooser else None


def troubles(found: Check) -> dict[str, Problem]:
    """The first stop of each bundle that has one, by its folder."""
    stops: dict[str, Problem] = {}
    for problem in found.problems:
        if problem.severity is Severity.STOP and problem.bundle:
            stops.setdefault(problem.bundle, problem)
    labels = {p.subject: p for p in found.problems if p.code == "same-label" and p.severity is Severity.STOP}
    for bundle in found.bundles:
        for part in bundle.partitions:
            if part.label in labels:
                stops.setdefault(bundle.folder, labels[part.label])
    return stops


def offered(bench: Bench) -> tuple[str, ...]:
    """The systems of the list that can be unpacked whole, in its order."""
    found = checked(bench)
    if found is None:
        return ()
    stops = troubles(found)
    return tuple(bundle.name for bundle in found.bundles if bundle.folder not in stops)


def bundles(bench: Bench) -> Step:
    """The list: which systems are in it, and which of them would not come to an end."""
    found, lamps, name = checked(bench), bench.board.lamps, bench.image.front_end
    moments = [Moment(f"{name} reads its bundles.", lamps.reading, LIST_S)]
    if found is None:
        return Step(tuple(moments))
    if not found.bundles:
        empty = Screen("front end", name, ("No systems found",))
        if bench.build.sets.multi_boot:  # they are on a stick of their own
            return Step(
                (*moments, Moment("There is no bundle on the card; those on the stick are listed.", lamps.idle, 0.0))
            )
        cause = f"There is no bundle on the card, so {name} lists nothing."
        return Step(tuple(moments), (Failure("bundles", "card.bundle", cause, None, empty, lamps.idle),))
    stops = troubles(found)
    failures = []
    listed = tuple(
        bundle.name
        for bundle in found.bundles
        if bundle.folder not in stops or stops[bundle.folder].code not in UNLISTED
    )
    for bundle in found.bundles:
        problem = stops.get(bundle.folder)
        if problem is None:
            continue
        unlisted = problem.code in UNLISTED
        screen = Screen("front end", name, listed) if unlisted else Screen("text", "Unpacking stopped", (bundle.name,))
        end = "it is not in the list" if unlisted else "unpacking it stops, and it does not start"
        cause = f"{bundle.name}: {problem.sentence.rstrip('.')}; {end}."
        code = f"card.bundle:{bundle.folder}"
        failures.append(
            Failure("bundles", code, cause, None, screen, lamps.idle, blocks=len(stops) == len(found.bundles))
        )
    if listed:
        moments.append(Moment(f"The list offers {', '.join(listed)}.", lamps.idle, 0.5))
    return Step(tuple(moments), tuple(failures))


def space(bench: Bench) -> Step:
    """The room for all that are in the list, and how long unpacking them takes."""
    found, chooser, lamps = checked(bench), chooser_of(bench), bench.board.lamps
    if found is None or chooser is None or not found.bundles:
        return Step()
    if not found.fits:
        screen = Screen("text", "Unpacking stopped", ("No space left on the card",))
        cause = f"All listed systems need {show_bytes(found.need)}; the card has {show_bytes(found.usable)} free."
        return Step(failures=(Failure("space", "card.bundle-space", cause, None, screen, lamps.idle, blocks=False),))
    stops = troubles(found)
    whole = [bundle for bundle in found.bundles if bundle.folder not in stops]
    speeds = unpacking_speeds(bench.build, bench.catalogue, shared=True)
    each = ", ".join(f"{bundle.name} {show_minutes(seconds(bundle, speeds) / 60)}" for bundle in whole)
    words = f"Unpacking takes about: {each}. Then the selected one starts."
    return Step((Moment(words, lamps.idle, 0.0),))
