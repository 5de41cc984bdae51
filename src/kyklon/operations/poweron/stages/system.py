"""The kernel and what it starts: root partition, init, services, login.

Sources: the kernel's admin-guide/kernel-parameters and admin-guide/init.rst; init/do_mounts.c, init/main.c (6.1).
"""

from __future__ import annotations

from dataclasses import replace

from kyklon.base.quantities import show_bytes
from kyklon.model.build import Build, change_of
from kyklon.model.card import Program, RootFacts, Unit
from kyklon.model.fields import describe
from kyklon.model.findings import Remedy
from kyklon.model.kernel_line import given as words_given
from kyklon.model.kernel_line import last
from kyklon.model.root_device import RootDevice, root_device
from kyklon.operations.boot import first_boot
from kyklon.operations.boot.services import by_dependencies, told_dependencies, track
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import PUT_ON_CARD, Failure, Moment, Screen, Step
from kyklon.operations.poweron.stages.fail import fail, or_put, panic

KERNEL_S = 1.8  # seconds from the kernel's first line to the root partition, CP
LEAST_FREE = 16_000_000  # bytes of the root for logs, scores and saved games, CP
EXPANSION_B_S = 2e9  # bytes of card a first boot enlarges the root by per second, CP
SERVICE_S = 0.7  # seconds a service takes to start, CP
INITS = ("/sbin/init", "/etc/init", "/bin/init", "/bin/sh")  # init/main.c, in this order
# programs that a kernel of an instruction set runs: a 64-bit one those of 32 bits too (CONFIG_COMPAT)
RUNS = {"ARMv6": ("ARM 32-bit",), "ARMv7": ("ARM 32-bit",), "ARMv8": ("ARM 64-bit", "ARM 32-bit"),
        "x86-64": ("x86-64", "x86 32-bit")}  # fmt: skip
# names that ext4 takes in rootflags= (admin-guide/ext4.rst; fs/fs_context.c); another one makes the mount fail: noatime
# and its like, which mount(8) sets by other means, too
_FLAGS = frozenset((
    "ro", "rw", "lazytime", "sync",
    "async", "dirsync", "data", "errors", "commit", "barrier", "nobarrier", "discard", "nodiscard", "acl", "noacl",
    "user_xattr", "nouser_xattr", "delalloc", "nodelalloc", "journal_checksum", "noload", "norecovery",
    "journal_async_commit", "stripe", "inode_readahead_blks", "auto_da_alloc", "noauto_da_alloc", "init_itable",
    "noinit_itable", "max_batch_time", "min_batch_time", "journal_ioprio", "debug", "minixdf", "bsddf", "grpid",
    "nogrpid", "bsdgroups", "sysvgroups", "resgid", "resuid", "sb", "oldalloc", "orlov", "nouid32", "i_version",
    "dioread_lock", "dioread_nolock", "block_validity", "noblock_validity", "usrquota", "grpquota", "prjquota",
    "quota", "noquota", "jqfmt", "usrjquota", "grpjquota",
))  # fmt: skip


def _meant(bench: Bench) -> RootDevice | None:
    table, size = bench.contents.table, bench.contents.size
    if table is None:
        return None
    there = tuple(part for part in table.partitions if not size or part.start < size)  # the kernel drops the others
    if bench.initramfs_init and (found := _by_volume(bench)):
        return found
    return root_device(bench.kernel_line_words, replace(table, partitions=there), disk=bench.build.medium == "disk")


def _by_volume(bench: Bench) -> RootDevice | None:
    """An initramfs finds a root by the volume's own id or name, too."""
    value = last(bench.kernel_line_words, "root") or ""
    kind, _, wanted = value.partition("=")
    if kind not in ("UUID", "LABEL") or bench.contents.table is None:
        return None
    for part in bench.contents.table.partitions:
        root = bench.contents.roots.get(part.number)
        if root is not None and wanted in ((root.uuid,) if kind == "UUID" else (root.label,)):
            return RootDevice(value, part)
    return RootDevice(value, None, f"No volume has that {kind}.")


def root_of(bench: Bench) -> RootFacts | None:
    """The root that the kernel would mount; None without one."""
    meant = _meant(bench)
    return bench.contents.roots.get(meant.partition.number) if meant and meant.partition else None


def _cut_before_root(bench: Bench) -> int:
    """Characters that are read of a kernel line whose root= comes only after them; 0 for another line."""
    file = bench.dialect.file("words")
    if file is None:
        return 0
    whole = bench.contents.texts.get(file.path.lower(), "").split("\n")[0]
    return bench.dialect.longest_of(file) if last(words_given(whole), "root") is not None else 0


def kernel_line(bench: Bench) -> Step:
    given, lamps = bench.kernel_line_words, bench.board.lamps
    if last(given, "root") is None and (most := _cut_before_root(bench)):
        cause = f"{most} characters of the kernel line are read; root= comes after them."
        return fail(panic("kernel line", "boot.line-too-long", cause, lamps.stuck), hides=True)
    if last(given, "root") is None:
        cause = "The kernel line names no root partition (root=)."
        if bench.settings and bench.settings.line_breaks:
            cause += " Only its first line is read."
        return fail(panic("kernel line", "boot.no-root", cause, lamps.stuck, _root_remedy(bench)), hides=True)
    meant = _meant(bench)
    waits = "rootwait" in given
    if meant is not None and meant.partition is None:
        cause = f"root={meant.word}: {meant.why}"
        if waits and not meant.number:
            screen = Screen("text", "Waiting for ever", (f"Waiting for root device {meant.word}...",))
            failure = Failure("kernel line", "boot.root-nowhere", cause, _root_remedy(bench), screen, lamps.stuck)
        else:
            failure = panic("kernel line", "boot.root-nowhere", cause, lamps.stuck, _root_remedy(bench))
        return fail(failure, hides=True)
    if bench.contents.table and bench.contents.table.second and "gpt" not in given:
        cause = "The first GPT is damaged; a kernel takes the second only with the word gpt in its line."
        return fail(panic("kernel line", "card.second-table", cause, lamps.stuck), hides=True)
    moments = [Moment(f"{len(given)} words.", lamps.reading, KERNEL_S)]
    if not waits and not any(word.startswith("rootdelay=") for word in given):
        what = "A disk on USB" if bench.build.medium == "disk" else "The card"
        text = f"{what} may not be ready yet: the kernel line has no rootwait."
        if bench.build.medium == "disk":
            return fail(panic("kernel line", "boot.no-rootwait", text, lamps.stuck, _word_remedy(bench, "rootwait")))
        moments.append(Moment(text, lamps.reading, 0.0))
    if bench.settings and bench.settings.line_breaks:
        moments.append(Moment("The kernel line is broken in two: only its first line is read.", lamps.reading, 0.0))
    return Step(tuple(moments))


def root_partition(bench: Bench) -> Step:
    lamps, meant = bench.board.lamps, _meant(bench)
    if meant is None or meant.partition is None:
        return Step(hides_the_rest=True)
    number = meant.partition.number
    root = bench.contents.roots.get(number)
    if root is None:
        cause = bench.contents.root_errors.get(number) or f"Partition {number} cannot be read."
        code = "card.no-root-partition"
        if bench.contents.root_number not in (0, number):
            code = "boot.root-elsewhere"
            cause = f"root={meant.word} is partition {number}; the system is on {bench.contents.root_number}. {cause}"
        return fail(panic("root partition", code, cause, lamps.stuck, _root_remedy(bench)), hides=True)
    if bad := _mount_words(bench, root):
        return bad
    moments = [Moment(f"{root.release or 'Linux'}.", lamps.reading, 0.5)]
    told = root.cautions or (bench.contents.fsck if number == bench.contents.root_number else ())
    moments += [Moment(f"The root: {words}.", lamps.reading, 0.0) for words in told[:4]]
    if root.no_write:
        text = f"The root can only be read, so nothing can be saved: {root.no_write}."
        moments.append(Moment(text, lamps.reading, 0.0))
    return Step(tuple(moments))


def _mount_words(bench: Bench, root: RootFacts) -> Step | None:
    """Words of the kernel line under which the mount fails."""
    given, lamps = bench.kernel_line_words, bench.board.lamps
    kind = last(given, "rootfstype")
    if kind is not None and not set(kind.split(",")) & set(root.kinds):
        cause = f"rootfstype={kind}: the root is {root.kinds[0]}."
        return fail(panic("root partition", "boot.rootfstype", cause, lamps.stuck), hides=True)
    if root.not_for_writing and [word for word in given if word in ("ro", "rw")][-1:] == ["rw"]:
        cause = f"rw: the kernel does not mount it for writing, {root.not_for_writing}."
        return fail(panic("root partition", "card.root-damaged", cause, lamps.stuck), hides=True)
    flags = last(given, "rootflags") or ""
    unknown = [each for each in flags.split(",") if each and each.partition("=")[0] not in _FLAGS]
    if unknown:
        cause = f"rootflags={flags}: ext4 knows no option {unknown[0]}."
        return fail(panic("root partition", "boot.rootflags", cause, lamps.stuck), hides=True)
    return None


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


def _word_remedy(bench: Bench, word: str) -> Remedy:
    words = bench.build.boot.kernel_words
    if word in words:
        return PUT_ON_CARD
    change = change_of("boot.kernel_words", [*words, word], " ".join(words) or "none", " ".join((*words, word)))
    return Remedy(label=f"Add {word}", changes=(change,))


# --- init ----------------------------------------------------------------------------------------------------------


def why_not_started(bench: Bench, program: Program | None) -> str:
    """Why a program does not run on this card, '' when it does."""
    root = root_of(bench)
    if program is None:
        return "it names no program"
    if program.why:
        return program.why
    kernel = bench.contents.kernel(bench.kernel_name)
    runs = RUNS.get(kernel.instruction_set, ()) if kernel else ()
    if kernel and program.machine and program.machine not in runs:
        return (
            f"{program.path} is a program for {program.machine}, which a kernel for {kernel.instruction_set} cannot run"
        )
    if root is not None and root.damaged_inodes & set(program.inodes):
        return f"{program.path} has other bytes than the image states, and what it does then cannot be told"
    return ""


def init(bench: Bench) -> Step:
    root = root_of(bench)
    if root is None:
        return Step(hides_the_rest=True)
    named = last(bench.kernel_line_words, "init")
    if named is not None:
        why = why_not_started(bench, root.programs.get(named, Program(named, why=f"{named} is not there")))
        if why:
            cause = f"init={named}: {why}."
            return fail(_no_init(bench, "boot.init", cause, _without_init(bench)), hides=True)
        if named != INITS[0]:
            return fail(_prompt(bench, f"The kernel line starts {named} instead of the system.", _without_init(bench)))
        return _started(bench, root, named)
    tried = {path: why_not_started(bench, root.programs.get(path)) for path in INITS}
    found = next((path for path in INITS if not tried[path]), None)
    if found == INITS[0]:
        return _started(bench, root, found)
    first = tried[INITS[0]]
    elsewhere = bench.contents.root_number and root is not bench.contents.root
    code = "boot.root-elsewhere" if elsewhere else "system.no-init"
    if found is None:
        cause = f"No init can be started: {first}."
        return fail(_no_init(bench, code, cause, _root_remedy(bench) if elsewhere else None), hides=True)
    return fail(_prompt(bench, f"{first[:1].upper()}{first[1:]}; the kernel starts {found} instead.", None, code))


def _started(bench: Bench, root: RootFacts, path: str) -> Step:
    """Init runs, if all that it calls by name does."""
    for tool in bench.image.start_programs:
        program = root.programs.get(tool)  # none when this card was read without asking for it
        if program is not None and (why := why_not_started(bench, program)):
            cause = f"{path} needs {tool}: {why}."
            return fail(_no_init(bench, "system.start-program", cause, None))
    reading = bench.board.lamps.reading
    moments = [Moment(f"{path} starts.", reading, 0.4)]
    for folder in root.missing:
        moments.append(Moment(f"The root has no folder {folder}, where the start mounts.", reading, 0.0))
    if "/dev" in root.missing:
        cause = "The root has no folder /dev: init has no console, and nothing it starts finds a device."
        return fail(_no_init(bench, "system.no-dev", cause, None))
    return Step(tuple(moments))


def _no_init(bench: Bench, code: str, cause: str, remedy: Remedy | None) -> Failure:
    screen = Screen("text", "Kernel panic", ("No working init found.",))
    return Failure("init", code, cause, remedy, screen, bench.board.lamps.stuck)


def _prompt(bench: Bench, cause: str, remedy: Remedy | None, code: str = "boot.init") -> Failure:
    return Failure("init", code, cause, remedy, Screen("text", "Text screen", ("/ #",)), bench.board.lamps.idle)


def _without_init(bench: Bench) -> Remedy | None:
    words = bench.build.boot.kernel_words
    after = [word for word in words if not word.startswith("init=")]
    if list(words) == after:
        return None
    change = change_of("boot.kernel_words", after, " ".join(words), " ".join(after) or "none")
    return Remedy(label="Start the system's own init", changes=(change,))


def first_start(bench: Bench) -> Step:
    """The script that the image runs once."""
    root, name, lamp = root_of(bench), bench.image.first_boot_script, bench.board.lamps.reading
    text = bench.contents.texts.get(name.lower()) if name else None
    if root is None or text is None:
        return Step()
    if root.first_started:
        return Step((Moment(f"{name} was run already; it is not run again.", lamp, 0.0),))
    if root.no_write:
        return Step((Moment(f"{name} can set nothing up: the root can only be read.", lamp, 0.0),))
    if "\r\n" in text:
        return Step((Moment(f"{name} has carriage returns: its commands fail.", lamp, 0.0),))
    own = first_boot.parts(bench.build, bench.image)
    if text == first_boot.text_of(own):
        labels = ", ".join(describe(Build, part.path).label.lower() for part in own)
        return Step((Moment(f"{name} sets up: {labels or 'nothing'}.", lamp, 0.5, once=True),))
    return Step((Moment(f"{name} runs; what it does is not followed.", lamp, 0.5, once=True),))


def root_expansion(bench: Bench) -> Step:
    root, meant = root_of(bench), _meant(bench)
    part = meant.partition if meant else None
    if root is None or part is None:
        return Step()
    if root.expanded or not bench.image.grows:
        if root.free >= LEAST_FREE:
            return Step()
        text = f"Only {show_bytes(root.free)} are free on the root: what is saved may be lost."
        return Step((Moment(text, bench.board.lamps.reading, 0.0),))
    if root.no_write:
        return Step((Moment("The root cannot grow: it can only be read.", bench.board.lamps.reading, 0.0),))
    room = bench.card_bytes - part.start
    if room <= part.size:
        return Step()
    text = f"Grows from {show_bytes(part.size)} to {show_bytes(room)}, then restarts."
    free, wanted = root.free + room - part.size, sum(game.size for game in bench.scan.ready) if bench.scan else 0
    moments = [Moment(text, bench.board.lamps.reading, room / EXPANSION_B_S, once=True)]
    if wanted > free:
        text = f"The games that are ready need {show_bytes(wanted)}; {show_bytes(free)} will be free."
        moments.append(Moment(text, bench.board.lamps.reading, 0.0))
    return Step(tuple(moments))


# --- services and login --------------------------------------------------------------------------------------------


def services(bench: Bench) -> Step:
    root, lamps, front = root_of(bench), bench.board.lamps, bench.image.foreground_service
    if root is None:
        return Step()
    if root.pulled:
        return _by_target(bench, root)
    names = (bench.settings.services if bench.settings else ()) or tuple(unit.name for unit in root.services)
    names = root.numbered or names
    there = root.unit(front) or _installed(bench, root, names)
    if front not in names or there is None:
        remedy = or_put(None, front in bench.build.boot.services) if there else None
        host = (bench.settings.hostname if bench.settings else "") or "games"
        cause = f"{bench.image.front_end} is not among the services." if there else f"The image has no service {front}."
        screen = Screen("text", "Text screen", (f"{host} login:",))
        return fail(Failure("services", "boot.no-front-end", cause, remedy, screen, lamps.idle))
    moments: list[Moment] = []
    for step in track(names, front):
        unit = root.unit(step.name) or (there if step.name == front else None)
        if step.name == bench.image.installer_service and unit is not None and root.unit(front) is None:
            if bad := _no_network(bench, names):
                return Step(tuple(moments), (bad,))
            low, high = bench.image.unattended_min
            moments.append(Moment(f"{step.name} fetches {bench.image.front_end}: {low} to {high} minutes without you.",
                                  lamps.reading, (low + high) * 30.0, once=True))  # fmt: skip
            continue
        if unit is None:
            text, seconds = f"{step.name}: the image has no such service, so it is skipped.", 0.1
        elif not step.starts:
            danger = " The shutdown button will do nothing." if step.name == bench.image.watcher_service else ""
            text, seconds = f"{step.name} never starts: {front} does not return.{danger}", 0.0
        elif step.name != front and (why := why_not_started(bench, unit.program)):
            danger = " The shutdown button will do nothing." if step.name == bench.image.watcher_service else ""
            text, seconds = f"{step.name} does not run: {why}.{danger}", 0.1
        else:
            text, seconds = f"{step.name} starts.", SERVICE_S
        moments.append(Moment(text, lamps.reading, seconds))
    units = {unit.name: unit for unit in root.services}
    moments += [Moment(f"{words}.", lamps.reading, 0.0) for _name, words in told_dependencies(names, units)]
    return Step(tuple(moments))


def _by_target(bench: Bench, root: RootFacts) -> Step:
    """Services that systemd starts for its default target."""
    lamps, front = bench.board.lamps, bench.image.foreground_service

    def runs(unit: Unit) -> str:
        return why_not_started(bench, unit.program) if unit.name != front else ""  # the front end has its own stage

    rows, _circles = by_dependencies(root.pulled, front, runs)
    moments: list[Moment] = []
    for row in rows:
        unit = root.pulled[row.name]
        if "." in row.name and unit.kind != "missing":
            continue  # targets and the like take no time of their own
        if row.why and "." not in row.name:
            danger = " The shutdown button will do nothing." if row.name == bench.image.watcher_service else ""
            moments.append(Moment(f"{row.name} does not start: {row.why}.{danger}", lamps.reading, 0.1))
        elif not row.why:
            moments.append(Moment(f"{row.name} starts.", lamps.reading, 0.1))
    found = next((row for row in rows if row.name == front), None)
    if found is None or found.why:
        host = (bench.settings.hostname if bench.settings else "") or "games"
        why = found.why if found else "the default target does not pull it in"
        screen = Screen("text", "Text screen", (f"{host} login:",))
        cause = f"{bench.image.front_end} does not start: {why}."
        failure = Failure("services", "boot.no-front-end", cause, None, screen, lamps.idle)
        return Step(tuple(moments), (failure,))
    return Step(tuple(moments))


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
    network, settings = bench.image.network_service, bench.settings
    installer = bench.image.installer_service
    before = names[: names.index(installer)]
    if network in before and settings is not None and settings.country:
        return None
    cause = f"{installer} cannot fetch {bench.image.front_end}: "
    cause += (
        "no wireless country is set, so the radio stays off."
        if network in before
        else f"{network} does not start before it."
    )
    screen = Screen("text", "Text screen", ("No network",))
    right = bool(bench.build.boot.country) if network in before else network in bench.build.boot.services
    remedy = PUT_ON_CARD if right else None
    return Failure("services", "boot.installer-network", cause, remedy, screen, bench.board.lamps.idle)


def login(bench: Bench) -> Step:
    root, lamps = root_of(bench), bench.board.lamps
    name = (bench.settings.user if bench.settings else "") or bench.image.default_user
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
    if why := why_not_started(bench, user.shell) or (f"it may not run {barred}" if barred else ""):
        cause = f"{name} cannot log in: {why}."
        return fail(Failure("login", "system.shell", cause, None, screen, lamps.idle))
    moments = [Moment(f"{name} is logged in.", lamps.reading, 0.3)]
    if user.home_why:
        moments.append(Moment(f"{user.home_why}, so nothing can be saved there.", lamps.reading, 0.0))
    return Step(tuple(moments))
