"""An image learnt from its file: what firmware, kernel and services would find in it. Nothing is unpacked to disk.

What was not reached in the time is asked. Sources for names on a root: hier(7), passwd(5), os-release(5),
systemd.service(5), Linux Standard Base 5.0 chapter 22.
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path

from kyklon.base.errors import FormatError, KyklonError
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.quantities import show_bytes
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board
from kyklon.catalogue.text_records import Dialect
from kyklon.model.card import CardContents, Unit, User
from kyklon.operations.boot.dialects.kinds import codec_of
from kyklon.operations.boot.dialects.lines_file import SERVICES
from kyklon.operations.boot.dialects.settings_file import SettingsFile
from kyklon.operations.card.sources import source
from kyklon.operations.card.volumes import contents
from kyklon.operations.card.volumes.ext_reader import ExtReader
from kyklon.operations.card.volumes.openrc import RUNLEVELS
from kyklon.operations.card.volumes.root_facts import Looker
from kyklon.operations.card.volumes.start_order import unit_words
from kyklon.parts.draft import Draft
from kyklon.parts.fields import FIELDS

ASKED = tuple(each.name for each in FIELDS["images"] if each.name not in ("start_programs", "unattended_min", "reads"))
_PLUMBING = re.compile(
    r"(network|wpa|dhcp|ssh|cron|dbus|udev|getty|syslog|rsyslog|systemd|sound|alsa|pulse|avahi|ntp|time|bluetooth|mount|"
    r"watch|shutdown|power|fan|log|firewall|install|expand|resize|first|rc-local|hostname|keyboard|console|modules|"
    r"swap|bootmisc|urandom|kyklon)",
    re.I,
)  # CP: services of any system, and none of them shows a picture
# scripts that every numbered start brings: of them only rc.local may hold what its owner starts
_SKELETON = ("rc.local",)
_SHIPPED = re.compile(r"\s*(?:$|#|(?:exit|if|then|else|fi|run-parts)\b)")  # Debian 12: initscripts
_SPARE = 1.05  # of its size: a card of that name may be a little smaller
_GAMES = ("games", "roms", "library")
_SYSTEM_FILES = ("system-files", "system", "bios", "firmware")
_MOST_FOLDERS = 400
_NUMBER = re.compile(r"\d{4}-\d\d-\d\d")


@dataclass(frozen=True)
class FaultWords:
    """What a boot file is: a dialect's id, '' for none; and how many of its lines were not understood."""

    path: str
    dialect: str
    odd: int


def learn(path: Path, catalogue: Catalogue, watch: Watch = UNWATCHED) -> Draft:
    """A draft from an image file, packed or not. Raises SourceError for one that is missing, cut off or no image."""
    facts = source.inspect(path)
    by = facts.name
    stem = re.sub(r"(\.img|\.iso|\.bin)?(\.xz|\.gz|\.bz2|\.zst|\.zip|\.7z)?$", "", facts.name, flags=re.I)
    draft = Draft("images", asked=ASKED).with_read(by, name=name_of(stem), files=[f"{_family(stem)}*"])
    with contents.held(facts, watch) as held:
        inside = contents.observe_held(held)
        size = facts.unpacked or held.size
        draft = draft.with_read(by, least_card_bytes=card_for(size))
        if inside.table_error:
            draft = draft.tell(f"{inside.table_error} Nothing more could be read.")
        draft = with_boot(draft, inside, catalogue, by)
        draft = _root(draft, inside, held, by)
    if not held.whole:
        draft = draft.tell(
            f"{show_bytes(held.done)} of {show_bytes(size)} were unpacked in the time; what lies behind is asked."
        )
    if not _NUMBER.fullmatch(str(draft.row.get("released", ""))):
        newest = max((volume.newest for volume in inside.volumes), default="")[:10]
        if _NUMBER.fullmatch(newest):
            draft = draft.with_read("the newest date in it", released=newest)
    parts = inside.table.partitions if inside.table else ()
    words = ", ".join(f"{volume.kind or 'not recognised'} {show_bytes(volume.size)}" for volume in inside.volumes)
    rows = (("Unpacked", facts.size_words), ("Partitions", words if parts else "none"))
    return replace(draft, about=(*rows, *draft.about))


def name_of(stem: str) -> str:
    return re.sub(r"[-_]+", " ", stem).strip().capitalize()[:120] or "Image"


def _family(stem: str) -> str:
    """The beginning that later versions of the file share: 'skiff-1.0-arm64' -> 'skiff-'."""
    match = re.match(r"[A-Za-z][A-Za-z]*(?:[-_][A-Za-z]+)*[-_]?(?=\d|$)", stem)
    return match[0].lower() if match and match[0] else stem.lower()


def card_for(size: int) -> int:
    """The size of card that an image of that size needs, as cards are sold: at least its own bytes."""
    step = 10 ** max(6, math.floor(math.log10(max(size, 1))) - 1)
    return int(math.ceil(size * _SPARE / step) * step)


# --- the boot partition --------------------------------------------------------------------------------------------


def with_boot(draft: Draft, inside: CardContents, catalogue: Catalogue, by: str) -> Draft:
    """With what the boot partition tells: kernels, boards, boot files. by: where that is from, in words."""
    if inside.boot_error:
        draft = draft.tell(f"The boot partition: {inside.boot_error}")
    kernels = [
        {"file": kernel.name, "instruction_set": kernel.instruction_set}
        for kernel in (*inside.kernels, *inside.programs)
        if not kernel.trouble
    ]
    if kernels:
        draft = draft.with_read(by, kernels=kernels)
    elif not inside.boot_error:
        draft = draft.tell("No kernel was recognised on its boot partition.")
    troubles = [kernel.trouble for kernel in inside.kernels] + [each.trouble for each in inside.trees]
    draft = draft.tell(*(f"{trouble}." for trouble in troubles if trouble))
    served = boards_in(inside, catalogue)
    if served:
        draft = draft.with_read(f"{by}: its device trees", boards=list(served))
    unknown = [
        tree for tree in inside.trees if not tree.trouble and tree.name.endswith(".dtb") and not _owner(tree, catalogue)
    ]
    if unknown:
        names = ", ".join(tree.name for tree in unknown[:6])
        draft = draft.tell(
            f"Device trees of boards that are not on the shelf: {names}. Learn such a board from its tree first."
        )
    told = dialects_in(inside, catalogue)
    rows = [
        (
            "Boot file",
            f"{each.path}: {each.dialect or 'no dialect knows it'}" + (f" ({each.odd} odd lines)" if each.odd else ""),
        )
        for each in told
    ]
    if not told and inside.texts:
        names = ", ".join(sorted(inside.names.values())[:6])
        draft = draft.tell(
            f"No boot file was recognised. Texts on the boot partition: {names}. Learn its dialect from one of them."
        )
    of_system = {file.path.lower() for dialect in catalogue.all(Dialect) for file in dialect.files if file.of_system}
    if read := sorted(name for path, name in inside.names.items() if path in of_system):
        draft = draft.with_read(by, reads=read)
    rows.append(
        ("Kernels", ", ".join(f"{kernel['file']} ({kernel['instruction_set']})" for kernel in kernels) or "none")
    )
    scripts = [name for name in inside.names.values() if name.endswith(".sh") and "first" in name.lower()]
    if scripts:
        draft = draft.offer("a script of such a name lies on its boot partition", first_boot_script=scripts[0])
    return replace(draft, about=(*draft.about, *rows))


def _owner(tree: object, catalogue: Catalogue) -> str:
    """The board that a device tree is for, by what it says or by its file's name; '' for none that is known."""
    strings = set(getattr(tree, "compatible", ()))
    name = str(getattr(tree, "name", "")).lower().rpartition("/")[2]
    for board in catalogue.all(Board):
        if (board.compatible and board.compatible in strings) or (
            board.device_tree and board.device_tree.lower() == name
        ):
            return board.id
    return ""


def boards_in(inside: CardContents, catalogue: Catalogue) -> tuple[str, ...]:
    """Boards of the shelf that the image has both a device tree and a kernel for."""
    sets = {kernel.instruction_set for kernel in (*inside.kernels, *inside.programs) if not kernel.trouble}
    found = [_owner(tree, catalogue) for tree in inside.trees if not tree.trouble]
    boards = {board.id: board for board in catalogue.all(Board)}
    return tuple(dict.fromkeys(each for each in found if each and sets & set(boards[each].runs)))


def dialects_in(inside: CardContents, catalogue: Catalogue) -> tuple[FaultWords, ...]:
    """Boot files on a boot partition, with the dialect that reads each: the one that finds the fewest odd lines."""
    found: dict[str, FaultWords] = {}
    for dialect in catalogue.all(Dialect):
        file = dialect.files[0]
        text = inside.texts.get(dialect.where(file, inside.texts).lower())
        if text is None:
            continue
        codec = codec_of(file)
        if isinstance(codec, SettingsFile) and not codec.recognised(text):
            continue
        if not codec.read(text, ""):
            continue
        odd = sum("neither" in each.odd or "gives the file up" in each.odd for each in codec.told(text, ""))
        if file.path not in found or odd < found[file.path].odd:
            found[file.path] = FaultWords(file.path, dialect.id, odd)
    return tuple(found.values())


# --- the root partition --------------------------------------------------------------------------------------------


def _root(draft: Draft, inside: CardContents, held: contents.Held, by: str) -> Draft:
    part = next(
        (each for each in (inside.table.partitions if inside.table else ()) if each.number == inside.root_number), None
    )
    if inside.root is None or part is None:
        why = inside.root_error or "There is no Linux partition."
        if "unpacked" in why:
            return draft.tell(
                "The root partition was not reached in the time: users, services and folders are asked."
            ).offer("it has a Linux partition", school="complete image", grows=True)
        return draft.tell(f"The root partition: {why}").offer("it has no Linux root", school="bare metal", grows=False)
    draft = draft.offer("it has a Linux root with programs on it", school="complete image")
    grower = _grower(inside)
    why = f"{grower} does it" if grower else "nothing on it grows the root"
    draft = draft.offer(why, grows=bool(grower))
    try:
        look = Looker(ExtReader(held.read, part.start, min(part.size, held.size - part.start)))
    except FormatError as bad:
        return draft.tell(f"The root partition: {bad.what}")
    draft = _release(draft, look, by)
    draft = _users(draft, inside.root.users, by)
    draft = _services(draft, inside, look, by)
    draft = _folders(draft, look, by)
    troubles = [trouble for trouble in look.troubles if "unpacked" not in trouble]
    if len(troubles) < len(look.troubles):
        draft = draft.tell("Some of the root partition was not reached in the time; what it would tell is asked.")
    return draft.tell(*(f"On the root partition: {trouble}." for trouble in troubles[:5]))


_GROWS = re.compile(r"expand|resize|grow", re.I)  # CP: what services and scripts that do it are called


def _grower(inside: CardContents) -> str:
    """What makes the root as large as the card at the first start, '' for nothing that was found."""
    root = inside.root
    assert root is not None
    named = [unit.name for unit in root.services] + list(root.pulled)
    named += [word for text in inside.texts.values() for word in re.findall(r"\binit=(\S+)", text)]
    named += [f"{mount.where} with {option}" for mount in root.mounts for option in mount.options if "growfs" in option]
    named += [name for name in inside.names.values() if name.endswith(".sh")]
    return next((name for name in named if _GROWS.search(name)), "")


def _release(draft: Draft, look: Looker, by: str) -> Draft:
    told = look.text("/etc/os-release") or look.text("/usr/lib/os-release")
    values = {
        key.strip(): value.strip().strip("\"'")
        for key, found, value in (line.partition("=") for line in told.split("\n"))
        if found
    }
    name = values.get("PRETTY_NAME") or values.get("NAME", "")
    own = look.text("/etc/image-release").strip()
    if own:
        name = own.partition(",")[0]
    if name:
        draft = draft.with_read(f"{by}: its release file", name=_printable(name)[:120] or draft.row["name"])
    date = _NUMBER.search(own or values.get("BUILD_ID", "") or values.get("VERSION", ""))
    if date:
        draft = draft.with_read(f"{by}: its release file", released=date[0])
    return draft


def _printable(text: str) -> str:
    return "".join(each for each in text if each.isprintable())


def _users(draft: Draft, users: tuple[User, ...], by: str) -> Draft:
    """People have numbers from 1000 on (login.defs(5): UID_MIN)."""
    people = [
        user for user in users if 1000 <= user.number < 60_000 and not user.shell.path.endswith(("nologin", "false"))
    ]
    rows = (("Users", ", ".join(user.name for user in people) or "none but the system's own"),)
    draft = replace(draft, about=(*draft.about, *rows))
    if people and re.fullmatch(r"[a-z_][a-z0-9_-]{0,31}", people[0].name):
        return draft.with_read(f"{by}: its users", default_user=people[0].name)
    return draft


def _services(draft: Draft, inside: CardContents, look: Looker, by: str) -> Draft:
    root = inside.root
    assert root is not None
    listed = [name for name in _listed(inside) if name]
    names = root.numbered or tuple(listed) or tuple(unit.name for unit in root.services)
    units = {unit.name: unit for unit in root.services}
    wanted = tuple(dict.fromkeys(name for name in names if name in units))
    if not wanted:
        return draft.tell("No services were found that start by themselves.")
    scripts = "OpenRC" if root.numbered_in.startswith(RUNLEVELS) else "numbered scripts"
    how = "systemd" if root.pulled else scripts if root.numbered else "a list of services"
    draft = replace(draft, about=(*draft.about, ("Started by", how)))
    draft = draft.with_read(f"{by}: {how}", services=list(wanted if not root.pulled else ()))
    session = root.session
    if session is not None and session.user and not session.trouble:
        draft = draft.with_read(f"{by}: {session.unit} logs them in", default_user=session.user)
    if session is not None and session.program:
        why = "followed from the login: " + " → ".join((session.unit, *session.way))
        name = session.program.rpartition("/")[2].rpartition(".")[0] or session.program.rpartition("/")[2]
        draft = draft.offer(
            why,
            foreground_service=session.unit,
            front_end_program=session.program,
            front_end=name.capitalize(),
        )
    followed = session is not None and bool(session.program)
    front = None if followed else front_of(wanted, units, look, pulled=bool(root.pulled))
    if front is None and not followed:
        draft = draft.tell(
            "Nothing was found that shows a front end: it is taken for a base system, which stops at a login prompt. "
            "Name the front end's program if it has one."
        ).offer("nothing was found that shows one", front_end="", front_end_program="", foreground_service="")
    if front is not None:
        draft = draft.offer(
            "it is the last that shows something, or holds the first console", foreground_service=front.name
        )
        if front.program is not None:
            program = _runs(front, look)
            draft = draft.offer(
                "what that service starts", front_end_program=program, front_end=program.rpartition("/")[2].capitalize()
            )
    for field, pattern in (
        ("watcher_service", r"shutdown|power-?button|watcher"),
        ("network_service", r"network|wpa|wireless|dhcp"),
        ("installer_service", r"install"),
    ):
        named = next((name for name in wanted if re.search(pattern, name, re.I)), "")
        if named:
            draft = draft.offer("by its name", **{field: named})
    return draft


def _listed(inside: CardContents) -> tuple[str, ...]:
    """Services of a list on the boot partition."""
    text = inside.texts.get("services.list", "")
    return (
        tuple(line.strip() for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#"))
        if text
        else ()
    )


_OWN = ("/opt/", "/usr/local/", "/home/", "/srv/", "/usr/games/", "/userdata/", "/usr/bin/")
_OF_SYSTEMD = ("/usr/lib/systemd/system", "/lib/systemd/system")  # units that come with packages


def front_of(names: tuple[str, ...], units: Mapping[str, Unit], look: Looker, *, pulled: bool = False) -> Unit | None:
    """The service that most likely stays in front: one that takes the first console; else the last of the rest. pulled:
    systemd starts them; then only one that its owner put there counts, that keeps running."""
    able = [unit for name in names if (unit := units[name]).program is not None and not unit.program.trouble]
    for unit in able:
        if _takes_console(unit, look):
            return unit
    if pulled:
        able = [
            unit
            for unit in able
            if unit.kind != "oneshot"
            and unit.program is not None
            and unit.program.path.startswith(_OWN)
            and not any(look.there(f"{folder}/{unit.name}.service") for folder in _OF_SYSTEMD)
        ]
    waits = [unit for unit in able if unit.foreground and not _PLUMBING.search(unit.name)]
    rest = waits or [unit for unit in able if not _PLUMBING.search(unit.name)]
    rest = [unit for unit in rest if unit.name not in _SKELETON or _of_its_owner(look)]
    return rest[-1] if rest else None


def _of_its_owner(look: Looker) -> bool:
    """Whether somebody put anything into /etc/rc.local beside what distributions ship in it."""
    return any(not _SHIPPED.match(line) for line in look.text("/etc/rc.local").split("\n"))


def _takes_console(unit: Unit, look: Looker) -> bool:
    if _PLUMBING.search(unit.name):
        return False
    for folder in ("/etc/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system", "/etc/services.d"):
        words = unit_words(look.text(f"{folder}/{unit.name}.service"))
        told = " ".join((*words.get("TTYPath", ()), *words.get("Conflicts", ()), *words.get("Alias", ())))
        if re.search(r"tty1\b|getty@tty1|display-manager", told):
            return True
    return False


def _runs(unit: Unit, look: Looker) -> str:
    """What a service starts: of a numbered script the program that it names, where it names one."""
    assert unit.program is not None
    path = unit.program.path
    if "/rc" in path or "/init.d/" in path:
        match = re.search(r"^\s*(?:DAEMON|PROG(?:RAM)?|EXEC)=[\"']?(/[\w./-]+)", look.text(path), re.M)
        return match[1] if match else path
    return path


def _folders(draft: Draft, look: Looker, by: str) -> Draft:
    """The folder whose sub-folders hold games, by its layout or its name; and that of system files beside it."""
    homes = [f"/home/{name}" for name in look.names("/home")[:20]]
    best: tuple[int, str] | None = None
    shelf = ""
    seen = 0
    for top in ("", *homes, "/srv", "/opt", "/userdata"):
        for name in look.names(top or "/"):
            path = f"{top}/{name}"
            seen += 1
            if seen > _MOST_FOLDERS:
                break
            if not look.is_folder(path) or (not top and name in _ROOTS_OWN):
                continue
            score = _like_games(look, path, name)
            if score and (best is None or score > best[0]):
                best = (score, path)
            if name.lower() in _SYSTEM_FILES and not shelf:
                shelf = path
    if best is not None:
        inside = best[1].lstrip("/")
        draft = draft.offer("a folder of that name or layout is there", games_path=f"{inside}/{{folder}}")
        for name in look.names(best[1]):
            if name.lower() in _SYSTEM_FILES and not shelf:
                shelf = f"{best[1]}/{name}"
    if shelf:
        draft = draft.offer("a folder of that name is there", system_files_path=shelf.lstrip("/"))
    return draft


_ROOTS_OWN = (
    "bin",
    "boot",
    "dev",
    "etc",
    "home",
    "lib",
    "lib64",
    "lost+found",
    "media",
    "mnt",
    "proc",
    "root",
    "run",
    "sbin",
    "srv",
    "sys",
    "tmp",
    "usr",
    "var",
    "opt",
)  # hier(7)


def _like_games(look: Looker, path: str, name: str) -> int:
    """How much a folder looks like one of games: its name, and folders within that hold files of one ending."""
    score = 5 if name.lower() in _GAMES else 0
    for inner in look.names(path)[:60]:
        if not look.is_folder(f"{path}/{inner}"):
            continue
        endings = {each.rpartition(".")[2].lower() for each in look.names(f"{path}/{inner}")[:200] if "." in each}
        score += 1 if len(endings) <= 4 else 0
    return score if name.lower() in _GAMES or score >= 4 else 0


def service_names(dialect: Dialect, inside: CardContents) -> tuple[str, ...]:
    """The services that a dialect's own list names."""
    file = dialect.file("lines")
    text = inside.texts.get(file.path.lower(), "") if file else ""
    return (
        tuple(name for name in codec_of(file).read(text, "").get(SERVICES, "").split("\n") if name)
        if file and text
        else ()
    )


def whole_or_error(path: Path) -> str:
    """'' for an image that can be learnt, else why not."""
    try:
        source.inspect(path)
    except KyklonError as bad:
        return str(bad)
    return ""
