"""The test card: the program's own drawing for measuring a picture on its glass, at any mode's own size.

Rulers grow from each edge of the picture towards its middle, numbered in the mode's pixels and lines: the first number
that is seen is what the glass hides there. The ring in the middle is round where pixels come out in the shape that the
mode expects. Three plates, each a picture: `measure`, `tones` and `lines`.
"""

from __future__ import annotations

from io import BytesIO
from typing import TYPE_CHECKING, Literal, get_args

from kyklon.base.errors import WrongUse
from kyklon.base.late import late
from kyklon.catalogue.records import Display
from kyklon.model.timing import Timing

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Picture = NDArray[np.uint8]  # shape (lines, pixels, 3), red, green and blue
else:
    np = late("numpy")

Plate = Literal["measure", "tones", "lines"]
PLATES: tuple[Plate, ...] = get_args(Plate)
GROUND, MESH, INK, MARK = (24, 30, 38), (70, 84, 96), (232, 226, 208), (236, 158, 92)
RULER = 0.12  # of the picture that a ruler is long: more than any bezel hides, CP
LARGEST = 8192  # pixels of an edge
# 3 x 5 dots a figure, row by row from the top
_DOTS = {
    "0": (7, 5, 5, 5, 7),
    "1": (2, 6, 2, 2, 7),
    "2": (7, 1, 7, 4, 7),
    "3": (7, 1, 7, 1, 7),
    "4": (5, 5, 7, 1, 1),
    "5": (7, 4, 7, 1, 7),
    "6": (7, 4, 7, 5, 7),
    "7": (7, 1, 1, 2, 2),
    "8": (7, 5, 7, 5, 7),
    "9": (7, 5, 7, 1, 7),
}


def card(timing: Timing, display: Display, plate: Plate = "measure") -> Picture:
    """A plate in the size of a timing, drawn for the shape of a display's glass. Raises WrongUse for a size that no
    display has, or a plate that there is not."""
    wide, high = timing.size
    if not (32 <= wide <= LARGEST and 32 <= high <= LARGEST):
        raise WrongUse(f"A test pattern of {wide} × {high} cannot be drawn; 32 to {LARGEST} each way.")
    shape = display.aspect[0] / display.aspect[1] * high / wide  # width to height of a pixel
    if plate == "measure":
        return _measure(wide, high, shape, display)
    if plate == "tones":
        return _tones(wide, high)
    if plate == "lines":
        return _lines(wide, high)
    raise WrongUse(f"No test pattern {plate!r}.", do=f"The test patterns are {', '.join(PLATES)}.")


def png(picture: Picture) -> bytes:
    """The picture as a PNG file."""
    from PIL import Image

    made = BytesIO()
    Image.fromarray(picture).save(made, "PNG", optimize=True)
    return made.getvalue()


def _blank(wide: int, high: int) -> Picture:
    return np.full((high, wide, 3), GROUND, np.uint8)


def _measure(wide: int, high: int, shape: float, display: Display) -> Picture:
    """Mesh, ring, cross, edge, the four rulers, and the edge of what the bezel is said to leave."""
    from PIL import Image, ImageDraw

    image = Image.fromarray(_blank(wide, high))
    pen = ImageDraw.Draw(image)
    down = high / 12
    across = down / shape
    middle = ((wide - 1) / 2, (high - 1) / 2)
    for index in range(-32, 33):
        x, y = round(middle[0] + index * across), round(middle[1] + index * down)
        if 0 <= x < wide:
            pen.line(((x, 0), (x, high - 1)), MESH)
        if 0 <= y < high:
            pen.line(((0, y), (wide - 1, y)), MESH)
    thick = max(1, round(wide / 640))
    radius = high * 0.4
    pen.ellipse(
        (middle[0] - radius / shape, middle[1] - radius, middle[0] + radius / shape, middle[1] + radius),
        outline=INK,
        width=thick,
    )
    edge = display.overscan_percent / 100
    if display.tube and edge:
        pen.rectangle((wide * edge, high * edge, wide * (1 - edge) - 1, high * (1 - edge) - 1), outline=MARK)
    pen.rectangle((0, 0, wide - 1, high - 1), outline=INK)
    picture = np.array(image)
    dot_y = max(1, high // 240)
    dot = max(1, round(dot_y / shape)), dot_y
    for view, beside in (
        (picture, False),
        (picture[:, ::-1], False),
        (picture.transpose(1, 0, 2), True),
        (picture[::-1].transpose(1, 0, 2), True),
    ):
        _ruler(view, dot, upright=beside)
    for left in (True, False):
        _numbers(picture, dot, left=left)
        _numbers_down(picture, dot, top=left)
    return picture


def _tick(length: int) -> int:
    """Pixels between two ticks: no more than sixty on a ruler."""
    return next((each for each in (1, 2, 5, 10, 20) if each * 60 >= length * RULER), 50)


def _ruler(view: Picture, dot: tuple[int, int], *, upright: bool) -> None:
    """The ticks from the left edge of a view of the picture; each tenth is marked. upright: the view is turned."""
    other, length = view.shape[:2]
    tick, middle, last = _tick(length), other // 2, round(length * RULER)
    thick = dot[0] if upright else dot[1]
    tall = 5 * thick
    view[middle - tall - thick : middle + thick, : last + 1] = GROUND
    for at in range(0, last + 1, tick):
        tenth, fifth = (at // tick) % 10 == 0, (at // tick) % 5 == 0
        view[middle - (tall if tenth else 3 * thick if fifth else 2 * thick) : middle, at] = MARK if tenth else INK


def _steps(length: int, room: int) -> range:
    """Numbers on a ruler: every tenth tick, or as many of them as have room. room: pixels that a number needs."""
    each = 10 * _tick(length)
    return range(0, round(length * RULER) + 1, each * max(1, -(-room // each)))


def _numbers(picture: Picture, dot: tuple[int, int], *, left: bool) -> None:
    """Below the ruler of the left or right edge."""
    high, wide = picture.shape[:2]
    longest = (4 * len(str(round(wide * RULER))) + 2) * dot[0]
    for at in _steps(wide, longest):
        across = (4 * len(str(at)) - 1) * dot[0]
        x = at if left else wide - 1 - at - across + 1
        _figures(picture, str(at), (x, high // 2 + 2 * dot[1]), dot)


def _numbers_down(picture: Picture, dot: tuple[int, int], *, top: bool) -> None:
    """Right of the ruler of the upper or lower edge."""
    high, wide = picture.shape[:2]
    for at in _steps(high, 7 * dot[1]):
        y = at if top else high - 1 - at - 5 * dot[1] + 1
        _figures(picture, str(at), (wide // 2 + 2 * dot[0], y), dot)


def _figures(view: Picture, text: str, at: tuple[int, int], dot: tuple[int, int]) -> None:
    x, y = at
    across, down = dot
    for letter in text:
        for row, bits in enumerate(_DOTS[letter]):
            for column in range(3):
                if bits >> (2 - column) & 1:
                    left, top = x + column * across, y + row * down
                    view[top : top + down, left : left + across] = INK
        x += 4 * across


def _tones(wide: int, high: int) -> Picture:
    """Greys in sixteen steps, the darkest and the brightest apart; ramps of the three colours; a field of each mixed
    one."""
    picture = _blank(wide, high)
    third = high // 3
    steps = np.round(np.floor(np.arange(wide) * 16 / wide) * 17).astype(np.uint8)
    picture[:third] = steps[None, :, None]
    ramp = np.round(np.linspace(0, 255, wide)).astype(np.uint8)
    band = max(1, third // 3)
    for colour in range(3):
        top = third + colour * band
        picture[top : top + band, :, :] = 0
        picture[top : top + band, :, colour] = ramp
    mixed = ((255, 255, 0), (0, 255, 255), (255, 0, 255), (255, 255, 255), (12, 12, 12), (243, 243, 243))
    for index, colour_of in enumerate(mixed):
        left, right = index * wide // len(mixed), (index + 1) * wide // len(mixed)
        picture[third + 3 * band :, left:right] = colour_of
    return picture


def _lines(wide: int, high: int) -> Picture:
    """Convergence and sharpness: crossed lines in red, green and blue on each other, single pixels and pairs, lines one
    and two apart."""
    picture = np.zeros((high, wide, 3), np.uint8)
    for index in range(1, 12):
        picture[index * high // 12] = 255
        picture[:, index * wide // 12] = 255
    box_w, box_h = max(8, wide // 6), max(8, high // 6)
    lefts, tops = (wide // 12, wide - wide // 12 - box_w), (high // 12, high - high // 12 - box_h)
    places = [(left, top) for top in tops for left in lefts]
    for index, (left, top) in enumerate(places):
        run = 1 if index < 2 else 2
        rows, columns = np.mgrid[0:box_h, 0:box_w]
        on = ((columns if index % 2 == 0 else rows) // run) % 2 == 0
        picture[top : top + box_h, left : left + box_w] = np.where(on[..., None], 255, 0)
    middle = high // 2
    for colour in range(3):
        picture[middle - high // 24 : middle + high // 24, :, colour] |= (
            (np.arange(wide) // max(1, wide // 24)) % 3 == colour
        ).astype(np.uint8)[None] * 255
    return picture
