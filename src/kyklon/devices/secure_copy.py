"""A machine that is reached by secure copy: the SSH file transfer protocol (RFC 4251 to 4254, SFTP version 3).

The host's key is asked for once and kept: another one later is another machine, or somebody in between.
"""

from __future__ import annotations

import base64
import contextlib
import hashlib
import logging
import os
import posixpath
import shlex
import stat
import time
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, BinaryIO

from kyklon.base.errors import KyklonError, TargetError, TargetFull, TargetLost, WrongUse
from kyklon.base.numbers import whole
from kyklon.devices.destination import Limits, limits_of

if TYPE_CHECKING:
    from paramiko import SFTPClient, SSHClient

SECONDS = 15.0  # that a machine has to answer
LISTING_S = 120.0  # that listing all its games may take; a server may go on for ever
_MODE, _FOLDER_MODE, _PRIVATE = 0o644, 0o755, 0o600
_DEEPEST, _MOST = 64, 500_000
_KINDS = ("ssh-ed25519", "ecdsa-sha2-nistp256", "ecdsa-sha2-nistp384", "ecdsa-sha2-nistp521", "rsa-sha2-512", "ssh-rsa")


@dataclass(frozen=True)
class Login:
    """host_key: as kept, kind and base 64; '' when none is known yet. key_file: '' for a password alone. as_root: files
    are reached through sudo, which must allow the transfer program without a password. private: what is written is
    for its owner's eyes until `set_mode` says otherwise."""

    host: str
    port: int
    account: str
    folder: str
    host_key: str = ""
    key_file: str = ""
    password: str = ""
    as_root: bool = False
    private: bool = False


class UnknownHost(KyklonError):
    """The host's key is not known yet. host_key: to be kept once somebody has compared the fingerprint."""

    def __init__(self, host: str, host_key: str) -> None:
        self.host_key = host_key
        super().__init__(
            f"{host} is not known yet. Its key is {fingerprint(host_key)}.",
            do="Compare it with what the machine shows; then accept it.",
        )


def fingerprint(host_key: str) -> str:
    """SHA-256 of a key as SSH programs show it (RFC 4648, without padding)."""
    kind, _, data = host_key.partition(" ")
    try:
        digest = hashlib.sha256(base64.b64decode(data, validate=True)).digest()
    except ValueError:
        return f"{kind} (damaged)"
    return f"{kind} SHA256:{base64.b64encode(digest).decode().rstrip('=')}"


class SecureCopy:
    """An open connection. Raises UnknownHost, WrongUse for a wrong login, TargetLost when nobody answers."""

    def __init__(self, login: Login) -> None:
        self._login = login
        self._client = _connected(login)
        self._there: set[str] = set()  # folders that are there
        self._wrote: dict[str, int] = {}  # bytes of what was written, to be read back
        self._chmod: bool | None = None
        with self._told(login.host):
            self._files: SFTPClient = _as_root(self._client, login) if login.as_root else self._client.open_sftp()
            self._files.get_channel().settimeout(SECONDS)
            self._top = login.folder or self._files.normalize(".")

    @property
    def name(self) -> str:
        return f"{self._login.account}@{self._login.host}:{self._top}"

    @cached_property
    def limits(self) -> Limits:
        told = self._run(f"stat -f -c '%T %S' -- {shlex.quote(self._nearest())}").split()
        kind = {"msdos": "vfat", "ext2/ext3": "ext4"}.get(told[0], told[0]) if len(told) == 2 else ""
        found = limits_of(kind, (whole(told[1]) if len(told) == 2 else None) or 4096)
        return replace(found, text=True)  # RFC draft of SFTP 3 leaves the encoding open; what servers share is UTF-8

    def free(self) -> int | None:
        rows = self._run(f"df -Pk -- {shlex.quote(self._nearest())}").splitlines()
        cells = rows[-1].split() if len(rows) > 1 else []
        free = whole(cells[3]) if len(cells) > 3 else None
        return free * 1024 if free is not None else None

    def _nearest(self) -> str:
        """The folder, or the one above it that is there."""
        path = self._top
        while path not in ("", "/"):
            try:
                self._files.stat(path)
                return path
            except Exception as bad:  # not there, or not to be looked at: the one above
                self._if_lost(bad)
            path = posixpath.dirname(path)
        return "/"

    def run(self, command: str) -> str:
        """What a command prints, up to 64 KiB; '' on machines that run none. Raises TargetLost."""
        return self._run(command)

    def _run(self, command: str) -> str:
        try:
            _in, out, _error = self._client.exec_command(command, timeout=SECONDS)
            said, until = b"", time.monotonic() + SECONDS
            while len(said) < 65_536 and time.monotonic() < until:  # one that drips for ever says enough in that time
                piece = out.channel.recv(65_536)
                if not piece:
                    break
                said += piece
            return said.decode("utf-8", "replace")
        except Exception as bad:
            self._if_lost(bad)
            return ""

    def size_of(self, path: str) -> int | None:
        with self._told(path):
            try:
                status = self._files.stat(self._at(path))
            except FileNotFoundError:
                return None
            return status.st_size if stat.S_ISREG(status.st_mode or 0) else None

    def stamp_of(self, path: str) -> str:
        with self._told(path):
            try:
                status = self._files.stat(self._at(path))
            except FileNotFoundError:
                return ""
            return f"{status.st_size}-{status.st_mtime}"

    def files(self, top: str) -> Iterator[tuple[str, int, int]]:
        waiting, count, until = [("", 0)], 0, time.monotonic() + LISTING_S
        base = self._at(top) if top else self._top
        while waiting:
            below, depth = waiting.pop()
            with self._told(below or top):
                found = []
                try:
                    for each in self._files.listdir_iter(f"{base}/{below}", read_aheads=4):  # never waits for its end
                        count += 1
                        if count > _MOST or depth > _DEEPEST or time.monotonic() > until:
                            do = "Choose the folder that is meant, and look at what the machine runs."
                            raise WrongUse(f"{self.name} lists files without an end.", do=do)
                        if each.filename not in (".", "..", "") and not {"/", "\0"} & set(each.filename):
                            found.append(each)
                except OSError as bad:
                    self._if_lost(bad)
                    continue  # not there, or not to be read
            for each in sorted(found, key=lambda one: one.filename):
                mode = each.st_mode or 0
                if stat.S_ISDIR(mode):
                    waiting.append((f"{below}{each.filename}/", depth + 1))
                elif stat.S_ISREG(mode):
                    yield f"{below}{each.filename}", each.st_size or 0, mode

    @contextlib.contextmanager
    def read(self, path: str) -> Iterator[BinaryIO]:
        with self._told(path), self._files.open(self._at(path), "rb") as file:
            _quiet_ahead(file)
            file.prefetch(self._wrote.get(path) or self._files.stat(self._at(path)).st_size)
            yield file

    @contextlib.contextmanager
    def write(self, path: str, at: int) -> Iterator[BinaryIO]:
        whole = self._at(path)
        with self._told(path):
            self._make_folders(posixpath.dirname(whole))
            with self._files.open(whole, "r+b" if at else "wb") as file:
                if self._login.private:  # before its first byte
                    file.chmod(_PRIVATE)
                file.set_pipelined(True)
                if at:
                    file.truncate(at)
                    file.seek(at)
                yield file
                self._wrote[path] = file.tell()
            if self._login.private:
                return
            if self._chmod is None:  # what the machine gives by itself is asked once
                self._chmod = stat.S_IMODE(self._files.stat(whole).st_mode or 0) & _MODE != _MODE
            if self._chmod:
                self._files.chmod(whole, _MODE)

    def mode_of(self, path: str) -> int | None:
        """Permission bits of a file, None where there is none."""
        with self._told(path):
            try:
                return stat.S_IMODE(self._files.stat(self._at(path)).st_mode or 0)
            except FileNotFoundError:
                return None

    def set_mode(self, path: str, mode: int) -> None:
        with self._told(path):
            self._files.chmod(self._at(path), mode)

    def _make_folders(self, folder: str) -> None:
        missing: list[str] = []
        while folder not in ("", "/") and folder not in self._there:
            with contextlib.suppress(FileNotFoundError):
                self._files.stat(folder)
                self._there.add(folder)
                break
            missing.append(folder)
            folder = posixpath.dirname(folder)
        for each in reversed(missing):
            self._files.mkdir(each, _FOLDER_MODE)
        self._there.update(missing)

    def rename(self, old: str, new: str) -> None:
        with self._told(new):
            self._make_folders(posixpath.dirname(self._at(new)))
            self._files.posix_rename(self._at(old), self._at(new))

    def remove(self, path: str) -> None:
        with self._told(path), contextlib.suppress(FileNotFoundError):
            self._files.remove(self._at(path))

    def remove_folder(self, path: str) -> None:
        try:
            self._files.rmdir(self._at(path))
        except OSError as bad:  # not empty, or not there
            self._if_lost(bad)

    def settle(self) -> None:
        """The machine's own file system sees to it."""

    def close(self) -> None:
        self._client.close()

    def _at(self, path: str) -> str:
        if path.startswith("/") or ".." in path.split("/") or "\0" in path or not path:
            raise WrongUse(f"{path!r} leads outside {self._top}.", do="Leave it out: it cannot be used here.")
        return f"{self._top.rstrip('/')}/{path}"

    def _if_lost(self, bad: BaseException) -> None:
        """Raise TargetLost where the connection is gone."""
        from paramiko import SSHException

        transport = self._client.get_transport()
        if isinstance(bad, (EOFError, ConnectionError, TimeoutError, SSHException)) or not (
            transport and transport.is_active()
        ):
            raise TargetLost(
                f"The connection to {self._login.host} broke.",
                do="Connect it again and continue: what is already there stays.",
            ) from bad

    @contextlib.contextmanager
    def _told(self, what: str) -> Iterator[None]:
        try:
            yield
        except (KyklonError, GeneratorExit):
            raise
        except Exception as bad:
            if isinstance(bad, UnicodeError):
                raise TargetError(
                    f"{what or self._top} on {self._login.host} contains a name that is not UTF-8.",
                    do="Rename it there, then look again.",
                ) from bad
            if not isinstance(bad, (OSError, EOFError)) and type(bad).__module__.split(".")[0] != "paramiko":
                raise
            self._if_lost(bad)
            free = self.free() if isinstance(bad, OSError) else None
            if free is not None and free < 1 << 20:
                raise TargetFull(f"{self._login.host} is full.", do="Choose fewer games; what is there stays.") from bad
            why = getattr(bad, "strerror", None) or str(bad) or "it refused"
            raise TargetError(
                f"{what} on {self._login.host} failed: {why}.",
                do=f"Look whether {self._login.account} may write there.",
            ) from bad


SFTP_SERVERS = (  # where OpenSSH's transfer program lies, by distribution (mem)
    "/usr/lib/openssh/sftp-server",
    "/usr/libexec/openssh/sftp-server",
    "/usr/lib/ssh/sftp-server",
    "/usr/libexec/sftp-server",
)


def _as_root(client: SSHClient, login: Login) -> SFTPClient:
    """The machine's transfer program, run by sudo as sudoers allows it. Raises WrongUse where it does not."""
    from paramiko import SFTPClient, SSHException

    transport = client.get_transport()
    assert transport is not None
    channel = transport.open_session(timeout=SECONDS)
    channel.settimeout(SECONDS)
    tries = "; ".join(f"[ -x {path} ] && exec sudo -n {path}" for path in SFTP_SERVERS)
    channel.exec_command(f"{tries}; exit 127")
    try:
        return SFTPClient(channel)
    except (SSHException, EOFError, OSError) as bad:
        channel.close()
        raise WrongUse(
            f"{login.account} may not change boot files on {login.host}.",
            do="Set system.remote_boot and let the first boot run again, or reach it as root.",
        ) from bad


def _quiet_ahead(file: Any) -> None:
    """A connection that breaks is told to whoever reads; the library's thread that asks ahead has nobody to tell."""
    from paramiko import SSHException

    ahead = file._prefetch_thread

    def asked(*arguments: object) -> None:
        with contextlib.suppress(OSError, EOFError, SSHException):
            ahead(*arguments)

    file._prefetch_thread = asked


def _connected(login: Login) -> SSHClient:
    import paramiko

    class Ask(paramiko.MissingHostKeyPolicy):  # type: ignore[misc] # without types
        def missing_host_key(self, _client: object, _host: str, key: Any) -> None:
            raise UnknownHost(login.host, f"{key.get_name()} {key.get_base64()}")

    own_log = logging.getLogger("paramiko")  # its words are told in sentences here, and never reach a terminal
    own_log.propagate = False
    if not own_log.handlers:
        own_log.addHandler(logging.NullHandler())
    client = paramiko.SSHClient()
    client.set_missing_host_key_policy(Ask())
    if login.host_key:
        kind, _, data = login.host_key.partition(" ")
        name = login.host if login.port == 22 else f"[{login.host}]:{login.port}"
        try:
            client.get_host_keys().add(name, kind, paramiko.PKey.from_type_string(kind, base64.b64decode(data)))
        except (ValueError, paramiko.SSHException) as bad:
            raise WrongUse("The host key that was kept is damaged.", do="Forget it and connect again.") from bad
    key_file = os.path.expanduser(login.key_file) or None
    try:
        client.connect(
            login.host,
            login.port,
            login.account,
            login.password or None,
            key_filename=key_file,
            timeout=SECONDS,
            banner_timeout=SECONDS,
            auth_timeout=SECONDS,
            allow_agent=not login.password and not key_file,
            look_for_keys=False,
            passphrase=login.password or None if key_file else None,
        )
    except KyklonError:
        client.close()
        raise
    except paramiko.BadHostKeyException as bad:
        client.close()
        got = fingerprint(f"{bad.key.get_name()} {bad.key.get_base64()}")
        do = (
            "Another machine has that address, its card was rewritten, or someone is intercepting the "
            "connection. Nothing was "
        )
        do += "sent. If you know why, delete the old key: “Forget its key” in Library, Transfer, or "
        do += "`kyklon set FOLDER library.host_key ''`; the new one is then asked about."
        raise WrongUse(f"{login.host} shows a different host key than before: {got}.", do=do) from bad
    except paramiko.AuthenticationException as bad:
        client.close()
        raise WrongUse(
            f"{login.account} cannot log in to {login.host}.", do="Check the user, the key, the password."
        ) from bad
    except (OSError, EOFError, paramiko.SSHException, ValueError) as bad:
        client.close()
        raise TargetLost(
            f"{login.host} does not answer: {getattr(bad, 'strerror', None) or bad}.",
            do="Is the machine on, in the same network, and secure copy switched on in Boot?",
        ) from bad
    return client
