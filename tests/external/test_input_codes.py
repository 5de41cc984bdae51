"""Event codes against the kernel's own header (Debian package linux-libc-dev, linux/input-event-codes.h) and mapping
strings against the parser of SDL 2 (as shipped in pygame-ce)."""

from __future__ import annotations

import ctypes
import glob
import re
from pathlib import Path

import pytest

from kyklon.base.errors import WrongUse
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Encoder
from kyklon.operations.controls import exports
from kyklon.operations.controls.mapping import axis_indexes, button_indexes, event_code
from test_controls import rig_for

HEADER = Path("/usr/include/linux/input-event-codes.h")


def header_codes() -> dict[str, int]:
    if not HEADER.exists():
        pytest.skip("linux-libc-dev is not installed")
    text = HEADER.read_text(encoding="utf-8")
    found = re.findall(r"^#define\s+((?:BTN|KEY|ABS)_\w+)\s+(0x[0-9a-fA-F]+|\d+)\b", text, re.MULTILINE)
    return {name: int(value, 0) for name, value in found}


def test_codes_of_every_terminal_are_the_kernels(catalogue: Catalogue) -> None:
    codes = header_codes()
    for encoder in catalogue.all(Encoder):
        for terminal in encoder.terminals:
            assert event_code(terminal.event) == codes[terminal.event.rstrip("+-")]


@pytest.mark.parametrize(  # linux/input-event-codes.h
    ("name", "code"),
    [
        ("BTN_TRIGGER", 0x120),
        ("BTN_SOUTH", 0x130),
        ("BTN_SELECT", 0x13A),
        ("BTN_START", 0x13B),
        ("BTN_MODE", 0x13C),
        ("BTN_DPAD_UP", 0x220),
        ("BTN_DPAD_RIGHT", 0x223),
        ("ABS_X", 0x00),
        ("ABS_HAT0X", 0x10),
    ],
)
def test_well_known_codes(name: str, code: int) -> None:
    assert event_code(name) == code
    assert header_codes().get(name, code) == code


def test_an_unknown_event_is_an_error() -> None:
    with pytest.raises(WrongUse, match="BTN_FIRE"):
        event_code("BTN_FIRE")


class Guid(ctypes.Structure):
    """SDL_JoystickGUID."""

    _fields_ = [("data", ctypes.c_uint8 * 16)]


@pytest.fixture(scope="module")
def sdl() -> ctypes.CDLL:
    """The SDL 2 library inside pygame-ce."""
    pygame = pytest.importorskip("pygame")
    folder = Path(pygame.__file__).parent
    names = glob.glob(str(folder.parent / "pygame_ce.libs" / "libSDL2-*")) + glob.glob(str(folder / "*SDL2-*"))
    if not names:
        pytest.skip("pygame-ce brings no SDL 2 here")
    library = ctypes.CDLL(names[0])
    library.SDL_GameControllerMappingForGUID.restype = ctypes.c_void_p
    library.SDL_GameControllerMappingForGUID.argtypes = [Guid]
    library.SDL_JoystickGetGUIDFromString.restype = Guid
    library.SDL_Init(0x2000)  # SDL_INIT_GAMECONTROLLER
    yield library
    library.SDL_Quit()


def fields_of(text: str) -> set[str]:
    return {field for field in text.split(",")[2:] if field and not field.startswith("platform")}


@pytest.mark.parametrize("panel_id", ["cocktail-pair", "single-eight"])
def test_sdl_takes_every_line_and_gives_it_back(catalogue: Catalogue, sdl: ctypes.CDLL, panel_id: str) -> None:
    """Buttons, axes with their signs, and hats."""
    kinds: set[str] = set()
    for encoder in catalogue.all(Encoder):
        hookup = rig_for(catalogue, panel_id, encoder.id)
        for player in range(1, len(hookup.layout.seats) + 1):
            text = exports.sdl_line(hookup, player)
            if not text:
                continue
            assert sdl.SDL_GameControllerAddMapping(text.encode()) in (0, 1)  # -1 is an error
            guid = sdl.SDL_JoystickGetGUIDFromString(text.split(",")[0].encode())
            back = ctypes.string_at(sdl.SDL_GameControllerMappingForGUID(guid)).decode()
            assert fields_of(text) <= set(back.split(","))
            kinds |= {field.partition(":")[2].lstrip("+-")[0] for field in fields_of(text)}
            if encoder.id == "tackle-pair":
                assert len(fields_of(text)) == 12  # six buttons, start, select, four directions
    assert kinds == {"a", "b", "h"}


def test_sdl_refuses_a_broken_mapping(sdl: ctypes.CDLL) -> None:
    """The check above can fail."""
    assert sdl.SDL_GameControllerAddMapping(b"no mapping at all") == -1


def test_the_guid_holds_bus_vendor_product_and_version(catalogue: Catalogue) -> None:
    encoder = catalogue.get(Encoder, "tackle-pair")
    guid = bytes.fromhex(exports.sdl_guid(encoder))
    words = [int.from_bytes(guid[at : at + 2], "little") for at in range(0, 16, 2)]
    assert words == [3, 0, encoder.vendor, 0, encoder.product, 0, encoder.version, 0]


def test_sdl_counts_joystick_buttons_before_those_below_them() -> None:
    order = button_indexes(["BTN_0", "BTN_SOUTH", "BTN_TRIGGER", "ABS_X+", "BTN_THUMB"])
    assert sorted(order, key=order.__getitem__) == ["BTN_TRIGGER", "BTN_THUMB", "BTN_SOUTH", "BTN_0"]
    assert axis_indexes(["ABS_Y-", "ABS_Y+", "ABS_X-", "ABS_RZ+"]) == {"ABS_X": 0, "ABS_Y": 1, "ABS_RZ": 2}


def test_a_keyboard_type_encoder_has_no_sdl_mapping(catalogue: Catalogue) -> None:
    assert exports.sdl_line(rig_for(catalogue, "cocktail-pair", "rowlock-32"), 1) == ""
