"""The card, its table and its boot partition."""

from __future__ import annotations

from kyklon.base.quantities import counted, show_bytes
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import Moment, Step
from kyklon.operations.poweron.stages.fail import dark_screen, fail


def card(bench: Bench) -> Step:
    return Step((Moment("The firmware looks for a card.", bench.board.lamps.searching, bench.board.firmware_s),))


def partition_table(bench: Bench) -> Step:
    contents, lamps = bench.contents, bench.board.lamps
    table = contents.table
    if table is None:
        cause = f"The card has no partition table: {contents.table_error}"
        return fail(dark_screen("partition table", "card.not-bootable", cause, None, lamps.nothing), hides=True)
    parts = ", ".join(f"{part.word} {show_bytes(part.size)}" for part in table.partitions)
    moments = [Moment(f"{parts}.", lamps.reading, 0.1)]
    if table.note:
        moments.append(Moment(table.note, lamps.reading, 0.0))
    beyond = [str(part.number) for part in table.partitions if contents.size and part.end > contents.size]
    if beyond:
        short = f"Partition {' and '.join(beyond)} is longer than the card, which has {show_bytes(contents.size)}."
        moments.append(Moment(short, lamps.reading, 0.0))
    return Step(tuple(moments))


def boot_partition(bench: Bench) -> Step:
    lamps, contents, table = bench.board.lamps, bench.contents, bench.contents.table
    if contents.boot_error:
        failure = dark_screen("boot partition", "card.no-boot-partition", contents.boot_error, None, lamps.nothing)
        return fail(failure, hides=True)
    part = (
        next((partition for partition in table.partitions if partition.number == contents.boot_number), None)
        if table
        else None
    )
    why = ""
    if bench.by_label:
        looked = table.looked_on() if table else ()
        if part is not None and part.number not in looked:
            named = " and ".join(map(str, looked))
            why = f"The boot loader looks on partition {named} only; the boot files are on partition {part.number}."
        elif part is not None and not part.kind and not part.guid:
            why = f"The boot loader passes over partition {part.number}: the table gives it no type."
        elif contents.loader_error:
            why = f"The boot loader cannot read the boot partition: {contents.loader_error}."
    elif part is not None and not part.is_fat:
        why = f"The table calls partition {part.number} {part.word}; the firmware looks for a FAT one."
    elif part is not None and table is not None and (first := table.boot()) not in (None, part):
        own = f"The firmware starts from the first FAT partition, {first.number}"
        why = f"{own}; the boot files are on partition {part.number}."
    if why:
        failure = dark_screen("boot partition", "card.loader-partition", why, None, lamps.nothing)
        return fail(failure, hides=True)
    moments = [Moment(f"{counted(len(contents.sizes), 'file')}.", lamps.reading, 0.2)]
    moments += [Moment(f"The boot partition: {words}.", lamps.reading, 0.0) for words in contents.boot_cautions[:3]]
    return Step(tuple(moments))
