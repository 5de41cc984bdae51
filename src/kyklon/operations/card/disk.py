"""A solid-state disk on a USB bridge in place of a card: will it start, keep its data, and is it worth it?"""

from __future__ import annotations

from dataclasses import dataclass, replace

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Bridge, Card, Disk, Supply
from kyklon.model.build import Build, change_of
from kyklon.model.card import LINUX, Partition, PartitionTable
from kyklon.model.findings import Finding, Remedy, Severity
from kyklon.model.kernel_line import given, set_words, storage_quirk_given, words
from kyklon.model.root_device import root_device
from kyklon.model.world import World
from kyklon.operations.card.sets.unpacking import USUAL, Speeds

OPERATION = 20
ROOT = "root=/dev/sda2"  # the second partition of the first disk that the kernel finds (kernel: devices.txt)
_USUAL = PartitionTable(0, (Partition(1, 0x0C, 0, 0, active=False), Partition(2, LINUX, 0, 0, active=False)))
_SOURCE_UAS = "kernel-parameters: usb-storage.quirks=VID:PID:u, which has the bridge driven without UAS"


@dataclass(frozen=True)
class Outlook:
    """MB/s of each in the machine. times: how often faster the disk is. draws_a: of disk and bridge, peak. measured:
    the card's is what it was read back with."""

    card_mb_s: float
    disk_mb_s: float
    draws_a: float
    changes: tuple[str, ...]
    measured: bool = False

    @property
    def times(self) -> float:
        return self.disk_mb_s / self.card_mb_s if self.card_mb_s else 0.0


def outlook(build: Build, catalogue: Catalogue) -> Outlook | None:
    """Card and disk compared; None without a board, a disk or a bridge."""
    board = catalogue.find(Board, build.part("board"))
    bridge, disk = catalogue.find(Bridge, build.part("bridge")), catalogue.find(Disk, build.part("disk"))
    if board is None or bridge is None or disk is None:
        return None
    card = catalogue.find(Card, build.part("card"))
    speed = _through(board, bridge, disk.read_mb_s)
    changes = [board.disk_boot_note or f"{board.name} cannot boot from a disk: a card holds the boot partition."]
    changes.append(f"The kernel command line names {ROOT} instead of the card's partition.")
    changes.append("Remove the card, or the board boots from it first.")
    known = build.known_card(build.card.drive) if build.medium == "card" else None
    measured = known.last_read_rate / 1e6 if known is not None else 0.0
    rate = measured or (card.read_mb_s if card else 0.0)
    of_card = min(rate, board.card_mb_s)
    return Outlook(of_card, speed, bridge.draws_a + disk.peak_a, tuple(changes), measured=bool(measured))


_FELT_S = 0.1  # seconds: what is read sooner is not felt, CP
SYSTEM_B = 150e6  # bytes that a Linux system reads between kernel and menu, CP: programs, libraries, fonts


@dataclass(frozen=True)
class Reading:
    """What is read, and the seconds that it takes from each. guessed: its size is."""

    what: str
    size: float
    card_s: float
    disk_s: float
    guessed: bool = False


def readings(found: Outlook, build: Build, world: World) -> tuple[Reading, ...]:
    """What a boot and a game read, from card and disk: the kernel and initramfs on the card, the system (a guess), the
    largest game. Nothing where the card's speed is not known."""
    if not found.card_mb_s or not found.disk_mb_s:
        return ()
    rows: list[tuple[str, float, bool]] = []
    contents = world.card or world.source_contents
    if contents is not None and (kernel := contents.kernel(build.boot.kernel)) is not None:
        size = kernel.size + sum(each.size for each in contents.ramdisks)
        rows.append(("Kernel and initramfs" if contents.ramdisks else "Kernel", size, False))
    rows.append(("System, until its menu", SYSTEM_B, True))
    games = world.scan.ready if world.scan else ()
    if games:
        largest = max(games, key=lambda game: game.size)
        rows.append(("Largest game", largest.size, False))
    read = (
        Reading(what, size, size / found.card_mb_s / 1e6, size / found.disk_mb_s / 1e6, guessed)
        for what, size, guessed in rows
    )
    return tuple(each for each in read if max(each.card_s, each.disk_s) >= _FELT_S)


_PLAIN_USB = 0.8  # of the bridge's rate without UAS, CP: plain storage sends one command at a time


def _through(board: Board, bridge: Bridge, mb_s: float) -> float:
    """MB/s of a disk behind its bridge in a socket of the board."""
    return min(board.usb_mb_s, bridge.mb_s * (1.0 if bridge.uas == "good" else _PLAIN_USB), mb_s)


def medium_mb_s(build: Build, catalogue: Catalogue) -> tuple[float, float] | None:
    """MB/s of reading and writing in the machine, of what it starts from: a disk behind its bridge, or a card; None
    where neither is chosen. A card is no faster than the board's own slot."""
    board = catalogue.find(Board, build.part("board"))
    if build.medium == "disk":
        bridge, disk = catalogue.find(Bridge, build.part("bridge")), catalogue.find(Disk, build.part("disk"))
        if board is not None and bridge is not None and disk is not None:
            return _through(board, bridge, disk.read_mb_s), _through(board, bridge, disk.write_mb_s)
        return None
    card = catalogue.find(Card, build.part("card"))
    if card is None:
        return None
    slot = board.card_mb_s if board is not None else card.read_mb_s
    return min(card.read_mb_s, slot), min(card.write_mb_s, slot)


def unpacking_speeds(build: Build, catalogue: Catalogue, *, shared: bool = False) -> Speeds:
    """What bundles are read with, and unpacked to. shared: they lie on the card that they are unpacked to."""
    rates = medium_mb_s(build, catalogue)
    return Speeds(rates[0] * 1e6, rates[1] * 1e6, shared) if rates else replace(USUAL, shared=shared)


def findings(build: Build, catalogue: Catalogue, world: World) -> list[Finding]:
    """Of a build that is to start from a disk; none else."""
    if build.medium != "disk":
        return []
    board = catalogue.find(Board, build.part("board"))
    bridge, disk = catalogue.find(Bridge, build.part("bridge")), catalogue.find(Disk, build.part("disk"))
    found = []
    if board is not None and not board.disk_boot:
        found.append(
            _finding(
                "board",
                Severity.STOP,
                board.name,
                f"{board.name} cannot start from a disk",
                "Its firmware reads cards only.",
                "Keep a card for the boot partition, or choose another board.",
                "Common practice",
                _back_to_card(),
            )
        )
    if bridge is None or disk is None:
        found.append(
            _finding(
                "parts",
                Severity.CAUTION,
                "Disk",
                "The disk or its bridge is not chosen",
                "Choose both under Size and disk.",
                "Speed, current and quirks depend on them.",
            )
        )
        return found
    found += _bridge(build, bridge)
    found += _current(build, catalogue, board, bridge, disk)
    found += _root(build, world)
    return found


def _bridge(build: Build, bridge: Bridge) -> list[Finding]:
    quirk = f"{bridge.usb_id[0]}:{bridge.usb_id[1]}:u"
    if bridge.uas == "good" or storage_quirk_given(quirk, given(" ".join(build.boot.kernel_words))):
        return []
    school = f" Or update the bridge to firmware {bridge.firmware} from its maker." if bridge.firmware else ""
    return [
        _finding(
            "uas",
            Severity.STOP,
            bridge.name,
            f"{bridge.name} misbehaves under UAS",
            f"The kernel command line has no usb-storage.quirks={quirk}.{school}",
            "The disk resets under load and writes are lost.",
            _SOURCE_UAS,
            _word_remedy(build, f"usb-storage.quirks={quirk}", f"Run {bridge.name} without UAS"),
        )
    ]


def _current(build: Build, catalogue: Catalogue, board: Board | None, bridge: Bridge, disk: Disk) -> list[Finding]:
    draws = bridge.draws_a + disk.peak_a
    found = []
    ports = [port for port in board.ports if port.signal.startswith("USB") and port.direction == "out"] if board else []
    most = max((port.supplies_a for port in ports), default=0.0)
    if board is not None and most < draws:
        found.append(
            _finding(
                "port",
                Severity.STOP,
                disk.name,
                "The board's USB ports cannot power the disk",
                f"Disk and bridge draw up to {draws:.2f} A; a USB port of {board.name} supplies {most:.2f} A.",
                "The disk drops out under load: use a bridge or hub with a power supply of its own.",
            )
        )
    supply = catalogue.find(Supply, build.part("supply"))
    if board is not None and supply is not None and supply.amps < board.peak_a + draws:
        found.append(
            _finding(
                "supply",
                Severity.STOP,
                supply.name,
                "The power supply cannot power board and disk",
                f"{supply.name} is rated {supply.amps:.1f} A; both draw up to {board.peak_a + draws:.2f} A.",
                "The voltage sags and the machine reboots.",
            )
        )
    return found


def _root(build: Build, world: World) -> list[Finding]:
    contents = world.card or world.source_contents
    table = contents.table if contents else None
    meant = root_device(build.boot.kernel_words, table or _USUAL, disk=True)
    if meant is not None and meant.partition is not None and meant.partition.kind == LINUX:
        return []
    told = meant.why if meant is not None and meant.why else "Its root= names another partition." if meant else ""
    return [
        _finding(
            "root",
            Severity.STOP,
            "Kernel command line",
            "The kernel command line does not name the disk's root partition",
            f"{told} Booting from a disk needs {ROOT}.".strip(),
            "The kernel waits for a missing card.",
            "kernel-parameters: root=",
            _word_remedy(build, ROOT, "Name the disk's partition"),
        )
    ]


def _word_remedy(build: Build, word: str, label: str) -> Remedy:
    before = " ".join(build.boot.kernel_words)
    after = set_words(before, [word])
    change = change_of("boot.kernel_words", list(words(after)), before or "none", after)
    return Remedy(label=label, changes=(change,))


def _back_to_card() -> Remedy:
    change = change_of("medium", "card", "a disk on USB", "a card")
    return Remedy(label="Start from a card", changes=(change,))


def _finding(
    code: str,
    severity: Severity,
    subject: str,
    title: str,
    message: str,
    why: str,
    source: str = "Common practice",
    remedy: Remedy | None = None,
) -> Finding:
    return Finding(
        code=f"disk.{code}",
        severity=severity,
        operation=OPERATION,
        subject=subject,
        title=title,
        message=message,
        why=why,
        source=source,
        remedy=remedy,
    )
