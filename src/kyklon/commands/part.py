"""Parts of the shelf: listed, learnt, exchanged, checked."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

from kyklon.base.errors import CatalogueError, KyklonError, WrongUse
from kyklon.base.places import catalogue_folder
from kyklon.base.quantities import counted
from kyklon.catalogue.loader import load
from kyklon.catalogue.system_records import System
from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import OK, STOPS, Folder, Json, catalogue, out, standard_input, tell, watching
from kyklon.parts import exchange
from kyklon.parts import trust as trusted
from kyklon.parts.bare_metal import learn as learn_set
from kyklon.parts.draft import AGREED
from kyklon.parts.encoder import from_facts, typed_terminals
from kyklon.parts.facts import facts_of
from kyklon.parts.fields import KIND_WORDS, field_of, fields_of, label_of, one, value_words
from kyklon.parts.learning import with_choices
from kyklon.parts.simple import TYPED
from kyklon.parts.store import Store, today
from kyklon.parts.system import firmware_row, with_firmware, with_revision
from kyklon.parts.trees import trees_in
from kyklon.parts.uses import copied, uses
from kyklon.parts.uses import delete as taken_off
from kyklon.parts.view import waiting_for
from kyklon.record import folder as store

if TYPE_CHECKING:
    from collections.abc import Iterable

    from kyklon.catalogue.loader import Catalogue
    from kyklon.parts.draft import Draft
    from kyklon.parts.store import Store

KindName = Annotated[str, Argument(help="A kind of part: display, board, encoder, image, system, …", metavar="KIND")]
PartId = Annotated[str, Argument(help="Its short name, as `kyklon part list` gives it.", metavar="ID")]
_SIMULATED = Annotated[Path | None, Option("--folder", help="Build folder with simulated devices.")]


def kind_of(word: str) -> str:
    """The catalogue's name of a kind, from its name in one or many."""
    plain = word.lower().replace(" ", "_")
    for kind in KIND_WORDS:
        if plain in (kind, one(kind).replace(" ", "_")):
            return kind
    raise WrongUse(f"Unknown kind of part: {word!r}.", do=f"Kinds: {', '.join(one(kind) for kind in KIND_WORDS)}.")


def _store() -> Store:
    return Store(catalogue_folder())


def list_parts(
    kind: Annotated[str, Option("--kind", help="Only this kind.")] = "",
    own: Annotated[bool, Option("--own", help="Only your own.")] = False,
    as_json: Json = False,
) -> int:
    """List the parts of the shelf, shipped and your own."""
    parts = catalogue()
    wanted = [kind_of(kind)] if kind else list(KIND_WORDS)
    rows = [
        {"kind": one(each), "id": part.id, "name": part.name, "own": (each, part.id) in parts.own, "note": part.note}
        for each in wanted
        for part in parts.parts[each].values()
        if not own or (each, part.id) in parts.own
    ]
    data = {"parts": rows, "broken": [{"file": str(each.path), "why": str(each.error)} for each in parts.broken]}
    out(
        data,
        as_json,
        lambda: (
            [f"{row['kind']:18} {row['id']:24} {'own' if row['own'] else 'ships':6} {row['name']}" for row in rows]
            or ["No parts of your own yet."]
        ),
    )
    return OK


def show(kind: KindName, part_id: PartId, as_json: Json = False) -> int:
    """Show a part's facts and the source of each."""
    parts, of = catalogue(), kind_of(kind)
    rows = facts_of(of, part_id, parts)
    used = uses().get(part_id, ())
    data = {
        "id": part_id,
        "facts": [row.__dict__ for row in rows],
        "used_by": [{"name": use.name, "folder": str(use.folder)} for use in used],
    }

    def lines() -> list[str]:
        found = [f"{row.label:28} {row.words or 'none'}  [{row.origin}]" for row in rows]
        return [*found, f"Used by: {', '.join(use.name for use in used) or 'no build on this machine'}"]

    out(data, as_json, lines)
    return OK


def learn(
    what: Annotated[
        str,
        Argument(
            help="display, board, encoder, image, system, panel, dialect, add-on, chooser or bare-metal.",
            metavar="WHAT",
        ),
    ],
    source: Annotated[
        str, Argument(help="A file, a folder, '-' for a text on standard input, or a device.", metavar="FILE")
    ],
    name: Annotated[str, Option("--name", help="Its name.")] = "",
    set_: Annotated[list[str] | None, Option("--set", help="FIELD=VALUE, with a unit; repeatable.")] = None,
    agree: Annotated[bool, Option("--agree", help="Accept the suggested values for the rest.")] = False,
    save: Annotated[bool, Option("--save", help="Add it to the shelf.")] = False,
    folder: _SIMULATED = None,
    tree: Annotated[str, Option("--tree", help="Device tree in an image to learn a board from.")] = "",
    machines: Annotated[
        str, Option("--machines", help="Where a bare-metal set has its machines, as systems/{machine}/{kind}.")
    ] = "",
    terminal: Annotated[
        list[str] | None,
        Option("--terminal", help="Encoder terminal: 1U=ABS_Y-, or 2.2U=ABS_Y- for player 2; repeatable."),
    ] = None,
    as_json: Json = False,
) -> int:
    """Learn a part from the part itself; --save adds it to the shelf."""
    parts = catalogue()
    if what == "encoder":
        draft = _encoder(source, folder, terminal or [])
        if save and "terminals" not in draft.row:
            raise WrongUse(
                "Its terminals are not known.", do="Test them in the window, or give them with --terminal 1U=ABS_Y-."
            )
    elif what == "bare-metal" and machines:
        draft = with_choices(learn_set(Path(source).absolute(), parts, machines), parts)
    else:
        draft = _from_tree(Path(source).absolute(), tree, parts) if tree else _from(what, source, parts)
    draft = _answered(draft, set_ or ())
    draft = draft.agreed() if agree else draft
    if save:
        part = draft.part(name)
        _store().add(draft.kind, draft.as_row(name))
        tell(f"{part.name} is on the shelf as {part.id}.")
    _draft_out(draft, name, as_json)
    return OK


def add(
    kind: KindName,
    name: Annotated[str, Option("--name", help="Its name.")],
    set_: Annotated[list[str] | None, Option("--set", help="FIELD=VALUE, with a unit; repeatable.")] = None,
    agree: Annotated[bool, Option("--agree", help="Accept the usual values for the rest.")] = False,
) -> int:
    """Add a part by what is printed on it: supply, cable, card, adapter, disk, bridge."""
    of = kind_of(kind)
    if of not in TYPED:
        known = ", ".join(one(each) for each in TYPED)
        raise WrongUse(f"A {one(of)} is not typed but learnt or copied.", do=f"Typed are: {known}.")
    draft = _answered(TYPED[of](), set_ or ())
    draft = draft.agreed() if agree else draft
    part = draft.part(name)
    _store().add(draft.kind, draft.as_row(name))
    for words in draft.told:
        tell(words)
    print(f"{part.name} is on the shelf as {part.id}.")
    return OK


def _answered(draft: Draft, answers: Iterable[str]) -> Draft:
    """A draft with what --set says. Raises WrongUse."""
    for answer in answers:
        field, found, value = answer.partition("=")
        if not found:
            raise WrongUse(f"{answer!r} sets nothing.", do="Write it as e.g. --set peak_a=900mA.")
        try:
            draft = draft.answered(field.strip(), value)
        except ValueError as bad:
            raise WrongUse(f"{bad}.", do="Nothing was saved.") from bad
    return draft


def _from(what: str, source: str, parts: Catalogue) -> Draft:
    import tempfile

    from kyklon.parts.learning import learn as learnt

    if source != "-":
        with watching() as watch:
            return learnt(what, Path(source).absolute(), parts, watch)
    with tempfile.NamedTemporaryFile(suffix=".txt") as file:
        file.write(standard_input(4 << 20))
        file.flush()
        return learnt(what, Path(file.name), parts)


def _from_tree(path: Path, name: str, parts: Catalogue) -> Draft:
    """A board from one of the trees in an image."""
    from kyklon.parts.learning import board_of

    with watching() as watch:
        found = trees_in(path, watch)
    tree = next((tree_file for tree_file in found if tree_file.path.lower() == name.lower()), None)
    if tree is None:
        raise WrongUse(
            f"{path.name} has no device tree {name!r}.",
            do=f"It has: {', '.join(tree_file.path for tree_file in found[:20])}.",
        )
    return board_of(tree, parts)


def _encoder(source: str, folder: Path | None, terminals: list[str]) -> Draft:
    """What an input device says of itself; closing its terminals is done in the window, where it can be seen."""
    from kyklon.devices.choose import inputs_of

    inputs = inputs_of(folder)
    listed = inputs.list()
    facts = next((each for each in listed if source in (each.identity, each.name)), None)
    if facts is None:
        names = ", ".join(each.identity for each in listed) or "none; add your user to the 'input' group"
        raise WrongUse(f"Unknown input device: {source!r}.", do=f"There are: {names}.")
    try:
        return typed_terminals(from_facts(facts), terminals)
    except ValueError as bad:
        raise WrongUse(f"{bad}.") from bad


def _how(draft: Draft, name: str) -> str:
    """Where a fact comes from; what was suggested and left so is no more than that."""
    return "suggested" if draft.known[name].by == AGREED else draft.known[name].how


def _draft_out(draft: Draft, name: str, as_json: bool) -> None:
    asked = [{"field": each.name, "label": each.label, "unit": each.unit, "why": each.why} for each in draft.missing()]
    data = {
        "kind": one(draft.kind),
        "row": draft.as_row(name),
        "suggested": dict(draft.suggested),
        "asked": asked,
        "told": list(draft.told),
        "about": dict(draft.about),
    }

    def lines() -> list[str]:
        rows = [
            f"{label_of(draft.kind, key):28} {value_words(draft.kind, key, value) or 'none'}  [{_how(draft, key)}]"
            for key, value in draft.row.items()
        ]
        rows += [f"{key:28} {value}" for key, value in draft.about]
        rows += [
            f"suggested: {label_of(draft.kind, key)} {value_words(draft.kind, key, value)}"
            + (f" ({draft.because[key]})" if key in draft.because else "")
            for key, value in draft.suggested.items()
            if key not in draft.row
        ]
        rows += [
            f"asked: {each['label']}" + (f", in {each['unit']}" if each["unit"] else "") + f" (--set {each['field']}=…)"
            for each in asked
            if each["field"] not in draft.suggested
        ]
        return [*rows, *(f"note: {each}" for each in draft.told)]

    out(data, as_json, lines)


def firmware(
    part_id: Annotated[str, Argument(help="The system's short name.", metavar="SYSTEM")],
    file: Annotated[Path, Argument(help="A firmware file that is known to be good.")],
    region: Annotated[str, Option("--region", help="The region it is for.")] = "",
    optional: Annotated[bool, Option("--optional", help="Games start without it.")] = False,
    revision_of: Annotated[
        str, Option("--revision-of", help="It is another revision of this file, less good than those there.")
    ] = "",
    note: Annotated[str, Option("--note", help="Which revision it is, or what it lacks.")] = "",
) -> int:
    """Have your own system ask for a firmware file.

    Name, size and SHA-256 are taken from one that is known to be good.
    """
    known = catalogue().find(System, part_id)
    if known is None:
        raise WrongUse(f"The shelf has no system {part_id!r}.", do="See `kyklon part list system`.")
    row = firmware_row(file.absolute(), region, required=not optional)
    there = [each.model_dump() for each in known.system_files]
    if revision_of:
        rows = with_revision(there, revision_of, row, note)
        _store().change("systems", part_id, {"system_files": rows}, f"Revision of {revision_of}")
        print(f"{known.name} also takes {row['size']} bytes, SHA-256 {row['sha256']}, as {revision_of}.")
        return OK
    rows = with_firmware(there, row)
    _store().change("systems", part_id, {"system_files": rows}, f"Firmware {row['name']}")
    print(f"{known.name} asks for {row['name']}, {row['size']} bytes, SHA-256 {row['sha256']}.")
    return OK


def export(kind: KindName, part_id: PartId, file: Annotated[Path, Argument(help="File to write.")]) -> int:
    """Export a part, with everything it needs, to one file."""
    exchange.export(kind_of(kind), part_id, catalogue(), file)
    print(file)
    return OK


def import_(
    file: Annotated[Path, Argument(help="A part's file.")],
    replace: Annotated[bool, Option("--replace", help="Use its version where the shelf has a different one.")] = False,
    use: Annotated[bool, Option("--use", help="You have reviewed its templates and dialects and allow them.")] = False,
    as_json: Json = False,
) -> int:
    """Import a part file; differences from the shelf are shown.

    Exit 1 when nothing was changed because it wants to be looked at first.
    """
    parts = catalogue()
    found = exchange.incoming(file, parts)
    other = [incoming for incoming in found if incoming.state == "other"]
    seen = trusted.looked_at()
    texts = [
        incoming
        for incoming in found
        if incoming.text and incoming.state != "same" and trusted.digest(incoming.kind, incoming.row) not in seen
    ]
    waits = bool((other and not replace) or (texts and not use))
    if not waits:
        exchange.bring_in(found, _store(), replace=replace)
    data = {
        "parts": [
            {
                "kind": incoming.kind,
                "id": incoming.part.id,
                "state": incoming.state,
                "text": incoming.text,
                "differences": [difference.__dict__ for difference in incoming.differences],
            }
            for incoming in found
        ],
        "done": not waits,
    }

    def lines() -> list[str]:
        rows = []
        for incoming in found:
            rows.append(f"{incoming.part.id}: {incoming.state}")
            rows += [
                f"    {difference.label}: {difference.before} here, {difference.after} in the file"
                for difference in incoming.differences
            ]
            rows += [f"    {line}" for line in incoming.text.split("\n")] if incoming in texts else []
        if waits:
            rows.append(
                "Nothing was changed. "
                + ("--replace takes the file's version. " if other and not replace else "")
                + ("--use confirms that you have reviewed what it writes." if texts and not use else "")
            )
        return rows

    out(data, as_json, lines)
    return STOPS if waits else OK


def check(
    file: Annotated[Path | None, Argument(help="A part's file; your whole shelf without it.")] = None,
    as_json: Json = False,
) -> int:
    """Check a part file, or all your own parts.

    Exit 1 when one cannot be used.
    """
    parts = catalogue_quietly()
    if file is None:
        wrong = [{"file": str(each.path), "why": str(each.error)} for each in parts.broken]
        count = len(parts.own)
    else:
        try:
            count, wrong = len(exchange.incoming(file, parts)), []
        except (CatalogueError, KyklonError) as bad:
            count, wrong = 0, [{"file": str(file), "why": str(bad)}]
    words = [f"{each['file']}: {each['why']}" for each in wrong]
    out({"right": count, "wrong": wrong}, as_json, lambda: [*words, f"{counted(count, 'part')} can be used."])
    return STOPS if wrong else OK


def catalogue_quietly() -> Catalogue:
    return load(catalogue_folder(), strict=False)


def change(
    kind: KindName,
    part_id: PartId,
    field: Annotated[str, Argument(help="A fact, as `kyklon part show` names it.")],
    value: Annotated[str, Argument(help="Its value, with a unit.")],
) -> int:
    """Change one fact of your own part."""
    of = kind_of(kind)
    asked = field_of(of, field)
    if asked is None and field != "name":
        names = ", ".join(each.name for each in fields_of(of))
        raise WrongUse(f"{field!r} cannot be typed.", do=f"These can: name, {names}.")
    try:
        parsed: Any = asked.parse(value) if asked else value
    except ValueError as bad:
        raise WrongUse(f"{bad}.", do="Nothing was changed.") from bad
    _store().change(of, part_id, {field: parsed, "known": {field: {"how": "typed", "at": today()}}})
    print(f"{part_id}: {asked.label if asked else field.capitalize()} {asked.words(parsed) if asked else parsed}")
    return OK


def copy(kind: KindName, part_id: PartId, name: Annotated[str, Argument(help="Name of the copy.")]) -> int:
    """Copy a part as your own."""
    print(copied(kind_of(kind), part_id, name, catalogue(), _store()).path)
    return OK


def delete(kind: KindName, part_id: PartId) -> int:
    """Remove your own part from the shelf; refused while a build uses it."""
    of = kind_of(kind)
    taken_off(of, part_id, catalogue(), _store(), uses())
    print(f"{part_id} is removed from the shelf.")
    return OK


def trust(
    folder: Folder,
    use: Annotated[bool, Option("--use", help="You have reviewed it and allow it.")] = False,
    as_json: Json = False,
) -> int:
    """Show the templates a build brings along; --use allows them.

    Exit 1 while there is some that was not looked at.
    """
    waiting = waiting_for(store.load(folder).build, catalogue())
    if use:
        trusted.remember((part_copy.kind, part_copy.row) for part_copy in waiting)
    told = [{"part": part_copy.key, "text": trusted.shown(part_copy.kind, part_copy.row)} for part_copy in waiting]

    def lines() -> list[str]:
        rows = [line for each in told for line in (each["part"], *(f"    {row}" for row in each["text"].split("\n")))]
        return rows or ["Nothing to review."]

    out({"waiting": told, "used": use}, as_json, lines)
    return STOPS if waiting and not use else OK
