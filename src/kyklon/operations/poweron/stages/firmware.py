"""What the board's firmware does with its boot file, the kernel and the device tree."""

from __future__ import annotations

from kyklon.model.build import change_of
from kyklon.model.findings import Remedy
from kyklon.operations.boot.dialects.codec import split_lines
from kyklon.operations.boot.findings import kernel_remedy, kernel_sets, programs_of
from kyklon.operations.boot.firmware import files
from kyklon.operations.boot.hardware import LEAST_KERNEL_MB
from kyklon.operations.boot.placing import sets_in_words
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import PUT_ON_CARD, Failure, Moment, Screen, Step
from kyklon.operations.poweron.stages.fail import dark_screen, fail, or_put


def boot_file(bench: Bench) -> Step:
    wanted, lamps, settings = bench.dialect.files[0], bench.board.lamps, bench.settings
    if settings is None:
        cause = f"{wanted.path} is not on the boot partition."
        if broken := next((each for each in bench.contents.broken if each.startswith(wanted.path)), ""):
            cause = f"{wanted.path} cannot be read: {broken}"
        elif bench.contents.has(wanted.path):
            cause = f"{wanted.path} is not a text file."
        return fail(dark_screen("boot file", "boot.missing-file", cause, PUT_ON_CARD, lamps.no_settings), hides=True)
    if not settings.recognised:
        cause = f"{wanted.path} does not begin with “{wanted.grammar.first_line}”: the firmware ignores all of it."
        return fail(dark_screen("boot file", "boot.unknown-format", cause, PUT_ON_CARD, lamps.no_settings), hides=True)
    if settings.void:
        cause = f"The boot loader rejects {wanted.path}: {settings.void}."
        return fail(dark_screen("boot file", "boot.void-file", cause, PUT_ON_CARD, lamps.no_settings), hides=True)
    if settings.waits:
        screen = Screen("text", "Boot menu", ("Enter choice:",))
        cause = f"{wanted.path} shows a menu without a timeout: it waits for a key."
        return fail(Failure("boot file", "boot.menu-waits", cause, PUT_ON_CARD, screen, lamps.no_settings))
    moments = [Moment(f"{wanted.path} is read.", lamps.reading, 0.1)]
    if not bench.by_label:
        longest = bench.dialect.longest_of(wanted)
        text = bench.contents.texts[wanted.path.lower()]
        long = sum(len(line) > longest for line in split_lines(text))
        if long:
            count = f"{long} line{'s are' if long > 1 else ' is'}"
            moments.append(Moment(f"{count} longer than {longest} characters and cut off there.", lamps.reading, 0.0))
    return Step(tuple(moments))


def kernel(bench: Bench) -> Step:
    name, lamps = bench.kernel_name, bench.board.lamps
    found = bench.contents.kernel(name) or next(
        (each for each in programs_of(bench.image, bench.contents) if bench.contents.same(each.name, name)), None
    )
    sets = kernel_sets(bench.image, bench.contents)
    right = sets.get(bench.build.boot.kernel) in bench.sets
    remedy = or_put(kernel_remedy(bench.build, bench.board, sets), right)
    if not name:
        cause = f"{bench.dialect.files[0].path} names no kernel."
        return fail(dark_screen("kernel", "boot.kernel-set", cause, remedy, lamps.no_kernel))
    if not bench.contents.has(name):
        return fail(
            dark_screen("kernel", "boot.kernel-set", f"{name} is not on the boot partition.", remedy, lamps.no_kernel)
        )
    if broken := next((each for each in bench.contents.broken if each.lower().startswith(f"{name.lower()}:")), ""):
        return fail(
            dark_screen("kernel", "boot.kernel-damaged", f"{name} cannot be read: {broken}", None, lamps.no_kernel)
        )
    if bench.by_label and name.lower() in bench.contents.loader_broken:
        cause = f"The boot loader treats the cluster chain of {name} as broken: reserved bits are set in the FAT."
        return fail(dark_screen("kernel", "boot.kernel-damaged", cause, None, lamps.no_kernel))
    if found is None:
        return fail(dark_screen("kernel", "boot.kernel-set", f"{name} is not a kernel.", remedy, lamps.stuck))
    if found.trouble or (found.name in bench.contents.damaged and found.instruction_set in bench.sets):
        why = found.trouble or f"{name} differs from the image's checksum"
        cause = f"{why}; it would stop at once."
        return fail(dark_screen("kernel", "boot.kernel-damaged", cause, None, lamps.stuck))
    if found.instruction_set not in bench.sets:
        runs = sets_in_words(bench.sets)
        who = "the boot loader" if bench.by_label else bench.board.name
        cause = f"{name} is a kernel for {found.instruction_set}; {who} starts {runs}."
        if not bench.by_label:
            cause = f"{name} is a kernel for {found.instruction_set}; {bench.board.name} runs {runs}."
        return fail(dark_screen("kernel", "boot.kernel-set", cause, remedy, lamps.stuck))
    if bad := _initramfs(bench) or _line(bench) or _wrong_tree(bench) or _memory(bench) or _clock(bench):
        return bad
    tree = bench.tree
    seconds = found.size / bench.read_bytes_s + 0.4
    words = f"{name} ({found.instruction_set}) with {tree if tree not in ('', '-') else 'its own device tree'}."
    moments = [Moment(words, lamps.reading, seconds)]
    moments += [
        Moment(f"{file} is not on the boot partition: its hardware does not work.", lamps.reading, 0.0)
        for file in bench.overlays
        if not bench.contents.has(file)
    ]
    return Step(tuple(moments))


def _number(bench: Bench, setting: str, capability: str) -> int | None:
    """A setting that is a number, None where it is none or means nothing to this board."""
    told = bench.settings.values.get(setting, "") if bench.settings and capability in bench.board.honours else ""
    return int(told) if told.isascii() and told.isdigit() and len(told) < 9 else None


def _memory(bench: Bench) -> Step | None:
    """What the picture takes is not the kernel's."""
    picture = _number(bench, "boot.video_memory_mb", "memory split") or 0
    left = bench.board.memory_mb - picture
    if left >= LEAST_KERNEL_MB:
        return None
    cause = f"{picture} of {bench.board.memory_mb} MB is GPU memory: too little is left for the kernel."
    right = bench.board.memory_mb - bench.build.boot.video_memory_mb >= LEAST_KERNEL_MB
    change = change_of("boot.video_memory_mb", 64, f"{bench.build.boot.video_memory_mb} MB", "64 MB")
    remedy = or_put(Remedy(label="Use 64 MB", changes=(change,)), right)
    return fail(dark_screen("kernel", "boot.memory", cause, remedy, bench.board.lamps.stuck))


def _clock(bench: Bench) -> Step | None:
    asked, most = _number(bench, "boot.processor_mhz", "processor clock") or 0, bench.board.processor_mhz[1]
    if asked <= most:
        return None
    cause = f"The CPU clock is set to {asked} MHz; {bench.board.name} runs at {most} MHz at most."
    change = change_of("boot.processor_mhz", 0, f"{bench.build.boot.processor_mhz} MHz", "the board's own")
    remedy = or_put(Remedy(label="Use the board's own", changes=(change,)), bench.build.boot.processor_mhz <= most)
    return fail(dark_screen("kernel", "boot.clock", cause, remedy, bench.board.lamps.stuck))


def _initramfs(bench: Bench) -> Step | None:
    name, lamps = bench.settings.initramfs if bench.settings else "", bench.board.lamps
    if not name or bench.contents.has(name):
        return None
    cause = f"The initramfs {name} is not on the boot partition."
    own = name.lower() in files(bench.build, bench.catalogue)
    return fail(dark_screen("kernel", "boot.initramfs", cause, PUT_ON_CARD if own else None, lamps.no_kernel))


def _line(bench: Bench) -> Step | None:
    """A loader by labels passes over one whose kernel line is too long."""
    longest, settings = bench.dialect.longest_line, bench.settings
    if not bench.by_label or settings is None or settings.append_length <= longest:
        return None
    cause = f"The kernel command line has {settings.append_length} characters; the boot loader reads {longest}."
    return fail(dark_screen("kernel", "boot.line-too-long", cause, None, bench.board.lamps.no_kernel))


def _wrong_tree(bench: Bench) -> Step | None:
    """A device tree that is missing, damaged, or another board's."""
    tree, lamps = bench.tree, bench.board.lamps
    wanted = bench.board.device_tree
    right = bench.build.boot.device_tree == wanted
    if not tree or tree == "-":
        return None
    if not bench.contents.has(tree):
        cause = f"The device tree {tree} is not on the boot partition."
        remedy = or_put(_tree_remedy(bench), right)
        return fail(dark_screen("kernel", "boot.device-tree", cause, remedy, lamps.stuck))
    found = bench.contents.tree(tree)
    if found is None or found.trouble or tree in bench.contents.damaged:
        broken = next((each for each in bench.contents.broken if each.lower().startswith(f"{tree.lower()}:")), "")
        cause = (found.trouble if found else "") or broken or f"{tree} differs from the image's checksum"
        return fail(dark_screen("kernel", "boot.device-tree-damaged", f"{cause.rstrip('.')}.", None, lamps.stuck))
    same = bench.board.compatible in found.compatible if bench.board.compatible else tree.lower() == wanted.lower()
    if same:
        return None
    what = f" ({found.compatible[0]})" if found.compatible else ""
    cause = f"{tree} is for another board{what}."
    return fail(dark_screen("kernel", "boot.device-tree", cause, or_put(_tree_remedy(bench), right), lamps.stuck))


def _tree_remedy(bench: Bench) -> Remedy | None:
    wanted, now = bench.board.device_tree, bench.build.boot.device_tree
    if wanted == now:
        return PUT_ON_CARD
    change = change_of("boot.device_tree", wanted, now, wanted)
    return Remedy(label=f"Use {wanted}", changes=(change,))
