"""The script of the first start, run for real, and the files it leaves, read by those they are for.

Outside references: a real kernel with busybox (package user-mode-linux); dash(1) -n; sshd(8) -t and visudo(8) -c where
they are installed; IEEE 802.11i-2004, annex H.4 (the published test vectors of the pass-phrase mapping, from memory).
"""

from __future__ import annotations

import ctypes
import os
import shutil
import subprocess
from pathlib import Path

import pytest

from judges import cards, kernel
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build, edited
from kyklon.model.system import network_key
from kyklon.model.world import World
from kyklon.operations.boot import first_boot
from kyklon.operations.boot.compile import compiled
from kyklon.operations.boot.findings import findings
from kyklon.operations.card.volumes import contents
from support import Demo

KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIBhzQm7Zp1Xn0QmY0XoV2m3tq5m7yqk0l9i3n4o5p6q7 player@workshop"
EVERY = {
    "system.time_zone": "Europe/Dublin",
    "system.keyboard": "gb",
    "system.wireless_name": "quay 'a' \"b\" $(c) é",
    "system.wireless_key": "a Wi-Fi password",
    "system.wired": "10.0.0.7/24 10.0.0.1",
    "system.remote_key": KEY,
    "system.remote_boot": True,
    "system.password_hash": "a word for the door",
    "system.own_share": True,
    "system.may_shut_down": True,
    "system.shares": ["//attic/games=attic"],
    "system.start_command": "echo 'it''s on' >> /tmp/on",
    "system.library_links": ["libzest.so.1=libzest.so.1.4"],
}


def whole(build: Build) -> Build:
    for path, value in EVERY.items():
        build = edited(build, path, value)
    return edited(build, "boot.country", "IE")


@pytest.mark.parametrize(
    ("phrase", "name", "key"),
    [
        ("password", "IEEE", "f42c6fc52df0ebef9ebb4b90b38a5f902e83fe1b135a70e23aed762e9710a12e"),
        ("ThisIsAPassword", "ThisIsASSID", "0dc0d6eb90555ed6419756b9a15ec3e3209b63df707dd508d14581f8982721af"),
    ],
)
def test_a_pass_phrase_becomes_the_published_key(phrase: str, name: str, key: str) -> None:
    assert network_key(phrase, name) == key


def test_a_pass_phrase_is_kept_nowhere(demo: Demo) -> None:
    build = whole(demo.build)
    assert "a Wi-Fi password" not in build.model_dump_json()
    assert (len(build.system.wireless_key), build.system.key_for) == (64, EVERY["system.wireless_name"])
    other = edited(build, "system.wireless_name", "another")
    assert other.system.key_for != "another"  # told as a stop
    for bad in ("short", "x" * 64, "é" * 10):
        with pytest.raises(ValueError, match="8 to 63 characters"):
            edited(build, "system.wireless_key", bad)


def test_a_password_is_kept_as_crypt_keeps_it_and_nowhere_in_clear(demo: Demo) -> None:
    """crypt(3) of this computer's C library agrees with the hash; the same word twice has two hashes."""
    build = edited(demo.build, "system.password_hash", "a word for the door")
    held = build.system.password_hash
    assert "a word for the door" not in build.model_dump_json()
    assert edited(build, "system.keyboard", "gb").system.password_hash == held  # hashed once
    assert edited(demo.build, "system.password_hash", "a word for the door").system.password_hash != held
    crypt = ctypes.CDLL("libcrypt.so.1").crypt
    crypt.restype = ctypes.c_char_p
    assert crypt(b"a word for the door", held.encode()) == held.encode()
    assert crypt(b"another word", held.encode()) != held.encode()
    for bad in ("short", "x" * 73, "tab\tinside it"):
        with pytest.raises(ValueError, match="8 to 72 characters"):
            edited(demo.build, "system.password_hash", bad)


@pytest.mark.skipif(shutil.which("visudo") is None, reason="visudo is not installed")
def test_the_rule_for_boot_files_is_one(tmp_path: Path) -> None:
    (tmp_path / "rule").write_text(first_boot.boot_sudoers("player"), encoding="ascii")
    subprocess.run(["visudo", "-c", "-f", tmp_path / "rule"], check=True)


@pytest.mark.skipif(shutil.which("testparm") is None, reason="Samba's testparm is not installed")
def test_the_share_is_one(tmp_path: Path, catalogue: Catalogue) -> None:
    section = first_boot.share_section(catalogue.get(Image, "quayside"), "player")
    (tmp_path / "smb.conf").write_text(f"[global]\n{section}", encoding="ascii")
    told = subprocess.run(["testparm", "-s", tmp_path / "smb.conf"], capture_output=True, text=True, check=True).stdout
    assert "path = /games" in told


@pytest.mark.parametrize(
    ("path", "value"),
    [
        ("system.time_zone", "../../etc/shadow"),
        ("system.time_zone", "a;b"),
        ("system.keyboard", "gb;x"),
        ("system.wired", "999.0.0.1/24"),
        ("system.wired", "10.0.0.1/24;x"),
        ("system.remote_key", "ssh-rsa x'y"),
        ("system.shares", ["//a/b c"]),
        ("system.shares", ["//a/$(x)"]),
        ("system.library_links", ["a.so=b;c"]),
        ("system.start_command", "one\ntwo"),
        ("system.wireless_name", "x" * 33),
        ("system.wireless_name", "é" * 17),
        ("system.wireless_name", "a\nb"),
    ],
)
def test_what_would_run_by_itself_in_a_script_is_refused(path: str, value: object, demo: Demo) -> None:
    with pytest.raises(ValueError, match=r"cannot be|at most 32 bytes"):
        edited(demo.build, path, value)


def test_the_script_is_one_and_every_line_of_it_has_its_decision(
    demo: Demo, catalogue: Catalogue, tmp_path: Path
) -> None:
    build = whole(demo.build)
    file = compiled(build, catalogue, {})[-1]
    assert file.path == "first-boot.sh"
    assert {line.path for line in file.lines if line.path} == set(EVERY) - {"system.wireless_key"}
    assert file.text == first_boot.text_of(first_boot.parts(build, catalogue.get(Image, "quayside")))
    (tmp_path / "script").write_text(file.text, encoding="utf-8")
    subprocess.run(["dash", "-n", tmp_path / "script"], check=True)
    kept = {"first-boot.sh": "#!/bin/sh\n# another hand's\n"}
    assert "first-boot.sh" not in {each.path for each in compiled(whole(demo.build), catalogue, kept)}
    emptied = compiled(demo.build, catalogue, {"first-boot.sh": file.text})[-1]
    assert emptied.text == first_boot.HEAD
    other = whole(demo.build).with_part("image", "slipway")
    codes = {finding.code for finding in findings(other, catalogue, World())}
    assert "boot.no-system" in codes
    foreign = catalogue.get(Image, "quayside").model_copy(update={"first_boot_script": ""})
    script = first_boot.by_hand(build, foreign)
    subprocess.run(["dash", "-n"], input=script, text=True, check=True)
    assert all(part.text in script for part in first_boot.parts(build, catalogue.get(Image, "quayside")))
    assert not first_boot.by_hand(build, catalogue.get(Image, "quayside")), "it runs its own"


@pytest.mark.skipif(not kernel.available(), reason="user-mode-linux and busybox are not installed")
def test_a_real_start_runs_the_script_once_and_leaves_what_was_decided(
    demo: Demo, catalogue: Catalogue, tmp_path: Path
) -> None:
    card = cards.copied(cards.whole_card(tmp_path / "made"), tmp_path / "card.img")
    script = compiled(whole(demo.build), catalogue, {})[-1].text
    cards.put_fat(card, "first-boot.sh", script.encode())
    (tmp_path / "script").write_text(script, encoding="utf-8")  # the judge knows no FAT: /boot is a folder of the root
    cards.debugfs(
        card,
        f"write {tmp_path}/script /boot/first-boot.sh",
        "mkdir /usr/lib",
        "mkdir /usr/share",
        "write /dev/null /usr/lib/libzest.so.1.4",
    )
    booted = kernel.boot(card, cards.LINE)
    assert booted.stage == "front end", booted.said
    told = contents.observe(card)
    assert told.root is not None
    assert told.root.first_started

    def left(path: str) -> str:
        done = subprocess.run(
            ["debugfs", "-R", f"cat {path}", f"{card}?offset={cards.ROOT}"], capture_output=True, text=True, check=True
        )
        return done.stdout

    def mode(path: str) -> str:
        done = subprocess.run(
            ["debugfs", "-R", f"stat {path}", f"{card}?offset={cards.ROOT}"], capture_output=True, text=True, check=True
        )
        return done.stdout.partition("Mode:")[2].split()[0]

    setup = whole(demo.build).system
    assert left("/etc/timezone") == "Europe/Dublin\n"
    assert left("/etc/default/keyboard") == 'XKBLAYOUT="gb"\n'
    network = left("/etc/wpa_supplicant/wpa_supplicant.conf")
    assert f"ssid={setup.wireless_name.encode().hex()}\n\tpsk={setup.wireless_key}\n" in network
    assert network.startswith("country=IE\n")
    assert mode("/etc/wpa_supplicant/wpa_supplicant.conf") == "0600"
    assert "Address=10.0.0.7/24\nGateway=10.0.0.1\n" in left("/etc/systemd/network/10-wired.network")
    assert left("/home/player/.ssh/authorized_keys") == f"{KEY}\n"
    assert (mode("/home/player/.ssh/authorized_keys"), mode("/home/player/.ssh")) == ("0600", "0700")
    assert mode("/etc/sudoers.d/games") == "0440"
    assert left("/etc/fstab").count("//attic/games /games/attic cifs") == 1
    lines = left("/etc/rc.local").split("\n")
    assert lines.index(EVERY["system.start_command"]) < lines.index("exit 0")
    assert (
        "libzest.so.1.4"
        in subprocess.run(
            ["debugfs", "-R", "stat /usr/lib/libzest.so.1", f"{card}?offset={cards.ROOT}"],
            capture_output=True,
            text=True,
            check=True,
        ).stdout
    )
    judges = (("visudo", "/etc/sudoers.d/games", ("-cf",)), ("sshd", "/etc/ssh/sshd_config.d/10-kyklon.conf", ("-tf",)))
    for tool, path, words in judges:
        program = shutil.which(tool, path="/usr/sbin:/usr/bin:/sbin:/bin")
        if program:
            (tmp_path / tool).write_text(left(path), encoding="utf-8")
            (tmp_path / tool).chmod(0o440)
            if tool == "sshd" and os.geteuid() == 0:
                Path("/run/sshd").mkdir(exist_ok=True)  # as its service does
            done = subprocess.run([program, *words, tmp_path / tool], capture_output=True, text=True, check=False)
            assert done.returncode == 0 or "no hostkeys available" in done.stderr, done
