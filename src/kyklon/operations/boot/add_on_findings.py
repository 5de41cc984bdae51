"""What the build's add-ons say against its image and its card, before the machine is switched on."""

from __future__ import annotations

from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build, change_of
from kyklon.model.findings import Finding, Remedy, Severity
from kyklon.model.world import World
from kyklon.operations.boot.add_ons import lacking, of_build

OPERATION = 30


def findings(build: Build, catalogue: Catalogue, world: World) -> list[Finding]:
    image = catalogue.find(Image, build.part("image"))
    if image is None:
        return []
    known = of_build(build, catalogue)
    found = [_unknown(build, each) for each in build.system.add_ons if each not in {part.id for part in known}]
    if known and image.school == "bare metal":
        return [*found, _no_system(build, image)]
    if image.school == "multi-boot":
        return [*found, *([_in_each(image)] if known else [])]
    root = world.card.root if world.card is not None else None
    for add_on in known:
        lost = lacking(add_on, dict(root.answers)) if root is not None else ()
        if not lost:
            continue
        how = f" On the machine: sudo apt-get install {' '.join(add_on.packages)}." if add_on.packages else ""
        found.append(
            Finding(
                code=f"boot.add-on:{add_on.id}",
                severity=Severity.CAUTION,
                operation=OPERATION,
                subject=add_on.name,
                title=f"{add_on.name} lacks what it needs",
                message=f"The card's system does not have {' and '.join(lost)}.{how}",
                why="It starts, ends at once or does nothing, and mostly without a word.",
                source="the card's root file system",
            )
        )
    return found


def _unknown(build: Build, add_on_id: str) -> Finding:
    rest = [each for each in build.system.add_ons if each != add_on_id]
    change = change_of("system.add_ons", rest, ", ".join(build.system.add_ons), ", ".join(rest) or "none")
    return Finding(
        code=f"boot.add-on-unknown:{add_on_id}",
        severity=Severity.CAUTION,
        operation=OPERATION,
        subject=add_on_id,
        title=f"There is no add-on {add_on_id}",
        message="The shelf does not have it, so nothing of it is installed.",
        why="Learn it on the shelf, or take it out of this build.",
        remedy=Remedy(label=f"Remove {add_on_id}", changes=(change,)),
    )


def _in_each(image: Image) -> Finding:
    return Finding(
        code="boot.add-on-in-each",
        severity=Severity.NOTE,
        operation=OPERATION,
        subject=image.name,
        title="Install add-ons in each system",
        message=f"{image.name} only starts other systems: the add-ons are steps of the plan, once for each system.",
        why="A system that is unpacked again has lost them.",
    )


def _no_system(build: Build, image: Image) -> Finding:
    change = change_of("system.add_ons", [], ", ".join(build.system.add_ons), "none")
    return Finding(
        code="boot.add-on-no-system",
        severity=Severity.CAUTION,
        operation=OPERATION,
        subject=image.name,
        title=f"{image.name} runs no add-ons",
        message="It has no Linux system below its games.",
        why="An add-on is a program of a Linux system.",
        remedy=Remedy(label="Remove the add-ons", changes=(change,)),
    )
