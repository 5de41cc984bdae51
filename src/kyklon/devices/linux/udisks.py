"""Drives through UDisks2 on D-Bus (org.freedesktop.UDisks2, version 2.1 and later), by jeepney.

It opens a drive for an ordinary user after asking for the right, knows what is mounted, and switches it off.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from jeepney import DBusAddress, DBusErrorResponse, MessageType, Properties, new_method_call
from jeepney.io.blocking import DBusConnection, open_dbus_connection

from kyklon.base.errors import TargetError, TargetLost
from kyklon.devices.files import FileHandle, hold
from kyklon.devices.linux.desktop_bus import kept_awake
from kyklon.devices.linux.drives import MEMBERS, SYSTEM_MOUNTS
from kyklon.devices.ports import DriveFacts, PartFacts

SERVICE = "org.freedesktop.UDisks2"
ROOT = "/org/freedesktop/UDisks2"
ANSWER_S = 20.0  # seconds; asking the user for the right may take this long
_OPEN_S = 120.0  # seconds: a person types a password

Objects = dict[str, dict[str, dict[str, Any]]]


class UDisks:
    """Whole drives and loop devices that UDisks2 lists. bus: as jeepney takes it, SYSTEM or an address."""

    called = "through UDisks2"

    def __init__(self, bus: str = "SYSTEM") -> None:
        self._bus = bus

    @contextlib.contextmanager
    def _connected(self) -> Iterator[DBusConnection]:
        try:
            connection = open_dbus_connection(self._bus, enable_fds=True)
        except Exception as bad:  # jeepney's own list of them is open
            raise TargetError(
                f"The system's drive service cannot be reached: {bad}.", do="lsblk is used instead."
            ) from bad
        try:
            yield connection
        finally:
            connection.close()

    def _call(
        self,
        connection: DBusConnection,
        path: str,
        interface: str,
        method: str,
        signature: str = "",
        body: tuple[Any, ...] = (),
        seconds: float = ANSWER_S,
    ) -> tuple[Any, ...]:
        message = new_method_call(
            DBusAddress(path, bus_name=SERVICE, interface=interface), method, signature or None, body
        )
        try:
            reply = connection.send_and_get_reply(message, timeout=seconds)
        except TimeoutError as late:
            raise TargetError(f"UDisks2 did not answer {method} within {seconds:.0f} s.") from late
        except (OSError, DBusErrorResponse) as bad:
            raise TargetError(f"UDisks2 failed at {method}: {bad}.") from bad
        if reply.header.message_type is MessageType.error:
            words = reply.body[0] if reply.body else "no reason given"
            raise TargetError(f"UDisks2 refuses {method}: {words}.")
        return tuple(reply.body)

    def _objects(self, connection: DBusConnection) -> Objects:
        manager = "org.freedesktop.DBus.ObjectManager"
        (tree,) = self._call(connection, ROOT, manager, "GetManagedObjects")
        return {path: _plain(faces) for path, faces in tree.items()}

    def list(self) -> tuple[DriveFacts, ...]:
        with self._connected() as connection:
            objects = self._objects(connection)
        return tuple(facts for _path, facts in whole_drives(objects))

    def _find(self, objects: Objects, identity: str) -> str:
        for path, facts in whole_drives(objects):
            if facts.identity == identity:
                return path
        raise TargetLost(f"The drive {self.path(identity)} is no longer the one you chose.", do="Choose it again.")

    def part(self, path: Path) -> DriveFacts | None:
        """Override: none here."""
        return None

    def path(self, identity: str) -> Path:
        return Path(identity.split("|")[0])

    @contextlib.contextmanager
    def open(self, identity: str, *, write: bool) -> Iterator[FileHandle]:
        """Block.OpenDevice: the service opens it, after asking for the right, and hands the descriptor over."""
        with self._connected() as connection:
            path = self._find(self._objects(connection), identity)
            options = {"flags": ("i", os.O_EXCL | os.O_CLOEXEC)} if write else {}
            mode = "rw" if write else "r"
            (held,) = self._call(connection, path, f"{SERVICE}.Block", "OpenDevice", "sa{sv}", (mode, options), _OPEN_S)
            descriptor = held.to_raw_fd()
            try:
                with contextlib.ExitStack() as held_up:
                    if write:
                        hold(descriptor, self.path(identity))
                        held_up.enter_context(kept_awake(f"Writing to {self.path(identity).name}"))
                    yield _Handle(descriptor, self.path(identity), self, path)
            finally:
                os.close(descriptor)

    def rescan(self, path: str) -> str:
        """Block.Rescan: the new partitions are seen."""
        with self._connected() as connection:
            try:
                self._call(connection, path, f"{SERVICE}.Block", "Rescan", "a{sv}", ({},))
            except TargetError as bad:
                return str(bad)
        return ""

    def unmount(self, identity: str) -> str:
        """Filesystem.Unmount of everything on the drive; in words, what was done. Raises TargetError."""
        with self._connected() as connection:
            objects = self._objects(connection)
            drive = self._find(objects, identity)
            done = []
            for path, faces in _blocks_of(objects, drive):
                if _mounts(faces):
                    self._call(connection, path, f"{SERVICE}.Filesystem", "Unmount", "a{sv}", ({},))
                    done.append(_device(faces))
        return f"Unmounted: {', '.join(done)}." if done else "Nothing was mounted."

    def remove(self, identity: str) -> str:
        """Drive.PowerOff where the drive can, Drive.Eject else."""
        with self._connected() as connection:
            objects = self._objects(connection)
            drive = str(objects[self._find(objects, identity)]["Block"].get("Drive", "/"))
            faces = objects.get(drive, {}).get("Drive")
            if faces is None:
                os.sync()
                return f"{self.path(identity)} is synced and safe to remove."
            method = "PowerOff" if faces.get("CanPowerOff") else "Eject"
            self._call(connection, drive, f"{SERVICE}.Drive", method, "a{sv}", ({},))
        return f"{self.path(identity)} is switched off and safe to remove."

    def now_holds(self, identity: str, holds: str, label: str = "") -> None:
        """Override: the service shows it."""


class _Handle(FileHandle):
    """A descriptor that UDisks2 opened; the service itself rereads the table."""

    def __init__(self, descriptor: int, path: Path, disks: UDisks, place: str) -> None:
        super().__init__(descriptor, path)
        self._disks, self._place = disks, place

    def reread_table(self) -> str:
        """Override."""
        return self._disks.rescan(self._place) if super().reread_table() else ""


def reachable(bus: str = "SYSTEM") -> bool:
    """Whether the service answers."""
    try:
        with open_dbus_connection(bus) as connection:
            address = DBusAddress(f"{ROOT}/Manager", bus_name=SERVICE, interface=f"{SERVICE}.Manager")
            reply = connection.send_and_get_reply(Properties(address).get("Version"), timeout=5)
            return reply.header.message_type is MessageType.method_return
    except Exception:  # no bus, no service, no right: all the same
        return False


# --- from D-Bus objects to facts, pure ---------------------------------------------------------------------------


def _plain(faces: dict[str, dict[str, tuple[str, Any]]]) -> dict[str, dict[str, Any]]:
    """Interfaces by their last name, values without their signatures."""
    return {
        face.removeprefix(f"{SERVICE}."): {name: value for name, (_kind, value) in values.items()}
        for face, values in faces.items()
    }


def whole_drives(objects: Objects) -> list[tuple[str, DriveFacts]]:
    """Object path and facts of every whole drive with a size, partitions and members left out."""
    found = []
    for path, faces in sorted(objects.items()):
        block = faces.get("Block")
        if block is None or "Partition" in faces or not block.get("Size"):
            continue
        if str(block.get("CryptoBackingDevice", "/")) != "/" or block.get("HintIgnore"):
            continue
        drive = objects.get(str(block.get("Drive", "/")), {}).get("Drive")
        if drive is None and "Loop" not in faces:
            continue
        found.append((path, _facts(objects, path, faces, drive or {})))
    return found


def _blocks_of(objects: Objects, whole: str) -> list[tuple[str, dict[str, dict[str, Any]]]]:
    """The drive itself and its partitions, in order."""
    parts = [
        (path, faces) for path, faces in objects.items() if str(faces.get("Partition", {}).get("Table", "/")) == whole
    ]
    parts.sort(key=lambda each: int(each[1]["Partition"].get("Number", 0)))
    return [(whole, objects[whole]), *parts]


def _facts(objects: Objects, path: str, faces: dict[str, dict[str, Any]], drive: dict[str, Any]) -> DriveFacts:
    block = faces["Block"]
    below = _blocks_of(objects, path)
    mounts = [mount for _path, each in below for mount in _mounts(each)]
    kinds = sorted({str(each["Block"].get("IdType")) for _path, each in below if each["Block"].get("IdType")})
    device = _device(faces)
    serial = str(drive.get("Serial", ""))
    return DriveFacts(
        identity="|".join([device, serial, str(block["Size"])]),
        name=device,
        size=int(block["Size"]),
        bus=str(drive.get("ConnectionBus", "")) or ("loop" if "Loop" in faces else "built in"),
        model=" ".join(part for part in (str(drive.get("Vendor", "")), str(drive.get("Model", ""))) if part).strip(),
        serial=serial,
        removable=bool(drive.get("Removable") or drive.get("MediaRemovable")) or "Loop" in faces,
        read_only=bool(block.get("ReadOnly")),
        in_use=any(mount in SYSTEM_MOUNTS for mount in mounts) or bool(block.get("HintSystem") and mounts),
        swap=any(bool(each.get("Swapspace", {}).get("Active")) for _path, each in below),
        member_of=_member_of(objects, below),
        mounts=tuple(mounts),
        labels=tuple(str(each["Block"]["IdLabel"]) for _path, each in below if each["Block"].get("IdLabel")),
        parts=tuple(_part(each) for _path, each in below[1:]),
        holds=", ".join(kinds),
    )


def _part(faces: dict[str, dict[str, Any]]) -> PartFacts:
    return PartFacts(
        number=int(faces["Partition"].get("Number", 0)),
        size=int(faces["Block"].get("Size", 0)),
        kind=str(faces["Block"].get("IdType", "")),
        label=str(faces["Block"].get("IdLabel", "")),
        mounts=tuple(_mounts(faces)),
    )


def _member_of(objects: Objects, below: list[tuple[str, dict[str, dict[str, Any]]]]) -> str:
    """LVM, RAID or crypt where one of the drive's blocks is used by an active one."""
    for path, faces in below:
        if str(faces["Block"].get("MDRaidMember", "/")) != "/":
            return "RAID"
        if any(str(each.get("Block", {}).get("CryptoBackingDevice", "/")) == path for each in objects.values()):
            return "crypt"
        if MEMBERS.get(str(faces["Block"].get("IdType", ""))) == "LVM" and "PhysicalVolume" in faces:
            return "LVM"
        if MEMBERS.get(str(faces["Block"].get("IdType", ""))) == "LVM":
            return "LVM"  # without the service's LVM module nobody says whether it is active
    return ""


def _text(raw: Any) -> str:
    """A path as D-Bus carries it: bytes with a closing zero."""
    return bytes(raw).rstrip(b"\0").decode("utf-8", "surrogateescape")


def _device(faces: dict[str, dict[str, Any]]) -> str:
    block = faces["Block"]
    return _text(block.get("Device") or block.get("PreferredDevice") or b"")


def _mounts(faces: dict[str, dict[str, Any]]) -> list[str]:
    return [_text(raw) for raw in faces.get("Filesystem", {}).get("MountPoints", [])]
