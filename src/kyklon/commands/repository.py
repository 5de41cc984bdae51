"""Parts shared by many: a folder of part files with an index and a signature, made by one and added by others."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from kyklon.base.errors import WrongUse
from kyklon.base.places import catalogue_folder
from kyklon.base.quantities import counted
from kyklon.base.shown import visible
from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import OK, STOPS, Json, catalogue, out
from kyklon.parts import repository as shared
from kyklon.parts import trust
from kyklon.parts.store import Store

ACTS = ("make", "check", "sign", "withdraw", "add", "forget", "list", "news", "take")


def repository(
    act: Annotated[str, Argument(help=f"{', '.join(ACTS)}.", metavar="ACT")],
    folder: Annotated[Path | None, Argument(help="The repository's folder.", metavar="FOLDER")] = None,
    part: Annotated[str, Option("--part", help="KIND/ID, for withdraw and take.")] = "",
    name: Annotated[str, Option("--name", help="What the repository is called, for make.")] = "",
    key: Annotated[str, Option("--key", help="For sign: the key's file. For add: its fingerprint.")] = "",
    why: Annotated[str, Option("--why", help="Why a part is withdrawn; without it the mark is taken away.")] = "",
    replace: Annotated[bool, Option("--replace", help="Take its version where the shelf has another.")] = False,
    use: Annotated[bool, Option("--use", help="You have reviewed its templates and dialects and allow them.")] = False,
    as_json: Json = False,
) -> int:
    """Share parts with others: make, check, sign, withdraw; add, forget, list, news, take.

    A repository is a folder with part files below parts/. `make` writes its index from them, `sign` signs that with an
    OpenSSH key. Who adds it with the key's fingerprint takes nothing from anybody else. `news` shows what it has that
    your shelf has not, `take` puts one part onto the shelf. Exit 1 when something is wrong, or wants to be looked at.
    """
    if act not in ACTS:
        raise WrongUse(f"{act!r} is none of them.", do=f"There are: {', '.join(ACTS)}.")
    if folder is None and act not in ("list", "news"):
        raise WrongUse(f"`{act}` needs the folder of a repository.")
    place = folder or Path()
    if act == "make":
        return _make(place, name, as_json)
    if act == "check":
        return _check(place, as_json)
    if act == "sign":
        return _sign(place, key, as_json)
    if act == "withdraw":
        shared.withdraw(place, part, why)
        out({"part": part, "withdrawn": why}, as_json, lambda: [f"{part}: {why or 'in use again'}. Sign it again."])
        return OK
    if act == "add":
        found = shared.add(place, key)
        out(
            {"name": found.index.name, "parts": len(found.index.parts), "key": found.key},
            as_json,
            lambda: [
                f"{visible(found.index.name)}, {counted(len(found.index.parts), 'part')}, "
                f"{f'signed by {found.key}' if found.key else 'not signed: anybody may have changed it'}"
            ],
        )
        return OK
    if act == "forget":
        there = shared.forget(place)
        out({"forgotten": there}, as_json, lambda: ["Forgotten." if there else "It was not added."])
        return OK if there else STOPS
    if act == "list":
        return _list(as_json)
    if act == "news":
        return _news(place if folder else None, as_json)
    return _take(place, part, replace=replace, use=use, as_json=as_json)


def _check(place: Path, as_json: bool) -> int:
    wrong = shared.check(place, catalogue())
    signer = "" if wrong else shared.signer_of(place)
    said = f"It is as its index says. {f'Signed by {signer}.' if signer else 'It is not signed.'}"
    out({"wrong": wrong, "key": signer}, as_json, lambda: list(wrong) or [said])
    return STOPS if wrong else OK


def _sign(place: Path, key: str, as_json: bool) -> int:
    if not key:
        do = "Make one: ssh-keygen -t ed25519 -f FILE; then --key FILE."
        raise WrongUse("`sign` needs the file of a key.", do=do)
    print_ = shared.sign(place, Path(key).expanduser().absolute())
    out({"key": print_}, as_json, lambda: [f"Signed by {print_}. Tell that to those who add it."])
    return OK


def _make(place: Path, name: str, as_json: bool) -> int:
    made = shared.make(place, name, catalogue())
    data = {"name": made.name, "parts": [entry.key for entry in made.parts]}
    out(data, as_json, lambda: [f"{visible(made.name)}: {counted(len(made.parts), 'part')} in {place / shared.INDEX}."])
    return OK


def _list(as_json: bool) -> int:
    found, wrong = shared.every()
    rows = [
        {"name": each.index.name, "path": str(each.path), "parts": len(each.index.parts), "key": each.key}
        for each in found
    ]

    def lines() -> list[str]:
        told = [
            f"{visible(str(row['name']))}: {row['parts']} parts, {row['path']}, {row['key'] or 'not signed'}"
            for row in rows
        ]
        return [*told, *wrong] or ["None was added: kyklon part repository add FOLDER."]

    out({"repositories": rows, "wrong": wrong}, as_json, lines)
    return STOPS if wrong else OK


def _news(place: Path | None, as_json: bool) -> int:
    found, wrong = shared.every()
    chosen = tuple(each for each in found if place is None or each.path == place)
    if place is not None and not chosen:
        chosen = (shared.read(place),)
    rows = list(shared.news(chosen, catalogue()))

    def lines() -> list[str]:
        told = []
        for row in rows:
            told.append(
                f"{row.state:9} {row.entry.key}  {visible(row.entry.name)}  ({visible(row.repository.index.name)})"
            )
            told += [f"          {visible(each)}" for each in row.differences[:8]]
            told += [f"          {visible(other)} has it otherwise." for other in row.others]
        return [*told, *wrong] or ["Nothing is new."]

    out({"news": [shared.as_data(row) for row in rows], "wrong": wrong}, as_json, lines)
    return STOPS if wrong else OK


def _take(place: Path, part: str, *, replace: bool, use: bool, as_json: bool) -> int:
    row = next((each for each in shared.known() if each.path == str(place)), None)
    found = shared.read(place, row.key if row else "")
    shelf = catalogue()
    brought = shared.brought(found, part, shelf)
    seen = trust.looked_at()
    texts = [
        each for each in brought if each.text and each.state != "same" and trust.digest(each.kind, each.row) not in seen
    ]
    other = [each for each in brought if each.state == "other"]
    waits = bool((other and not replace) or (texts and not use))
    if not waits:
        shared.take(found, part, shelf, Store(catalogue_folder()), replace=replace)
        if texts:
            trust.remember((each.kind, each.row) for each in texts)

    def lines() -> list[str]:
        told = [f"{each.part.id}: {each.state}" for each in brought]
        told += [f"  {row.label}: {row.before} here, {row.after} there" for each in other for row in each.differences]
        told += [visible(each.text, lines=True) for each in texts]
        return [
            *told,
            "Nothing was changed: look at that, then add --replace or --use." if waits else "It is on your shelf.",
        ]

    data = {
        "parts": [{"kind": each.kind, "id": each.part.id, "state": each.state} for each in brought],
        "done": not waits,
    }
    out(data, as_json, lines)
    return STOPS if waits else OK
