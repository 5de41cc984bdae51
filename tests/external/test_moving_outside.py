"""Games moved to real things: an OpenSSH server on loopback, FAT and ext4 file systems on loop devices of our own.

Judges: sftp-server and sshd (OpenSSH), the kernel's file systems, sha256sum -c (coreutils).
"""

from __future__ import annotations

import contextlib
import getpass
import os
import random
import socket
import stat
import subprocess
import threading
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import paramiko
import pytest

import machines
from kyklon.base.errors import TargetFull, TargetLost, WrongUse
from kyklon.catalogue.loader import Catalogue
from kyklon.devices import secure_copy
from kyklon.devices.linux.folder import Folder
from kyklon.devices.secure_copy import Login, SecureCopy, UnknownHost, fingerprint
from kyklon.operations.library import acts
from kyklon.operations.library.carry import UNFINISHED, carry_out
from machines import Server, needs_root, needs_server, serving
from support import Demo, that_ends


@pytest.fixture
def server(tmp_path: Path) -> Iterator[Server]:
    with serving(tmp_path) as made:
        yield made


@needs_server
def test_the_fingerprint_is_what_ssh_keygen_shows(server: Server) -> None:
    told = subprocess.run(
        ["ssh-keygen", "-l", "-f", str(server.config.with_name("host.pub"))], capture_output=True, text=True, check=True
    ).stdout
    assert fingerprint(server.host_key).split()[1] == told.split()[1]


@needs_server
def test_an_unknown_and_a_changed_host_are_not_talked_to(server: Server) -> None:
    with pytest.raises(UnknownHost) as unknown:
        SecureCopy(server.login(""))
    assert unknown.value.host_key == server.host_key
    other = server.config.with_name("user.pub").read_text(encoding="ascii").split()[:2]
    with pytest.raises(WrongUse, match="a different host key than before"):
        SecureCopy(server.login(" ".join(other)))
    wrong = Login("127.0.0.1", server.port, getpass.getuser(), "", server.host_key, password="no")
    with pytest.raises(WrongUse, match="cannot log in"):
        SecureCopy(wrong)
    server.cut()
    with pytest.raises(TargetLost, match="does not answer"):
        SecureCopy(server.login())


@needs_server
def test_the_machine_lists_what_was_foretold(server: Server, demo: Demo, catalogue: Catalogue) -> None:
    build = server.build(demo.build)
    with acts.opened(build, demo.folder) as machine:
        told = acts.planned(build, demo.folder, catalogue, machine)
        report = acts.move_games(demo.folder, build, catalogue, machine)
        seen = acts.remember_seen(demo.folder, build, catalogue, machine)
        again = acts.move_games(demo.folder, build, catalogue, machine)
        assert report.refused == ()
        assert seen.games == told.menu
        assert (again.already_there, again.sent) == (again.files, 0)
        sources = [str(demo.folder / "library" / copy.source) for copy in told.copies]
        told_by = subprocess.run(
            ["sha256sum", *sources], capture_output=True, text=True, check=True
        ).stdout.splitlines()
        rows = zip(told_by, told.copies, strict=True)
        listed = "".join(f"{line.split()[0]}  {server.top / copy.target}\n" for line, copy in rows)
        checked = subprocess.run(["sha256sum", "-c", "--quiet"], input=listed, text=True, capture_output=True)
        assert checked.returncode == 0, checked.stdout
        done = acts.take_back(demo.folder, machine)
    assert done.removed == len(told.copies) + len(told.texts)
    assert [path for path in server.top.rglob("*") if path.is_file()] == []


@needs_server
def test_a_broken_connection_goes_on_with_the_rest(server: Server, demo: Demo, catalogue: Catalogue) -> None:
    chance = random.Random(5)
    big = demo.folder / "library" / "alder8" / "Zebra Parade (Europe).al8"
    big.write_bytes(chance.randbytes(24_000_000))
    build = server.build(demo.build)
    told = None
    for _ in range(6):
        with acts.opened(build, demo.folder) as machine:
            told = told or acts.planned(build, demo.folder, catalogue, machine)
            plug = threading.Timer(chance.uniform(0.02, 0.4), server.cut)
            plug.start()
            with contextlib.suppress(TargetLost):  # now and then it is quicker than the plug
                carry_out(told, demo.folder / "library", machine, folder=demo.folder)
        plug.join()
        server.start()
    assert told is not None
    wanted = {server.top / copy.target: (demo.folder / "library" / copy.source).read_bytes() for copy in told.copies}
    whole = [path for path in server.top.rglob("*") if path.is_file() and UNFINISHED not in path.name]
    assert all(path.read_bytes() == wanted[path] for path in whole if path in wanted)
    with acts.opened(build, demo.folder) as machine:
        got = sum(path.stat().st_size for path in server.top.rglob("*") if path.is_file())
        report = carry_out(told, demo.folder / "library", machine, folder=demo.folder)
    assert report.sent <= told.size - got + sum(map(len, told.texts.values()))
    assert all(path.read_bytes() == data for path, data in wanted.items())


# --- real file systems -----------------------------------------------------------------------------------------------


@pytest.fixture
def mounted(tmp_path: Path, request: pytest.FixtureRequest) -> Iterator[Path]:
    with machines.mounted(tmp_path, request.param) as place:
        yield place


@needs_root
@pytest.mark.parametrize("mounted", ["vfat", "ext4"], indirect=True)
def test_a_card_of_a_real_file_system(mounted: Path, demo: Demo, catalogue: Catalogue) -> None:
    (mounted / "games").mkdir()
    place = Folder(mounted)
    kind = place.limits.kind
    if place.limits.owned:
        os.chown(mounted / "games", 1000, 1000)
    (demo.folder / "library" / "alder8" / "Why: A Parade (Europe).al8").write_bytes(b"colon")
    told = acts.planned(demo.build, demo.folder, catalogue, place)
    assert told.renamed == (kind == "FAT")
    acts.move_games(demo.folder, demo.build, catalogue, place)
    seen = acts.remember_seen(demo.folder, demo.build, catalogue, place)
    assert seen.games == told.menu
    assert seen.unreadable == {}
    if place.limits.owned:  # whoever plays may read, and write saves beside
        owners = {(path.stat().st_uid, path.stat().st_gid) for path in (mounted / "games").rglob("*")}
        assert owners == {(1000, 1000)}
    big = demo.folder / "library" / "alder8" / "Zebra Parade (Europe).al8"
    big.write_bytes(random.Random(1).randbytes(39_000_000))
    with pytest.raises(TargetFull):
        acts.move_games(demo.folder, demo.build, catalogue, place)
    assert acts.remember_seen(demo.folder, demo.build, catalogue, place).games == told.menu


# --- servers that mean no good (paramiko's own server on loopback) -------------------------------------------------


class Endless(paramiko.ServerInterface):
    """Lets everybody in; whatever is run prints for ever."""

    def check_channel_request(self, kind: str, chanid: int) -> int:
        return paramiko.OPEN_SUCCEEDED

    def check_auth_password(self, username: str, password: str) -> int:
        return paramiko.AUTH_SUCCESSFUL

    def get_allowed_auths(self, username: str) -> str:
        return "password"

    def check_channel_exec_request(self, channel: paramiko.Channel, command: bytes) -> bool:
        def flood() -> None:
            with contextlib.suppress(Exception):
                while True:
                    channel.send(b"y\n" * 1000)

        threading.Thread(target=flood, daemon=True).start()
        return True


class Folders(paramiko.SFTPServerInterface):
    """Every folder holds folders; one of them lists without an end."""

    def stat(self, path: str) -> paramiko.SFTPAttributes:
        attributes = paramiko.SFTPAttributes()
        attributes.st_mode, attributes.st_size = stat.S_IFDIR | 0o755, 0
        return attributes

    lstat = stat

    def list_folder(self, path: str) -> list[paramiko.SFTPAttributes]:
        rows = []
        for name in ("..", "../../etc", "again"):
            row = self.stat(name)
            row.filename = name
            rows.append(row)
        return rows


@contextlib.contextmanager
def evil() -> Iterator[Login]:
    key = paramiko.RSAKey.generate(2048)
    listening = socket.socket()
    listening.bind(("127.0.0.1", 0))
    listening.listen(5)
    transports: list[paramiko.Transport] = []

    def serve() -> None:
        with contextlib.suppress(OSError):
            while True:
                transport = paramiko.Transport(listening.accept()[0])
                transports.append(transport)
                transport.add_server_key(key)
                transport.set_subsystem_handler("sftp", paramiko.SFTPServer, Folders)
                # A client that refuses the host key hangs up in the middle of the greeting.
                with contextlib.suppress(EOFError, paramiko.SSHException):
                    transport.start_server(server=Endless())

    threading.Thread(target=serve, daemon=True).start()
    try:
        yield Login(
            "127.0.0.1",
            listening.getsockname()[1],
            "me",
            "/games",
            f"{key.get_name()} {key.get_base64()}",
            password="x",
        )
    finally:
        listening.close()
        for each in transports:
            each.close()


def test_a_server_without_an_end_is_left(monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]) -> None:
    with evil() as login, that_ends():
        there = SecureCopy(login)
        with pytest.raises(WrongUse, match="without an end"):
            list(there.files(""))
        assert there.free() is None  # its answer is no figure, and ended
        row = Folders(Endless()).stat("x")
        row.filename = "x"
        monkeypatch.setattr(paramiko.SFTPHandle, "_get_next_files", lambda _self: [row] * 16)
        monkeypatch.setattr(secure_copy, "_MOST", 5000)
        with pytest.raises(WrongUse, match="without an end"):
            list(there.files(""))
        there.close()
        other = replace(login, host_key="ssh-rsa " + paramiko.RSAKey.generate(1024).get_base64())
        with pytest.raises(WrongUse, match=r"delete the old key.*library\.host_key"):
            SecureCopy(other)
    told = capfd.readouterr()
    assert "Traceback" not in told.err
    assert "paramiko" not in told.err
