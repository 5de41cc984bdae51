"""A real OpenSSH server on loopback, and file systems on loop devices, for tests that move games."""

from __future__ import annotations

import contextlib
import getpass
import os
import shutil
import signal
import socket
import subprocess
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest
from zeroconf import ServiceInfo, Zeroconf

from kyklon.devices.secure_copy import Login
from kyklon.model.build import Build, edited

SSHD = shutil.which("sshd", path=f"{os.environ.get('PATH', '')}:/usr/sbin")
needs_server = pytest.mark.skipif(SSHD is None, reason="no OpenSSH server here")
needs_root = pytest.mark.skipif(os.geteuid() != 0, reason="only root mounts")


@dataclass
class Server:
    """A real server on loopback. top: the folder that the machine's games lie in."""

    port: int
    top: Path
    key: Path
    host_key: str
    process: subprocess.Popen[bytes]
    config: Path

    def login(self, host_key: str | None = None) -> Login:
        return Login(
            "127.0.0.1",
            self.port,
            getpass.getuser(),
            str(self.top),
            self.host_key if host_key is None else host_key,
            str(self.key),
        )

    def build(self, build: Build) -> Build:
        own = {
            "route": "secure copy",
            "host": "127.0.0.1",
            "port": self.port,
            "account": getpass.getuser(),
            "host_key": self.host_key,
            "key_file": str(self.key),
            "remote_folder": str(self.top),
        }
        return edited(build, "library", {**build.library.model_dump(), **own})

    def start(self) -> None:
        assert SSHD is not None
        self.process = subprocess.Popen([SSHD, "-D", "-e", "-f", str(self.config)], stderr=subprocess.DEVNULL)
        for _ in range(100):
            with socket.socket() as tried:
                if tried.connect_ex(("127.0.0.1", self.port)) == 0:
                    return
            time.sleep(0.05)
        raise AssertionError("the server does not answer")

    def cut(self) -> None:
        """End the server and every connection of it, in the midst of what they do."""
        pid = self.process.pid
        children = subprocess.run(["ps", "-o", "pid=", "--ppid", str(pid)], capture_output=True, text=True).stdout
        for child in children.split():
            inner = subprocess.run(["ps", "-o", "pid=", "--ppid", child], capture_output=True, text=True).stdout
            for each in (child, *inner.split()):
                with contextlib.suppress(ProcessLookupError):  # it ended by itself
                    os.kill(int(each), signal.SIGKILL)
        self.process.kill()
        self.process.wait()


@contextlib.contextmanager
def serving(tmp_path: Path) -> Iterator[Server]:
    """A server that serves while the test runs."""
    folder = tmp_path / "ssh"
    folder.mkdir(mode=0o700)
    for name in ("host", "user"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / name)], check=True)
    (folder / "authorized").write_text((folder / "user.pub").read_text(encoding="ascii"), encoding="ascii")
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    if os.geteuid() == 0:
        Path("/run/sshd").mkdir(exist_ok=True)
    (folder / "config").write_text(
        f"ListenAddress 127.0.0.1\nPort {port}\nHostKey {folder / 'host'}\nAuthorizedKeysFile {folder / 'authorized'}\n"
        f"PidFile {folder / 'pid'}\nStrictModes no\nUsePAM no\nPasswordAuthentication no\nPermitRootLogin yes\n"
        "Subsystem sftp internal-sftp\n",
        encoding="ascii",
    )
    kind, data = (folder / "host.pub").read_text(encoding="ascii").split()[:2]
    made = Server(port, tmp_path / "machine", folder / "user", f"{kind} {data}", None, folder / "config")  # type: ignore[arg-type]
    made.top.mkdir()
    made.start()
    try:
        yield made
    finally:
        if made.process.poll() is None:
            made.cut()


@contextlib.contextmanager
def answering(name: str, port: int) -> Iterator[None]:
    """A stand-in that answers multicast DNS on loopback as a machine of that name would, with a login on a port."""
    own = Zeroconf(interfaces=["127.0.0.1"])
    info = ServiceInfo(
        "_ssh._tcp.local.",
        "Café table._ssh._tcp.local.",
        addresses=[socket.inet_aton("127.0.0.1")],
        port=port,
        server=f"{name}.local.",
    )
    own.register_service(info)
    try:
        yield
    finally:
        own.unregister_service(info)
        own.close()


@contextlib.contextmanager
def mounted(tmp_path: Path, kind: str, size: int = 40_000_000) -> Iterator[Path]:
    """A fresh file system of that kind, on a loop device of its own; the test is passed over where none mounts."""
    image, place = tmp_path / "card.img", tmp_path / "mnt"
    with image.open("wb") as file:
        file.truncate(size)
    place.mkdir()
    subprocess.run([f"mkfs.{kind}", str(image)], check=True, capture_output=True)
    if subprocess.run(["mount", "-o", "loop", str(image), str(place)], capture_output=True).returncode:
        pytest.skip("no loop device can be mounted here")
    try:
        yield place
    finally:
        subprocess.run(["umount", str(place)], check=True)
