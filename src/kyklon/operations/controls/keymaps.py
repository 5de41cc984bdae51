"""Which key of the keyboard at hand is which key of the emulated machine: by position or by symbol; and the files that
say so: XKB symbols, hwdb, a matrix for the kernel."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from kyklon.base.shown import visible
from kyklon.catalogue.control_records import Key, Keyboard
from kyklon.operations.controls.mapping import event_code
from kyklon.operations.controls.matrix import Matrix

XKB_OFFSET = 8  # of an X keycode from the kernel's (X11: evdev keycodes)
_XKB_NAMES: Mapping[str, str] = {  # <AE01> and the like by the kernel's code; ISO/IEC 9995-1 rows E to A
    **{f"KEY_{number % 10}": f"AE{number:02}" for number in range(1, 11)},
    "KEY_MINUS": "AE11",
    "KEY_EQUAL": "AE12",
    "KEY_GRAVE": "TLDE",
    "KEY_BACKSPACE": "BKSP",
    "KEY_TAB": "TAB",
    **{f"KEY_{letter}": f"AD{number:02}" for number, letter in enumerate("QWERTYUIOP", 1)},
    "KEY_LEFTBRACE": "AD11",
    "KEY_RIGHTBRACE": "AD12",
    "KEY_BACKSLASH": "BKSL",
    "KEY_CAPSLOCK": "CAPS",
    **{f"KEY_{letter}": f"AC{number:02}" for number, letter in enumerate("ASDFGHJKL", 1)},
    "KEY_SEMICOLON": "AC10",
    "KEY_APOSTROPHE": "AC11",
    "KEY_ENTER": "RTRN",
    "KEY_LEFTSHIFT": "LFSH",
    **{f"KEY_{letter}": f"AB{number:02}" for number, letter in enumerate("ZXCVBNM", 1)},
    "KEY_COMMA": "AB08",
    "KEY_DOT": "AB09",
    "KEY_SLASH": "AB10",
    "KEY_RIGHTSHIFT": "RTSH",
    "KEY_LEFTCTRL": "LCTL",
    "KEY_LEFTALT": "LALT",
    "KEY_SPACE": "SPCE",
    "KEY_ESC": "ESC",
    "KEY_UP": "UP",
    "KEY_DOWN": "DOWN",
    "KEY_LEFT": "LEFT",
    "KEY_RIGHT": "RGHT",
    "KEY_F1": "FK01",
}
_KEYSYMS: Mapping[str, str] = {  # X11 keysymdef.h, Latin 1
    " ": "space",
    "!": "exclam",
    '"': "quotedbl",
    "#": "numbersign",
    "$": "dollar",
    "%": "percent",
    "&": "ampersand",
    "'": "apostrophe",
    "(": "parenleft",
    ")": "parenright",
    "*": "asterisk",
    "+": "plus",
    ",": "comma",
    "-": "minus",
    ".": "period",
    "/": "slash",
    ":": "colon",
    ";": "semicolon",
    "<": "less",
    "=": "equal",
    ">": "greater",
    "?": "question",
    "@": "at",
    "[": "bracketleft",
    "\\": "backslash",
    "]": "bracketright",
    "^": "asciicircum",
    "_": "underscore",
    "`": "grave",
    "{": "braceleft",
    "|": "bar",
    "}": "braceright",
    "~": "asciitilde",
}
_OWN_KEYSYMS: Mapping[str, str] = {  # keys that type nothing, by the kernel's code
    "KEY_ESC": "Escape",
    "KEY_BACKSPACE": "BackSpace",
    "KEY_TAB": "Tab",
    "KEY_CAPSLOCK": "Caps_Lock",
    "KEY_ENTER": "Return",
    "KEY_LEFTSHIFT": "Shift_L",
    "KEY_RIGHTSHIFT": "Shift_R",
    "KEY_LEFTCTRL": "Control_L",
    "KEY_LEFTALT": "Alt_L",
    "KEY_UP": "Up",
    "KEY_DOWN": "Down",
    "KEY_LEFT": "Left",
    "KEY_RIGHT": "Right",
    "KEY_F1": "F1",
}


@dataclass(frozen=True)
class KeyPair:
    """A key of the emulated machine and the key at hand for it, None where there is none. shift: it must be held with
    it. why: what is to be done without one."""

    target: Key
    own: Key | None
    shift: bool = False
    why: str = ""


def by_position(own: Keyboard, target: Keyboard) -> tuple[KeyPair, ...]:
    """Each key of the machine on the key that lies where it lies on a full keyboard; keys with no one there go to
    keys that are left over, from the nearest."""
    at = {key.code: key for key in own.keys}
    return _left_over(own, target, {key.id: KeyPair(key, at[key.code]) for key in target.keys if key.code in at})


def by_symbol(own: Keyboard, target: Keyboard) -> tuple[KeyPair, ...]:
    """Each key of the machine on the key that types what it types; a key that types nothing by its place."""
    signs: dict[str, tuple[Key, bool]] = {}
    for level in (1, 0):  # alone goes before with shift
        for key in own.keys:
            if len(key.signs) > level:
                signs[key.signs[level]] = key, level == 1
    at = {key.code: key for key in own.keys if not key.signs}
    found = {}
    for key in target.keys:
        if key.signs and key.signs[0] in signs:
            mine, shift = signs[key.signs[0]]
            found[key.id] = KeyPair(key, mine, shift)
        elif not key.signs and key.code in at:
            found[key.id] = KeyPair(key, at[key.code])
    return _left_over(own, target, found)


def _left_over(own: Keyboard, target: Keyboard, found: Mapping[str, KeyPair]) -> tuple[KeyPair, ...]:
    used = {pair.own.id for pair in found.values() if pair.own is not None}
    spare = [key for key in own.keys if key.id not in used and key.id != own.restore]
    pairs = []
    for key in target.keys:
        if key.id in found:
            pairs.append(found[key.id])
            continue
        near = min(spare, key=lambda each, key=key: (each.x - key.x) ** 2 + (each.y - key.y) ** 2, default=None)  # type: ignore[misc]
        if near is None:
            pairs.append(KeyPair(key, None, why="no key left: use the emulator's on-screen keyboard"))
        else:
            spare.remove(near)
            pairs.append(KeyPair(key, near, why=f"no key of its own: mapped to {near.label}"))
    return tuple(pairs)


def pairs_of(own: Keyboard, target: Keyboard, school: str) -> tuple[KeyPair, ...]:
    return by_symbol(own, target) if school == "symbol" else by_position(own, target)


def held_on(pairs: Iterable[KeyPair], held: Iterable[Iterable[str]]) -> tuple[tuple[str, ...], ...]:
    """Sets of the machine's keys as sets of the keys at hand; a key that is not reached is left out."""
    mine = {pair.target.id: pair.own.id for pair in pairs if pair.own is not None}
    return tuple(tuple(mine[key] for key in keys if key in mine) for keys in held)


def signs_lost(own: Keyboard, target: Keyboard, pairs: Iterable[KeyPair]) -> tuple[str, ...]:
    """Signs that the machine can type and that no key's print at hand shows at the same place: what the player will
    look for in vain."""
    lost = []
    for pair in pairs:
        shown = pair.own.signs if pair.own is not None else ()
        lost += [sign for level, sign in enumerate(pair.target.signs) if level >= len(shown) or shown[level] != sign]
    return tuple(lost)


def keysym(sign: str) -> str:
    """The keysym of a sign (X11 keysymdef.h); beyond Latin 1 as Unicode."""
    if sign in _KEYSYMS:
        return _KEYSYMS[sign]
    return sign if sign.isascii() and sign.isalnum() else f"U{ord(sign):04X}"


def xkb_symbols(own: Keyboard, target: Keyboard, pairs: Iterable[KeyPair], name: str = "kyklon") -> str:
    """An XKB symbols file under which the keys at hand type what the machine's keys type.

    A key that is used with shift gives its second level alone: each key at hand has one key of the machine on each
    level.
    """
    levels: dict[str, list[str]] = {}
    for pair in pairs:
        if pair.own is None or pair.own.code not in _XKB_NAMES:
            continue
        told = levels.setdefault(pair.own.code, ["NoSymbol", "NoSymbol"])
        wanted = [keysym(sign) for sign in pair.target.signs[:2]] or [_OWN_KEYSYMS.get(pair.target.code, "NoSymbol")]
        if pair.shift:
            told[1] = wanted[0]
        else:
            told[0] = wanted[0]
            if len(wanted) > 1 and told[1] == "NoSymbol":
                told[1] = wanted[1]
    lines = [f'xkb_symbols "{name}" {{', f'    name[Group1] = "{_quoted(target.name)} on {_quoted(own.name)}";']
    for code, told in sorted(levels.items(), key=lambda each: event_code(each[0])):
        shown = told if told[1] != "NoSymbol" else told[:1]
        if shown != ["NoSymbol"]:
            lines.append(f"    key <{_XKB_NAMES[code]}> {{ [ {', '.join(shown)} ] }};")
    lines.append("};")
    return "\n".join(lines) + "\n"


def _quoted(name: str) -> str:
    """A name inside an XKB string."""
    return visible(name).replace("\\", "/").replace('"', "'")


def hwdb(own: Keyboard, pairs: Iterable[KeyPair], vendor: int, product: int) -> str:
    """A hwdb entry that gives each key at hand the machine's code, by HID usage (hwdb(7); keyboard.hwdb; scan codes
    7xxxx are usages of the keyboard page, USB HID Usage Tables 10). It is bound to the keyboard's ids: without them it
    would change the keys of an encoder that speaks as a keyboard, too."""
    lines = [f"evdev:input:b0003v{vendor:04X}p{product:04X}*"]
    for pair in pairs:
        if pair.own is None or pair.shift or pair.own.code == pair.target.code:
            continue
        usage = _USAGES.get(pair.own.code)
        if usage is not None:
            lines.append(f" KEYBOARD_KEY_7{usage:04x}={pair.target.code.removeprefix('KEY_').lower()}")
    return "\n".join(lines) + "\n" if len(lines) > 1 else ""


_USAGES: Mapping[str, int] = {  # USB HID Usage Tables, page 07 Keyboard
    **{f"KEY_{letter}": 0x04 + number for number, letter in enumerate("ABCDEFGHIJKLMNOPQRSTUVWXYZ")},
    **{f"KEY_{number % 10}": 0x1D + number for number in range(1, 11)},
    "KEY_ENTER": 0x28,
    "KEY_ESC": 0x29,
    "KEY_BACKSPACE": 0x2A,
    "KEY_TAB": 0x2B,
    "KEY_SPACE": 0x2C,
    "KEY_MINUS": 0x2D,
    "KEY_EQUAL": 0x2E,
    "KEY_LEFTBRACE": 0x2F,
    "KEY_RIGHTBRACE": 0x30,
    "KEY_BACKSLASH": 0x31,
    "KEY_SEMICOLON": 0x33,
    "KEY_APOSTROPHE": 0x34,
    "KEY_GRAVE": 0x35,
    "KEY_COMMA": 0x36,
    "KEY_DOT": 0x37,
    "KEY_SLASH": 0x38,
    "KEY_CAPSLOCK": 0x39,
    "KEY_F1": 0x3A,
    "KEY_RIGHT": 0x4F,
    "KEY_LEFT": 0x50,
    "KEY_DOWN": 0x51,
    "KEY_UP": 0x52,
    "KEY_LEFTCTRL": 0xE0,
    "KEY_LEFTSHIFT": 0xE1,
    "KEY_LEFTALT": 0xE2,
    "KEY_RIGHTSHIFT": 0xE5,
}


def matrix_keymap(matrix: Matrix, own: Keyboard, pairs: Iterable[KeyPair]) -> str:
    """The cells of `linux,keymap` for a matrix on the header: row, column and code in one word each (device tree
    binding input/matrix-keymap: row << 24 | column << 16 | code)."""
    code_of = {pair.own.id: pair.target.code for pair in pairs if pair.own is not None and not pair.shift}
    rows = {pin: index for index, pin in enumerate(matrix.rows)}
    columns = {pin: index for index, pin in enumerate(matrix.columns)}
    cells = []
    for key_id, (row, column) in sorted(matrix.keys.items(), key=lambda each: (each[1], each[0])):
        key = own.key(key_id)
        code = code_of.get(key_id) or (key.code if key else None)
        if code is not None:
            cells.append(f"<0x{rows[row] << 24 | columns[column] << 16 | event_code(code):08x}>")
    return ",\n".join(cells) + "\n" if cells else ""


def table(pairs: Iterable[KeyPair]) -> str:
    """What is where, a line a key of the machine."""
    lines = []
    for pair in pairs:
        own = "not reached" if pair.own is None else f"{'Shift + ' if pair.shift else ''}{pair.own.label}"
        lines.append(f"{pair.target.label}\t{own}" + (f"\t{pair.why}" if pair.why else ""))
    return "\n".join(lines) + "\n"
