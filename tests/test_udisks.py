"""The UDisks2 back end against a stand-in for the service on a bus of the test's own."""

from __future__ import annotations

import contextlib
import os
import subprocess
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from jeepney import DBusAddress, HeaderFields, MessageType, new_error, new_method_call, new_method_return
from jeepney.io.blocking import open_dbus_connection

from kyklon.base.errors import TargetError, TargetLost
from kyklon.devices.linux import udisks
from kyklon.operations.card.acts import CardJob
from kyklon.operations.card.drives import looking
from kyklon.operations.card.drives.interlock import Case, Purpose, judge

MIB = 1 << 20
U = udisks.SERVICE
BLOCKS = f"{udisks.ROOT}/block_devices"
CONFIG = """<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN"
 "http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd">
<busconfig><type>session</type><listen>unix:dir={place}</listen><auth>EXTERNAL</auth>
<policy context="default"><allow send_destination="*"/><allow receive_sender="*"/><allow own="*"/></policy></busconfig>
"""


def text(value: str) -> tuple[str, bytes]:
    return ("ay", value.encode() + b"\0")


def block(name: str, size: int, drive: str = "/", **more: tuple[str, Any]) -> dict[str, Any]:
    return {
        "Device": text(f"/dev/{name}"),
        "PreferredDevice": text(f"/dev/{name}"),
        "Size": ("t", size),
        "Drive": ("o", f"{udisks.ROOT}/drives/{drive}" if drive != "/" else "/"),
        "ReadOnly": ("b", False),
        "CryptoBackingDevice": ("o", "/"),
        "MDRaidMember": ("o", "/"),
        "HintIgnore": ("b", False),
        "HintSystem": ("b", False),
        "IdType": ("s", ""),
        "IdLabel": ("s", ""),
    } | more


def drive(serial: str, **more: tuple[str, Any]) -> dict[str, Any]:
    return {
        "Vendor": ("s", "Cockle"),
        "Model": ("s", "Reader 3"),
        "Serial": ("s", serial),
        "Removable": ("b", True),
        "MediaRemovable": ("b", True),
        "ConnectionBus": ("s", "usb"),
        "CanPowerOff": ("b", True),
    } | more


def tree() -> dict[str, Any]:
    """A reader with a card, the machine's own disk, a member of an array, an open crypt volume, swap."""
    objects = {
        f"{BLOCKS}/sdb": {f"{U}.Block": block("sdb", 32 * MIB, "reader"), f"{U}.PartitionTable": {}},
        f"{BLOCKS}/sdb1": {
            f"{U}.Block": block("sdb1", 16 * MIB, "reader", IdType=("s", "vfat"), IdLabel=("s", "HOLIDAY 24")),
            f"{U}.Partition": {"Number": ("u", 1), "Table": ("o", f"{BLOCKS}/sdb")},
            f"{U}.Filesystem": {"MountPoints": ("aay", [b"/media/holiday\0"])},
        },
        f"{BLOCKS}/nvme0n1": {f"{U}.Block": block("nvme0n1", 512 * MIB, "own", HintSystem=("b", True))},
        f"{BLOCKS}/nvme0n1p1": {
            f"{U}.Block": block("nvme0n1p1", 500 * MIB, "own", IdType=("s", "ext4")),
            f"{U}.Partition": {"Number": ("u", 1), "Table": ("o", f"{BLOCKS}/nvme0n1")},
            f"{U}.Filesystem": {"MountPoints": ("aay", [b"/\0", b"/home\0"])},
        },
        f"{BLOCKS}/sdc": {f"{U}.Block": block("sdc", 64 * MIB, "array", MDRaidMember=("o", f"{udisks.ROOT}/mdraid/x"))},
        f"{BLOCKS}/sdd": {f"{U}.Block": block("sdd", 64 * MIB, "secret", IdType=("s", "crypto_LUKS"))},
        f"{BLOCKS}/dm_0": {f"{U}.Block": block("dm-0", 60 * MIB, CryptoBackingDevice=("o", f"{BLOCKS}/sdd"))},
        f"{BLOCKS}/sde": {f"{U}.Block": block("sde", 64 * MIB, "swapping"), f"{U}.Swapspace": {"Active": ("b", True)}},
        f"{BLOCKS}/sdf": {f"{U}.Block": block("sdf", 0, "empty")},
        f"{BLOCKS}/loop0": {f"{U}.Block": block("loop0", 8 * MIB), f"{U}.Loop": {"BackingFile": text("/tmp/x")}},
    }
    for name in ("reader", "own", "array", "secret", "swapping", "empty"):
        more = {"ConnectionBus": ("s", ""), "Removable": ("b", False), "MediaRemovable": ("b", False)}
        objects[f"{udisks.ROOT}/drives/{name}"] = {f"{U}.Drive": drive(name.upper(), **(more if name == "own" else {}))}
    return objects


class Service:
    """Answers as UDisks2 does, and keeps what it was asked. refuse: methods that are answered with an error."""

    def __init__(self, address: str, file: Path) -> None:
        self.calls: list[tuple[str, str, Any]] = []
        self.refuse: set[str] = set()
        self.objects = tree()
        self._file = file
        self._bus = open_dbus_connection(address, enable_fds=True)
        bus = DBusAddress("/org/freedesktop/DBus", bus_name="org.freedesktop.DBus", interface="org.freedesktop.DBus")
        reply = self._bus.send_and_get_reply(new_method_call(bus, "RequestName", "su", (U, 4)))
        assert reply.body == (1,)
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def _serve(self) -> None:
        with contextlib.suppress(Exception):  # the connection is closed at the end
            while True:
                message = self._bus.receive()
                if message.header.message_type is MessageType.method_call:
                    self._answer(message)

    def _answer(self, message: Any) -> None:
        fields = message.header.fields
        method, path = fields[HeaderFields.member], fields[HeaderFields.path]
        self.calls.append((path.rsplit("/", 1)[-1], method, message.body))
        if method in self.refuse:
            self._bus.send(new_error(message, f"{U}.Error.NotAuthorized", "s", ("Not authorized",)))
        elif method == "GetManagedObjects":
            self._bus.send(new_method_return(message, "a{oa{sa{sv}}}", (self.objects,)))
        elif method == "Get":
            self._bus.send(new_method_return(message, "v", (("s", "2.10.0"),)))
        elif method == "OpenDevice":
            flags = os.O_RDWR if message.body[0] == "rw" else os.O_RDONLY
            descriptor = os.open(self._file, flags)
            self._bus.send(new_method_return(message, "h", (descriptor,)))
            os.close(descriptor)
        else:
            self._bus.send(new_method_return(message))

    def close(self) -> None:
        self._thread.join(timeout=5)
        self._bus.close()


@pytest.fixture
def service(tmp_path: Path) -> Iterator[tuple[Service, str, Path]]:
    config = tmp_path / "bus.conf"
    config.write_text(CONFIG.format(place=tmp_path), encoding="utf-8")
    command = ["dbus-daemon", f"--config-file={config}", "--nofork", "--print-address=1"]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as daemon:
        assert daemon.stdout is not None
        address = daemon.stdout.readline().strip()
        file = tmp_path / "card.img"
        file.write_bytes(bytes(MIB))
        made = Service(address, file)
        yield made, address, file
        daemon.terminate()  # ends the service's connection too
        made.close()


def by_name(address: str) -> dict[str, Any]:
    return {facts.name: facts for facts in udisks.UDisks(address).list()}


def test_whole_drives_are_listed_with_what_is_on_them(service: Any) -> None:
    _made, address, _file = service
    drives = by_name(address)
    assert set(drives) == {"/dev/sdb", "/dev/nvme0n1", "/dev/sdc", "/dev/sdd", "/dev/sde", "/dev/loop0"}
    card = drives["/dev/sdb"]
    assert (card.size, card.bus, card.model, card.serial) == (32 * MIB, "usb", "Cockle Reader 3", "READER")
    assert card.removable
    assert card.mounts == ("/media/holiday",)
    assert card.labels == ("HOLIDAY 24",)
    assert [(part.number, part.kind, part.size) for part in card.parts] == [(1, "vfat", 16 * MIB)]


@pytest.mark.parametrize(
    ("name", "words"),
    [
        ("/dev/nvme0n1", "running system"),
        ("/dev/sdc", "disk array"),
        ("/dev/sdd", "encrypted volume"),
        ("/dev/sde", "swap space"),
        ("/dev/sdb", "/media/holiday"),
    ],
)
def test_the_interlock_refuses_what_the_service_tells_of(service: Any, name: str, words: str) -> None:
    _made, address, _file = service
    refusals = judge(Case(by_name(address)[name], 1)).refusals
    assert any(words in reason for reason in refusals), refusals


def test_a_drive_is_opened_by_the_service_and_written(service: Any) -> None:
    made, address, file = service
    disks = udisks.UDisks(address)
    identity = by_name(address)["/dev/sdb"].identity
    with disks.open(identity, write=True) as handle:
        handle.write_at(b"through the bus", 4096)
        handle.sync()
        assert handle.read_at(15, 4096) == b"through the bus"
    assert file.read_bytes()[4096:4111] == b"through the bus"
    (call,) = [call for call in made.calls if call[1] == "OpenDevice"]
    assert call[0] == "sdb"
    assert call[2][0] == "rw"
    assert call[2][1]["flags"][1] & os.O_EXCL
    with disks.open(identity, write=False) as handle:
        assert handle.read_at(7, 4096) == b"through"


def test_unmounting_rescanning_and_switching_off(service: Any) -> None:
    made, address, _file = service
    disks = udisks.UDisks(address)
    identity = by_name(address)["/dev/sdb"].identity
    assert "/dev/sdb1" in disks.unmount(identity)
    assert disks.rescan(f"{BLOCKS}/sdb") == ""
    assert "switched off" in disks.remove(identity)
    done = [(place, method) for place, method, _body in made.calls if method != "GetManagedObjects"]
    assert done == [("sdb1", "Unmount"), ("sdb", "Rescan"), ("reader", "PowerOff")]


def test_a_reader_that_cannot_switch_off_is_ejected(service: Any) -> None:
    made, address, _file = service
    made.objects[f"{udisks.ROOT}/drives/reader"][f"{U}.Drive"]["CanPowerOff"] = ("b", False)
    udisks.UDisks(address).remove(by_name(address)["/dev/sdb"].identity)
    assert made.calls[-1][:2] == ("reader", "Eject")


def test_what_the_service_refuses_is_told_in_its_words(service: Any) -> None:
    made, address, _file = service
    identity = by_name(address)["/dev/sdb"].identity
    made.refuse = {"OpenDevice", "PowerOff", "Rescan"}
    disks = udisks.UDisks(address)
    with pytest.raises(TargetError, match="Not authorized"), disks.open(identity, write=True):
        pass
    with pytest.raises(TargetError, match="Not authorized"):
        disks.remove(identity)
    assert "Not authorized" in disks.rescan(f"{BLOCKS}/sdb")


def test_an_exchanged_card_is_not_opened(service: Any) -> None:
    made, address, _file = service
    identity = by_name(address)["/dev/sdb"].identity
    made.objects[f"{BLOCKS}/sdb"][f"{U}.Block"]["Size"] = ("t", 64 * MIB)
    with (
        pytest.raises(TargetLost, match="no longer the one you chose"),
        udisks.UDisks(address).open(identity, write=True),
    ):
        pass


def test_without_a_service_lsblk_stands_in(service: Any, tmp_path: Path) -> None:
    _made, address, _file = service
    assert udisks.reachable(address)
    nowhere = f"unix:path={tmp_path / 'nothing'}"
    assert not udisks.reachable(nowhere)
    with pytest.raises(TargetError, match="lsblk is used instead"):
        udisks.UDisks(nowhere).list()


@pytest.mark.parametrize(
    ("body", "holds", "lose"),
    [
        (bytes(MIB), "", ""),
        (b"of no known kind" * 4096, "data of an unrecognised kind", "/dev/sdb"),
        (None, "contents you may not read", "/dev/sdb"),
    ],
)
def test_what_the_service_does_not_recognise_is_not_taken_for_empty(
    service: Any, monkeypatch: pytest.MonkeyPatch, body: bytes | None, holds: str, lose: str
) -> None:
    """The service tells of no file system on it; only the bytes themselves say that there is nothing to lose."""
    made, address, file = service
    del made.objects[f"{BLOCKS}/sdb1"]
    if body is None:
        file.unlink()
    else:
        file.write_bytes(body)
    monkeypatch.setattr(udisks.UDisks, "path", lambda _self, _identity: file)
    target = next(each for each in looking._listed(udisks.UDisks(address)) if each.facts.name == "/dev/sdb")
    assert target.facts.holds == holds
    assert CardJob(target).verdict(Purpose.PROVE).lose == lose
