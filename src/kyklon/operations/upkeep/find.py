"""Where the machine is: by its name or the key it shows, never by trying every address of a network."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from kyklon.base.errors import KyklonError
from kyklon.devices.neighbours import ANSWER_S, SHARE, Neighbour, Neighbourhood
from kyklon.devices.secure_copy import fingerprint
from kyklon.model.build import Build, edited


@dataclass(frozen=True)
class Sighting:
    """shell, share: whether something listens there. ours: whether its host key is the one that the build kept; None
    where one of the two is not known."""

    neighbour: Neighbour
    shell: bool
    share: bool
    host_key: str
    ours: bool | None

    @property
    def words(self) -> str:
        """What its key says."""
        if self.ours is None:
            return f"shows {fingerprint(self.host_key)}" if self.host_key else "shows no host key"
        return "this build's machine" if self.ours else f"another machine: {fingerprint(self.host_key)}"


def name_of(build: Build) -> str:
    """The name to ask for: the address that was typed, else the machine's own in the local domain (RFC 6762, 3)."""
    return build.library.host or (f"{build.boot.hostname}.local" if build.boot.hostname else "")


def find(
    build: Build, nearby: Neighbourhood, name: str = "", seconds: float = ANSWER_S, *, neighbours: bool = False
) -> tuple[Sighting, ...]:
    """Machines that may be the build's, its own first. neighbours: also ask whom this computer has talked to for a host
    key. Raises KyklonError where the network cannot be asked."""
    found = list(nearby.find(name or name_of(build), seconds))
    if neighbours:
        known = {each.address for each in found}
        found += [each for each in nearby.table() if each.address not in known]
    port = build.library.port
    rows = []
    for each in found:
        named = each.address == build.library.host or each.name == name_of(build)
        rows.append(Neighbour(each.name, each.address, each.how, port if named and port != 22 else each.port))
    shells = nearby.answers([(each.address, each.port) for each in rows])
    shares = nearby.answers([(each.address, SHARE) for each in rows])
    kind = build.library.host_key.partition(" ")[0]
    with ThreadPoolExecutor(8) as pool:
        keys = list(pool.map(lambda each, shell: _key(nearby, each, shell, kind), rows, shells))
    kept = build.library.host_key
    seen = [
        Sighting(each, shell, share, key, (key == kept) if key and kept else None)
        for each, shell, share, key in zip(rows, shells, shares, keys, strict=True)
    ]
    return tuple(sorted(seen, key=lambda each: (each.ours is not True, not each.shell, each.neighbour.name)))


def _key(nearby: Neighbourhood, neighbour: Neighbour, shell: bool, kind: str) -> str:
    if not shell:
        return ""
    try:
        return nearby.host_key(neighbour.address, neighbour.port, kind)
    except KyklonError:
        return ""


def with_machine(build: Build, sighting: Sighting) -> Build:
    """A build that reaches its machine there. A host key that was kept stays: another one is refused at the login."""
    values = {"host": sighting.neighbour.address, "port": sighting.neighbour.port, "route": "secure copy"}
    return edited(build, "library", {**build.library.model_dump(), **values})
