"""Machines nearby: by multicast DNS (RFC 6762, DNS-SD RFC 6763), the kernel's neighbour table, the resolver.

Nothing is scanned: a name is asked for, services announce themselves, and the table holds whom this computer has talked
to. Only when asked are its addresses tried at the one port that a login needs.
"""

from __future__ import annotations

import ipaddress
import logging
import socket
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Protocol

from kyklon.base.errors import KyklonError, TargetLost

SSH, SHARE = 22, 445  # ports: RFC 4253, 4; direct-hosted SMB (IANA)
ANSWER_S = 3.0  # that multicast answers are waited for
KEY_S = 4.0  # that a machine has to show its host key
CONNECT_S = 1.5  # that a port has to answer in the own network
MOST = 64  # machines that are told at once
_TABLE = Path("/proc/net/arp")
_SERVICES = ("_ssh._tcp.local.", "_sftp-ssh._tcp.local.", "_smb._tcp.local.", "_workstation._tcp.local.")


@dataclass(frozen=True)
class Neighbour:
    """how: multicast DNS, name service, neighbour table. port: of its secure shell where it announces another."""

    name: str
    address: str
    how: str
    port: int = SSH


class Neighbourhood(Protocol):
    """called: what the screen calls this source."""

    called: str

    def find(self, name: str, seconds: float) -> tuple[Neighbour, ...]:
        """Machines that announce themselves, and the one of that name. name: '' for any; may be an address."""

    def table(self) -> tuple[Neighbour, ...]:
        """Addresses that this computer has talked to."""

    def answers(self, places: Sequence[tuple[str, int]]) -> tuple[bool, ...]:
        """Whether something listens at each address and port."""

    def host_key(self, address: str, port: int, kind: str = "") -> str:
        """The key that a machine shows, of that kind where it has several. Raises TargetLost."""


class LinuxNeighbourhood:
    """interfaces: addresses of this computer's interfaces, None for all of them."""

    called = "this network"

    def __init__(self, interfaces: Sequence[str] | None = None) -> None:
        self._interfaces = list(interfaces) if interfaces is not None else None

    def find(self, name: str, seconds: float = ANSWER_S) -> tuple[Neighbour, ...]:
        found: dict[str, Neighbour] = {}
        if name and not _is_address(name) and not name.endswith(".local"):
            for address in _resolved(name):
                found.setdefault(address, Neighbour(name, address, "name service"))
        elif _is_address(name):
            found[name] = Neighbour(name, name, "as typed")
        for each in self._multicast(name, seconds):
            known = found.get(each.address)
            found[each.address] = each if known is None else replace(known, port=each.port if each.port else known.port)
        return tuple(found.values())[:MOST]

    def _multicast(self, name: str, seconds: float) -> list[Neighbour]:
        try:
            from zeroconf import InterfaceChoice, ServiceBrowser, ServiceStateChange, Zeroconf
        except ImportError as bad:
            raise KyklonError(
                "Multicast DNS is not installed here.", do="Start with ./run, which installs it."
            ) from bad
        found: list[Neighbour] = []
        try:
            own = Zeroconf(interfaces=self._interfaces or InterfaceChoice.Default)
        except OSError as bad:
            raise KyklonError(
                f"This network cannot be asked: {bad.strerror or bad}.",
                do="Connect to it, or type the machine's address.",
            ) from bad
        seen: list[tuple[str, str]] = []

        def changed(
            zeroconf: object,
            service_type: str,
            name: str,
            state_change: ServiceStateChange,
        ) -> None:
            if state_change is not ServiceStateChange.Removed and len(seen) < 4 * MOST:
                seen.append((service_type, name))

        try:
            browser = ServiceBrowser(own, list(_SERVICES), handlers=[changed])
            until = time.monotonic() + seconds
            if name.endswith(".local"):
                found += _asked(own, name, seconds)
            time.sleep(max(0.0, until - time.monotonic()))
            browser.cancel()
            for service_type, service in dict.fromkeys(seen):
                info = own.get_service_info(service_type, service, timeout=500)
                if info is None:
                    continue
                port = (info.port or SSH) if "ssh" in service_type else SSH
                host = (info.server or service).rstrip(".")
                for address in info.parsed_addresses()[:4]:
                    found.append(Neighbour(_shown(host), address, "multicast DNS", port))
        finally:
            own.close()
        found.sort(key=lambda each: each.port == SSH)  # one that announces its port tells more
        kept: dict[tuple[str, str], Neighbour] = {}
        for each in found:
            kept.setdefault((each.name, each.address), each)
        return list(kept.values())[:MOST]

    def table(self) -> tuple[Neighbour, ...]:
        return _table_of(_TABLE)

    def answers(self, places: Sequence[tuple[str, int]]) -> tuple[bool, ...]:
        return all_answer(places)

    def host_key(self, address: str, port: int, kind: str = "") -> str:
        return host_key_of(address, port, kind)


def _table_of(path: Path) -> tuple[Neighbour, ...]:
    """The kernel's IPv4 neighbour table (kernel: net/arp.c): those that have answered (flag 0x2)."""
    try:
        rows = [line.split() for line in path.read_text(encoding="ascii", errors="replace").splitlines()[1:]]
    except OSError:
        return ()
    found = []
    for cells in rows:
        if len(cells) >= 4 and _is_address(cells[0]) and cells[2].startswith("0x") and int(cells[2], 16) & 2:
            found.append(Neighbour(cells[0], cells[0], "neighbour table"))
    return tuple(found[:MOST])


def _asked(own: object, name: str, seconds: float) -> list[Neighbour]:
    """A host's addresses by its name alone."""
    from zeroconf import AddressResolver  # type: ignore[attr-defined] # exported, but not listed

    resolver = AddressResolver(f"{name.rstrip('.')}.")
    if not resolver.request(own, round(seconds * 1000)):  # type: ignore[arg-type] # a Zeroconf
        return []
    return [Neighbour(_shown(name), address, "multicast DNS") for address in resolver.parsed_addresses()[:4]]


def _shown(name: str) -> str:
    """A name from the network, without what a terminal or a screen would act upon."""
    return "".join(letter if letter.isprintable() else "?" for letter in name)[:100]


def _is_address(text: str) -> bool:
    try:
        ipaddress.ip_address(text.partition("%")[0])
    except ValueError:
        return False
    return True


def _resolved(name: str) -> list[str]:
    """Addresses of a name by this computer's resolver; none where it knows none."""
    try:
        rows = socket.getaddrinfo(name, None, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError):
        return []
    return list(dict.fromkeys(str(row[4][0]) for row in rows))[:4]


def answers(address: str, port: int, seconds: float = CONNECT_S) -> bool:
    """Whether something listens there."""
    try:
        with socket.create_connection((address, port), timeout=seconds):
            return True
    except OSError:
        return False


def all_answer(places: Sequence[tuple[str, int]], seconds: float = CONNECT_S) -> tuple[bool, ...]:
    """The same for several at once."""
    if not places:
        return ()
    with ThreadPoolExecutor(min(16, len(places))) as pool:
        return tuple(pool.map(lambda place: answers(place[0], place[1], seconds), places))


def host_key_of(host: str, port: int, kind: str = "", seconds: float = KEY_S) -> str:
    """The key that a machine shows, without logging in: kind and base 64. kind: asked for first, as a machine has one
    of each. Raises TargetLost when nobody answers."""
    import paramiko

    own_log = logging.getLogger("paramiko")
    own_log.propagate = False
    try:
        with socket.create_connection((host, port), timeout=seconds) as connection:
            transport = paramiko.Transport(connection)
            try:
                if kind:  # an RSA key signs by names of its own (RFC 8332)
                    options = transport.get_security_options()
                    first = [
                        each for each in options.key_types if each == kind or (kind == "ssh-rsa" and "rsa" in each)
                    ]
                    options.key_types = (*first, *(each for each in options.key_types if each not in first))
                transport.start_client(timeout=seconds)
                key = transport.get_remote_server_key()
            finally:
                transport.close()
    except (OSError, EOFError, paramiko.SSHException) as bad:
        raise TargetLost(f"{host} shows no host key: {bad}.", do="Is secure copy switched on there?") from bad
    return f"{key.get_name()} {key.get_base64()}"
