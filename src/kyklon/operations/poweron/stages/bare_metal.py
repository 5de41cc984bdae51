"""A bare-metal card: one program without a system below it, which reads its files from the boot partition.

What it looks for is catalogue data (`bare_metal.toml`); system files count by name, size and SHA-256.
"""

from __future__ import annotations

from kyklon.catalogue.image_records import BareMetal, Machine
from kyklon.model.kernel_line import last
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import Failure, Moment, Screen, Step
from kyklon.operations.poweron.stages.fail import dark_screen, fail

MENU_S = 1.5  # seconds from the kernel's start to the menu, CP
WORD = "machine"  # of the kernel line: what starts first


def layout_of(bench: Bench) -> BareMetal | None:
    return next((each for each in bench.catalogue.all(BareMetal) if each.image == bench.image.id), None)


def files(bench: Bench) -> Step:
    """The files that the program needs by exact name."""
    layout, lamps = layout_of(bench), bench.board.lamps
    missing = [name for name in (layout.needed if layout else ()) if not bench.contents.has(name)]
    if missing:
        cause = f"{missing[0]} is not on the card; {bench.image.front_end} looks for exactly this name."
        return fail(dark_screen("files", "card.needed-file", cause, None, lamps.stuck))
    return Step((Moment(f"{bench.image.front_end} is loaded.", lamps.reading, MENU_S),))


def controllers(bench: Bench) -> Step:
    """What its own drivers find: the program has no others."""
    lamps = bench.board.lamps
    deaf = [each for each in bench.devices if each.encoder.link == "bluetooth" and not bench.image.pairs_radio]
    told = [f"{device.title} stays silent: {bench.image.name} has no Bluetooth driver." for device in deaf]
    if not deaf:
        return Step()
    if len(deaf) < len(bench.devices) or bench.build.part("keyboard"):
        return Step(tuple(Moment(words, lamps.idle, 0.0) for words in told))
    screen = Screen("front end", bench.image.front_end, ("The menu does not react",))
    return fail(Failure("controllers", f"controls.no-radio:{deaf[0].role}", told[0], None, screen, lamps.idle))


def trouble_of(machine: Machine, bench: Bench) -> str:
    """Why a machine would not start, '' when it does."""
    sizes = {name.lower(): size for name, size in bench.contents.sizes.items()}
    for wanted in machine.files:
        path = f"{machine.folder}/{wanted.name}".lower()
        if path not in sizes:
            if wanted.required:
                return f"its firmware file {machine.folder}/{wanted.name} is missing"
            continue
        if sizes[path] not in wanted.sizes:
            return f"{machine.folder}/{wanted.name} has {sizes[path]} bytes instead of {wanted.sizes_told}"
        if wanted.rank(sizes[path], bench.contents.digests.get(path, "")) is None:
            return f"{machine.folder}/{wanted.name} has the right size but other bytes"
    return ""


def offered(bench: Bench) -> tuple[str, ...]:
    """The machines that are complete, by name."""
    layout = layout_of(bench)
    return tuple(each.name for each in (layout.machines if layout else ()) if not trouble_of(each, bench))


def machine(bench: Bench) -> Step:
    """The machine that starts: the one the kernel line names, else the one that is remembered, else the menu."""
    layout, lamps = layout_of(bench), bench.board.lamps
    if layout is None:
        return Step()
    troubles = {each.id: trouble_of(each, bench) for each in layout.machines}
    whole = [each.name for each in layout.machines if not troubles[each.id]]
    named = last(bench.kernel_line_words, WORD) or "menu"
    origin = "the kernel line names it"
    remembered = bench.contents.texts.get(layout.remembered.lower(), "").strip() if layout.remembered else ""
    if named == "menu" and remembered:
        named, origin = remembered, f"{layout.remembered} remembers it, so it starts again after every restart"
    if named != "menu":
        chosen = next((each for each in layout.machines if each.id == named), None)
        why = troubles[chosen.id] if chosen else "the set has no such machine"
        if why:
            name = chosen.name if chosen else named
            cause = f"{name} stays black: {why}; {origin}."
            return fail(
                Failure(
                    "machine", "card.machine-files", cause, None, Screen("black", f"{name}: black screen"), lamps.idle
                )
            )
        assert chosen is not None
        told = bench.settings.values.get("boot.machine_sound", "").split() if bench.settings else []
        route = next((each.partition(":")[2] for each in told if each.partition(":")[0] == chosen.id), "")
        sound = f" Its sound: {route}." if route in ("analogue", "digital", "none") else ""
        return Step((Moment(f"{chosen.name} starts.{sound}", lamps.idle, 0.5),))
    if not whole:
        first = next(iter(troubles.values()), "no machine is known")
        return fail(dark_screen("machine", "card.machine-files", f"No machine is complete: {first}.", None, lamps.idle))
    return Step((Moment(f"The menu offers {', '.join(whole)}.", lamps.idle, 0.5),))
