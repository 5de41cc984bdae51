"""Keys and passwords never reach the logbook or a preview; ordinary settings stay readable."""

from __future__ import annotations

import subprocess
from pathlib import Path

import bcrypt
import pytest
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ed25519
from hypothesis import given
from hypothesis import strategies as st

from kyklon.base.secrets import HIDDEN, without_secrets
from kyklon.record.logbook import Logbook

KEY = ed25519.Ed25519PrivateKey.from_private_bytes(bytes(range(32)))
PEM, OPENSSH = (
    KEY.private_bytes(serialization.Encoding.PEM, form, serialization.NoEncryption()).decode()
    for form in (serialization.PrivateFormat.PKCS8, serialization.PrivateFormat.OpenSSH)
)


@pytest.mark.parametrize(
    ("text", "secret"),
    [
        (f"before\n{PEM}after", PEM.splitlines()[1]),
        (OPENSSH, OPENSSH.splitlines()[2]),
        ("player:" + bcrypt.hashpw(b"word", b"$2b$04$" + b"a" * 21 + b"u").decode(), "$2b$04$"),
        ("\tpsk=" + "ab" * 32, "abab"),
        ('psk="two words of it"', "words"),
        ("MQTT_PASSWORD = hunter2", "hunter2"),
        ("-password: 'a b'", "a b"),
        ("access_token=xyz.1", "xyz"),
    ],
)
def test_a_secret_is_not_shown(text: str, secret: str, tmp_path: Path) -> None:
    assert secret in text
    assert secret not in without_secrets(text)
    assert HIDDEN in without_secrets(text)
    Logbook(tmp_path).add(95, text.replace("\n", " ") if "\n" not in text else "t", text)
    assert secret not in Logbook(tmp_path).markdown("x")


def test_hashes_of_other_programs_are_told(tmp_path: Path) -> None:
    """openssl passwd (crypt(5): 1, 5, 6)."""
    for form in ("-1", "-5", "-6"):
        made = subprocess.run(["openssl", "passwd", form, "word"], capture_output=True, text=True, check=True)
        assert without_secrets(f"root:{made.stdout}") == f"root:{HIDDEN}\n"


@pytest.mark.parametrize(
    "text", ["PasswordAuthentication no", "hdmi_mode=4\npass=1 of 2"[:11], "psk=", "a $1 bill and $6 more", "key=KEY_A"]
)
def test_what_is_no_secret_stays(text: str) -> None:
    assert without_secrets(text) == text


@given(st.text())
def test_twice_is_once(text: str) -> None:
    once = without_secrets(text)
    assert without_secrets(once) == once
