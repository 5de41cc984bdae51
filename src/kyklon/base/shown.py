"""Text from outside as it is shown: what would steer a terminal or turn a line round is a visible sign instead."""

from __future__ import annotations

# C0 as the control pictures of Unicode 15, chapter 22.7; C1, bidirectional controls (UAX #9) and halves of surrogate
# pairs as the replacement character
_SIGNS = {code: chr(0x2400 + code) for code in range(0x20)} | {0x7F: "\u2421"}
_SIGNS |= dict.fromkeys(
    (
        *range(0x80, 0xA0),
        0x200E,
        0x200F,
        0x061C,
        *range(0x202A, 0x202F),
        *range(0x2066, 0x206A),
        0x2028,
        0x2029,
        *range(0xD800, 0xE000),
    ),
    "\ufffd",
)
_WITH_LINES = {code: sign for code, sign in _SIGNS.items() if code not in (0x09, 0x0A)}
_IN_JSON = {code: f"\\u{code:04x}" for code in _SIGNS if code > 0x7E}


def visible(text: str, *, lines: bool = False) -> str:
    """The text with signs in place of controls. lines: line feeds and tabs stay what they are."""
    return text.translate(_WITH_LINES if lines else _SIGNS)


def visible_json(text: str) -> str:
    """A JSON document with what a terminal would obey written as escapes; the data stay the same."""
    return text.translate(_IN_JSON)
