"""What changed on a card since it was remembered, with debugfs and mtools as the hands that change it."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

import pytest

from external.test_on_root import ROOT, card_of
from kyklon.base.errors import FormatError, KyklonError, WrongUse
from kyklon.operations.card import changes

STATUS = (
    "Package: small\nStatus: install ok installed\nVersion: 1.0-1\nDescription: one\n more: of it\n\n"
    "Package: gone\nStatus: deinstall ok config-files\nVersion: 2\n\n"
    "Package: other\nStatus: install ok installed\nVersion: 3:4.5~rc1\n"
)
FILES = {
    "etc/hostname": b"cabinet\n",
    "etc/fstab": b"/dev/mmcblk0p2 / ext4 defaults 0 1\n",
    "etc/shadow": b"root:*:19000:0:99999:7:::\n",
    "etc/wireless.conf": b"ssid=HOME\npsk = abcdefgh\n# the key: none\n",
    "etc/blob.bin": b"\0\1\2" * 100,
    "usr/local/bin/fan": b"#!/bin/sh\necho 1\n",
    "usr/lib/not-looked-at": b"x",
    "home/player/.profile": b"startmenu\n",
    "var/lib/dpkg/status": STATUS.encode(),
}


def debugfs(card: Path, *requests: str) -> None:
    subprocess.run(
        ["debugfs", "-w", "-f", "-", f"{card}?offset={ROOT}"],
        input="\n".join(requests).encode(),
        check=True,
        capture_output=True,
    )


@pytest.fixture
def card(tmp_path: Path) -> Path:
    made = card_of(tmp_path, FILES)
    debugfs(made, "sif /etc/shadow mode 0100640")
    return made


def replaced(card: Path, path: str, data: bytes, tmp_path: Path) -> None:
    new = tmp_path / "new"
    new.write_bytes(data)
    debugfs(card, f"rm {path}", f"write {new} {path}", f"sif {path} mode 0100755")


def test_nothing_is_changed_where_nothing_was(card: Path, tmp_path: Path) -> None:
    changes.remember(tmp_path, changes.look(card, "2026-06-01"))
    told = changes.since(tmp_path, card, "2026-06-02")
    assert told.changes == ()
    assert told.whole
    assert told.before == told.now or (told.before.files == told.now.files and told.before.at == "2026-06-01")
    assert told.now.packages == {"small": "1.0-1", "other": "3:4.5~rc1"}
    assert "/usr/lib/not-looked-at" not in told.now.files


def test_every_kind_of_change_is_told_with_its_lines(card: Path, tmp_path: Path) -> None:
    changes.remember(tmp_path, changes.look(card, "2026-06-01"))
    replaced(card, "/etc/fstab", b"/dev/mmcblk0p2 / ext4 defaults,noatime 0 1\n", tmp_path)
    replaced(card, "/home/player/.xinitrc", b"exec menu\n", tmp_path)
    replaced(card, "/var/lib/dpkg/status", STATUS.replace("1.0-1", "1.1").encode(), tmp_path)
    debugfs(
        card,
        "rm /etc/hostname",
        "sif /usr/local/bin/fan mode 0100644",
        "symlink /etc/started /usr/local/bin/fan",
    )
    (tmp_path / "kernel.line").write_text("root=/dev/mmcblk0p2 rootwait quiet\n", encoding="ascii")
    subprocess.run(["mcopy", "-o", "-i", f"{card}@@1M", tmp_path / "kernel.line", "::/"], check=True)
    told = {(each.what, each.name): each for each in changes.since(tmp_path, card, "2026-06-02").changes}
    assert {key: each.change for key, each in told.items()} == {
        ("boot file", "kernel.line"): "changed",
        ("file", "/etc/fstab"): "changed",
        ("file", "/etc/hostname"): "gone",
        ("file", "/etc/started"): "new",
        ("file", "/home/player/.xinitrc"): "new",
        ("rights", "/usr/local/bin/fan"): "changed",
        ("package", "small"): "changed",
    }
    assert told["boot file", "kernel.line"].lines[-2:] == (
        "-root=/dev/mmcblk0p2 rootwait",
        "+root=/dev/mmcblk0p2 rootwait quiet",
    )
    assert "+/dev/mmcblk0p2 / ext4 defaults,noatime 0 1" in told["file", "/etc/fstab"].lines
    assert "-cabinet" in told["file", "/etc/hostname"].lines
    assert told["rights", "/usr/local/bin/fan"].detail == "-rwxr-xr-x 0:0 to -rw-r--r-- 0:0"
    assert told["package", "small"].detail == "1.0-1 to 1.1"
    words = changes.in_words(told.values())
    assert "≠ package small: 1.0-1 to 1.1" in words


def test_no_password_and_no_key_is_kept(card: Path, tmp_path: Path) -> None:
    kept = changes.remember(tmp_path, changes.look(card, "2026-06-01"))
    text = kept.read_text(encoding="utf-8")
    assert "99999" not in text  # not everybody may read that file
    assert "abcdefgh" not in text
    assert "ssid=HOME" in text
    replaced(card, "/etc/wireless.conf", b"ssid=HOME\npsk = qrstuvwx\n# the key: none\n", tmp_path)
    debugfs(card, "rm /etc/shadow")
    replaced(card, "/etc/shadow", b"root:changed:19000:0:99999:7:::\n", tmp_path)
    debugfs(card, "sif /etc/shadow mode 0100640")
    told = changes.since(tmp_path, card, "2026-06-02")
    assert {each.name for each in told.changes} == {"/etc/wireless.conf", "/etc/shadow"}
    assert "qrstuvwx" not in changes.in_words(told.changes)
    shadow = next(each for each in told.changes if each.name == "/etc/shadow")
    assert "not everybody may read it" in shadow.detail


def test_what_cannot_be_read_is_said_and_not_taken_for_gone(card: Path, tmp_path: Path) -> None:
    with pytest.raises(WrongUse, match="not remembered"):
        changes.since(tmp_path, card, "x")
    file = changes.remember(tmp_path, changes.look(card, "2026-06-01"))
    row = json.loads(file.read_text(encoding="utf-8"))
    row["files"]["/etc/fstab"]["text"] = 5
    file.write_text(json.dumps(row), encoding="utf-8")
    with pytest.raises(FormatError, match="text"):
        changes.since(tmp_path, card, "x")
    changes.remember(tmp_path, changes.look(card, "2026-06-01"))
    with card.open("r+b") as hand:
        hand.seek(ROOT + 1024)
        hand.write(bytes(1024))  # the root's super block
    told = changes.since(tmp_path, card, "x")
    assert told.now.not_read
    assert not told.now.root_seen
    assert not told.whole
    assert not any(each.name.startswith("/") or each.what == "package" for each in told.changes)
    empty = tmp_path / "empty.img"
    empty.write_bytes(bytes(1 << 20))
    with pytest.raises(KyklonError):
        changes.look(empty, "x")
