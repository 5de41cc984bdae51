"""Cards broken at random, beside what a real boot loader (U-Boot) and a real kernel (Linux, user mode) do with them.

Sixty of them; benchmarks/judges.py runs as many as one likes.
"""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

from judges import cards, compare, kernel, loader
from kyklon.operations.card.volumes import ramdisk

# seeds where forecast and judge differ, and the forecast stays: a byte of a program is not what the image states, which
# happens to do no harm
KNOWN_KERNEL: set[int] = {45}
KNOWN_LOADER: set[int] = set()


@pytest.fixture(scope="module")
def whole(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return cards.whole_card(tmp_path_factory.mktemp("whole") / "card")


@pytest.mark.long(keep=1)
@pytest.mark.skipif(not loader.available(), reason="no boot loader to judge by: qemu-system-arm and u-boot-qemu")
@pytest.mark.parametrize("first", range(0, 30, 5))
def test_a_real_boot_loader_agrees(first: int, whole: Path, tmp_path: Path) -> None:
    for seed in range(first, first + 5):
        broken = cards.for_loader(whole, tmp_path / "card.img", seed)
        found = compare.with_loader(broken.path)
        assert not found.fine_and_wrong, (seed, broken.what, found)
        assert found.agree or seed in KNOWN_LOADER, (seed, broken.what, found)


@pytest.mark.long(keep=1)
@pytest.mark.skipif(not kernel.available(), reason="no kernel to judge by: user-mode-linux and busybox-static")
@pytest.mark.parametrize("first", range(30, 60, 5))
def test_a_real_kernel_agrees(first: int, whole: Path, tmp_path: Path) -> None:
    for seed in range(first, first + 5):
        broken = cards.for_kernel(whole, tmp_path / "card.img", seed)
        found = compare.with_kernel(broken.path, broken.line)
        assert not found.fine_and_wrong, (seed, broken.what, found)
        assert found.agree or seed in KNOWN_KERNEL, (seed, broken.what, found)


def _with_init(folder: Path) -> bytes:
    """An initramfs whose /init cannot be started, packed by cpio(1)."""
    (folder / "init").write_text("#!/no/such/program\n", encoding="utf-8")
    (folder / "init").chmod(0o755)
    return subprocess.run(
        ["cpio", "-o", "-H", "newc", "--quiet"], input=b"init\n", cwd=folder, capture_output=True, check=True
    ).stdout


GOOD = ramdisk.write({"lib/firmware/edid/kyklon.bin": bytes(128)})


@pytest.mark.long(keep=1)
@pytest.mark.skipif(not kernel.available(), reason="no kernel to judge by: user-mode-linux and busybox-static")
@pytest.mark.parametrize(
    ("name", "data", "goes_on"),
    [
        ("good", GOOD, True),
        ("cut", GOOD[:200], True),
        ("garbled", GOOD[:30] + b"zzzz" + GOOD[34:], True),
        ("with init", b"", False),
        ("with a file named init", ramdisk.write({"init": b"x"}), False),
    ],
)
def test_a_real_kernel_goes_on_to_the_root_where_the_reader_says_so(
    name: str, data: bytes, goes_on: bool, whole: Path, tmp_path: Path
) -> None:
    """An initramfs without an /init, whatever that is, leaves root= to the kernel (init/main.c, kernel_init)."""
    data = data or _with_init(tmp_path)
    read = ramdisk.read(name, len(data), data)
    assert read is not None
    assert read.goes_on_to_root == goes_on
    (tmp_path / "initrd").write_bytes(data)
    card = cards.copied(whole, tmp_path / "card.img")
    booted = kernel.boot(card, f"{cards.LINE} initrd={tmp_path / 'initrd'}")
    assert (booted.stage == "front end") == goes_on, booted.said


@pytest.mark.long
@pytest.mark.skipif(not kernel.available(), reason="no kernel to judge by: user-mode-linux and busybox-static")
def test_a_real_kernel_agrees_on_quotas(whole: Path) -> None:
    for options in (
        "usrquota,grpquota",
        "prjquota",
        "prjquota,noquota",
        "quota,noquota,grpjquota=x,jqfmt=vfsv0",
        "quota,grpjquota=x,jqfmt=vfsv0",
        "usrjquota=a/b,jqfmt=vfsv0",
        "usrjquota,jqfmt=vfsv0",
    ):
        found = compare.with_kernel(whole, f"{cards.LINE} rootflags={options}")
        assert found.agree, (options, found)
