"""A build out of chosen parts, what stands against it, and the question to the planner."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from kyklon.base.errors import CatalogueError
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue, standard_timings
from kyklon.catalogue.records import Adapter, Board, Display, Encoder
from kyklon.catalogue.system_records import Panel
from kyklon.model.build import BootSettings, Build, Link, Part, PictureSettings, edited
from kyklon.model.controls import ControlSettings, KeyboardSettings
from kyklon.model.plan import Bundle, PlanSettings
from kyklon.model.timing import Mode
from kyklon.model.world import World
from kyklon.operations.assembly.findings import electrical_findings
from kyklon.operations.controls.acts import wired, with_safest_hotkeys
from kyklon.operations.picture.chain import VIDEO_SIGNALS, chain_of
from kyklon.operations.picture.findings import menu_mode
from kyklon.operations.picture.ranges import carried, display_ranges, propose
from kyklon.operations.plan import acts
from kyklon.operations.plan.connections import connect, port_of, unconnected
from kyklon.operations.plan.findings import findings
from kyklon.operations.plan.solve import MOST_TURNS, Answer, Plan, Planner, Stops
from kyklon.operations.plan.wishes import Wish, own_prices, wish_of

_PORTS = {"power": ("supply", "board"), "direct": ("board", "display"), "first": ("board", "adapter")}
_PORTS |= {"second": ("adapter", "display")}
_CHAIN = ("board", "adapter", "display")
# what a stop of the build is about: beginning of its code, the rule it falls under, and the roles that are concerned
_STOPS: tuple[tuple[str, str, tuple[str, ...]], ...] = (
    ("plan.card-size", "card", ("card", "image")),
    ("plan.card-loader", "loader", ("card", "board")),
    ("plan.image-board", "image", ("board", "image")),
    ("plan.sync", "picture", ("adapter", "display")),
    ("plan.usb-current", "controls", ("board", "display", "adapter", "encoder", "keyboard")),
    ("plan.supply", "current", ()),
    ("assembly.low-voltage", "voltage", ()),
)


def build_of(
    wish: Wish,
    catalogue: Catalogue,
    picks: Mapping[str, str],
    cables: Mapping[str, tuple[str, ...]],
    name: str = "Plan",
) -> Build:
    """A build of these parts, connected; without wires of its controls. cables: by kind of connection, in pieces."""
    board, image = catalogue.get(Board, picks["board"]), catalogue.get(Image, picks["image"])
    display, encoder = catalogue.get(Display, picks["display"]), catalogue.find(Encoder, picks.get("encoder"))
    adapters = tuple(catalogue.get(Adapter, picks[role]) for role in ("adapter",) if role in picks)
    parts = [Part(role=role, part=part) for role, part in picks.items()]
    if encoder is not None:
        further = range(2, -(-wish.players // encoder.players) + 1)
        parts += [Part(role=f"encoder-{number}", part=encoder.id) for number in further]
    kernels = [kernel.file for kernel in image.kernels if kernel.instruction_set in (board.native_set, *board.runs)]
    native = [kernel.file for kernel in image.kernels if kernel.instruction_set == board.native_set]
    mode = menu_mode(display, carried(board, adapters, display), display.ranges)
    vga = Mode(name="CTA 1", timing=standard_timings("cta")[1].timing)
    panels = [panel for panel in catalogue.all(Panel) if panel.players >= wish.players]
    panels.sort(key=lambda panel: (("panels", panel.id) not in catalogue.own, panel.players))
    digital = any(port.signal == "HDMI" for port in display.ports) and not display.tube
    build = Build(
        name=name,
        kind=_kind_words(wish, display),
        systems=tuple(system.id for system in wish.systems),
        parts=tuple(parts),
        links=(),
        boot=BootSettings(
            dialect=board.dialects[0] if board.dialects else "",
            kernel=(native or kernels or [""])[0],
            device_tree=board.device_tree,
            user=image.default_user,
            services=image.services,
            sound="digital" if digital else "analogue",
        ),
        picture=PictureSettings(school="own modes" if display.tube else "scaled", menu=mode or vga),
        controls=ControlSettings(
            panel=panels[0].id if panels and encoder is not None else "",
            hotkeys=acts.HOTKEYS,
            keyboard=KeyboardSettings(layout=picks.get("keyboard", "")),
        ),
    )
    links = [link for way, pieces in cables.items() if (link := _link(build, catalogue, way, pieces, wish))]
    build = build.model_copy(update={"links": tuple(links)})
    return build.model_copy(update={"links": connect(build, catalogue)})


def _kind_words(wish: Wish, display: Display) -> str:
    what = {"table": "Console", "living room": "Console", "camper": "Camper console", "school": "School table"}[
        wish.place
    ]
    players = "one player" if wish.players == 1 else f"{wish.players} players"
    return f"{what} · {players} · {'tube' if display.tube else 'flat panel'}"


def _link(build: Build, catalogue: Catalogue, way: str, pieces: tuple[str, ...], wish: Wish) -> Link | None:
    """The connection of a kind between the first sockets that it fits."""
    giver, taker = _PORTS[way]
    start_part, end_part = catalogue.any(build.part(giver)), catalogue.any(build.part(taker))
    if start_part is None or end_part is None:
        return None
    needs = wish.reach_m if way in ("direct", "second") else 0.0
    for start in start_part.ports:
        for end in end_part.ports:
            if start.direction != "out" or end.direction != "in":
                continue
            link = Link(
                start=f"{giver}.{start.id}",
                end=f"{taker}.{end.id}",
                cable=pieces[0],
                further=pieces[1:],
                needs_m=needs,
            )
            tried = build.model_copy(update={"links": (link,)})
            if link in connect(tried, catalogue):  # it keeps what is right
                return link
    return None


def stops_of(build: Build, catalogue: Catalogue, wish: Wish) -> Stops:
    """What stands against a build, as rules with the roles that are concerned."""
    found: dict[tuple[str, tuple[str, ...]], None] = {}
    for finding in (*findings(build, catalogue, World()), *electrical_findings(build, catalogue)):
        if finding.severity != "stop" and not finding.code.startswith("plan.supply"):
            continue
        if finding.code == "plan.unconnected":
            found |= dict.fromkeys(_open_rules(build, catalogue))
            continue
        rule, roles = next(
            ((rule, roles) for code, rule, roles in _STOPS if finding.code.startswith(code)), ("check", ())
        )
        found[rule, roles] = None
    for trouble in chain_of(build, catalogue, World()).troubles:
        if trouble.stops:
            found["picture", _CHAIN] = None
    board, display = catalogue.find(Board, build.part("board")), catalogue.find(Display, build.part("display"))
    if board is not None and display is not None:
        adapters = tuple(
            adapter
            for part in build.parts
            if part.role.startswith("adapter") and (adapter := catalogue.find(Adapter, part.part))
        )
        link, ranges = carried(board, adapters, display), display_ranges(display, None)
        scaled = not display.tube and menu_mode(display, link, ranges) is not None  # one mode for all games
        for system in wish.systems:
            if not scaled and propose(system, display, link, ranges) is None:
                found[f"mode:{system.id}", _CHAIN] = None
    if build.part("encoder") and not build.controls.panel:
        found["players", ()] = None
    return tuple(found)


def _open_rules(build: Build, catalogue: Catalogue) -> Iterable[tuple[str, tuple[str, ...]]]:
    """The rules that plugs without a cable fall under."""
    for plug in unconnected(build, catalogue):
        role = plug.partition(".")[0]
        _part, port = port_of(plug, build, catalogue)
        if role == "board" and port is not None and port.signal == "power":
            yield "power", ("board", "supply")
        elif role == "card":
            yield "loader", ("board", "card")
        elif port is not None and port.signal in VIDEO_SIGNALS:
            yield "picture", _CHAIN
        else:
            yield "controls", ("board", "display", "adapter", "encoder", "keyboard", "supply")


def planner_of(wish: Wish, catalogue: Catalogue, prices: Mapping[str, float] | None = None) -> Planner:
    """The planner of a wish over a shelf."""
    return Planner(
        wish,
        catalogue,
        lambda picks, cables: build_of(wish, catalogue, picks, cables),
        lambda build: stops_of(build, catalogue, wish),
        prices,
    )


def solve(build: Build, catalogue: Catalogue) -> Answer:
    """The best plans for a build's wishes, and the best with each of its bundles."""
    return answered(wish_of(build, catalogue), catalogue, own_prices(build), build.plan.bundles)


def answered(
    wish: Wish, catalogue: Catalogue, prices: Mapping[str, float] | None = None, bundles: Sequence[Bundle] = ()
) -> Answer:
    """The best plans for a wish, and the best with each bundle of which it uses a part."""
    found = planner_of(wish, catalogue, prices).answer()
    made = {bundle.name: _with_bundle(wish, catalogue, prices, bundle) for bundle in bundles}
    plans = tuple(plan for plan in made.values() if plan is not None)
    unused = tuple(name for name, plan in made.items() if plan is None)
    if not plans:
        return replace(found, unused=unused)
    return Answer((*found.plans, *plans), unused=unused)


def _with_bundle(wish: Wish, catalogue: Catalogue, prices: Mapping[str, float] | None, bundle: Bundle) -> Plan | None:
    """The best plan with what is in a bundle at hand, its price added; None where nothing of it is used."""
    left = wish.budget - bundle.price if wish.budget else 0.0
    if left < 0 or (wish.budget and not left):
        return None
    eased = replace(wish, at_hand=wish.at_hand | set(bundle.parts), budget=left)
    plan = planner_of(eased, catalogue, prices).best()
    if plan is None or not used_of(plan.build, bundle):
        return None
    return replace(plan, price=plan.price + bundle.price, bundle=bundle.name)


def used_of(build: Build, bundle: Bundle) -> tuple[str, ...]:
    """What of a bundle a build uses, as kind/id."""
    names = {part.part for part in build.parts} | {piece for link in build.links for piece in link.pieces}
    return tuple(key for key in bundle.parts if key.partition("/")[2] in names)


def taken(build: Build, plan: Plan, catalogue: Catalogue) -> Build:
    """A build with a plan's parts in the place of its own; what was wished, noted and played stays."""
    made = plan.build
    keyboard = build.controls.keyboard  # what was measured on its ribbon stays with it
    if keyboard.layout != made.controls.keyboard.layout:
        keyboard = made.controls.keyboard
    fresh = build.model_copy(
        update={
            "parts": made.parts,
            "links": made.links,
            "kind": made.kind,
            "plan": build.plan.model_copy(update={"bundle": plan.bundle}),
            "boot": build.boot.model_copy(
                update={
                    name: getattr(made.boot, name)
                    for name in ("dialect", "kernel", "device_tree", "user", "services", "sound")
                }
            ),
            "picture": made.picture,
            "controls": build.controls.model_copy(update={"panel": made.controls.panel, "keyboard": keyboard}),
        }
    )
    return _finished(fresh, catalogue)


def _finished(build: Build, catalogue: Catalogue) -> Build:
    """With the overlays of what sits on the header, wires and hotkeys."""
    encoders = [catalogue.find(Encoder, part.part) for part in build.parts if part.role.startswith("encoder")]
    wanted = [encoder.overlay for encoder in encoders if encoder is not None and encoder.overlay]
    known = {overlay.partition(":")[0] for overlay in build.boot.overlays}
    overlays = (*build.boot.overlays, *(overlay for overlay in wanted if overlay not in known))
    made = edited(build, "boot.overlays", list(dict.fromkeys(overlays)))
    return with_safest_hotkeys(wired(made, catalogue), catalogue)


def started(name: str, plan: Plan, systems: tuple[str, ...], settings: PlanSettings, catalogue: Catalogue) -> Build:
    """A new build of a plan."""
    made = plan.build.model_copy(
        update={"name": name, "systems": systems, "plan": settings.model_copy(update={"bundle": plan.bundle})}
    )
    return _finished(made, catalogue)


def empty_build(name: str, catalogue: Catalogue) -> Build:
    """A build with nothing chosen."""
    return Build(
        name=name,
        kind="Nothing chosen yet",
        systems=(),
        parts=(),
        links=(),
        boot=BootSettings(dialect="", kernel="", device_tree=""),
        picture=PictureSettings(menu=Mode(name="CTA 1", timing=standard_timings("cta")[1].timing)),
        controls=ControlSettings(panel="", hotkeys=acts.HOTKEYS),
    )


@dataclass(frozen=True)
class Detour:
    """The way to a board that no image serves yet: steps, and the files that lack on the card."""

    image: str
    steps: tuple[str, ...]
    lacking: tuple[str, ...]


def detour(board: Board, catalogue: Catalogue) -> Detour | None:
    """Prepare the card on another board of the same kind of processor, update there, move the card. None where some
    image serves the board, or none could."""
    images = [image for image in catalogue.all(Image) if image.has_system]
    if any(board.id in image.boards for image in images):
        return None
    for image in images:
        runs = [kernel.file for kernel in image.kernels if kernel.instruction_set in (board.native_set, *board.runs)]
        others = [other for name in image.boards if (other := catalogue.find(Board, name)) is not None]
        others = [other for other in others if set(other.runs) & {board.native_set, *board.runs}]
        if runs and others:
            other = others[0]
            lacking = (board.device_tree,) if board.device_tree else ("its device tree",)
            return Detour(
                image.name,
                (
                    f"Write {image.name} and start it on a {other.name}.",
                    "Update it there: a newer kernel may bring the device tree.",
                    f"Look on the boot partition for {lacking[0]}; without it the {board.name} stays dark.",
                    f"Move the card to the {board.name} and run the bring-up for it first.",
                ),
                lacking,
            )
    return None


def needed(catalogue: Catalogue) -> None:
    """Raises CatalogueError where the shelf has nothing to plan with."""
    if not catalogue.all(Board) or not catalogue.all(Image):
        raise CatalogueError("The shelf has no board or no image.", do="Learn one on the shelf (F3).")


def in_words(found: Answer, wish: Wish | None = None, catalogue: Catalogue | None = None) -> list[str]:
    """Why there is no plan; with the way to a board that is fixed and that nothing serves yet."""
    return [*_no_plan(found), *(_ways(wish, catalogue) if wish is not None and catalogue is not None else ())]


def _ways(wish: Wish, catalogue: Catalogue) -> list[str]:
    board = catalogue.find(Board, dict(wish.fixed).get("board"))
    way = detour(board, catalogue) if board is not None else None
    return [f"Another way, with {way.image}:", *(f"  {step}" for step in way.steps)] if way is not None else []


def _no_plan(found: Answer) -> list[str]:
    if found.gave_up:
        return [
            f"The {MOST_TURNS} cheapest plans all have a stop, and the search ends there. "
            "Fix a part that you trust, or lift a wish."
        ]
    if found.lacking:
        return [f"This shelf cannot do it: it lacks {words}." for words in found.lacking]
    if len(found.conflict) == 1:
        return [f"Nothing on this shelf gives {found.conflict[0]}."]
    if found.conflict:
        return ["These wishes exclude each other:", *(f"  {words}" for words in found.conflict)]
    return ["There is no plan for these wishes."]
