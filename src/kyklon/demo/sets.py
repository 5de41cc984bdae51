"""The demo's bare-metal set and multi-boot stick, each with seeded mistakes; and images for the source shelf."""

from __future__ import annotations

import hashlib
import io
import lzma
import shutil
import tarfile
from pathlib import Path

from kyklon.demo.card_image import EPOCH
from kyklon.demo.noise import device_tree, kernel_32, kernel_64, noise

BOARDS = ("sprat", "herring", "cod", "ling")

# what is wrong with the bare-metal set, by the code of the problem that must be found
BARE_METAL_MISTAKES = (
    "needed-file",
    "system-file-name",
    "system-file-size",
    "system-file-sum",
    "remembered-broken",
    "twice",
    "name",
)
# and with the multi-boot stick
MULTI_BOOT_MISTAKES = (
    "archive-name",
    "archive-kind",
    "archive-sum",
    "partition-small",
    "same-order",
    "same-label",
    "surplus",
    "no-pictures",
    "picture-kind",
    "no-manifest",
    "manifest",
    "board",
    "stray-file",
)


def make_bare_metal(folder: Path, *, mistakes: bool = True) -> Path:
    """An unpacked Tidepool set."""
    files: dict[str, bytes] = {
        "tidepool-armv6.krn": kernel_32("ARMv6", 120_000),
        "tidepool-armv7.krn": kernel_32("ARMv7", 120_000),
        "tidepool-armv8.krn": kernel_64(200_000),
        "merrow.settings": b"merrow settings 2\nkernel.file = tidepool-armv7.krn\nsound.route = digital\n",
        "kernel.line": b"console=tty1 machine=menu\n",
        "tidepool.set": b"keyboard=by-position\nscanlines=on\n",
        "disks/elm/harbour-run.edk": noise("harbour run", 90_000),
        "disks/elm/lamp-room.edk": noise("lamp room", 70_000),
        "disks/rowan/gull.rdk": noise("gull", 60_000),
        "readme.txt": b"Copy everything onto an empty card.\n",
    }
    for board in BOARDS:
        files[f"trees/{board}.dtb"] = device_tree(f"Merrow {board.capitalize()}", f"merrow,{board}")
    for machine, parts in _MACHINES.items():
        for name, size, region in parts:
            files[f"machines/{machine}/{name}"] = system_file(name, size, region)
    if mistakes:
        files["tidepool.set.txt"] = files.pop("tidepool.set")  # a desktop added an ending
        files["machines/elm-s/elm-system.rom"] = files.pop("machines/elm-s/elm-system")
        files["machines/rowan-desk/rowan-core"] = files["machines/rowan-desk/rowan-core"][:2000]
        files["machines/elm-l/elm-low"] = system_file("elm-low", 13312, "America")
        files["last-machine.txt"] = b"elm-s\n"
        files["Readme.TXT"] = b"An older readme.\n"
        files["disks/elm/what now?.edk"] = noise("what now", 5_000)
    _put(folder, files)
    return folder


_MACHINES = {
    "elm-s": (("elm-system", 13312, "Europe"), ("elm-letters", 3584, "")),
    "elm-l": (("elm-low", 13312, "Europe"), ("elm-high", 13312, "Europe")),
    "rowan-desk": (("rowan-core", 2560, ""), ("rowan-language", 9728, "Europe")),
}


def system_file(name: str, size: int, region: str) -> bytes:
    """Bytes that stand for a system file, the same every time."""
    return noise(f"tidepool {name}{' ' + region if region else ''}", size)


def make_multi_boot(folder: Path, *, mistakes: bool = True) -> Path:
    """A Slipway stick with bundles under berths/."""
    top = folder / "berths"
    _bundle(top / "quayside", "Quayside 4.2", 1, "QUAY", 6200, grows=True)
    _bundle(top / "harbour", "Harbour Lite", 2, "HARB", 3800, grows=True)
    _bundle(top / "breakwater", "Breakwater player", 3, "BREAK", 2600)
    _bundle(top / "jetty", "Jetty desktop", 4, "JETTY", 9400, grows=True)
    if mistakes:
        _bundle(top / "sandbar", "Sandbar tools", 5, "SAND", 900)
        _bundle(top / "skerry", "Skerry arcade", 6, "SKERRY", 1400)
        _spoil(top)
    return folder


def _bundle(folder: Path, name: str, order: int, label: str, root_mb: int, *, grows: bool = False) -> None:
    stem = folder.name
    archives = {f"{stem}-boot.tar.xz": _archive(f"{stem} boot"), f"{stem}-root.tar.xz": _archive(f"{stem} root")}
    lines = [f'name = "{name}"', f"order = {order}", 'boards = ["herring", "cod", "ling"]', 'released = "2026-05-10"']
    for kind, mb, part in (("FAT32", 256, "boot"), ("ext4", root_mb, "root")):
        archive = f"{stem}-{part}.tar.xz"
        lines += [
            "",
            "[[partitions]]",
            f'label = "{label}-{part.upper()}"',
            f'kind = "{kind}"',
            f"mb = {mb}",
            f"unpacked_mb = {mb * 7 // 10}",
            f'archive = "{archive}"',
            f'sha256 = "{hashlib.sha256(archives[archive]).hexdigest()}"',
            f"grows = {str(grows and part == 'root').lower()}",
        ]
    files = {f"views/{stem}-{number}.png": _picture(f"{stem} {number}") for number in (1, 2)}
    _put(folder, {"berth.toml": ("\n".join(lines) + "\n").encode(), **archives, **files})


def _archive(seed: str) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as archive:
        info = tarfile.TarInfo(f"{seed.replace(' ', '-')}.bin")
        data = noise(seed, 40_000)
        info.size, info.mtime = len(data), EPOCH
        archive.addfile(info, io.BytesIO(data))
    return lzma.compress(out.getvalue(), preset=1)


def _picture(seed: str) -> bytes:
    """A small real PNG (ISO/IEC 15948): one grey square."""
    import struct
    import zlib

    shade = noise(seed, 1)

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = struct.pack(">IIBBBBB", 16, 16, 8, 0, 0, 0, 0)
    rows = (b"\0" + shade * 16) * 16
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(rows)) + chunk(b"IEND", b"")


def _spoil(top: Path) -> None:
    """Every mistake of MULTI_BOOT_MISTAKES, each in a place of its own."""
    (top / "quayside" / "quayside-root.tar.xz").rename(top / "quayside" / "Quayside-root.tar.xz")
    _replace(top / "harbour" / "berth.toml", "order = 2", "order = 1")
    _replace(top / "harbour" / "berth.toml", 'label = "HARB-ROOT"', 'label = "QUAY-ROOT"')
    root = top / "breakwater" / "breakwater-root.tar.xz"
    root.write_bytes(b"\x1f\x8b\x08" + root.read_bytes()[3:])
    boot = top / "breakwater" / "breakwater-boot.tar.xz"
    data = bytearray(boot.read_bytes())
    data[len(data) // 2] ^= 1
    boot.write_bytes(bytes(data))
    _replace(top / "jetty" / "berth.toml", "unpacked_mb = 6580", "unpacked_mb = 10800")
    _replace(top / "jetty" / "berth.toml", 'boards = ["herring", "cod", "ling"]', 'boards = ["ling"]')
    (top / "jetty" / "notes.odt").write_bytes(noise("notes", 900))
    shutil.rmtree(top / "jetty" / "views")
    (top / "harbour" / "views" / "harbour-2.png").rename(top / "harbour" / "views" / "harbour-2.bmp")
    (top / "sandbar" / "berth.toml").rename(top / "sandbar" / "Berth.toml")
    _replace(top / "skerry" / "berth.toml", "order = 6", "order = six")
    (top / "old-list.txt").write_text("quayside\n", encoding="utf-8")


def _replace(path: Path, old: str, new: str) -> None:
    text = path.read_text(encoding="utf-8")
    assert old in text, (path.name, old)
    path.write_text(text.replace(old, new), encoding="utf-8")


def _put(folder: Path, files: dict[str, bytes]) -> None:
    for name, data in files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
