"""The demo's simulated drives: a blank card, a stick full of photos, the machine's own disk, and some bad ones."""

from __future__ import annotations

import os
from pathlib import Path

from kyklon.base import scratch, tools
from kyklon.demo.card_image import EPOCH, MIB
from kyklon.demo.noise import noise
from kyklon.devices.ports import DriveFacts
from kyklon.devices.simulated.drives import Faults, SimulatedDrive, SimulatedDrives

STICK_BYTES = 15_728_640_000  # a "16 GB" stick as counted on the part
PHOTOS = 48
LAST_PHOTO = 1_724_932_800  # 29 August 2024, noon UTC
_FIXED = {"SOURCE_DATE_EPOCH": str(EPOCH), "MTOOLSRC": "/dev/null"}


def make_drives(folder: Path) -> None:
    """drives.json and the backing files."""
    folder.mkdir(parents=True, exist_ok=True)
    _make_stick(folder / "photo-stick.standin")
    (folder / "system-disk.standin").write_bytes(noise("system disk", MIB))
    SimulatedDrives(folder).save(tuple(_drives()))


def _drives() -> list[SimulatedDrive]:
    def drive(name: str, size: int, backing: str, faults: Faults | None = None, **facts: object) -> SimulatedDrive:
        told = {"bus": "usb", "removable": True, "model": "Cockle reader", "serial": name.upper()} | facts
        record = DriveFacts(**({"identity": f"sim:{name}", "name": name, "size": size, "simulated": True} | told))  # type: ignore[arg-type] # facts by name
        return SimulatedDrive(facts=record, backing=backing, faults=faults or Faults())

    return [
        drive("blank-card", 31_914_983_424, "blank-card.standin"),
        drive(
            "photo-stick",
            STICK_BYTES,
            "photo-stick.standin",
            model="Limpet 16",
            labels=("HOLIDAY 24",),
            holds=f"{PHOTOS} photos",
            files=PHOTOS,
            newest="2024-08-29",
        ),
        drive(
            "system-disk",
            512_110_190_592,
            "system-disk.standin",
            bus="nvme",
            removable=False,
            in_use=True,
            model="Barnacle 512",
            mounts=("/", "/home"),
            holds="the running system",
            files=310_412,
        ),
        drive("large-card", 63_864_569_856, "large-card.standin", model="Cockle 64 reader"),
        drive("locked-card", 31_914_983_424, "locked-card.standin", read_only=True),
        drive("small-card", 64 * MIB, "small-card.standin"),
        drive("loose-card", 31_914_983_424, "loose-card.standin", Faults(unplugged_at=40 * MIB)),
        drive("bargain-card", 127_865_454_592, "bargain-card.standin", Faults(true_size=48 * MIB), model="No name 128"),
        drive("tired-card", 15_931_539_456, "tired-card.standin", Faults(bad_block_at=30 * MIB)),
        drive("slow-card", 15_931_539_456, "slow-card.standin", Faults(rate=8_000_000), model="Cockle reader, old"),
        drive("sleepy-hub", 31_914_983_424, "sleepy-hub.standin", Faults(asleep_at=24 * MIB), model="Hub of four"),
        drive(
            "archive-disk",
            4_000_787_030_016,
            "archive-disk.standin",
            model="Barnacle 4000",
            labels=("ARCHIVE",),
            holds="backups of ten years",
            files=18_204,
            newest="2026-05-28",
        ),
    ]


def _make_stick(path: Path) -> None:
    """A real FAT32 stick; only what is used of it is kept on disk."""
    with path.open("wb") as file:
        file.truncate(STICK_BYTES)
    start = MIB
    script = f"label: dos\nlabel-id: 0x4b594b32\nstart={start // 512}, type=c\n"
    tools.run(["sfdisk", "--quiet", str(path)], stdin=script.encode())
    blocks = (STICK_BYTES - start) // 1024
    tools.run(
        ["mkfs.fat", "-F", "32", "-s", "64", "-n", "HOLIDAY 24", "-i", "4b594b32", "--invariant"]
        + ["--offset", str(start // 512), str(path), str(blocks)],
        environment=_FIXED,
    )
    with scratch.folder("demo") as held:
        names = []
        for number in range(PHOTOS):
            photo = Path(held) / f"harbour-{number + 1:03d}.jpg"
            photo.write_bytes(b"\xff\xd8\xff\xe0" + noise(photo.name, 20_000) + b"\xff\xd9")
            taken = LAST_PHOTO - (PHOTOS - 1 - number) * 6 * 3600
            os.utime(photo, (taken, taken))
            names.append(str(photo))
        tools.run(["mcopy", "-m", "-i", f"{path}@@{start}", *names, "::/"], environment=_FIXED)
    _shorten(path)


def _shorten(path: Path) -> None:
    """Cut the zeros behind the last used byte: the drive reads them as zeros anyway."""
    with path.open("r+b") as file:
        used = 16 * MIB  # both FATs, the root folder and the photos lie below
        file.truncate(used)
