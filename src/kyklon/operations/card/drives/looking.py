"""Which drives there are, with what their own bytes tell, and which one a name means."""

from __future__ import annotations

import contextlib
from dataclasses import replace
from pathlib import Path

from kyklon.base.errors import TargetLost, WrongUse
from kyklon.base.inside import refuse_systems_own
from kyklon.devices import choose
from kyklon.devices.layers import Layers, held_node, node_at
from kyklon.devices.places import is_block_device, unknown_contents
from kyklon.devices.ports import DriveFacts, Drives, Target
from kyklon.operations.card.volumes.survey import survey

NEW_FILES = (".img", ".iso", ".bin", ".raw")  # a drive's name mistyped must not become a file


def targets(folder: Path | None) -> tuple[Target, ...]:
    """The drives to choose from: a build's stand-ins, or this machine's. Raises TargetError."""
    return _listed(choose.first_that_lists(choose.drives_of(folder)))


def _listed(drives: Drives) -> tuple[Target, ...]:
    layers = Layers()
    found = []
    for facts in drives.list():
        with contextlib.suppress(FileNotFoundError):  # pulled out just now
            found.append(Target(drives, _looked_at(drives, facts, layers)))
    return tuple(found)


def again(target: Target) -> Target:
    """The drive that is listed under the same name now, so that one exchanged in the meantime shows.

    Raises TargetLost when none is.
    """
    if target.facts.part_of:
        return target  # refused as a partition anyway
    now = next((facts for facts in target.drives.list() if facts.name == target.facts.name), None)
    if now is None:
        raise TargetLost(f"{target.facts.name} is no longer connected.", do="Plug it in and choose it again.")
    try:
        return Target(target.drives, _looked_at(target.drives, now, Layers()))
    except OSError as bad:
        raise TargetLost(f"{target.facts.name} was disconnected: {bad.strerror}.", do="Plug it in again.") from bad


def find(name: str, folder: Path | None, size: int = 0) -> Target:
    """A stand-in's name, a block device, or a file (which may hold `size` bytes when it is not there yet).

    A partition is found too: the interlock says why it is no target. Raises WrongUse for a name that is none of these.
    """
    if folder is not None:
        for target in targets(folder):
            if name in (target.facts.name, target.facts.identity):
                return target
            if target.facts.simulated and Path(name).exists() and Path(name).resolve() == target.path.resolve():
                return target
    path = _absolute(name)
    if is_block_device(path):
        return _device(path.resolve())
    refuse_systems_own(path)
    if not path.parent.is_dir() or (path.exists() and not path.is_file()):
        raise WrongUse(f"{name} is not a drive, and no file can be made there.", do="`kyklon drives` lists the drives.")
    if not path.exists() and path.suffix.lower() not in NEW_FILES:
        raise WrongUse(
            f"No drive or file {name}.",
            do="`kyklon drives` lists the drives, --folder adds a build's; a new file's name ends in .img.",
        )
    file = choose.image_file(path, size)
    found = _listed(file)
    if not found:
        raise TargetLost(f"{name} was disconnected.", do="Choose it again.")
    return found[0]


def _absolute(name: str) -> Path:
    """Raises WrongUse for a name that no file can have."""
    try:
        path = Path(name).absolute()
        return path.parent.resolve() / path.name
    except (ValueError, OSError, RuntimeError) as bad:
        raise WrongUse(f"{name!r} cannot be a file: {bad}.", do="`kyklon drives` lists the drives.") from bad


def _device(path: Path) -> Target:
    # the drive service leaves some drives out; they must still be found, so that they can be refused with a reason
    for backend in choose.real_drives():
        for target in _listed(backend):
            if target.path == path:
                return target
        part = backend.part(path)
        if part is not None:
            return Target(backend, _looked_at(backend, part, Layers()))
    raise WrongUse(f"{path} is not a drive that can be written.", do="Give the whole drive, as lsblk lists it.")


def _looked_at(drives: Drives, facts: DriveFacts, layers: Layers) -> DriveFacts:
    """Facts with what stands on the drive, and what its own bytes tell where the system tells nothing of it."""
    if facts.simulated:
        return facts
    path = drives.path(facts.identity)
    facts = _with_uses(facts, path, layers)
    if facts.is_file or facts.labels:
        return facts
    try:
        found = survey(path, deep=False)
    except OSError:
        return replace(facts, holds=facts.holds or unknown_contents(path))
    kinds = sorted({volume.kind for volume in found.volumes if volume.kind})
    labels = tuple(volume.label for volume in found.volumes if volume.label)
    holds = ", ".join(kinds) or facts.holds or unknown_contents(path)
    return replace(facts, labels=labels, holds=holds, newest=found.newest)


def _with_uses(facts: DriveFacts, path: Path, layers: Layers) -> DriveFacts:
    """What the kernel itself knows: a list of drives may not tell of a file behind a loop, or of an array above."""
    node = node_at(path)
    if not node:
        return facts
    uses = layers.uses(node)
    same = layers.same(node)
    return replace(
        facts,
        mounts=tuple(dict.fromkeys((*facts.mounts, *uses.mounts))),
        swap=facts.swap or uses.swap,
        member_of=facts.member_of or next(iter(uses.members), ""),
        in_use=facts.in_use or uses.system,
        node=held_node(path),
        nodes=tuple(sorted(same)),
    )
