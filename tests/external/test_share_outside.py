"""The machine's own share with a real Samba server on loopback: the script writes it, smbclient copies games in."""

from __future__ import annotations

import getpass
import os
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.devices.neighbours import LinuxNeighbourhood
from kyklon.model.build import edited
from kyklon.operations.boot import first_boot
from support import Demo

PATH = f"{os.environ.get('PATH', '')}:/usr/sbin"
pytestmark = pytest.mark.skipif(
    os.geteuid() != 0 or None in (shutil.which("smbd", path=PATH), shutil.which("smbclient")),
    reason="Samba's server is not installed, or this is not root",
)
PASSWORD = "eight words for a share"


@dataclass
class Share:
    port: int
    top: Path
    config: Path

    def client(self, *orders: str, password: str = PASSWORD) -> subprocess.CompletedProcess[str]:
        words = ["smbclient", "//127.0.0.1/games", "-p", str(self.port), "-U", f"{getpass.getuser()}%{password}"]
        return subprocess.run([*words, "-c", "; ".join(orders)], capture_output=True, text=True, timeout=60)


@pytest.fixture
def share(tmp_path: Path, demo: Demo, catalogue: Catalogue) -> Iterator[Share]:
    """A server whose section of the share is the one that the first start's script appended, run twice by sh."""
    top, own = tmp_path / "games", tmp_path / "samba"
    top.mkdir()
    own.mkdir()
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    config = own / "smb.conf"
    folders = "".join(f"   {name} = {own}\n" for name in ("lock directory", "state directory", "cache directory"))
    folders += "".join(f"   {name} = {own}\n" for name in ("private dir", "pid directory", "ncalrpc dir"))
    config.write_text(
        f"[global]\n   smb ports = {port}\n   interfaces = lo\n   bind interfaces only = yes\n{folders}"
        f"   log file = {own}/log\n   disable netbios = yes\n   load printers = no",  # no line end, as hands leave it
        encoding="ascii",
    )
    build = edited(edited(demo.build, "boot.user", getpass.getuser()), "system.own_share", True)
    parts = first_boot.parts(build, catalogue.get(Image, "quayside"))
    text = next(part.text for part in parts if part.path == "system.own_share")
    text = text.replace("/etc/samba/smb.conf", str(config)).replace("path = /games", f"path = {top}")
    text = text.replace("systemctl", "false").replace("update-rc.d", "false")  # not this computer's services
    for _ in range(2):
        subprocess.run(["sh", "-e"], input=text, text=True, check=True)
    assert config.read_text(encoding="ascii").count("[games]") == 1
    subprocess.run(
        ["smbpasswd", "-c", config, "-a", "-s", getpass.getuser()],
        input=f"{PASSWORD}\n{PASSWORD}\n",
        text=True,
        check=True,
        capture_output=True,
    )
    words = [str(shutil.which("smbd", path=PATH)), "--foreground", "--no-process-group", "-s", str(config)]
    process = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True)
    try:
        nearby = LinuxNeighbourhood()
        for _ in range(200):
            if nearby.answers([("127.0.0.1", port)])[0]:
                break
            time.sleep(0.05)
        yield Share(port, top, config)
    finally:
        process.terminate()
        process.wait(30)


def test_games_go_over_the_share_that_the_first_start_makes(share: Share, demo: Demo, tmp_path: Path) -> None:
    """Written, listed, read back the same; names of every kind; nothing for the wrong word or for a guest."""
    game = tmp_path / "Velvet – Cipher (é) & 'co'.bin"
    game.write_bytes(bytes(range(256)) * 400)
    told = share.client(f'lcd "{tmp_path}"', "mkdir elm", "cd elm", f'put "{game.name}"')
    assert told.returncode == 0, told.stdout + told.stderr
    assert (share.top / "elm" / game.name).read_bytes() == game.read_bytes()
    told = share.client("cd elm", f'get "{game.name}" "{tmp_path}/back"')
    assert told.returncode == 0
    assert (tmp_path / "back").read_bytes() == game.read_bytes()
    for word in ("wrong", ""):
        told = share.client("ls", password=word)
        assert told.returncode != 0
        assert "LOGON_FAILURE" in told.stdout + told.stderr
    assert (share.top / "elm").stat().st_uid == os.geteuid()


def test_what_leads_out_of_the_share_stays_shut(share: Share, tmp_path: Path) -> None:
    """A link in the games folder to the rest of the machine is not followed."""
    (tmp_path / "secret").write_text("not a game", encoding="ascii")
    (share.top / "out").symlink_to(tmp_path)
    (share.top / "in").write_text("a game", encoding="ascii")
    assert share.client(f'get in "{tmp_path}/there"').returncode == 0
    told = share.client(f'get out/secret "{tmp_path}/taken"')
    assert told.returncode != 0
    assert not (tmp_path / "taken").exists()
