"""What a desktop does for its programs, against stand-ins for its services on a bus of the test's own."""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from jeepney import DBusAddress, HeaderFields, MessageType, new_error, new_method_call, new_method_return
from jeepney.io.blocking import open_dbus_connection

from kyklon.devices.linux import desktop_bus
from kyklon.devices.linux.desktop_bus import Wishes

pytestmark = pytest.mark.skipif(shutil.which("dbus-daemon") is None, reason="dbus-daemon is not installed")
Answer = Callable[[Any], tuple[str, tuple[Any, ...]] | None]  # a method's body -> signature and body; None refuses


class Service:
    """Answers under a name as it is told to, and keeps what it was asked."""

    def __init__(self, address: str, name: str, answer: Answer) -> None:
        self.calls: list[tuple[str, Any]] = []
        self._answer = answer
        self._bus = open_dbus_connection(address, enable_fds=True)
        bus = DBusAddress("/org/freedesktop/DBus", bus_name="org.freedesktop.DBus", interface="org.freedesktop.DBus")
        self._bus.send_and_get_reply(new_method_call(bus, "RequestName", "su", (name, 4)))
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        with contextlib.closing(self._bus), contextlib.suppress(Exception):  # the bus ends with the test
            while True:
                message = self._bus.receive()
                if message.header.message_type is MessageType.method_call:
                    self.calls.append((message.header.fields[HeaderFields.member], message.body))
                    told = self._answer(message)
                    if told is None:
                        self._bus.send(new_error(message, "org.freedesktop.DBus.Error.AccessDenied", "s", ("no",)))
                    else:
                        self._bus.send(new_method_return(message, *told))


@pytest.fixture
def bus(tmp_path: Path) -> Iterator[str]:
    command = ["dbus-daemon", "--session", "--nofork", "--print-address=1", f"--address=unix:dir={tmp_path}"]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) as daemon:
        assert daemon.stdout is not None
        before = set(threading.enumerate())
        yield daemon.stdout.readline().strip()
        daemon.terminate()
        for thread in set(threading.enumerate()) - before:
            thread.join(timeout=5)


def login(refuse: tuple[str, ...] = ()) -> tuple[Answer, list[int]]:
    """logind: hands a pipe's end over; the other end tells when it was let go."""
    ends: list[int] = []

    def answer(message: Any) -> tuple[str, tuple[Any, ...]] | None:
        if message.body[3] in refuse:
            return None
        read, write = os.pipe()
        ends.append(read)
        threading.Timer(1.0, os.close, (write,)).start()  # the message holds a copy of its own by then
        return "h", (write,)

    return answer, ends


def test_a_write_keeps_the_computer_awake_until_it_ends(bus: str) -> None:
    answer, ends = login()
    service = Service(bus, "org.freedesktop.login1", answer)
    with desktop_bus.kept_awake("Writing to sdx", bus) as held:
        assert held
    assert service.calls == [("Inhibit", ("sleep:shutdown:idle", "Kyklon", "Writing to sdx", "block"))]
    assert os.read(ends[0], 1) == b""  # every copy of the other end is closed: nothing is held any more
    os.close(ends[0])


def test_who_may_not_forbid_sleep_delays_it(bus: str) -> None:
    answer, ends = login(refuse=("block",))
    service = Service(bus, "org.freedesktop.login1", answer)
    with desktop_bus.kept_awake("Writing", bus) as held:
        assert held
    assert [call[1][3] for call in service.calls] == ["block", "delay"]
    os.close(ends[0])


@pytest.mark.filterwarnings(
    "ignore::pytest.PytestUnraisableExceptionWarning"
)  # jeepney leaves a socket that fails open
def test_without_services_nothing_fails(bus: str) -> None:
    for address in (bus, "unix:path=/nonexistent/bus"):
        with desktop_bus.kept_awake("Writing", address) as held:
            assert not held
        assert not desktop_bus.notify("a", "b", address)
        assert desktop_bus.wishes(address) == Wishes()


def test_a_note_is_text_and_not_markup(bus: str) -> None:
    service = Service(bus, "org.freedesktop.Notifications", lambda _message: ("u", (1,)))
    assert desktop_bus.notify("Café", "<a href='x'>done</a> & gone", bus)
    _method, body = service.calls[0]
    assert body[3:5] == ("Café", "&lt;a href='x'&gt;done&lt;/a&gt; &amp; gone")


@pytest.mark.parametrize(
    ("settings", "wanted"),
    [
        ({"color-scheme": ("u", 1)}, Wishes(dark=True)),
        ({"color-scheme": ("u", 2), "contrast": ("u", 1)}, Wishes(dark=False, contrast=True)),
        ({"color-scheme": ("u", 0), "contrast": ("u", 0)}, Wishes(contrast=False)),
        ({"enable-animations": ("b", False)}, Wishes(still=True)),
        ({"reduced-motion": ("u", 1), "enable-animations": ("b", True)}, Wishes(still=True)),
        ({"color-scheme": ("s", "odd")}, Wishes()),
    ],
)
@pytest.mark.parametrize("new", [True, False])
def test_the_desktop_says_how_it_should_look(
    bus: str, settings: dict[str, tuple[str, Any]], wanted: Wishes, new: bool
) -> None:
    """The portal's newer call, and the older one that wraps a variant in another."""

    def answer(message: Any) -> tuple[str, tuple[Any, ...]] | None:
        method, key = message.header.fields[HeaderFields.member], message.body[1]
        if key not in settings or (method == "ReadOne") is not new:
            return None
        return "v", (settings[key] if new else ("v", settings[key]),)

    Service(bus, "org.freedesktop.portal.Desktop", answer)
    assert desktop_bus.wishes(bus) == wanted
