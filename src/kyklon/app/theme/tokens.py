"""The one table of colours and sizes; style sheet and painting read it."""

from __future__ import annotations

import weakref
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TypeVar

from PyQt6 import sip
from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QColor, QFont


@dataclass(frozen=True)
class Palette:
    """Colours as #RRGGBB. *_soft are fills behind ink; glass and bezel belong to drawn displays."""

    ground: str
    sheet: str
    field: str
    ink: str
    muted: str
    hairline: str
    grid: str
    teal: str
    teal_soft: str
    on_teal: str
    amber: str
    amber_soft: str
    red: str
    red_soft: str
    glass: str = "#0C1113"
    bezel: str = "#2A3336"
    phosphor: str = "#D9E6E4"


LIGHT = Palette(
    ground="#EFECE4",
    sheet="#FAF8F3",
    field="#FFFFFF",
    ink="#1B2327",
    muted="#5E686E",
    hairline="#D3CEC1",
    grid="#E2DDD1",
    teal="#0E5A61",
    teal_soft="#D9E6E4",
    on_teal="#FFFFFF",
    amber="#8F5908",
    amber_soft="#F3E6CC",
    red="#A8341C",
    red_soft="#F2DAD1",
)
DARK = Palette(
    ground="#14191B",
    sheet="#1C2326",
    field="#12171A",
    ink="#E9E6DE",
    muted="#9BA5A8",
    hairline="#353E41",
    grid="#293134",
    teal="#6FC1C4",
    teal_soft="#1F3B3E",
    on_teal="#0B1517",
    amber="#E0A84E",
    amber_soft="#3B301B",
    red="#EC8067",
    red_soft="#43241D",
)

# black and white, and colours of at least 7 to 1 (WCAG 2.1, 1.4.6), for whoever needs more contrast
LIGHT_CONTRAST = replace(
    LIGHT,
    ground="#FFFFFF",
    sheet="#FFFFFF",
    ink="#000000",
    muted="#2E3538",
    hairline="#3A4144",
    grid="#8A9194",
    teal="#00454B",
    teal_soft="#DDEDEB",
    amber="#5F3A00",
    amber_soft="#FAF0DC",
    red="#84200C",
    red_soft="#FBE9E4",
)
DARK_CONTRAST = replace(
    DARK,
    ground="#000000",
    sheet="#000000",
    field="#000000",
    ink="#FFFFFF",
    muted="#D5DADB",
    hairline="#B9C0C2",
    grid="#6F777A",
    teal="#8FE0E2",
    teal_soft="#12292B",
    on_teal="#000000",
    amber="#F3C377",
    amber_soft="#2A2110",
    red="#FFA793",
    red_soft="#33170F",
)

SIZES = {"body": 13, "label": 12, "small": 12, "section": 15, "title": 22, "number": 26, "figure": 13, "big": 28}  # px
TEXT, HEAD, MONO = "Barlow", "Barlow Condensed", "IBM Plex Mono"


ReceiverT = TypeVar("ReceiverT", bound=QObject)


class Theme(QObject):
    """The palette in force and the text scale (1.0 to 2.0).

    still: nothing moves by itself, as the desktop asks. own: whether light or dark was chosen here; else it follows
    the desktop.
    """

    changed = pyqtSignal()

    def __init__(self, *, dark: bool = False, scale: float = 1.0, contrast: bool = False) -> None:
        super().__init__()
        self._dark, self._scale, self._contrast = dark, scale, contrast
        self.still = self.own = False

    def tell(self, receiver: ReceiverT, act: Callable[[ReceiverT], object]) -> None:
        """Call `act` with the receiver at every change, for as long as it is there. A theme outlives pages and windows,
        and Qt takes only connections to methods written in Python back when their object goes."""
        held = weakref.ref(receiver)

        def told() -> None:
            own = held()
            if own is None or sip.isdeleted(own):
                self.changed.disconnect(told)
            else:
                act(own)

        self.changed.connect(told)

    @property
    def dark(self) -> bool:
        return self._dark

    @property
    def scale(self) -> float:
        return self._scale

    @property
    def palette(self) -> Palette:
        if self._contrast:
            return DARK_CONTRAST if self._dark else LIGHT_CONTRAST
        return DARK if self._dark else LIGHT

    @property
    def contrast(self) -> bool:
        return self._contrast

    def set_contrast(self, contrast: bool) -> None:
        if contrast != self._contrast:
            self._contrast = contrast
            self.changed.emit()

    def set_dark(self, dark: bool) -> None:
        if dark != self._dark:
            self._dark = dark
            self.changed.emit()

    def set_scale(self, scale: float) -> None:
        scale = min(2.0, max(1.0, scale))
        if scale != self._scale:
            self._scale = scale
            self.changed.emit()

    def color(self, token: str, alpha: int = 255) -> QColor:
        """A palette colour; alpha 0 to 255."""
        color = QColor(getattr(self.palette, token))
        color.setAlpha(alpha)
        return color

    def px(self, size: float) -> float:
        """A length at 100 % in this scale's pixels."""
        return size * self._scale

    def font(self, role: str = "body", *, family: str = TEXT, weight: int = 400) -> QFont:
        """A font in one of SIZES; weight 400, 500 or 600."""
        font = QFont(family)
        font.setPixelSize(round(SIZES[role] * self._scale))
        font.setWeight(QFont.Weight(weight))
        if family == MONO:
            font.setFeature(QFont.Tag(b"zero"), 0)
        return font

    def mono(self, role: str = "figure", weight: int = 400) -> QFont:
        return self.font(role, family=MONO, weight=weight)

    def head(self, role: str, weight: int = 600) -> QFont:
        return self.font(role, family=HEAD, weight=weight)
