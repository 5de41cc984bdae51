"""What a desktop does for its programs over D-Bus, by jeepney: stay awake, tell the user, say how it should look.

logind's Inhibit (org.freedesktop.login1), Desktop Notifications 1.2, and the settings portal (org.freedesktop.portal.
Settings). Everything here is a kindness: where the service is not there, or refuses, nothing else fails.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from jeepney import DBusAddress, MessageType, new_method_call
from jeepney.io.blocking import open_dbus_connection

_ANSWER_S = 3.0  # seconds; nobody waits longer for a kindness
_LOGIN = DBusAddress(
    "/org/freedesktop/login1", bus_name="org.freedesktop.login1", interface="org.freedesktop.login1.Manager"
)
_NOTES = DBusAddress(
    "/org/freedesktop/Notifications",
    bus_name="org.freedesktop.Notifications",
    interface="org.freedesktop.Notifications",
)
_PORTAL = DBusAddress(
    "/org/freedesktop/portal/desktop",
    bus_name="org.freedesktop.portal.Desktop",
    interface="org.freedesktop.portal.Settings",
)


@contextlib.contextmanager
def kept_awake(why: str, bus: str = "SYSTEM") -> Iterator[bool]:
    """Neither sleep nor shutdown while this runs; yields whether that is so. why: as logind shows it to whoever asks.

    Where a user may not forbid it, it is at least delayed; where there is no logind, nothing is done.
    """
    descriptor = -1
    for mode, what in (("block", "sleep:shutdown:idle"), ("delay", "sleep:shutdown")):
        descriptor = _inhibitor(what, why, mode, bus)
        if descriptor >= 0:
            break
    try:
        yield descriptor >= 0
    finally:
        if descriptor >= 0:
            os.close(descriptor)


def _inhibitor(what: str, why: str, mode: str, bus: str) -> int:
    try:
        with open_dbus_connection(bus, enable_fds=True) as connection:
            call = new_method_call(_LOGIN, "Inhibit", "ssss", (what, "Kyklon", why, mode))
            reply = connection.send_and_get_reply(call, timeout=_ANSWER_S)
            if reply.header.message_type is not MessageType.method_return:
                return -1
            return int(reply.body[0].to_raw_fd())
    except Exception:  # no bus, no service, no right: all the same
        return -1


def notify(title: str, text: str, bus: str = "SESSION") -> bool:
    """Show a note on the desktop; whether it was taken. Markup in the text is shown as it is written."""
    plain = text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
    hints = {"desktop-entry": ("s", "org.kyklon.kyklon"), "urgency": ("y", 1)}
    body: tuple[Any, ...] = ("Kyklon", 0, "kyklon", title, plain, [], hints, -1)
    return _asked(bus, _NOTES, "Notify", "susssasa{sv}i", body) is not None


@dataclass(frozen=True)
class Wishes:
    """What the desktop asks of its programs. dark, contrast: None where it says nothing. still: no movement."""

    dark: bool | None = None
    contrast: bool | None = None
    still: bool = False


def wishes(bus: str = "SESSION") -> Wishes:
    """Asks the settings portal."""
    scheme = _setting(bus, "org.freedesktop.appearance", "color-scheme")
    contrast = _setting(bus, "org.freedesktop.appearance", "contrast")
    motion = _setting(bus, "org.freedesktop.appearance", "reduced-motion")
    moves = _setting(bus, "org.gnome.desktop.interface", "enable-animations")
    return Wishes(
        {1: True, 2: False}.get(scheme) if isinstance(scheme, int) else None,
        bool(contrast) if isinstance(contrast, int) else None,
        motion == 1 or moves is False,
    )


def _setting(bus: str, space: str, key: str) -> Any:
    found = _asked(bus, _PORTAL, "ReadOne", "ss", (space, key)) or _asked(bus, _PORTAL, "Read", "ss", (space, key))
    value: Any = found[0] if found else None
    while isinstance(value, tuple) and len(value) == 2:  # a variant, and in the older call one within another
        value = value[1]
    return value


def _asked(bus: str, place: DBusAddress, method: str, signature: str, body: tuple[Any, ...]) -> tuple[Any, ...] | None:
    """The answer of a service, or None."""
    try:
        with open_dbus_connection(bus) as connection:
            call = new_method_call(place, method, signature, body)
            reply = connection.send_and_get_reply(call, timeout=_ANSWER_S)
            return tuple(reply.body) if reply.header.message_type is MessageType.method_return else None
    except Exception:  # as above
        return None
