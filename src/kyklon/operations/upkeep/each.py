"""The same change on several machines: a look ahead at all, then one after the other, until one stays away."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from kyklon.base.errors import Cancelled, KyklonError
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.catalogue.loader import Catalogue
from kyklon.devices.secure_copy import SecureCopy
from kyklon.model.build import Build
from kyklon.operations.upkeep import change, running
from kyklon.record import folder as store

Change = Callable[[Build], Build]
CatalogueOf = Callable[[Path], Catalogue]


@dataclass(frozen=True)
class Turn:
    """A machine's turn. differences: of its boot files, by name. state: to change, as wanted, changed, back, away,
    failed."""

    folder: Path
    name: str
    state: str
    differences: tuple[str, ...] = ()
    why: str = ""

    @property
    def stops(self) -> bool:
        """Whether no further machine is to be touched."""
        return self.state in ("away", "failed")


def preview(folders: Sequence[Path], edit: Change, catalogue_of: CatalogueOf, password: str = "") -> tuple[Turn, ...]:
    """What would change on each; nothing is changed, in no build either."""
    found = []
    for folder in folders:
        try:
            build = edit(store.load(folder).build)
            with running.boot_folder(build, password) as machine:
                planned = change.planned(build, catalogue_of(folder), machine)
            state = "to change" if planned.files else "as wanted"
            found.append(Turn(folder, build.name, state, tuple(planned.differences.values())))
        except (KyklonError, ValueError) as bad:
            found.append(Turn(folder, folder.name, "failed", (), str(bad)))
    return tuple(found)


def carry_out(
    folders: Sequence[Path], edit: Change, catalogue_of: CatalogueOf, password: str = "", watch: Watch = UNWATCHED
) -> Iterator[Turn]:
    """Edit each build, change its machine, restart it, wait for it; end with the first that fails or stays away. Builds
    after that one are not edited. Raises Cancelled."""
    for folder in folders:
        turn = _turn(folder, edit, catalogue_of, password, watch)
        yield turn
        if turn.stops:
            return


def _turn(folder: Path, edit: Change, catalogue_of: CatalogueOf, password: str, watch: Watch) -> Turn:
    try:
        build = store.update(folder, edit)
        with running.boot_folder(build, password) as machine:
            done = change.put(folder, build, catalogue_of(folder), machine, watch)
        told = tuple(done.differences.values())
        if not done.files:
            return Turn(folder, build.name, "as wanted")
        if not build.upkeep.restart:
            return Turn(folder, build.name, "changed", told)
        back = change.restart(folder, build, lambda: SecureCopy(running.login(build, password)), watch)
        return Turn(folder, build.name, "away" if back.seconds is None else "back", told, back.words)
    except Cancelled:
        raise
    except (KyklonError, ValueError) as bad:
        return Turn(folder, folder.name, "failed", (), str(bad))
