"""How long it takes to read a card of 4 GB and to foretell its power-on, beside fsck.fat and e2fsck on the same bytes.

The boot partition has 256 MiB in 512-byte clusters with a kernel and an initramfs of 24 MiB each; the root has 3.5 GiB.
Usage: .venv/bin/python benchmarks/bringup.py
"""

from __future__ import annotations

import random
import subprocess
import tempfile
import time
from pathlib import Path

from kyklon.catalogue.loader import load
from kyklon.demo import card_image, lighthouse
from kyklon.demo.noise import kernel_64
from kyklon.operations.card.volumes import contents, fsck
from kyklon.operations.poweron.bench import lay_out
from kyklon.operations.poweron.bringup import bring_up

MIB, TIMES, MOST_S = 1 << 20, 5, 0.3
BOOT, ROOT = 256 * MIB, 3500 * MIB


def make_card(folder: Path) -> tuple[Path, Path, Path]:
    """The card, and its two partitions as files of their own."""
    boot, root, card, tree = folder / "boot.fat", folder / "root.ext4", folder / "card.img", folder / "boot"
    files = {**card_image.boot_files(), "merrow-armv8.krn": kernel_64(24 * MIB)}
    files["initramfs.gz"] = random.Random(1).randbytes(24 * MIB)
    kernels = {name: data for name, data in files.items() if name.endswith((".krn", ".dtb"))}
    files["checksums"] = card_image.checksums(kernels)
    for name, data in files.items():
        (tree / name).parent.mkdir(parents=True, exist_ok=True)
        (tree / name).write_bytes(data)
    with boot.open("wb") as file:
        file.truncate(BOOT)
    subprocess.run(["mkfs.fat", "-F", "32", "-s", "1", boot], check=True, stdout=subprocess.DEVNULL)
    subprocess.run(["mcopy", "-s", "-i", boot, *sorted(map(str, tree.iterdir())), "::/"], check=True)
    card_image.make_ext4(root, folder / "root", card_image.root_tree(), ROOT)
    start = card_image.BOOT_START
    with card.open("wb") as file:
        file.truncate(start + BOOT + ROOT)
    script = (
        f"label: dos\nstart={start // 512}, size={BOOT // 512}, type=c, bootable\n"
        f"start={(start + BOOT) // 512}, size={ROOT // 512}, type=83\n"
    )
    subprocess.run(["sfdisk", "--quiet", card], input=script.encode(), check=True)
    for part, at in ((boot, start), (root, start + BOOT)):
        subprocess.run(
            ["dd", f"if={part}", f"of={card}", "bs=1M", f"seek={at // MIB}", "conv=notrunc,sparse"],
            check=True,
            stderr=subprocess.DEVNULL,
        )
    return card, boot, root


def main() -> None:
    catalogue = load()
    build = lighthouse.build(catalogue, "0" * 64)
    with tempfile.TemporaryDirectory(prefix="kyklon-bringup-") as held:
        card, boot, root = make_card(Path(held))
        answers, ours, theirs = set(), [], []
        for _ in range(TIMES):
            begun = time.monotonic()
            with fsck.asked(card) as complaints:  # as poweron.acts.foretell does
                seen = contents.observe(card)
            assert complaints.asked
            answers.add(bring_up(lay_out(build, catalogue, seen)).events)
            ours.append(time.monotonic() - begun)
            begun = time.monotonic()
            subprocess.run(["fsck.fat", "-n", boot], capture_output=True)
            subprocess.run(["e2fsck", "-fn", root], capture_output=True)
            theirs.append(time.monotonic() - begun)
    print(f"fsck.fat -n and e2fsck -fn: {min(theirs) * 1000:5.0f} ms")
    ratio = min(ours) / min(theirs)
    print(f"look and bring-up, warm:    {min(ours) * 1000:5.0f} ms (under {MOST_S * 1000:.0f}), ratio {ratio:.2f}")
    print(f"different answers:          {len(answers)} (1 wanted)")


if __name__ == "__main__":
    main()
