"""The wording of the log patterns beside the programs that say it: the text in a real kernel and a real boot loader."""

from __future__ import annotations

import re
import shutil
from functools import cache
from pathlib import Path

import pytest

from judges import loader
from kyklon.catalogue.fault_records import LogPattern
from kyklon.catalogue.loader import load

# what this kernel is built without: its drivers for cards, USB, displays and boards; these were found once in the
# modules and the image of Debian's 6.1 kernel (linux-image-6.1.0-56-amd64, strings(1)), or stand in its source (mem)
NOT_IN_THIS_KERNEL = {
    "kernel-begins",
    "kernel-model",
    "kernel-wrong-tree",
    "kernel-oops",
    "kernel-lockup",
    "over-current",
    "too-hot",
    "card-seen",
    "card-partitions",
    "card-no-start",
    "card-timeout",
    "bridge-stalls",
    "picture-found",
    "picture-none",
    "picture-data-damaged",
    "picture-firmware-missing",
    "usb-no-answer",
    "switched-off",
    "kernel-initramfs-bad",
    "root-inode-damaged",
    "root-checksum",
    "boot-not-unmounted",
}
COMPOSED = {"card-read-error", "root-flags", "input-found", "out-of-memory"}  # put together from several texts
NOT_IN_THIS_LOADER = {
    "loader-begins",
    "loader-scans",
    "loader-no-card",
    "loader-finds-file",
    "loader-bad-menu",
    "loader-void-file",
    "loader-menu-waits",
    "loader-line",
    "loader-trap",
    "loader-no-table",
}


def said_by(who: str, without: set[str]) -> list[LogPattern]:
    return [each for each in load().all(LogPattern) if each.by == who and each.id not in without]


@cache
def words_of(path: Path) -> str:
    return path.read_bytes().decode("latin-1")


def fixed(pattern: LogPattern) -> str:
    """The longest run of plain words in the pattern's first alternative."""
    plain = re.sub(r"\\([^\w])", lambda match: match[1], re.split(r"\|", pattern.pattern.lstrip("^"))[0])
    plain = re.sub(r"\([^()]*\)\??|\[[^]]*\][*+]?|\\[a-zA-Z][*+]?|\{[\d,]+\}|\.\*|\.\{|[$^?*+]", "\0", plain)
    return max(re.split(r"[\0()]", plain), key=len).strip("\"' :")


@pytest.mark.skipif(shutil.which("linux.uml") is None, reason="no kernel: user-mode-linux")
@pytest.mark.parametrize("pattern", said_by("kernel", NOT_IN_THIS_KERNEL | COMPOSED), ids=lambda each: each.id)
def test_the_kernel_says_it_so(pattern: LogPattern) -> None:
    wanted = fixed(pattern)
    assert len(wanted) >= 6, wanted
    assert wanted in words_of(Path(shutil.which("linux.uml") or "")), wanted


@pytest.mark.skipif(not loader.available(), reason="no boot loader: u-boot-qemu")
@pytest.mark.parametrize("pattern", said_by("loader", NOT_IN_THIS_LOADER), ids=lambda each: each.id)
def test_the_loader_says_it_so(pattern: LogPattern) -> None:
    wanted = fixed(pattern)
    assert len(wanted) >= 6, wanted
    assert wanted in words_of(loader.FIRMWARE), wanted
