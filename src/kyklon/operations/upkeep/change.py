"""Boot files changed on a machine that runs: planned as for a card, put with what was there kept beside, taken back.

The steps are those of a transfer of games: beside its place first, read back, under its name only when it is whole,
each written down before it is taken.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from kyklon.base.errors import KyklonError, TargetLost, WrongUse
from kyklon.base.progress import UNWATCHED, Progress, Watch
from kyklon.base.quantities import counted
from kyklon.catalogue.loader import Catalogue
from kyklon.devices.destination import Destination
from kyklon.devices.secure_copy import SecureCopy
from kyklon.model.build import Build, edited
from kyklon.operations.boot.acts import Put, plan_boot_files
from kyklon.operations.library import carry
from kyklon.operations.library.transfer import Transfer
from kyklon.operations.upkeep.running import Running, contents_there, look
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook

OPERATION = 95
JOURNAL = "machine"  # folder of the build that keeps the journal of changes
ASIDE = ".before-change"  # folder on the machine that keeps what was replaced
_ASK_S = 2.0  # between two tries whether it is back


def planned(build: Build, catalogue: Catalogue, machine: Destination) -> Put:
    """This build's boot files merged into those of the running machine; only those that differ. Raises KyklonError."""
    return plan_boot_files(build, catalogue, contents_there(machine))


def put(folder: Path, build: Build, catalogue: Catalogue, machine: Destination, watch: Watch = UNWATCHED) -> Put:
    """Put them there, and record it. What is replaced is kept on the machine until the next change. Raises KyklonError,
    Cancelled; what was begun can be taken back."""
    found = planned(build, catalogue, machine)
    if not found.files:
        return found
    for name, data in found.files.items():
        why = machine.limits.trouble(name, len(data))
        if why:
            raise WrongUse(f"{name} cannot be put there: {why}.", do="Copy the boot files to the card in a reader.")
    texts = {name: data.decode("utf-8", "surrogateescape") for name, data in found.files.items()}
    (folder / JOURNAL).mkdir(exist_ok=True)
    carry.carry_out(Transfer((), texts, 0), folder, machine, watch, folder / JOURNAL, ASIDE)
    for name, data in found.files.items():
        _read_back(machine, name, data)
    Logbook(folder).add(OPERATION, "Boot files changed on the running machine", "\n".join(found.differences.values()))
    return found


def _read_back(machine: Destination, name: str, data: bytes) -> None:
    with machine.read(name) as file:
        if file.read(len(data) + 1) != data:
            raise KyklonError(
                f"{name} reads back differently on {machine.name}.", do="Undo the change, and check its card."
            )


def last_change(folder: Path) -> str:
    """Which machine the last change went to that can still be taken back, '' for none."""
    return carry.last_transfer(folder / JOURNAL)


def changed_files(folder: Path) -> tuple[str, ...]:
    """The files of the last change."""
    steps = carry.read_journal(folder / JOURNAL / carry.JOURNAL)
    return tuple(dict.fromkeys(str(step["target"]) for step in steps if step.get("do") in ("put", "replace")))


def undo(folder: Path, machine: Destination, watch: Watch = UNWATCHED) -> carry.Undone:
    """Take the last change back, and record it. Raises KyklonError, Cancelled."""
    with carry.only_one(machine):
        done = carry.undo(folder / JOURNAL, machine, watch, ASIDE)
    left = f"; {', '.join(done.left)} changed since and stay" if done.left else ""
    Logbook(folder).add(
        OPERATION,
        "Change of the running machine undone",
        f"{counted(done.restored, 'file')} restored, {done.removed} removed{left}.",
    )
    return done


# --- restarted -------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Back:
    """seconds: from the command until it answers again; None where it did not come back. missing: words of the kernel
    line that the build has and the machine started without."""

    seconds: float | None
    running: Running
    missing: tuple[str, ...] = ()

    @property
    def words(self) -> str:
        if self.seconds is None:
            return "The machine did not come back."
        told = f"Back after {self.seconds:.0f} s with kernel {self.running.kernel or 'unknown'}."
        return told + (f" It started without {' '.join(self.missing)}." if self.missing else "")


def restart(folder: Path, build: Build, connect: Callable[[], SecureCopy], watch: Watch = UNWATCHED) -> Back:
    """Restart the machine and wait until it answers; keep in the build when it does not. Raises KyklonError where it
    cannot be told to, Cancelled."""
    if not build.upkeep.restart:
        raise WrongUse("The build has no restart command.", do="Set upkeep.restart, for example sudo -n /sbin/reboot.")
    machine = connect()
    before = look(machine).up_s
    begun = time.monotonic()
    _tell(machine, build.upkeep.restart)
    until = begun + build.upkeep.comes_back_s
    found: Running | None = None
    lost = False
    while found is None and time.monotonic() < until:
        watch.check()
        gone = round(time.monotonic() - begun)
        most = build.upkeep.comes_back_s
        watch.sink(Progress("Waiting until it is back", gone, most, seconds_left=max(0, most - gone), unit="s"))
        time.sleep(_ASK_S)
        found, away = _asked(connect, before, time.monotonic() - begun)
        lost = lost or away
        if found is not None and not before and not lost:  # it tells no uptime, and has not gone yet
            found = None
    changed = changed_files(folder)
    if found is None:
        store.update(folder, lambda now: edited(now, "upkeep.waited_for", list(changed) or ["nothing by Kyklon"]))
        Logbook(folder).add(
            OPERATION, "The machine did not come back", f"Changed before: {', '.join(changed) or 'nothing'}"
        )
        return Back(None, Running())
    seconds = time.monotonic() - begun
    store.update(folder, lambda now: edited(now, "upkeep.waited_for", []) if now.upkeep.waited_for else now)
    have = found.line.split()
    missing = tuple(word for word in build.boot.kernel_words if word not in have) if have else ()
    back = Back(seconds, found, missing)
    Logbook(folder).add(OPERATION, "Machine restarted", back.words)
    return back


def _tell(machine: SecureCopy, command: str) -> None:
    try:
        said = machine.run(f"( sleep 1; {command} ) >/dev/null 2>&1 & echo going")
        if "going" not in said:
            raise WrongUse(
                "The machine runs no command for this user.", do="Restart it from its own menu, or by its button."
            )
    finally:
        machine.close()


def _asked(connect: Callable[[], SecureCopy], before: float, since: float) -> tuple[Running | None, bool]:
    """What it says once it has started anew, None while it is away or has not yet gone; and whether it is away."""
    try:
        machine = connect()
    except TargetLost:
        return None, True
    try:
        found = look(machine)
    except TargetLost:
        return None, True
    finally:
        machine.close()
    gone = found.up_s < before + since - _ASK_S / 2 if before else True
    return (found, False) if gone else (None, False)
