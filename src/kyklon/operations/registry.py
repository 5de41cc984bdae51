"""The one list of operations. Inspection, window, commands and tests walk it; a new operation is a row here."""

from __future__ import annotations

from kyklon.model.controls import MOST_DEVICES
from kyklon.operations.assembly import findings as assembly
from kyklon.operations.boot import compile as boot_compile
from kyklon.operations.boot import findings as boot
from kyklon.operations.boot import hardware as boot_hardware
from kyklon.operations.card import disk, sets_seen
from kyklon.operations.card import findings as card
from kyklon.operations.card import observe as card_observe
from kyklon.operations.controls import exports as controls_exports
from kyklon.operations.controls import findings as controls
from kyklon.operations.library import findings as library
from kyklon.operations.library import observe as library_observe
from kyklon.operations.operation import Look, Operation
from kyklon.operations.picture import findings as picture
from kyklon.operations.picture import observe as picture_observe
from kyklon.operations.picture import papers as picture_papers
from kyklon.operations.plan import exports as plan_exports
from kyklon.operations.plan import findings as plan
from kyklon.operations.tuning import cascade
from kyklon.operations.tuning import findings as tuning
from kyklon.operations.upkeep import findings as upkeep


def _parts(*roles: str) -> tuple[str, ...]:
    """Inputs that are the part in a role."""
    return tuple(f"parts:{role}" for role in roles)


ENCODERS = ("encoder", *(f"encoder-{number}" for number in range(2, MOST_DEVICES + 1)))

OPERATIONS = (
    Operation(
        10,
        "Plan",
        inputs=("parts", "links", "systems", "medium"),
        page=("plan.page", "PlanPage"),
        findings=(plan.findings,),
        issue=plan_exports.issue,
    ),
    Operation(
        20,
        "Card",
        inputs=(
            "source",
            "card",
            "medium",
            "sets",
            "boot.kernel_words",
            *_parts("card", "image", "board", "disk", "bridge", "supply"),
        ),
        page=("card.page", "CardPage"),
        findings=(card.findings, disk.findings),
        looks=(*card_observe.LOOKS, *sets_seen.LOOKS),
    ),
    Operation(
        30,
        "Boot",
        inputs=("boot", "system", "picture", "medium", *_parts("board", "image", "display", "encoder")),
        page=("boot.page", "BootPage"),
        findings=(boot.findings, boot_hardware.findings),
        issue=boot_compile.issue,
    ),
    Operation(
        40,
        "Controls",
        inputs=("controls", "systems", "boot.kernel_words", "boot.overlays", *_parts(*ENCODERS, "board", "image")),
        page=("controls.page", "ControlsPage"),
        findings=(controls.findings,),
        issue=controls_exports.issue,
    ),
    Operation(
        50,
        "Picture",
        inputs=(
            "picture",
            "systems",
            "links",
            "boot.link",
            "boot.sound",
            "boot.overlays",
            "boot.dialect",
            *_parts("board", "display", "adapter", "adapter-2", "image", "encoder"),
        ),
        page=("picture.page", "PicturePage"),
        findings=(picture.findings,),
        looks=picture_observe.LOOKS,
        issue=picture_papers.issue,
    ),
    Operation(
        60,
        "Library",
        inputs=("library", "systems", *_parts("image")),
        page=("library.page", "LibraryPage"),
        findings=(library.findings,),
        looks=library_observe.LOOKS,
    ),
    Operation(
        70,
        "Tuning",
        inputs=("tuning", "systems", "picture", *_parts("display", "encoder", "board", "adapter")),
        page=("tuning.page", "TuningPage"),
        findings=(tuning.findings,),
        issue=cascade.issue,
    ),
    Operation(
        80,
        "Assembly",
        inputs=("parts", "links", "medium", "assembly", "boot.processor_mhz"),
        page=("assembly.page", "AssemblyPage"),
        findings=(assembly.findings,),
    ),
    Operation(
        90,
        "Power-on",
        inputs=(
            "parts",
            "links",
            "systems",
            "medium",
            "source",
            "card",
            "boot",
            "picture",
            "controls",
            "library",
            "tuning",
            "assembly",
            "ticks",
        ),
        page=("poweron.page", "PowerOnPage"),
        findings=(),
    ),
    Operation(
        95,
        "Upkeep",
        inputs=(
            "upkeep.boot_folder",
            "upkeep.as_root",
            "upkeep.restart",
            "library.host",
            "library.host_key",
            "source",
            "card",
            *_parts("image"),
        ),
        page=("upkeep.page", "UpkeepPage"),
        findings=(upkeep.findings,),
    ),
)

LOOKS: dict[str, Look] = {look.key: look for operation in OPERATIONS for look in operation.looks}


def operation(number: int) -> Operation:
    """The operation with that number. Raises KeyError."""
    return {each.number: each for each in OPERATIONS}[number]
