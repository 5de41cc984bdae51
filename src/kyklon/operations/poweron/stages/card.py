"""The card, its table and its boot partition."""

from __future__ import annotations

from kyklon.base.quantities import show_bytes
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import Moment, Step
from kyklon.operations.poweron.stages.fail import dark_screen, fail


def card(bench: Bench) -> Step:
    return Step((Moment("The firmware looks for a card.", bench.board.lamps.searching, bench.board.firmware_s),))


def partition_table(bench: Bench) -> Step:
    contents, lamps = bench.contents, bench.board.lamps
    if contents.table is None:
        cause = f"The card has no partition table: {contents.table_error}"
        return fail(dark_screen("partition table", "card.not-bootable", cause, None, lamps.nothing), hides=True)
    parts = ", ".join(f"{part.word} {show_bytes(part.size)}" for part in contents.table.partitions)
    return Step((Moment(f"{parts}.", lamps.reading, 0.1),))


def boot_partition(bench: Bench) -> Step:
    lamps = bench.board.lamps
    if bench.contents.boot_error:
        failure = dark_screen(
            "boot partition", "card.no-boot-partition", bench.contents.boot_error, None, lamps.nothing
        )
        return fail(failure, hides=True)
    return Step((Moment(f"{len(bench.contents.sizes)} files.", lamps.reading, 0.2),))
