"""A twin of a card for a rehearsal: its used bytes, with programs that this computer can run in place of the board's.

The card is read only. The twin lies in a working folder and is thrown away.
"""

from __future__ import annotations

import os
import platform
import shutil
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

from kyklon.base import reading, tools
from kyklon.base.errors import ToolError
from kyklon.base.meter import Meter
from kyklon.base.progress import Watch
from kyklon.base.quantities import show_bytes
from kyklon.model.card import CardContents, Partition
from kyklon.operations.card.volumes.ext_reader import ExtReader
from kyklon.operations.card.volumes.fat_reader import FatReader
from kyklon.operations.card.volumes.partitions import reader
from kyklon.operations.card.volumes.usage import usage

MOST = 4 << 30  # bytes of a card that are copied; larger ones would take minutes and the working folder's space
_CHUNK = 4 << 20  # bytes
_TEXTS = 64 * 1024  # bytes; boot files that are read by programs are smaller
# what this computer's processor is called in a program's head, as root_facts names it
MACHINES = {"x86_64": "x86-64", "aarch64": "ARM 64-bit"}
SHELL = "/bin/busybox"  # the one program that stands for many; static, so that it needs nothing else


def own_machine() -> str:
    """This computer's kind of program."""
    return MACHINES.get(platform.machine(), platform.machine())


@dataclass(frozen=True)
class Foreign:
    """Programs of a root that this computer cannot run. one: all of them are one file by many names, so a twin may
    help; inode and mode: that file's."""

    paths: tuple[str, ...]
    one: bool = False
    mode: int = 0o755
    inode: int = 0


def foreign(contents: CardContents) -> Foreign:
    """What on the card's roots is for another machine."""
    found = {
        program.path: program
        for root in contents.roots.values()
        for program in (*root.programs.values(), *(user.shell for user in root.users))
        if program.machine and program.machine != own_machine()
    }
    files = {program.inodes[-1] for program in found.values() if program.inodes}
    modes = [program.rights[-1][1] for program in found.values() if program.rights]
    return Foreign(tuple(sorted(found)), len(files) == 1, modes[0] if modes else 0o755, max(files, default=0))


def make(card: Path, contents: CardContents, folder: Path, watch: Watch) -> Path:
    """The twin of `card` in `folder`. Raises ToolError for one that is too large or tools that are missing,
    Cancelled."""
    size = contents.size
    kept = usage(card, size)
    if kept.total > MOST:
        raise ToolError(
            f"{show_bytes(kept.total)} of the card are in use; a rehearsal copies {show_bytes(MOST)} at most.",
            do="Rehearse the image it was written from.",
        )
    if shutil.disk_usage(folder).free < kept.total + (256 << 20):
        raise ToolError(f"{folder} has no room for {show_bytes(kept.total)}.", do="Free some space there.")
    twin = folder / "twin.img"
    meter = Meter("Making a twin", kept.total, watch)
    done = 0
    with reading.opened(card, devices=True) as source, twin.open("xb") as file:
        file.truncate(size)
        for start, end in kept.used:
            for at in range(start, min(end, size), _CHUNK):
                meter.wait()
                data = os.pread(source.fileno(), min(_CHUNK, end - at, size - at), at)
                if data.strip(b"\0"):
                    os.pwrite(file.fileno(), data, at)
                done += len(data)
                meter.report(done)
    if foreign(contents).paths:
        for part in _linux_parts(contents):
            _with_own_programs(twin, part, contents, folder)
    return twin


def _linux_parts(contents: CardContents) -> Iterator[Partition]:
    table = contents.table
    for part in table.partitions if table else ():
        if part.number in contents.roots and foreign(_only(contents, part.number)).paths:
            yield part


def _only(contents: CardContents, number: int) -> CardContents:
    return replace(contents, roots={number: contents.roots[number]})


def _with_own_programs(twin: Path, part: Partition, contents: CardContents, folder: Path) -> None:
    """This computer's shell in the card's place, and the boot files where that kernel cannot mount their partition."""
    shell = Path(tools.find("busybox"))
    with reading.opened(twin, devices=True) as opened:
        found = ExtReader(reader(opened.fileno()), part.start, part.size).find(SHELL)
    if found is None or found.number != foreign(_only(contents, part.number)).inode:
        raise ToolError(
            f"The programs on the card are for another CPU, and they are not {SHELL} under other names.",
            do="Rehearse another part of the boot.",
        )
    mode = 0o100000 | foreign(contents).mode & 0o7777
    rows = [f"rm {SHELL}", f"write {shell} {SHELL}", f"sif {SHELL} mode {mode:#o}"]
    for number, (name, data) in enumerate(_boot_texts(twin, contents)):
        file = folder / f"boot-{number}"
        file.write_bytes(data)
        rows += [f"rm /boot/{name}", f"write {file} /boot/{name}"]
    with tools.plain_name(twin) as name:
        tools.run(["debugfs", "-w", "-f", "-", f"{name}?offset={part.start}"], stdin="\n".join(rows).encode())


def _boot_texts(card: Path, contents: CardContents) -> list[tuple[str, bytes]]:
    """The boot partition's small files, which programs read below /boot."""
    table = contents.table
    part = next((p for p in table.partitions if p.number == contents.boot_number), None) if table else None
    if part is None:
        return []
    with reading.opened(card, devices=True) as file:
        volume = FatReader(reader(file.fileno()), part.start)
        return [
            (each.path, volume.read(each, _TEXTS))
            for each in volume.files()
            if each.size <= _TEXTS
            and "/" not in each.path
            and each.path.isprintable()
            and " " not in each.path
            and '"' not in each.path
        ]
