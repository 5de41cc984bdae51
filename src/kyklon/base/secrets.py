"""Keys and passwords are told by their form, so that none leaves in what is shown, logged or published.

Forms: wpa_supplicant.conf(5); crypt(5); OpenSSH and PEM private keys (RFC 7468); `name = value` lines whose name says
password, passphrase, secret or token, common practice.
"""

from __future__ import annotations

import re

HIDDEN = "(not shown)"

_FORMS: tuple[tuple[re.Pattern[str], str], ...] = (
    (re.compile(r"-----BEGIN [A-Z0-9 ]*PRIVATE KEY-----.*?(-----END [A-Z0-9 ]*PRIVATE KEY-----|\Z)", re.DOTALL), ""),
    (re.compile(r"\$(?:1|2[abxy]|5|6|7|y|gy|sha1|md5)\$[./A-Za-z0-9$=,]{8,}"), ""),
    # a value in quotes to its end, else to the end of its line; what is empty already stays
    (
        re.compile(
            r"(?im)(\b(?:psk|sae_password|wep_key\d?|(?:\w*[_-])?pass(?:word|phrase|wd)?|(?:\w*[_-])?secret|"
            r"(?:\w*[_-])?token|api[_-]?key)[\"']?[ \t]*[=:][ \t]*)(\"[^\"\n]+\"|'[^'\n]+'|[^\s\"'][^\n]*)"
        ),
        r"\1",
    ),
)


def without_secrets(text: str) -> str:
    """The text with `(not shown)` in place of every key or password in it."""
    for form, kept in _FORMS:
        text = form.sub(kept + HIDDEN, text)
    return text
