"""How the system on the card is set up beyond its boot files."""

from __future__ import annotations

import hashlib
import re
from typing import Annotated, Any

from pydantic import StringConstraints, model_validator

from kyklon.model.described import described
from kyklon.model.record import Record

_KEY = re.compile(r"[0-9a-f]{64}")
MOST_NAME = 32  # bytes: IEEE 802.11, SSID element
ROUNDS = 4096  # IEEE 802.11i, annex M.4
_BYTE = r"(25[0-5]|2[0-4]\d|1?\d?\d)"
_ADDRESS = rf"{_BYTE}(\.{_BYTE}){{3}}"
_TYPES = r"(ssh-ed25519|ssh-rsa|ecdsa-sha2-nistp(256|384|521)|sk-(ssh-ed25519|ecdsa-sha2-nistp256)@openssh\.com)"

# kept to plain letters: they come to stand in a script
Share = Annotated[str, StringConstraints(pattern=r"^//[A-Za-z0-9.-]+(/[A-Za-z0-9._$-]+)+(=[A-Za-z0-9._-]+)?$")]
AddOnId = Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9-]{0,63}$")]
LibraryLink = Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9._+-]+\.so[0-9.]*=[A-Za-z0-9._+-]+$")]


def network_key(phrase: str, name: str) -> str:
    """The key of a network in 64 hexadecimal digits, from its pass phrase of 8 to 63 characters and its name (IEEE
    802.11i, annex M.4: PBKDF2 with HMAC-SHA1)."""
    return hashlib.pbkdf2_hmac("sha1", phrase.encode(), name.encode(), ROUNDS, 32).hex()


_HASH = re.compile(r"\$2b\$\d\d\$[./A-Za-z0-9]{53}")
_COST = 10  # bcrypt: 2^10 rounds, its library's usual is 12; a board of this kind takes seconds for more (CP)
MOST_PASSWORD = 72  # bytes that bcrypt looks at


def _hashed(word: Any) -> Any:
    """A password as crypt(5) keeps it, by bcrypt; what is one already, or no text, stays. Raises ValueError."""
    if not isinstance(word, str) or not word or _HASH.fullmatch(word):
        return word
    data = word.encode("utf-8", "surrogatepass")
    if not 8 <= len(data) <= MOST_PASSWORD or not word.isprintable():
        raise ValueError(f"a password has 8 to {MOST_PASSWORD} characters")
    import bcrypt

    return bcrypt.hashpw(data, bcrypt.gensalt(_COST, b"2b")).decode("ascii")


class SystemSetup(Record):
    """wireless_key: 64 hexadecimal digits; a pass phrase becomes them at once, so that it is kept nowhere. key_for: the
    name that it was made for. wired: an address with its prefix and perhaps a gateway, '' to be given one."""

    time_zone: str = described("Time zone", "", pattern=r"^([A-Za-z_+-]+(/[A-Za-z0-9_+-]+)*)?$", hint="Europe/Dublin")
    keyboard: str = described("Keyboard", "", pattern=r"^([a-z]{2,10})?$", hint="gb, us, de")
    wireless_name: str = described("Wi-Fi network (SSID)", "", pattern=r"^[^\x00-\x1f\x7f]{0,32}$")
    wireless_key: str = described("Wi-Fi password", "", secret=True, pattern=r"^([0-9a-f]{64})?$")
    key_for: str = ""
    wired: str = described(
        "Wired address",
        "",
        pattern=rf"^({_ADDRESS}/([89]|[12]\d|30)( {_ADDRESS})?)?$",
        hint="10.0.0.7/24 10.0.0.1",
    )
    remote_key: str = described(
        "SSH key",
        "",
        pattern=rf"^({_TYPES} [A-Za-z0-9+/]{{40,800}}={{0,2}}( [\w@.-]{{1,64}})?)?$",
        hint="ssh-ed25519 …",
    )
    remote_boot: bool = described("Login may change boot files", False)
    password_hash: str = described(
        "Password of the user", "", secret=True, pattern=r"^(\$2b\$\d\d\$[./A-Za-z0-9]{53})?$"
    )
    own_share: bool = described("Shares its games", False)
    may_shut_down: bool = described("Menu can shut down", False)
    shares: tuple[Share, ...] = described("Network shares", (), hint="//server/games")
    start_command: str = described("Command at boot", "", pattern=r"^[^\x00-\x1f\x7f]{0,200}$")
    add_ons: tuple[AddOnId, ...] = described("Add-ons", (), hint="fan-by-heat")
    library_links: tuple[LibraryLink, ...] = described("Library links", (), hint="libx.so.1=libx.so.1.4")

    @model_validator(mode="after")
    def _name_fits(self) -> SystemSetup:
        if len(self.wireless_name.encode("utf-8", "surrogatepass")) > MOST_NAME:
            raise ValueError(f"a network's name has at most {MOST_NAME} bytes")
        return self

    @model_validator(mode="before")
    @classmethod
    def _no_phrase(cls, data: Any) -> Any:
        """A pass phrase never comes to rest."""
        if not isinstance(data, dict):
            return data
        data = {**data, "password_hash": _hashed(data.get("password_hash", ""))}
        key, name = data.get("wireless_key", ""), data.get("wireless_name", "")
        if not isinstance(key, str) or not isinstance(name, str) or not key or _KEY.fullmatch(key):
            return data
        if not name:
            raise ValueError("enter the SSID first; the key is derived from the SSID and the password")
        if not 8 <= len(key) <= 63 or not key.isascii() or not key.isprintable():
            raise ValueError("a Wi-Fi password has 8 to 63 characters")
        return {**data, "wireless_key": network_key(key, name), "key_for": name}
