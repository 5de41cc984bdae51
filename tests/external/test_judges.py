"""Cards broken at random, beside what a real boot loader (U-Boot) and a real kernel (Linux, user mode) do with them.

Sixty of them; benchmarks/judges.py runs as many as one likes.
"""

from __future__ import annotations

from pathlib import Path

import pytest

from judges import cards, compare, kernel, loader

# seeds where forecast and judge differ, and the forecast stays: a byte of a program is not what the image states, which
# happens to do no harm
KNOWN_KERNEL: set[int] = {45}
KNOWN_LOADER: set[int] = set()


@pytest.fixture(scope="module")
def whole(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return cards.whole_card(tmp_path_factory.mktemp("whole") / "card")


@pytest.mark.skipif(not loader.available(), reason="no boot loader to judge by: qemu-system-arm and u-boot-qemu")
@pytest.mark.parametrize("first", range(0, 30, 5))
def test_a_real_boot_loader_agrees(first: int, whole: Path, tmp_path: Path) -> None:
    for seed in range(first, first + 5):
        broken = cards.for_loader(whole, tmp_path / "card.img", seed)
        found = compare.with_loader(broken.path)
        assert not found.fine_and_wrong, (seed, broken.what, found)
        assert found.agree or seed in KNOWN_LOADER, (seed, broken.what, found)


@pytest.mark.skipif(not kernel.available(), reason="no kernel to judge by: user-mode-linux and busybox-static")
@pytest.mark.parametrize("first", range(30, 60, 5))
def test_a_real_kernel_agrees(first: int, whole: Path, tmp_path: Path) -> None:
    for seed in range(first, first + 5):
        broken = cards.for_kernel(whole, tmp_path / "card.img", seed)
        found = compare.with_kernel(broken.path, broken.line)
        assert not found.fine_and_wrong, (seed, broken.what, found)
        assert found.agree or seed in KNOWN_KERNEL, (seed, broken.what, found)
