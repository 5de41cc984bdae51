"""From an unpacked bare-metal file set to a minimal FAT card: what goes on it under which name, and what is wrong.

A set that starts into a black screen does so again after every restart when it remembers its last machine: every
system file is checked by exact name, size, checksum and region before the card is made.
"""

from __future__ import annotations

import hashlib
import shutil
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from kyklon.base import reading
from kyklon.base.errors import WrongUse
from kyklon.base.inside import files_below, inside
from kyklon.base.quantities import show_bytes
from kyklon.catalogue.image_records import BareMetal, Image, Machine
from kyklon.catalogue.records import Board
from kyklon.model.findings import Severity
from kyklon.model.library import SystemFile
from kyklon.operations.card.sets.problems import Problem
from kyklon.operations.card.volumes.boot_facts import kernel_set, raw_set

LARGEST_FILE = (1 << 32) - 1  # bytes: FAT32, Microsoft FAT specification
_BAD = set('<>:"/\\|?*')  # characters that FAT's long names cannot hold (the same, section 7)


@dataclass(frozen=True)
class Placed:
    """A file of the set and its path on the card. size in bytes."""

    source: str
    target: str
    size: int
    why: str


@dataclass(frozen=True)
class Plan:
    """left_out: files of the set that stay off the card, with the reason. machines: complete ones, by id."""

    placed: tuple[Placed, ...]
    left_out: tuple[tuple[str, str], ...]
    problems: tuple[Problem, ...]
    machines: tuple[str, ...]

    @property
    def size(self) -> int:
        return sum(each.size for each in self.placed)

    @property
    def ready(self) -> bool:
        return not any(problem.severity is Severity.STOP for problem in self.problems)


def layout_of(folder: Path, layouts: tuple[BareMetal, ...], images: dict[str, Image]) -> BareMetal:
    """The layout whose kernels or needed files lie in the folder. Raises WrongUse when none fits."""
    if not folder.is_dir():
        raise WrongUse(f"{folder} is not a folder.", do="Unpack the set and choose its folder.")
    names = {path.name.lower() for path in folder.iterdir()}
    best, most = None, 0
    for layout in layouts:
        wanted = {kernel.file.lower() for kernel in images[layout.image].kernels} | {n.lower() for n in layout.needed}
        if (hits := len(wanted & names)) > most:
            best, most = layout, hits
    if best is None:
        raise WrongUse(f"{folder} is not a bare-metal set in the catalogue.", do="Choose the unpacked set's folder.")
    return best


def plan(folder: Path, layout: BareMetal, image: Image, board: Board) -> Plan:
    """What a card for this board holds. Nothing is changed. Raises WrongUse for a folder that cannot be read."""
    try:
        sizes = {path: status.st_size for path, status in files_below(folder)}
    except OSError as bad:
        raise WrongUse(f"{folder} cannot be read: {bad.strerror}.") from bad
    work = _Work(folder, layout, image, board, sizes)
    work.kernels()
    work.trees()
    work.needed()
    complete = [machine.id for machine in layout.machines if work.machine(machine)]
    work.remembered(complete)
    work.rest()
    return Plan(
        tuple(sorted(work.placed, key=lambda each: each.target)),
        tuple(sorted(work.left)),
        tuple(work.problems),
        tuple(complete),
    )


class _Work:
    def __init__(self, folder: Path, layout: BareMetal, image: Image, board: Board, sizes: dict[str, int]) -> None:
        self.folder, self.layout, self.image, self.board, self.sizes = folder, layout, image, board, sizes
        self.placed: list[Placed] = []
        self.left: list[tuple[str, str]] = []
        self.problems: list[Problem] = []
        self.seen: set[str] = set()

    def _place(self, source: str, why: str, target: str = "") -> None:
        self.placed.append(Placed(source, target or source, self.sizes[source], why))
        self.seen.add(source)

    def _leave(self, source: str, why: str) -> None:
        self.left.append((source, why))
        self.seen.add(source)

    def _stop(self, code: str, subject: str, sentence: str, why: str, rename: tuple[str, str] | None = None) -> None:
        self.problems.append(Problem(code, Severity.STOP, subject, sentence, why, rename))

    def _caution(self, code: str, subject: str, sentence: str, why: str) -> None:
        self.problems.append(Problem(code, Severity.CAUTION, subject, sentence, why))

    def near(self, name: str) -> str | None:
        """A file in the set that is this one but for case, a surplus ending or spaces."""
        wanted = PurePosixPath(name)
        for path in self.sizes:
            each = PurePosixPath(path)
            if each.parent.as_posix().lower() != wanted.parent.as_posix().lower() or path == name:
                continue
            plain = each.name.lower().replace(" ", "")
            if (
                plain in (wanted.name.lower(), f"{wanted.name.lower()}.txt")
                or plain.rsplit(".", 1)[0] == wanted.name.lower()
            ):
                return path
        return None

    # --- the parts of a set ------------------------------------------------------------------------------------

    def kernels(self) -> None:
        """The kernel of the board's own instruction set, told by its bytes; the others stay off."""
        runs = set(self.board.runs)
        wanted = sorted(
            (k for k in self.image.kernels if k.instruction_set in runs),
            key=lambda k: k.instruction_set != self.board.native_set,
        )
        chosen = ""
        for kernel in wanted:
            if chosen or kernel.file not in self.sizes:
                continue
            with reading.opened(self.folder / kernel.file) as file:
                data = file.read(8 << 20)
                raw = raw_set(data)
                found = kernel_set(data) or ("ARM 32-bit" if raw == "ARMv6" else raw)
            if not found:
                self._stop(
                    "kernel-damaged",
                    kernel.file,
                    f"{kernel.file} is not a kernel, or is truncated.",
                    "The firmware boots nothing else. Unpack the set again.",
                )
            elif found not in (kernel.instruction_set, "ARM 32-bit"):
                self._stop(
                    "kernel-set",
                    kernel.file,
                    f"{kernel.file} holds a kernel for {found}, not {kernel.instruction_set}.",
                    f"{self.board.name} cannot run it: the screen stays black.",
                )
            else:
                self._place(kernel.file, f"the kernel for {kernel.instruction_set}")
                chosen = kernel.file
        for kernel in self.image.kernels:
            if kernel.file in self.sizes and kernel.file not in self.seen and kernel.file != chosen:
                self._leave(kernel.file, f"for {kernel.instruction_set}, not this board")
        if not chosen and not self.problems:
            name = wanted[0].file if wanted else ""
            near = self.near(name) if name else None
            self._stop(
                "no-kernel",
                name or self.board.name,
                f"There is no kernel for {self.board.name} in the set.",
                "Without it the firmware has nothing to boot.",
                (near, name) if near else None,
            )

    def trees(self) -> None:
        """Only this board's device tree: a loader that finds several may take the wrong one."""
        own = f"{self.layout.trees}/{self.board.device_tree}" if self.layout.trees else self.board.device_tree
        trees = [path for path in self.sizes if path.lower().endswith(".dtb")]
        for path in trees:
            name = PurePosixPath(path).name
            if name == self.board.device_tree and path == own:
                self._place(path, "the board's device tree", name)
            else:
                self._leave(path, "another board's device tree")
        if own not in self.sizes and (trees or self.layout.trees):
            near = self.near(own)
            self._stop(
                "no-tree",
                self.board.device_tree,
                f"The device tree {own} is missing.",
                "Without it the kernel does not know the board.",
                (near, own) if near else None,
            )

    def needed(self) -> None:
        for name in self.layout.needed:
            if name in self.sizes:
                self._place(name, "needed by exact name")
                continue
            near = self.near(name)
            sentence = f"{near} should be named {name}." if near else f"{name} is missing."
            self._stop(
                "needed-file", name, sentence, "The set looks for exactly this name.", (near, name) if near else None
            )

    def machine(self, machine: Machine) -> bool:
        """Whether all that a machine needs is there; its files are placed."""
        complete = True
        for wanted in machine.files:
            path = f"{machine.folder}/{wanted.name}"
            if path in self.sizes:
                complete &= self._check(path, wanted, machine)
                self._place(path, f"firmware file of {machine.name}")
            elif wanted.required:
                complete = False
                self._missing(path, wanted, machine)
            elif other := self._by_sum(wanted):
                self._missing(path, wanted, machine, other)
        return complete

    def _check(self, path: str, wanted: SystemFile, machine: Machine) -> bool:
        size = self.sizes[path]
        if size not in wanted.sizes:
            self._stop(
                "system-file-size",
                path,
                f"{path} has {size} bytes; {machine.name} needs {wanted.sizes_told}.",
                "A file of the wrong size gives a black screen.",
            )
            return False
        rank = wanted.rank(size, self._sum(path))
        if rank is not None:
            if rank:
                told = f"{path} is another revision that {machine.name} starts with."
                self._caution(
                    "system-file-revision", path, told, wanted.revisions[rank - 1].note or "A better one is known."
                )
            return True
        region = f" It may be from another region; {wanted.region} is needed." if wanted.region else ""
        self._stop(
            "system-file-sum",
            path,
            f"{path} has the right size but the wrong checksum.{region}",
            f"{machine.name} may show a black screen or another language.",
        )
        return False

    def _missing(self, path: str, wanted: SystemFile, machine: Machine, other: str = "") -> None:
        near = other or self._by_sum(wanted) or self.near(path)
        sentence = f"{near} is {machine.name}'s {wanted.name} under another name." if near else f"{path} is missing."
        self._stop(
            "system-file-name",
            path,
            sentence,
            "The set looks for exactly this name, without an extension.",
            (near, path) if near else None,
        )

    def _by_sum(self, wanted: SystemFile) -> str | None:
        return next(
            (
                path
                for path, size in self.sizes.items()
                if size in wanted.sizes and path not in self.seen and wanted.rank(size, self._sum(path)) is not None
            ),
            None,
        )

    def _sum(self, path: str) -> str:
        with reading.opened(self.folder / path) as file:
            return hashlib.file_digest(file, "sha256").hexdigest()

    def remembered(self, complete: list[str]) -> None:
        """The last machine is started without asking: a broken one survives every restart."""
        name = self.layout.remembered
        if not name or name not in self.sizes:
            return
        with reading.opened(self.folder / name) as file:
            machine = file.read(200).decode("utf-8", "replace").strip()
        if machine not in {each.id for each in self.layout.machines}:
            self._stop(
                "remembered-unknown",
                name,
                f"{name} is set to “{machine}”, which this set does not have.",
                "It would start that without asking: a black screen at every boot. The file is not copied to the card.",
            )
        elif machine not in complete:
            self._stop(
                "remembered-broken",
                name,
                f"{name} is set to {machine}, whose firmware files are wrong.",
                "It would start that without asking: a black screen after every reboot. The file is not copied.",
            )
        else:
            self._caution(
                "remembered",
                name,
                f"{name} is set to {machine}: the set boots into it, not into its menu.",
                "The file is not copied to the card, so the menu comes first.",
            )
        self._leave(name, "so that the menu comes first")

    def rest(self) -> None:
        """Everything else goes on as it is, when FAT can hold it."""
        renamed = {problem.rename[0] for problem in self.problems if problem.rename}
        lower: dict[str, str] = {}
        for path in sorted(self.sizes):
            name = PurePosixPath(path).name
            if path in self.seen or path in renamed:
                continue
            if name.startswith(".") or name.lower() in ("thumbs.db", "desktop.ini"):
                self._leave(path, "a desktop's own file")
            elif self.sizes[path] > LARGEST_FILE:
                self._stop(
                    "too-large",
                    path,
                    f"{path} has {show_bytes(self.sizes[path])}; FAT32 holds up to 4.29 GB a file.",
                    "It cannot be copied.",
                )
                self._leave(path, "larger than FAT32 allows")
            elif _BAD & set(name):
                self._caution(
                    "name",
                    path,
                    f"The name of {path} has characters that FAT cannot hold.",
                    "It is not copied to the card.",
                )
                self._leave(path, "a name that FAT cannot hold")
            elif path.lower() in lower:
                self._caution(
                    "twice", path, f"{path} and {lower[path.lower()]} are the same name to FAT.", "Only one goes on."
                )
                self._leave(path, "the same name except for case")
            else:
                lower[path.lower()] = path
                self._place(path, "as it is")


def gather(folder: Path, planned: Plan, to: Path) -> None:
    """Put the plan's files into an empty folder, as they will be on the card. Raises WrongUse while a stop stands."""
    if not planned.ready:
        raise WrongUse("The set is not ready for a card.", do="Fix its stops first.")
    for each in planned.placed:
        target = inside(to, each.target)
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy2(folder / each.source, target)
