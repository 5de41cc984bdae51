"""What the kernel starts first, and the script that is run once.

Sources: the kernel's admin-guide/init.rst; init/main.c (6.1).
"""

from __future__ import annotations

from dataclasses import replace

from kyklon.model.build import Build, change_of
from kyklon.model.card import SETUP_SCRIPT, Program, RootFacts
from kyklon.model.fields import describe
from kyklon.model.findings import Remedy
from kyklon.model.kernel_line import last
from kyklon.operations.boot import first_boot
from kyklon.operations.boot.add_ons import of_build
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import Failure, Moment, Screen, Step
from kyklon.operations.poweron.stages.fail import fail
from kyklon.operations.poweron.stages.mounts import boot_files_unseen
from kyklon.operations.poweron.stages.programs import runs_here
from kyklon.operations.poweron.stages.root import root_of, root_remedy

INITS = ("/sbin/init", "/etc/init", "/bin/init", "/bin/sh")  # init/main.c, in this order


def why_not_started(bench: Bench, program: Program | None) -> str:
    """Why a program does not run on this card, '' when it does."""
    root = root_of(bench)
    if program is None:
        return "it names no program"
    if why := runs_here(bench, program):
        return why
    if root is not None and root.damaged_inodes & set(program.inodes):
        return f"{program.path} differs from the image's checksum, so its behaviour cannot be predicted"
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
            return fail(
                _prompt(bench, f"The kernel command line starts {named} instead of the system.", _without_init(bench))
            )
        return _started(bench, root, named)
    tried = {path: why_not_started(bench, _without_libraries(root.programs.get(path))) for path in INITS}
    found = next((path for path in INITS if not tried[path]), None)
    program = root.programs.get(found) if found is not None else None
    if found is not None and program is not None and program.lacks:
        # the kernel has started it: what its loader says then is the end of process 1, and no other is tried
        cause = f"{found} starts and ends at once: it needs {program.lacks}."
        return fail(dies(bench, "init", "system.init-dies", cause), hides=True)
    if found == INITS[0]:
        return _started(bench, root, found)
    first = tried[INITS[0]]
    elsewhere = bench.contents.root_number and root is not bench.contents.root
    code = "boot.root-elsewhere" if elsewhere else "system.no-init"
    if found is None:
        cause = f"No init can be started: {first}."
        return fail(_no_init(bench, code, cause, root_remedy(bench) if elsewhere else None), hides=True)
    return fail(_prompt(bench, f"{first[:1].upper()}{first[1:]}; the kernel starts {found} instead.", None, code))


def _without_libraries(program: Program | None) -> Program | None:
    return replace(program, lacks="") if program is not None else None


def dies(bench: Bench, stage: str, code: str, cause: str) -> Failure:
    """Process 1 has ended, which a kernel answers with a panic (kernel/exit.c)."""
    screen = Screen("text", "Kernel panic", ("Attempted to kill init!",))
    return Failure(stage, code, cause, None, screen, bench.board.lamps.stuck)


def _started(bench: Bench, root: RootFacts, path: str) -> Step:
    """Init runs, if all that it calls by name does."""
    for tool in bench.image.start_programs:
        program = root.programs.get(tool)  # none when this card was read without asking for it
        if program is not None and (why := why_not_started(bench, program)):
            cause = f"{path} needs {tool}: {why}."
            return fail(_no_init(bench, "system.start-program", cause, None))
    reading = bench.board.lamps.reading
    moments = [Moment(f"{path} starts.", reading, 0.4)]
    if unseen := boot_files_unseen(bench):
        moments.append(Moment(f"{unseen}. The settings there are not read.", reading, 0.0))
    for folder in root.missing:
        moments.append(Moment(f"The root has no folder {folder}, a mount point the boot needs.", reading, 0.0))
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
    if not name:
        return _set_up(bench, root)
    text = bench.contents.texts.get(name.lower())
    if root is None or text is None:
        return Step()
    if boot_files_unseen(bench):
        return Step((Moment(f"{name} is not run: the boot partition is not mounted.", lamp, 0.0),))
    if root.first_started:
        return Step((Moment(f"{name} was run already; it is not run again.", lamp, 0.0),))
    if root.no_write:
        return Step((Moment(f"{name} cannot set anything up: the root is read-only.", lamp, 0.0),))
    if "\r\n" in text:
        return Step((Moment(f"{name} has carriage returns: its commands fail.", lamp, 0.0),))
    own = first_boot.parts(bench.build, bench.image, bench.display, of_build(bench.build, bench.catalogue))
    if text == first_boot.text_of(own):
        return Step((Moment(f"{name} sets up: {_labels(own)}.", lamp, 0.5, once=True),))
    return Step((Moment(f"{name} runs; what it does is not simulated.", lamp, 0.5, once=True),))


def _set_up(bench: Bench, root: RootFacts | None) -> Step:
    """The script that Kyklon put on the root of an image that runs none of the boot partition."""
    text, lamp = root.setup.get(SETUP_SCRIPT) if root is not None else None, bench.board.lamps.reading
    if root is None or text is None or text == first_boot.HEAD_ON_ROOT:
        return Step()
    if first_boot.was_run(root, text):
        return Step((Moment(f"{SETUP_SCRIPT} was run already; it is not run again.", lamp, 0.0),))
    if not first_boot.is_started(root):
        return Step((Moment(f"{SETUP_SCRIPT} is not run: nothing on the root starts it.", lamp, 0.0),))
    if root.no_write:
        return Step((Moment(f"{SETUP_SCRIPT} cannot set anything up: the root is read-only.", lamp, 0.0),))
    extra = of_build(bench.build, bench.catalogue)
    own = first_boot.on_root(bench.build, bench.image, root, bench.display, extra)
    if not own or text != own[0].text:
        return Step((Moment(f"{SETUP_SCRIPT} runs; what it does is not simulated.", lamp, 0.5, once=True),))
    labels = _labels(first_boot.decided(bench.build, bench.image, bench.display, extra))
    words = f"{SETUP_SCRIPT} sets up: {labels}. Then the machine restarts, once."
    return Step((Moment(words, lamp, 0.5, once=True),))


def _labels(parts: tuple[first_boot.Part, ...]) -> str:
    return ", ".join(describe(Build, part.path).label.lower() for part in parts) or "nothing"
