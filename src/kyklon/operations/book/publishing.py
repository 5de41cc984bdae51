"""What a copy to publish must not tell: addresses, logins, networks, keys, people's folders."""

from __future__ import annotations

import ipaddress
import re

from kyklon.base.secrets import without_secrets
from kyklon.model.build import Build

LEFT_OUT = "(left out)"
_LEAST = 3  # letters of a name that is looked for in every text; a shorter one stands in half of all words

_FORMS = (
    re.compile(r"\b[\w.+-]+@[\w-]+(?:\.[\w-]+)+\b"),  # mail addresses (RFC 5322, plain form)
    re.compile(r"(?<![\d.])(?:\d{1,3}\.){3}\d{1,3}(?:/\d{1,2})?(?![\d.])"),  # RFC 791
    re.compile(r"(?i)\b(?:[0-9a-f]{2}:){5}[0-9a-f]{2}\b"),  # IEEE 802 addresses
    re.compile(r"(?:ssh-(?:ed25519|rsa)|ecdsa-sha2-\S+) [A-Za-z0-9+/=]{20,}(?: \S+)?"),
    re.compile(r"(?:/home|/Users|/root|/media|/run/media)/[^\s:;,\"']*"),
    re.compile(r"//[\w.-]+/[\w./-]+"),  # shares of a network
)

_MAY_BE_6 = re.compile(r"(?i)(?<![0-9a-z:])[0-9a-f:]*:[0-9a-f]*:[0-9a-f:]*(?![0-9a-z:])")  # RFC 4291


def names_of(build: Build) -> tuple[str, ...]:
    """Values of a build that tell of its owner or the network, the longest first."""
    library, system = build.library, build.system
    found = {
        *(library.host, library.account, library.host_key, library.key_file, library.remote_folder),
        *(system.wireless_name, system.remote_key, system.wired, system.wireless_key, system.password_hash),
        *(part for share in system.shares for part in share.split("=")),
        *(build.boot.user, getattr(build.boot, "hostname", "")),
    }
    hexadecimal = {system.wireless_name.encode().hex()} if system.wireless_name else set[str]()
    usual = {"player", "root", "games"}  # what the shipped images call everybody's user
    long_enough = [each for each in {*found, *hexadecimal} - usual if len(each) >= _LEAST]
    return tuple(sorted(long_enough, key=len, reverse=True))


def published(text: str, names: tuple[str, ...]) -> str:
    """A text without secrets, without what is told by its form, and without the names."""
    text = without_secrets(text)
    for name in names:
        text = re.sub(rf"(?<!\w){re.escape(name)}(?!\w)", LEFT_OUT, text)
    for form in _FORMS:
        text = form.sub(LEFT_OUT, text)
    return _MAY_BE_6.sub(_without_6, text)


def _without_6(found: re.Match[str]) -> str:
    try:
        ipaddress.IPv6Address(found[0])
    except ValueError:
        return found[0]
    return LEFT_OUT
