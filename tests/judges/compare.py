"""The forecast beside what a real loader and a real kernel did."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path

from judges import cards, kernel, loader
from kyklon.catalogue.loader import Catalogue, load
from kyklon.catalogue.records import Board
from kyklon.demo import lighthouse
from kyklon.model.build import Build, edited
from kyklon.model.card import CardContents, KernelFile
from kyklon.operations.card.volumes import contents
from kyklon.operations.poweron.bench import Bench, lay_out
from kyklon.operations.poweron.events import Failure
from kyklon.operations.poweron.sequence import STAGES

_UP_TO_KERNEL = ("partition table", "boot partition", "boot file", "kernel")
_OF_KERNEL = ("kernel line", "root partition", "init", "services", "login", "front end")


@dataclass(frozen=True)
class Compared:
    """agree: stage and cause are the same. fine_and_wrong: a stage was said to pass where the real one stopped."""

    agree: bool
    fine_and_wrong: bool
    foretold: str
    real: str


@cache
def catalogue() -> Catalogue:
    return load()


@cache
def _build() -> Build:
    build = lighthouse.build(catalogue(), "0" * 64).with_part("board", "ling")
    return edited(edited(build, "boot.dialect", "extlinux"), "boot.device_tree", "ling.dtb")


def first_failure(bench: Bench, names: tuple[str, ...]) -> Failure | None:
    """The first failure of these stages that blocks."""
    for stage in STAGES:
        if stage.name not in names:
            continue
        step = stage.judge(bench)
        blocking = next((failure for failure in step.failures if failure.blocks), None)
        if blocking is not None:
            return blocking
    return None


def with_loader(card: Path) -> Compared:
    """The boot loader."""
    # it does not look at checksums, and the kernel is not run here
    bench = lay_out(_build(), catalogue(), _as_loaded(contents.observe(card)))
    failure = first_failure(bench, _UP_TO_KERNEL)
    real = loader.load(card)
    settings = bench.settings
    mine = "started" if failure is None else failure.stage
    theirs = with_loader_stage(real)
    more = f" ({failure.cause})" if failure else f" {bench.kernel_name} {settings.kernel_line if settings else None!r}"
    words = mine + more
    told = f"{theirs} {real.files} {real.line!r} missing {real.missing}"
    if failure is None or real.started:
        same = failure is None and real.started
        if same and settings is not None:
            kernel_same = settings.kernel_file.lower() == _plain(real.files[-1])
            same = kernel_same and settings.kernel_line.strip() == real.line.strip()
    elif theirs == "nothing found":
        same = failure.stage in ("partition table", "boot partition") or failure.code == "boot.missing-file"
    else:
        same = failure.stage == theirs
    return Compared(same, failure is None and not real.started, words, told)


def with_loader_stage(real: loader.Loaded) -> str:
    """The stage at which the loader gave up, as the forecast calls it."""
    if real.started:
        return "started"
    if real.waits or (real.found and not real.files[1:] and "No kernel given" not in real.said):
        return "boot file"
    return "kernel" if real.found else "nothing found"


def stage_before(failure: Failure | None) -> str:
    """The last of the kernel judge's stages that a forecast passes."""
    if failure is None:
        return "front end"
    return {"kernel line": "", "root partition": "kernel line", "init": "root partition"}.get(failure.stage, "init")


def _as_loaded(seen: CardContents) -> CardContents:
    """Without what only shows when the kernel runs."""
    return replace(seen, damaged=(), kernels=tuple(replace(kernel, trouble="") for kernel in seen.kernels))


def _plain(path: str) -> str:
    import posixpath

    return posixpath.normpath(path).lstrip("/").lower()


def with_kernel(card: Path, line: str) -> Compared:
    """The kernel and what it starts; the firmware's part is taken as done."""
    seen = contents.observe(card, lighthouse_programs())
    bench = _for_kernel(seen, line, card)
    if seen.table is None:
        mine, cause = "", seen.table_error
    else:
        failure = first_failure(bench, _OF_KERNEL)
        cause = f"{failure.code}: {failure.cause}" if failure else ""
        mine = stage_before(failure)
    real = kernel.boot(card, line)
    order = ["", "kernel line", "root partition", "init", "front end"]
    return Compared(
        mine == real.stage,
        order.index(mine) > order.index(real.stage),
        f"{mine or 'nothing'} ({cause})",
        real.stage or "nothing",
    )


def lighthouse_programs() -> tuple[str, ...]:
    from kyklon.catalogue.image_records import Image

    return catalogue().get(Image, "quayside").start_programs


def _for_kernel(seen: CardContents, line: str, card: Path) -> Bench:
    """The card as if this kernel line had come from it, and this machine's kernel."""
    build = lighthouse.build(catalogue(), "0" * 64)
    texts = {
        "merrow.settings": "merrow settings 2\nkernel.file = merrow-armv8.krn\n",
        "kernel.line": line,
        "services.list": _root_text(card, "/boot/services.list"),
        "first-boot.settings": _root_text(card, "/boot/first-boot.settings"),
    }
    kernels = (KernelFile("merrow-armv8.krn", 1, "x86-64"),)
    sizes = dict.fromkeys((*texts, "merrow-armv8.krn"), 1)
    bench = lay_out(build, catalogue(), replace(seen, texts=texts, kernels=kernels, sizes=sizes, boot_error=""))
    board = catalogue().get(Board, "herring").model_copy(update={"runs": ("x86-64",)})
    return replace(bench, board=board)


def _root_text(card: Path, path: str) -> str:
    from kyklon.base.errors import FormatError
    from kyklon.operations.card.volumes.ext_reader import ExtReader
    from kyklon.operations.card.volumes.partitions import reader

    with card.open("rb") as file:
        try:
            volume = ExtReader(reader(file.fileno()), cards.ROOT, cards.ROOT_SIZE)
            found = volume.find(path)
            return volume.head(found, 65536).decode() if found and found.is_file else ""
        except (FormatError, UnicodeDecodeError):
            return ""
