"""A build as sections: parts, settings, files, wiring, modes, games, steps, forecast, findings, log."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

from kyklon.base.errors import KyklonError
from kyklon.base.inside import inside, refuse_link_on_the_way
from kyklon.base.quantities import counted, show_bytes
from kyklon.base.secrets import without_secrets
from kyklon.base.shown import visible
from kyklon.catalogue.chosen import known_systems
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build
from kyklon.model.fields import described_fields
from kyklon.model.findings import Finding, Severity
from kyklon.model.world import World
from kyklon.operations.assembly.order import acts
from kyklon.operations.book.blocks import Block, Book, Code, Head, Picture, Section, Table, Text
from kyklon.operations.book.publishing import names_of, published
from kyklon.operations.plan.parts_list import parts_list
from kyklon.operations.poweron.checklist import items
from kyklon.operations.poweron.events import BringUp
from kyklon.operations.registry import OPERATIONS
from kyklon.record.logbook import OUTCOME, Entry, noted_words, now
from kyklon.record.revisions import NOT

_MOST_LINES, _MOST_ROWS = 300, 600  # of a file, of a table
_MOST_PHOTO = 8 << 20
_FIELDS = {  # settings by the operation that decides them: the beginning of their paths
    20: ("source", "medium"),
    30: ("boot", "system"),
    40: ("controls",),
    50: ("picture",),
    60: ("library",),
    80: ("assembly",),
    95: ("upkeep",),
}
_NOT_ISSUED = ("plan/parts.csv",)  # has a table of its own
_COLUMNS = {"picture/modes.csv": ("system", "width", "height", "line_hz", "field_hz", "box", "scale", "refused")}
_SEVERITY = {Severity.STOP: "Stop", Severity.CAUTION: "Caution", Severity.NOTE: "Note"}


@dataclass(frozen=True)
class Material:
    """What a book is composed of. folder: of the build. entries: of its logbook, newest first. drawings: pictures by
    the operation that they belong to. run: the forecast. publish: without names, addresses, keys and passwords."""

    build: Build
    catalogue: Catalogue
    world: World
    folder: Path
    findings: tuple[Finding, ...] = ()
    entries: tuple[Entry, ...] = ()
    drawings: Mapping[int, tuple[Picture, ...]] = field(default_factory=dict)
    run: BringUp | None = None
    publish: bool = False


def compose(material: Material) -> Book:
    """The whole book. Raises KyklonError where a file of the build cannot be made."""
    found = []
    for operation in OPERATIONS:
        blocks = [*_summary(material, operation.number), *material.drawings.get(operation.number, ())]
        blocks += _settings(material.build, operation.number)
        if operation.issue is not None:
            blocks += _issued(operation.issue(material.build, material.catalogue, material.world))
        blocks += _findings(material.findings, operation.number)
        if blocks:
            found.append(Section(operation.number, operation.name, tuple(blocks)))
    found.append(Section(0, "Logbook", tuple(_log(material))))
    book = Book(
        material.build.name, material.build.kind, tuple(found), notes=_notes(material), cover=_newest_photo(material)
    )
    return _published(book, material.build) if material.publish else book


def _notes(material: Material) -> tuple[str, ...]:
    """For the first page."""
    stops = sum(each.severity is Severity.STOP for each in material.findings)
    run = material.run
    told = [f"Printed on {now()[:10]}"]
    if run is not None:
        told.append("Its first power-on is predicted to " + ("reach the menu." if run.failure is None else "stop."))
    told.append(f"{counted(stops, 'open stop')}." if stops else "No open stops.")
    return tuple(told)


def _newest_photo(material: Material) -> Picture | None:
    for entry in () if material.publish else material.entries:
        for each in entry.files:
            data = _photo(material.folder, each.path) if each.thumb else b""
            if data:
                return Picture(data, entry.title)
    return None


def _spoken(control: str) -> str:
    """A control as people call it."""
    return re.sub(r"^b(\d+)$", r"button \1", control)


def card(material: Material) -> Book:
    """One page for the inside of the cabinet: how to start, leave, shut down, and what to do when it stays black."""
    build = material.build
    image = material.catalogue.find(Image, build.part("image"))
    keys = {each.action: each.control for each in build.controls.hotkeys}
    hotkey = build.controls.hotkey
    hold = f"hold {_spoken(hotkey)}, press"
    rows = [(f"{name.capitalize()} a game", f"{hold} {_spoken(control)}") for name, control in keys.items()]
    start = f"Switch on. {image.front_end} shows the systems." if image is not None else "Switch on."
    blocks: list[Block] = [
        Head("Start"),
        Text(start),
        Head("In a game"),
        Table(("To", "Do"), tuple(rows)) if rows else Text("Leave a game from its own menu."),
        Head("Switch off"),
        Text("Shut down from the menu, wait until the LED is off, then switch off. Never pull the plug before."),
        Head("When the screen stays black"),
        Text("1. Is the display on, and on the right input?"),
        Text("2. Does the LED blink? Count, and note the rhythm."),
        Text("3. Switch off, wait ten seconds, push the card and every plug home, switch on again."),
        Text("4. Start Kyklon with this build: Power-on, Fault finder asks the fewest checks."),
        Text("Mains and tubes kill, also unplugged: leave the inside to someone qualified.", "caution"),
    ]
    first = material.entries[-1].at[:10] if material.entries else now()[:10]
    blocks += [Head("This machine"), Text(f"{build.kind}. Begun on {first}.")]
    blocks.append(Text("Built by: ____________________________"))
    games = _games(material)
    if games:
        blocks.append(Table(("System", "Games"), tuple(games)))
    book = Book(build.name, build.kind, (Section(0, build.name, tuple(blocks)),), card=True)
    return _published(book, build) if material.publish else book


def _summary(material: Material, number: int) -> Iterable[Block]:
    made: dict[int, Callable[[Material], Iterable[Block]]] = {10: _parts, 60: _library, 80: _assembly, 90: _power_on}
    return made[number](material) if number in made else ()


def _parts(material: Material) -> Iterable[Block]:
    made = parts_list(material.build, material.catalogue)
    rows = [
        (
            line.name,
            f"{line.count} {line.unit}".strip(),
            "unknown" if line.price is None else f"{line.price:.2f}",
            line.state,
            line.serial,
        )
        for line in made.lines
    ]
    yield Table(("Part", "Count", "Price each", "State", "Serial number"), tuple(rows))
    yield Text(
        f"Still to pay: {made.total:.2f}" + (f"; {made.unpriced} without a price" if made.unpriced else ""), "muted"
    )
    called = {part.role: _name(material.catalogue, part.part) for part in material.build.parts}

    def socket(end: str) -> str:
        role, _, port = end.partition(".")
        return f"{called.get(role, role)}, {port}"

    cables = [
        (
            socket(link.start),
            socket(link.end),
            ", ".join(_name(material.catalogue, cable) for cable in (link.cable, *link.further)),
            f"{link.needs_m:g} m" if link.needs_m else "",
        )
        for link in material.build.links
    ]
    if cables:
        yield Head("Cables")
        yield Table(("From", "To", "Cable", "Needs"), tuple(cables))


def _name(catalogue: Catalogue, part: str) -> str:
    record = catalogue.any(part)
    return record.name if record is not None else part


def _games(material: Material) -> list[tuple[str, str]]:
    scan = material.world.scan
    if scan is None:
        return []
    systems = known_systems(material.build, material.catalogue)
    return [(each.name, str(sum(game.ready for game in scan.of(each.id)))) for each in systems]


def _library(material: Material) -> Iterable[Block]:
    scan = material.world.scan
    if scan is None:
        return
    rows = []
    for system in known_systems(material.build, material.catalogue):
        games = scan.of(system.id)
        ready = [game for game in games if game.ready]
        rows.append((system.name, str(len(ready)), str(len(games)), show_bytes(sum(game.size for game in ready))))
    yield Table(("System", "Ready", "Found", "Size"), tuple(rows))
    names = {each.id: each.name for each in known_systems(material.build, material.catalogue)}
    files = [
        (
            names.get(each.system, each.system),
            each.wanted.name,
            "there" if each.usable else "missing",
            "needed" if each.wanted.required else "",
        )
        for each in scan.system_files
    ]
    if files:
        yield Head("Firmware files")
        yield Table(("System", "File", "State", ""), tuple(files))


def _assembly(material: Material) -> Iterable[Block]:
    try:
        steps = acts(material.build, material.catalogue)
    except (KyklonError, ValueError):
        return
    rows = []
    for number, act in enumerate(steps, 1):
        screws = ", ".join(f"{count} × {kind}" for kind, count in act.screws)
        rows.append((str(number), act.title, screws, act.caution))
    yield Head("Order of assembly")
    yield Table(("", "Step", "Screws", "Caution"), tuple(rows))


def _power_on(material: Material) -> Iterable[Block]:
    run = material.run
    if run is not None:
        failure = run.failure
        yield Text(
            f"Forecast: reaches {run.reached}." if failure is None else f"Forecast: stops. {failure.cause}", "strong"
        )
        rows = [(f"{event.at_s:.1f} s", event.stage, event.text) for event in run.events]
        yield Table(("After", "Stage", "What happens"), tuple(rows))
    ticked = {tick.item: tick.at for tick in material.build.ticks}
    rows = [
        (item.look, ticked.get(item.key, "")[:16].replace("T", " "), item.otherwise)
        for item in items(material.build, material.catalogue, run)
    ]
    yield Head("First power-on")
    yield Table(("To see", "Checked", "If not"), tuple(rows))


def _settings(build: Build, number: int) -> Iterable[Block]:
    heads = _FIELDS.get(number, ())
    rows = []
    data = build.model_dump()
    for each in described_fields(Build):
        if each.path.split(".")[0] not in heads or each.kind == "other":
            continue
        value: object = data
        for name in each.path.split("."):
            value = value[name] if isinstance(value, dict) else ""
        words = each.words(value)
        if words and words != "off":
            rows.append((each.label, words))
    if rows:
        yield Head("Settings")
        yield Table(("Setting", "Value"), tuple(rows))


def _issued(files: Mapping[str, str | bytes]) -> Iterable[Block]:
    for name, data in files.items():
        if isinstance(data, bytes) or name in _NOT_ISSUED:
            continue  # test cards are for their own screen
        if name.endswith(".svg"):
            yield Picture(data.encode(), name)
        elif name.endswith(".csv"):
            yield Head(name)
            yield _csv(data, _COLUMNS.get(name, ()))
        else:
            lines = without_secrets(data).splitlines()
            more = (f"… {len(lines) - _MOST_LINES} more lines",) if len(lines) > _MOST_LINES else ()
            yield Code(name, (*lines[:_MOST_LINES], *more))


def _csv(text: str, wanted: tuple[str, ...] = ()) -> Table:
    """wanted: names of the columns that are shown, none for all."""
    rows = [tuple(row) for row in csv.reader(io.StringIO(text)) if row]
    wide = max((len(row) for row in rows), default=1)
    filled = [(*row, *([""] * (wide - len(row)))) for row in rows] or [("",)]
    places = [place for place, name in enumerate(filled[0]) if name in wanted] or range(wide)
    cut = [tuple(row[place] for place in places) for row in filled]
    return Table(tuple(name.replace("_", " ") for name in cut[0]), tuple(cut[1 : _MOST_ROWS + 1]))


def _findings(found: tuple[Finding, ...], number: int) -> Iterable[Block]:
    own = [each for each in found if each.operation == number]
    if own:
        yield Head("Open findings")
        rows = [(_SEVERITY[each.severity], each.title, f"{each.message} {each.why}".strip()) for each in own]
        yield Table(("", "Finding", "Why"), tuple(rows))


def _log(material: Material) -> Iterable[Block]:
    entries = tuple(reversed(material.entries))
    cost, minutes = sum(each.noted.cost for each in entries), sum(each.noted.minutes for each in entries)
    outcomes = [each for each in entries if each.kind == OUTCOME]
    told = [f"{len(entries)} entries"]
    told += [f"{cost:.2f} spent"] if cost else []
    told += [f"{minutes / 60:.1f} h at the bench"] if minutes else []
    right = sum(each.noted.value >= 0.5 for each in outcomes)
    told += [f"the forecast was right in {right} of {len(outcomes)} power-ons"] if outcomes else []
    yield Text("; ".join(told) + ".", "muted")
    rows: list[tuple[str, ...]] = []
    for entry in entries:
        if material.publish and entry.kind == "own":
            continue  # free words may name anybody
        detail = "\n".join(entry.detail.splitlines()[:6])
        rows.append(
            (
                entry.at[:16].replace("T", " "),
                str(entry.operation or ""),
                entry.words + (f"\n{detail}" if detail else ""),
            )
        )
        photos = [each for each in entry.files if each.thumb] if not material.publish else []
        if photos:
            yield Table(("When", "", "What"), tuple(rows))
            rows = []
            for each in photos:
                data = _photo(material.folder, each.path)
                if data:
                    yield Picture(data, f"{each.name}{noted_words(entry.noted)}, {each.taken[:10] or entry.at[:10]}")
    if rows:
        yield Table(("When", "", "What"), tuple(rows))


def _photo(folder: Path, path: str) -> bytes:
    """A photo of the logbook; nothing where it is gone, a link leads to it or out of the folder, or it is far too
    large."""
    try:
        place = inside(folder, path)
        refuse_link_on_the_way(place)
        if not path.startswith(f"{NOT}/") or place.is_symlink() or not place.is_file():
            return b""
        return place.read_bytes() if place.stat().st_size <= _MOST_PHOTO else b""
    except (OSError, KyklonError):
        return b""


def _published(book: Book, build: Build) -> Book:
    names = names_of(build)

    def plain(words: str) -> str:
        return published(words, names)

    def of(block: Block) -> Block:
        if isinstance(block, Text):
            return replace(block, words=plain(block.words))
        if isinstance(block, Table):
            return Table(block.heads, tuple(tuple(map(plain, row)) for row in block.rows))
        if isinstance(block, Code):
            return Code(block.name, tuple(plain("\n".join(block.lines)).split("\n")))
        if isinstance(block, Picture) and block.ending == ".svg":
            return Picture(plain(block.data.decode("utf-8", "replace")).encode(), block.caption)
        return block

    sections = tuple(Section(each.number, each.title, tuple(map(of, each.blocks))) for each in book.sections)
    return replace(book, title=plain(book.title), sections=sections)


def markdown(book: Book) -> tuple[str, dict[str, bytes]]:
    """The book as Markdown (CommonMark with pipe tables), and its pictures by file name."""
    lines, pictures = [f"# {_line(book.title)}", "", _line(book.subtitle), ""], dict[str, bytes]()
    for section in book.sections:
        number = f"{section.number} " if section.number else ""
        lines += ["", f"## {number}{section.title}", ""]
        for block in section.blocks:
            if isinstance(block, Head):
                lines += ["", f"### {_line(block.words)}", ""]
            elif isinstance(block, Text):
                lines += [_line(block.words), ""]
            elif isinstance(block, Table):
                lines += ["| " + " | ".join(map(_cell, block.heads)) + " |", "|" + " --- |" * len(block.heads)]
                lines += ["| " + " | ".join(map(_cell, row)) + " |" for row in block.rows]
                lines.append("")
            elif isinstance(block, Code):
                fence = "````" if any(line.startswith("```") for line in block.lines) else "```"
                shown = [visible(line, lines=True) for line in block.lines]
                lines += [f"`{_line(block.name)}`", "", fence, *shown, fence, ""]
            else:
                name = f"picture-{len(pictures) + 1}{block.ending}"
                pictures[name] = block.data
                lines += [f"![{_line(block.caption)}]({name})", ""]
    return "\n".join(lines).rstrip() + "\n", pictures


def _line(words: str) -> str:
    plain = visible(words.replace("\n", " "))
    return "".join(f"\\{letter}" if letter in "\\`*_[]<>#" else letter for letter in plain)


def _cell(words: str) -> str:
    plain = visible(words, lines=True).replace("\n", "<br>")
    plain = "".join(f"\\{letter}" if letter in "\\`*_[]|" else letter for letter in plain)
    return plain.replace("<", "&lt;").replace("&lt;br>", "<br>")
