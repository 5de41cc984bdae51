"""The stages of a power-on in their order: the one list a school that the bring-up, the documents and the tests walk.

The menu on the screen (`front end`) comes after `controllers` and `library`: the front end opens the one and reads the
other before it shows anything.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import Step
from kyklon.operations.poweron.stages import (
    bare_metal,
    card,
    display,
    firmware,
    games,
    init,
    multi_boot,
    root,
    services,
    supply,
)


@dataclass(frozen=True)
class Stage:
    """judge: what the stage comes to, from the bytes it would meet."""

    name: str
    judge: Callable[[Bench], Step]


STAGES = (
    Stage("supply", supply.supply),
    Stage("card", card.card),
    Stage("partition table", card.partition_table),
    Stage("boot partition", card.boot_partition),
    Stage("boot file", firmware.boot_file),
    Stage("kernel", firmware.kernel),
    Stage("display", display.display),
    Stage("kernel line", root.kernel_line),
    Stage("root partition", root.root_partition),
    Stage("init", init.init),
    Stage("first start", init.first_start),
    Stage("root expansion", root.root_expansion),
    Stage("services", services.services),
    Stage("waking", display.waking),
    Stage("login", services.login),
    Stage("controllers", games.controllers),
    Stage("library", games.library),
    Stage("front end", games.front_end),
    Stage("games", games.games),
    Stage("leaving", games.leaving),
)

# without a system below it, one program reads its files from the boot partition
BARE_METAL = (
    *(stage for stage in STAGES if stage.name in ("supply", "card", "partition table", "boot partition", "boot file")),
    Stage("kernel", firmware.kernel),
    Stage("display", display.display),
    Stage("files", bare_metal.files),
    Stage("controllers", bare_metal.controllers),
    Stage("machine", bare_metal.machine),
)

# a chooser too is one program: what it needs is on the same partition
MULTI_BOOT = (
    *(stage for stage in BARE_METAL if stage.name not in ("files", "controllers", "machine")),
    Stage("bundles", multi_boot.bundles),
    Stage("space", multi_boot.space),
)

_SCHOOLS = {"bare metal": BARE_METAL, "multi-boot": MULTI_BOOT}


def stages_of(school: str) -> tuple[Stage, ...]:
    """The stages of an image of that school."""
    return _SCHOOLS.get(school, STAGES)
