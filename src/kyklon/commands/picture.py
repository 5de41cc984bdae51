"""The picture: modes by school and as the smallest set, the chain, the signals, the test card."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

from kyklon.base import durable
from kyklon.base.errors import WrongUse
from kyklon.base.progress import UNWATCHED
from kyklon.base.quantities import show_share
from kyklon.catalogue.chosen import known_systems
from kyklon.catalogue.records import Display
from kyklon.commands.line import Option
from kyklon.commands.shared import OK, STOPS, Folder, Json, catalogue, keep_copies, open_folder, out
from kyklon.commands.timing import timing_data
from kyklon.model.build import GameRaster, edited, remedied
from kyklon.model.world import World
from kyklon.operations.library.observe import LOOKS
from kyklon.operations.picture import testcard as cards
from kyklon.operations.picture.chain import chain_of
from kyklon.operations.picture.names import parse_timing
from kyklon.operations.picture.observe import look_at_display
from kyklon.operations.picture.schools import SCHOOLS, given, in_words, plans, taken
from kyklon.operations.picture.signal_path import signal_path_of
from kyklon.operations.picture.signals import OFF
from kyklon.operations.picture.signals import signals as all_signals
from kyklon.operations.picture.smallest import askings_of, front, given_by
from kyklon.record import folder as store

if TYPE_CHECKING:
    from kyklon.catalogue.loader import Catalogue
    from kyklon.model.build import Build
    from kyklon.model.findings import Remedy
    from kyklon.model.timing import Mode, Timing
    from kyklon.model.world import World
    from kyklon.operations.picture.schools import Plan
    from kyklon.operations.picture.smallest import Asking, Choice


def _world(build: Build, folder: Path, parts: Catalogue, *, library: bool = False) -> World:
    """What the display says, and what the library holds where that is asked for."""
    world = look_at_display(build, folder, parts, World(), UNWATCHED)
    for look in LOOKS if library else ():
        world = look.look(build, folder, parts, world, UNWATCHED)
    return world


def modes(
    folder: Folder,
    school: Annotated[str, Option("--school", help="own, wide or scaled; all are shown without it.")] = "",
    at_most: Annotated[int, Option("--at-most", help="Best set with at most this many modes.")] = 0,
    wish: Annotated[
        list[str] | None, Option("--wish", help="Weight of a system, e.g. birch-16=3; saved; repeatable.")
    ] = None,
    game: Annotated[
        list[str] | None,
        Option("--game", help="Picture mode of a game, e.g. 'birch-16/Title=320x224@59.9'; saved; repeatable."),
    ] = None,
    take: Annotated[bool, Option("--take", help="Use the modes shown in the build.")] = False,
    as_json: Json = False,
) -> int:
    """Compare mode strategies for all systems and find the smallest set of modes."""
    if wish or game:
        _keep_wishes(folder, wish or [], game or [])
    build, parts = open_folder(folder)
    world = _world(build, folder, parts, library=True)
    signal_path = signal_path_of(build, parts, world)
    if signal_path is None:
        raise WrongUse("The build has no display, or no board.", do="Choose them, then try again.")
    names = {"own": SCHOOLS[0], "wide": SCHOOLS[1], "scaled": SCHOOLS[2]}
    if school and school not in names:
        raise WrongUse(f"Unknown method: {school!r}.", do=f"There are: {', '.join(names)}.")
    if take and not school and not at_most:
        raise WrongUse("Which modes should be used?", do="Add --school or --at-most.")
    found = [plan for plan in plans(build, parts, world) if not school or plan.school == names[school]]
    systems = known_systems(build, parts)
    askings = askings_of(build, systems, world.scan)
    choices = front(askings, signal_path) if not school else None
    data = _told(found, askings, choices.choices if choices else ())

    def lines() -> list[str]:
        text = []
        for each in found:
            lost, cut, dark = each.lost_per_min, each.lost, each.border
            text.append(
                f"{each.school}: {len(each.modes)} modes; {lost:.1f} frames per minute, {show_share(cut)} overscan, "
                f"{show_share(dark)} borders, {show_share(each.off_round)} circle error. {each.why}".rstrip()
            )
            text += [f"  {row.system.name:18} {in_words(row)}" for row in each.rows]
        for choice in choices.choices if choices else ():
            exact = "exact" if choice.gap < 1e-6 else f"within {show_share(choice.gap, 1)}"
            text.append(f"a set of {len(choice.modes)}: {show_share(choice.cost, 1)} of the limits used, {exact}")
        return text

    out(data, as_json, lines)
    if take:
        remedy = taken(build, found[0]) if school and found else None
        chosen = choices.at_most(at_most) if choices is not None else None
        if chosen is not None and found[0].menu is not None:
            remedy = given(build, SCHOOLS[0], found[0].menu, given_by(chosen, askings))
        _take(folder, remedy)
    return STOPS if any(each.why for each in found) else OK


def _told(found: Sequence[Plan], askings: Sequence[Asking], choices: Sequence[Choice]) -> dict[str, Any]:
    """Plans and sets as data."""
    return {
        "schools": [
            {
                "school": plan.school,
                "why": plan.why,
                "menu": timing_data(plan.menu.timing) if plan.menu else None,
                "modes": len(plan.modes),
                "frames_a_minute": round(plan.lost_per_min, 3),
                "lost": round(plan.lost, 4),
                "dark": round(plan.border, 4),
                "off_round": round(plan.off_round, 4),
                "systems": [
                    {
                        "system": row.system.id,
                        "mode": timing_data(row.mode.timing),
                        "box": row.glass.box,
                        "scale": [round(by, 6) for by in row.glass.scale],
                        "speed": round(row.play.speed, 8),
                        "cents": round(row.play.cents, 3),
                    }
                    for row in plan.rows
                ],
            }
            for plan in found
        ],
        "sets": [
            {
                "modes": [timing_data(mode.timing) for mode in choice.modes],
                "suffered": round(choice.cost, 6),
                "gap": choice.gap,
                "served": dict(zip([asking.name for asking in askings], choice.served, strict=True)),
            }
            for choice in choices
        ],
    }


def _keep_wishes(folder: Path, wishes: list[str], games: list[str]) -> None:
    """Weights of systems and pictures of games, as they were typed, into the build."""
    weights, rasters = {}, []
    for wish in wishes:
        system, _, weight = wish.partition("=")
        try:
            weights[system] = float(weight)
        except ValueError:
            weights[system] = -1.0
        if not 0 < weights[system] <= 1000:
            raise WrongUse(f"{wish!r} is not a weight.", do="Write it as birch-16=3.")
    for game in games:
        match = re.fullmatch(r"([^/=]+/.+)=(\d{2,4})x(\d{2,4})@(\d{2,3}(?:\.\d{1,6})?)", game)
        if match is None:
            raise WrongUse(f"{game!r} is not a game's picture mode.", do="Write it as 'birch-16/Title=320x224@59.9'.")
        try:
            rasters.append(GameRaster(game=match[1], width=int(match[2]), height=int(match[3]), refresh=match[4]))
        except ValueError as bad:
            raise WrongUse(f"{game!r} is not a game's picture mode: the refresh rate is 1 to 1000 Hz.") from bad
    known = store.load(folder).build.systems
    stray = [name for name in (*weights, *(raster.game.partition("/")[0] for raster in rasters)) if name not in known]
    if stray:
        raise WrongUse(f"The build has no system {stray[0]!r}.", do=f"It has: {', '.join(known)}.")
    names = {raster.game for raster in rasters}

    def change(build: Build) -> Build:
        kept = [game for game in build.picture.games if game.game not in names]
        made = edited(build, "picture.wishes", {**build.picture.wishes, **weights})
        return edited(made, "picture.games", [*kept, *rasters])

    store.update(folder, change)


def _take(folder: Path, remedy: Remedy | None) -> None:
    if remedy is None:
        raise WrongUse("No usable modes found.")
    store.update(folder, lambda build: remedied(build, remedy))
    keep_copies(folder)


def chain(folder: Folder, as_json: Json = False) -> int:
    """Trace the signal from the board's socket to the screen and list mismatches."""
    build, parts = open_folder(folder)
    found = chain_of(build, parts, _world(build, folder, parts))
    data = {
        "whole": found.whole,
        "delay_ms": found.delay_ms,
        "places": [
            {
                "role": place.role,
                "part": place.part.id,
                "sync": place.sync,
                "sync_v": round(place.sync_v, 4),
                "in": place.enters.connector if place.enters else "",
                "out": place.leaves.connector if place.leaves else "",
            }
            for place in found.places
        ],
        "troubles": [
            {
                "code": trouble.code,
                "place": trouble.place,
                "what": trouble.words,
                "do": trouble.do,
                "stops": trouble.stops,
            }
            for trouble in found.troubles
        ],
    }

    def lines() -> list[str]:
        text = [
            f"{place.part.name}: {place.sync}" + (f", {place.sync_v:.2f} V into 75 ohm" if place.sync_v else "")
            for place in found.places
        ]
        text += [
            f"{'stop' if trouble.stops else 'caution'}: {trouble.title}. {trouble.words} {trouble.do}"
            for trouble in found.troubles
        ]
        return text or ["No cable leads into the display."]

    out(data, as_json, lines)
    return STOPS if any(trouble.stops for trouble in found.troubles) or not found.whole else OK


def signals(folder: Folder, as_json: Json = False) -> int:
    """List the signals sent to the display, from power-on to game and back."""
    build, parts = open_folder(folder)
    found = all_signals(build, parts, _world(build, folder, parts))
    data = [
        {
            "when": each.key,
            "timing": timing_data(each.timing) if each.timing else None,
            "from": each.origin,
            "wrong": each.wrong,
            "display_off": each.guarded,
        }
        for each in found
    ]

    def lines() -> list[str]:
        text = []
        for each in found:
            what = OFF
            if each.timing is not None:
                what = f"{float(each.timing.horizontal_hz) / 1000:.3f} kHz {float(each.timing.vertical_hz):.3f} Hz"
            wrong = f" MUST NOT: {each.wrong}" if each.harms else ""
            text.append(f"{each.title:18} {what:24} {each.origin}{wrong}")
        return text

    out(data, as_json, lines)
    return STOPS if any(each.harms for each in found) else OK


def draw_card(
    out_file: Annotated[Path, Option("--out", help="PNG file to write.")],
    folder: Annotated[Path | None, Option("--folder", help="Build whose menu mode and display are used.")] = None,
    system: Annotated[str, Option("--system", help="A system of the build, for its own mode.")] = "",
    timing: Annotated[str, Option("--timing", help="Another mode, e.g. 'cta 8'.")] = "",
    plate: Annotated[str, Option("--plate", help="measure, tones or lines.")] = "measure",
) -> int:
    """Draw the test pattern at a mode's own size."""
    if folder is None and not timing:
        raise WrongUse("Which mode is it for?", do="Add --folder or --timing.")
    build, parts = open_folder(folder) if folder is not None else (None, catalogue())
    mode = _mode_of(build, system)
    chosen: Timing = parse_timing(timing) if timing or mode is None else mode.timing
    known = next((each for each in cards.PLATES if each == plate), None)
    if known is None:
        raise WrongUse(f"No test pattern {plate!r}.", do=f"There are: {', '.join(cards.PLATES)}.")
    data = cards.png(cards.card(chosen, _glass(build, parts), known))
    durable.keep(out_file, data)
    print(f"{out_file}: {chosen.size[0]} x {chosen.size[1]}, {len(data)} bytes")
    return OK


def _mode_of(build: Build | None, system: str) -> Mode | None:
    if build is None:
        return None
    if system and system not in build.systems:
        raise WrongUse(f"The build has no system {system!r}.", do=f"It has: {', '.join(build.systems)}.")
    return build.system_mode(system) if system else build.picture.menu


def _glass(build: Build | None, parts: Catalogue) -> Any:
    """The build's display; without one a plain 4:3 glass."""
    found = parts.find(Display, build.part("display")) if build is not None else None
    if found is not None:
        return found
    plain = next(each for each in parts.all(Display) if not each.tube)
    return plain.model_copy(update={"aspect": (4, 3)})
