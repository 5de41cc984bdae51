"""Where a build's kernel and device tree are on a card: what stands in its boot file and fits stays as it is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import PurePosixPath

from kyklon.catalogue.records import Board
from kyklon.catalogue.text_records import Dialect
from kyklon.model.card import CardContents
from kyklon.operations.card.volumes.boot_facts import UNKNOWN_32

KERNEL, TREE, TREE_FOLDER = "boot.kernel", "boot.device_tree", "FDTDIR"


def startable_sets(board: Board, dialect: Dialect) -> tuple[str, ...]:
    """The sets whose kernels a board's loader starts. One by labels that is a 64-bit program starts 64-bit kernels only
    (U-Boot: booti, bootz). A kernel that does not tell which 32-bit set it is for is taken for a right one."""
    by_label = dialect.files[0].kind == "extlinux"
    sets = tuple(run for run in board.runs if run == "ARMv8" or not (by_label and board.native_set == "ARMv8"))
    return (*sets, UNKNOWN_32) if {"ARMv6", "ARMv7"} & set(sets) else sets


def sets_in_words(sets: Sequence[str]) -> str:
    """Instruction sets as a sentence names them."""
    return " and ".join(each for each in sets if each != UNKNOWN_32) or "none of these"


def fits(tree: str, board: Board, seen: CardContents) -> bool:
    """Whether a file on the card is a device tree for the board, whatever its folder."""
    found = seen.tree(tree)
    if found is None or found.trouble or not seen.has(tree):
        return False
    if board.compatible:
        return board.compatible in found.compatible
    return _name(tree) == _name(board.device_tree)


def tree_in(folder: str, board: Board, seen: CardContents) -> str:
    """The tree that a loader takes from a folder by the board's own file name, in it or in a maker's folder below; ''
    for none. Which maker's folder a board asks for is its firmware's: any is taken."""
    below = f"{folder.strip('/')}/".lstrip("/").lower()
    wanted = _name(board.device_tree)
    for tree in seen.trees:
        path = tree.name.lower()
        if path.startswith(below) and _name(path) == wanted and path.removeprefix(below).count("/") <= 1:
            return tree.name
    return ""


@dataclass(frozen=True)
class Placing:
    """Names a build's kernel and tree for a boot file on a card. seen: what is on it."""

    board: Board
    dialect: Dialect
    seen: CardContents

    def placed(self, setting: str, wanted: str, stands: str, folder: str) -> str | None:
        """How a boot file is to name the build's kernel or device tree; None where it is to be left as it stands.

        wanted: as the build names it, spelt for this file. stands: what the file says, as a path on the boot partition;
        folder: of trees that it names instead, '' for none.
        """
        lead = "/" if wanted.startswith("/") else ""
        name, stands = wanted.lstrip("/"), stands.lstrip("/")
        board, seen = self.board, self.seen
        if setting == KERNEL:
            if stands and self._starts(stands) and (not seen.has(name) or _name(stands) == _name(name)):
                return None
            if self._starts(name):
                return wanted
            alike = [kernel.name for kernel in seen.kernels if _name(kernel.name) == _name(name)]
            able = next((each for each in alike if self._starts(each)), "")
            if able:
                return f"{lead}{able}"
            return wanted if not stands or seen.has(name) else None
        if stands and stands != "-" and fits(stands, board, seen):
            return None
        if not stands and folder and (found := tree_in(folder, board, seen)) and fits(found, board, seen):
            return None
        if fits(name, board, seen):
            return wanted
        able = next((tree.name for tree in seen.trees if fits(tree.name, board, seen)), "")
        if able:
            return f"{lead}{able}"
        # nothing fits: a name that leads nowhere, or to another board's tree, is no better than what stands there
        return wanted if seen.has(name) and stands and not seen.has(stands) else None

    def _starts(self, kernel: str) -> bool:
        """Whether a file on the card is a kernel that the board's firmware starts."""
        found = self.seen.kernel(kernel)
        return bool(found and not found.trouble and found.instruction_set in startable_sets(self.board, self.dialect))


def _name(path: str) -> str:
    return PurePosixPath(path).name.lower()
