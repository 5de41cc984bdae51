"""What the boot settings say against the build, before anything is written."""

from __future__ import annotations

from dataclasses import replace

from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board
from kyklon.catalogue.text_records import Dialect
from kyklon.model.build import Build, change_of
from kyklon.model.card import CardContents, KernelFile
from kyklon.model.fields import describe
from kyklon.model.findings import Finding, Remedy, Severity
from kyklon.model.system import SystemSetup
from kyklon.model.world import World
from kyklon.operations.boot import add_on_findings
from kyklon.operations.boot.as_found import as_found
from kyklon.operations.boot.compile import compiled
from kyklon.operations.boot.firmware import differing
from kyklon.operations.boot.first_boot import is_ours
from kyklon.operations.boot.services import repaired, told_dependencies, track

OPERATION = 30


def findings(build: Build, catalogue: Catalogue, world: World) -> list[Finding]:
    board = catalogue.find(Board, build.part("board"))
    image = catalogue.find(Image, build.part("image"))
    if board is None or image is None:
        return []
    return [
        *_dialect(build, catalogue, board),
        *_kernel(build, board, kernel_sets(image, world.source_contents, world.card)),
        *_tree(build, board),
        *_services(build, image, catalogue),
        *_dependencies(build, world.card),
        *_country(build, image),
        *_setup(build, image, world.card or world.source_contents),
        *_stale(build, catalogue, world.card),
        *_odd(build, catalogue, board, world.card),
        *add_on_findings.findings(build, catalogue, world),
    ]


def kernel_sets(image: Image, *observed: CardContents | None) -> dict[str, str]:
    """Kernel files and their instruction sets: as read from bytes where there are any, else as the catalogue says."""
    said = {kernel.file: kernel.instruction_set for kernel in image.kernels}
    for contents in observed:
        if contents is not None and (found := (*contents.kernels, *programs_of(image, contents))):
            return {kernel.name: kernel.instruction_set for kernel in found}
    return said


def programs_of(image: Image, contents: CardContents) -> tuple[KernelFile, ...]:
    """What a bare-metal image starts that has no kernel's head; where its bytes ask for no more than ARMv6, the image's
    own word for ARMv7 counts. Nothing for other images: their loaders ask for a head."""
    if image.school != "bare metal":
        return ()
    said = {kernel.file.lower(): kernel.instruction_set for kernel in image.kernels}
    named = [each for each in contents.programs if each.name.lower() in said]
    plain = [each.instruction_set == "ARMv6" and said[each.name.lower()] == "ARMv7" for each in named]
    return tuple(replace(each, instruction_set="ARMv7") if at else each for each, at in zip(named, plain, strict=True))


def kernel_remedy(build: Build, board: Board, sets: dict[str, str]) -> Remedy | None:
    """Choose the kernel of the board's own set, or another it runs."""
    order = [board.native_set, *board.runs]
    for wanted in order:
        for name, instruction_set in sets.items():
            if instruction_set == wanted:
                before = f"{build.boot.kernel} ({sets.get(build.boot.kernel, 'not there')})"
                change = change_of("boot.kernel", name, before, f"{name} ({instruction_set})")
                return Remedy(label=f"Use {name}", changes=(change,))
    return None


def _kernel(build: Build, board: Board, sets: dict[str, str]) -> list[Finding]:
    chosen = sets.get(build.boot.kernel) or next(
        (each for name, each in sets.items() if _last(name) == _last(build.boot.kernel)), None
    )
    if chosen in board.runs:
        return []
    if chosen is None:
        title = f"{build.boot.kernel} is not in the image"
        message = f"It has {', '.join(sorted(sets)) or 'no kernel at all'}."
    else:
        title = f"{build.boot.kernel} is built for {chosen}"
        message = f"{board.name} runs {' and '.join(board.runs)} only."
    return [
        Finding(
            code="boot.kernel-set",
            severity=Severity.STOP,
            operation=OPERATION,
            subject=build.boot.kernel,
            title=title,
            message=message,
            why="The CPU stops at the first instruction it does not know: black screen, no message.",
            source="header of the kernel file (arm64 booting.rst, arm zImage)",
            remedy=kernel_remedy(build, board, sets),
        )
    ]


def _tree(build: Build, board: Board) -> list[Finding]:
    if build.boot.device_tree == board.device_tree:
        return []
    change = change_of("boot.device_tree", board.device_tree, build.boot.device_tree, board.device_tree)
    return [
        Finding(
            code="boot.device-tree",
            severity=Severity.STOP,
            operation=OPERATION,
            subject=build.boot.device_tree,
            title=f"{build.boot.device_tree} is for another board",
            message=f"{board.name} needs {board.device_tree}.",
            why="The kernel looks for hardware this board does not have, and the screen stays black.",
            source="the catalogue",
            remedy=Remedy(label=f"Use {board.device_tree}", changes=(change,)),
        )
    ]


def _last(path: str) -> str:
    return path.rpartition("/")[2].lower()


def _dialect(build: Build, catalogue: Catalogue, board: Board) -> list[Finding]:
    if build.boot.dialect in board.dialects:
        return []
    better = board.dialects[0]
    known = catalogue.find(Dialect, build.boot.dialect)
    change = change_of("boot.dialect", better, build.boot.dialect, better)
    return [
        Finding(
            code="boot.dialect",
            severity=Severity.STOP,
            operation=OPERATION,
            subject=build.boot.dialect,
            title=f"{board.name} does not read this kind of boot file",
            message=f"It reads: {', '.join(board.dialects)}; the build writes {known.name if known else 'another'}.",
            why="The firmware would use its defaults.",
            source=f"{board.name} in the catalogue",
            remedy=Remedy(label=f"Write {better}", changes=(change,)),
        )
    ]


def _services(build: Build, image: Image, catalogue: Catalogue) -> list[Finding]:
    dialect = catalogue.find(Dialect, build.boot.dialect)
    listed = dialect.file("lines") if dialect else None
    if (
        not image.foreground_service
        or listed is None
        or dialect is None
        or listed.path.lower() in image.unread(dialect)
    ):
        return []  # one program and no services, or services that a list does not start
    steps = track(build.boot.services, image.foreground_service)
    never = [step.name for step in steps if not step.starts]
    found = []
    if never:
        better = repaired(build.boot.services, image.foreground_service)
        change = change_of("boot.services", list(better), " → ".join(build.boot.services), " → ".join(better))
        found.append(
            Finding(
                code="boot.service-order",
                severity=Severity.STOP if image.watcher_service in never else Severity.CAUTION,
                operation=OPERATION,
                subject=image.foreground_service,
                title=f"{', '.join(never)} will never start",
                message=f"{image.foreground_service} runs in the foreground and never returns.",
                why="Without the shutdown watcher the button does nothing, and pulling the plug damages the card.",
                remedy=Remedy(label=f"Start {image.foreground_service} last", changes=(change,)),
            )
        )
    if image.foreground_service not in build.boot.services:
        found.append(
            Finding(
                code="boot.no-front-end",
                severity=Severity.STOP,
                operation=OPERATION,
                subject=image.front_end,
                title=f"{image.front_end} never starts",
                message="It is not in the list of services.",
                why="The machine would stop at a login prompt.",
                source="services of this build",
            )
        )
    return found


def _odd(build: Build, catalogue: Catalogue, board: Board, card: CardContents | None) -> list[Finding]:
    """Lines on the card that do not do what they seem to; at most a dozen."""
    dialect = catalogue.find(Dialect, build.boot.dialect)
    if card is None or dialect is None:
        return []
    lines = [line for line in as_found(dialect, board, card.texts) if line.odd and " only" not in line.odd]
    return [
        Finding(
            code=f"boot.odd:{line.file}:{line.number}:{index}",
            severity=Severity.NOTE,
            operation=OPERATION,
            subject=line.file,
            title=f"{line.file}, line {line.number}: {line.key or line.value or 'it'} {line.odd}",
            message=f"{line.key} {line.value}".strip() or line.file,
            why="This line does not do what it seems to do.",
            source=f"the rules of {dialect.name}",
        )
        for index, line in enumerate(lines[:12])
    ]


def _country(build: Build, image: Image) -> list[Finding]:
    if build.boot.country or image.network_service not in build.boot.services:
        return []
    return [
        Finding(
            code="boot.country",
            severity=Severity.CAUTION,
            operation=OPERATION,
            subject="Network",
            title="No Wi-Fi country is set",
            message="The radio stays off until one is set.",
            why="Allowed Wi-Fi channels differ by country.",
            source="regulatory domain, kernel documentation",
        )
    ]


def _dependencies(build: Build, card: CardContents | None) -> list[Finding]:
    """What the units on the card ask for, and the list does not keep."""
    root = card.root if card else None
    units = {unit.name: unit for unit in root.services} if root and not root.pulled and not root.numbered else {}
    return [
        Finding(
            code=f"boot.service-needs:{name}:{index}",
            severity=Severity.CAUTION,
            operation=OPERATION,
            subject=name,
            title=f"{words}",
            message="Services start in the order of this list; nothing sorts them.",
            why="It starts before what it needs and may stop at once.",
            source="the unit files on the card",
        )
        for index, (name, words) in enumerate(told_dependencies(build.boot.services, units))
    ]


def _setup(build: Build, image: Image, contents: CardContents | None) -> list[Finding]:
    """What the script of the first start does, or cannot."""
    setup, script = build.system, image.first_boot_script
    root = contents.root if contents is not None else None
    others = {"key_for"} if image.has_system else {"key_for", "add_ons"}  # add-ons have a finding of their own
    decided = [name for name in type(setup).model_fields if name not in others and getattr(setup, name)]
    there = contents.texts.get(script.lower(), "") if contents and script else ""
    found = []
    labels = ", ".join(describe(Build, f"system.{name}").label.lower() for name in decided)
    if decided and not image.has_system:
        found.append(
            _of_setup(
                "no-system",
                f"{image.name} has no system to set up",
                f"Not set up: {labels}.",
                "These settings would never reach the machine.",
            )
        )
    elif decided and not script and root is not None and not root.can_be_set_up:
        found.append(
            _of_setup(
                "by-hand",
                "The rest is set up on the running machine",
                f"{labels[:1].upper()}{labels[1:]}: save the setup script (Boot, “Setup script…”, or `kyklon setup "
                "FOLDER --script setup.sh`), copy it to the machine and run it there: sudo sh setup.sh.",
                f"{image.name} runs no script of yours at its first boot, and nothing on the card would start one.",
                Severity.NOTE,
            )
        )
    if decided and there and not is_ours(there):
        found.append(
            _of_setup(
                "foreign-first-boot",
                f"{script} is not this build's",
                "The card has a first-boot script from somewhere else; Kyklon leaves it alone.",
                "The settings of this build are not applied.",
            )
        )
    found += _wireless(setup)
    if setup.start_command:
        found.append(
            _of_setup(
                "start-line",
                "This build runs its own command at every boot",
                setup.start_command,
                "It runs as root: read it before you trust a build from someone else.",
                Severity.NOTE,
            )
        )
    return found


def _wireless(setup: SystemSetup) -> list[Finding]:
    """What the Wi-Fi's name and key say of each other."""
    found = []
    if setup.wireless_name and setup.wireless_key and setup.key_for != setup.wireless_name:
        change = change_of("system.wireless_key", "", "of another network", "none")
        what = f"It was made for {setup.key_for or 'a network without a name'}; type the Wi-Fi password again."
        found.append(
            _of_setup(
                "wireless-key",
                "The Wi-Fi key belongs to another network",
                what,
                "The key is derived from the Wi-Fi password and the SSID (IEEE 802.11i).",
                Severity.STOP,
                Remedy(label="Delete the key", changes=(change,)),
            )
        )
    if setup.wireless_name and not setup.wireless_key:
        found.append(
            _of_setup(
                "wireless-open",
                f"{setup.wireless_name} would be joined without a password",
                "Type its Wi-Fi password, if it has one.",
                "On an open network anyone nearby can read the traffic.",
            )
        )
    return found


def _of_setup(
    code: str, title: str, message: str, why: str, severity: Severity = Severity.CAUTION, remedy: Remedy | None = None
) -> Finding:
    return Finding(
        code=f"boot.{code}",
        severity=severity,
        operation=OPERATION,
        subject="First start",
        title=title,
        message=message,
        why=why,
        source="settings of this build",
        remedy=remedy,
    )


def _stale(build: Build, catalogue: Catalogue, card: CardContents | None) -> list[Finding]:
    """Files of this build that differ from those on the card."""
    if card is None or card.table is None or card.boot_error:
        return []
    different = [
        file.path
        for file in compiled(build, catalogue, card.texts, card)
        if card.texts.get(file.path.lower(), "") != file.text
    ]
    different += differing(build, catalogue, card)
    if not different:
        return []
    return [
        Finding(
            code="boot.not-on-card",
            severity=Severity.CAUTION,
            operation=OPERATION,
            subject="Boot files",
            title="The boot files on the card do not match this build",
            message=f"Different: {', '.join(different)}.",
            why="The machine does what is on the card, not what is planned.",
            source="the bytes on the card",
        )
    ]
