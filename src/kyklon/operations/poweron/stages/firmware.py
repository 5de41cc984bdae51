"""What the firmware does: reads the boot file, loads kernel and device tree."""

from __future__ import annotations

from kyklon.model.build import change_of
from kyklon.model.findings import Remedy
from kyklon.operations.boot.dialects.codec import split_lines
from kyklon.operations.boot.findings import kernel_remedy, kernel_sets
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import PUT_ON_CARD, Moment, Step
from kyklon.operations.poweron.stages.fail import dark_screen, fail, or_put


def boot_file(bench: Bench) -> Step:
    wanted, lamps = bench.dialect.files[0], bench.board.lamps
    if bench.settings is None:
        cause = f"{wanted.path} is not on the boot partition."
        return fail(dark_screen("boot file", "boot.missing-file", cause, PUT_ON_CARD, lamps.no_settings), hides=True)
    if not bench.settings.recognised:
        cause = f"{wanted.path} does not begin with “{wanted.grammar.first_line}”: the firmware ignores all of it."
        return fail(dark_screen("boot file", "boot.unknown-format", cause, PUT_ON_CARD, lamps.no_settings), hides=True)
    longest = bench.dialect.longest_line
    long = [line for line in split_lines(bench.contents.texts[wanted.path.lower()]) if len(line) > longest]
    moments = [Moment(f"{wanted.path} is read.", lamps.reading, 0.1)]
    if long:
        count = f"{len(long)} line{'s are' if len(long) > 1 else ' is'}"
        moments.append(Moment(f"{count} longer than {longest} characters and cut there.", lamps.reading, 0.0))
    return Step(tuple(moments))


def kernel(bench: Bench) -> Step:
    name, lamps = bench.kernel_name, bench.board.lamps
    found = bench.contents.kernel(name)
    sets = kernel_sets(bench.image, bench.contents)
    right = sets.get(bench.build.boot.kernel) in bench.board.runs
    remedy = or_put(kernel_remedy(bench.build, bench.board, sets), right)
    if found is None:
        cause = f"{name} is not on the boot partition."
        return fail(dark_screen("kernel", "boot.kernel-set", cause, remedy, lamps.no_kernel))
    if found.instruction_set not in bench.board.runs:
        runs = " and ".join(bench.board.runs)
        cause = f"{name} is a kernel for {found.instruction_set}; {bench.board.name} runs {runs}."
        return fail(dark_screen("kernel", "boot.kernel-set", cause, remedy, lamps.stuck))
    if bad := _wrong_tree(bench):
        return bad
    tree = bench.settings.tree if bench.settings else ""
    seconds = found.size / bench.read_bytes_s + 0.4
    words = f"{name} ({found.instruction_set}) with {tree or 'its own device tree'}."
    return Step((Moment(words, lamps.reading, seconds),))


def _wrong_tree(bench: Bench) -> Step | None:
    """A device tree that is missing, or another board's."""
    tree, lamps = bench.settings.tree if bench.settings else "", bench.board.lamps
    right = bench.build.boot.device_tree == bench.board.device_tree
    if tree and tree.lower() not in {each.lower() for each in bench.contents.sizes}:
        cause = f"The device tree {tree} is not on the boot partition."
        return fail(dark_screen("kernel", "boot.device-tree", cause, or_put(None, right), lamps.stuck))
    if not tree or tree == bench.board.device_tree:
        return None
    change = change_of("boot.device_tree", bench.board.device_tree, tree, bench.board.device_tree)
    remedy = or_put(Remedy(label=f"Use {bench.board.device_tree}", changes=(change,)), right)
    return fail(dark_screen("kernel", "boot.device-tree", f"{tree} is for another board.", remedy, lamps.stuck))
