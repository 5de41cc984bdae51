"""The style sheet, made from the tokens."""

from __future__ import annotations

from importlib import resources

from jinja2 import Environment
from PyQt6.QtGui import QFontDatabase

from kyklon.app.theme.tokens import HEAD, MONO, SIZES, TEXT, Theme

FONTS = (
    "Barlow_400Regular", "Barlow_500Medium", "Barlow_600SemiBold", "BarlowCondensed_500Medium",
    "BarlowCondensed_600SemiBold", "IBMPlexMono_400Regular", "IBMPlexMono_500Medium",
)  # fmt: skip

_SHEET = Environment(autoescape=False).from_string(
    """
* { font-family: "{{ text }}"; font-size: {{ body }}px; color: {{ c.ink }}; outline: none; }
QMainWindow, QDialog, #centre, #findings, #pages { background: {{ c.ground }}; }
QToolTip { background: {{ c.ink }}; color: {{ c.sheet }}; border: 0; padding: 4px 8px; }
#topbar { background: {{ c.sheet }}; border-bottom: 2px solid {{ c.hairline }}; }
#divider { background: {{ c.hairline }}; }
#bottombar { background: {{ c.sheet }}; border-top: 2px solid {{ c.hairline }}; }
#routecard { background: {{ c.ground }}; border-right: 2px solid {{ c.hairline }}; }
[role="sheet"] { background: {{ c.sheet }}; border: 1px solid {{ c.hairline }}; border-radius: 4px; }
[role="section"] { font-size: {{ section }}px; font-weight: 600; }
[role="title"] { font-size: {{ title }}px; font-weight: 600; }
[role="number"] { font-family: "{{ head }}"; font-size: {{ number }}px; font-weight: 600; color: {{ c.teal }}; }
[role="caption"] { font-family: "{{ head }}"; font-size: {{ label }}px; font-weight: 600; color: {{ c.muted }}; }
[role="muted"] { color: {{ c.muted }}; }
[role="small"] { font-size: {{ label }}px; color: {{ c.muted }}; }
[role="strong"] { font-weight: 600; }
[role="mono"] { font-family: "{{ mono }}"; }
[role="big"] { font-family: "{{ head }}"; font-size: {{ big }}px; font-weight: 600; }
[role="stop"] { color: {{ c.red }}; font-weight: 600; }
[role="caution"] { color: {{ c.amber }}; font-weight: 600; }
[role="good"] { color: {{ c.teal }}; font-weight: 600; }
[role="warning"] { background: {{ c.amber_soft }}; border-left: 3px solid {{ c.amber }}; padding: 5px 8px; }
QPushButton { background: transparent; border: 1px solid {{ c.hairline }}; border-radius: 4px; padding: 5px 12px; font-weight: 500; }
QPushButton:hover { background: {{ c.teal_soft }}; }
QPushButton:focus, QComboBox:focus, QLineEdit:focus, QSpinBox:focus, QPlainTextEdit:focus { border: 2px solid {{ c.teal }}; }
QPushButton:disabled { color: {{ c.muted }}; border-color: {{ c.grid }}; }
QPushButton[kind="primary"] { background: {{ c.teal }}; color: {{ c.on_teal }}; border: 2px solid {{ c.teal }}; font-weight: 600; padding: 7px 16px; }
QPushButton[kind="primary"]:hover { background: {{ c.ink }}; color: {{ c.sheet }}; }
QPushButton[kind="primary"]:focus { border: 2px solid {{ c.ink }}; }
QPushButton[kind="primary"]:disabled { background: {{ c.grid }}; color: {{ c.muted }}; border-color: {{ c.grid }}; }
QPushButton[kind="outline"] { border: 1.5px solid {{ c.teal }}; color: {{ c.teal }}; font-weight: 600; }
QPushButton[kind="outline"]:disabled { border-color: {{ c.grid }}; color: {{ c.muted }}; }
QPushButton[kind="quiet"] { border: 1px solid transparent; padding: 4px 6px; }
QPushButton[kind="quiet"]:hover { color: {{ c.teal }}; background: transparent; }
QPushButton[kind="quiet"]:focus { border: 1px solid {{ c.teal }}; }
QPushButton[kind="heading"] { border: 0; border-bottom: 1px solid transparent; padding: 0; text-align: left; font-family: "{{ head }}"; font-size: {{ label }}px; font-weight: 600; color: {{ c.muted }}; }
QPushButton[kind="heading"]:hover, QPushButton[kind="heading"]:focus { background: transparent; color: {{ c.teal }}; border-bottom: 1px solid {{ c.teal }}; }
QPushButton[kind="segment"] { border: 0; border-bottom: 2px solid {{ c.hairline }}; border-radius: 0; padding: 4px 14px 5px 14px; font-weight: 500; color: {{ c.muted }}; }
QPushButton[kind="segment"]:hover { color: {{ c.teal }}; background: transparent; }
QPushButton[kind="segment"]:checked { border-bottom: 2px solid {{ c.teal }}; color: {{ c.ink }}; font-weight: 600; }
QPushButton[kind="segment"]:focus { color: {{ c.teal }}; }
QPushButton[kind="danger"] { background: {{ c.red }}; color: {{ c.sheet }}; border: 2px solid {{ c.red }}; font-weight: 600; padding: 7px 16px; }
QPushButton[kind="danger"]:disabled { background: {{ c.grid }}; color: {{ c.muted }}; border-color: {{ c.grid }}; }
QComboBox, QLineEdit, QSpinBox, QDoubleSpinBox { background: {{ c.field }}; border: 1px solid {{ c.hairline }}; border-radius: 3px; padding: 4px 8px; min-height: {{ (18 * scale) | round | int }}px; selection-background-color: {{ c.teal }}; selection-color: {{ c.on_teal }}; }
QComboBox::drop-down { border: 0; width: 18px; }
QComboBox::down-arrow { image: none; width: 0; height: 0; }
QComboBox QAbstractItemView { background: {{ c.field }}; border: 1px solid {{ c.hairline }}; selection-background-color: {{ c.teal_soft }}; selection-color: {{ c.ink }}; padding: 2px; }
QSpinBox::up-button, QSpinBox::down-button, QDoubleSpinBox::up-button, QDoubleSpinBox::down-button { width: 0; border: 0; }
QCheckBox { spacing: 8px; }
QCheckBox::indicator { width: 14px; height: 14px; border: 1.5px solid {{ c.muted }}; border-radius: 2px; background: {{ c.field }}; }
QCheckBox::indicator:checked { background: {{ c.teal }}; border-color: {{ c.teal }}; image: url("{{ tick }}"); }
QCheckBox::indicator:focus { border-color: {{ c.ink }}; }
QPlainTextEdit, QTextEdit { background: {{ c.field }}; border: 1px solid {{ c.hairline }}; border-radius: 3px; padding: 4px; }
QScrollArea { background: transparent; border: 0; }
QScrollArea > QWidget > QWidget { background: transparent; }
QScrollBar:vertical { background: transparent; width: 10px; margin: 0; }
QScrollBar:horizontal { background: transparent; height: 10px; margin: 0; }
QScrollBar::handle { background: {{ c.hairline }}; border-radius: 4px; min-height: 24px; min-width: 24px; margin: 1px; }
QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page { background: transparent; border: 0; width: 0; height: 0; }
QMenu { background: {{ c.sheet }}; border: 1px solid {{ c.hairline }}; padding: 4px; }
QMenu::item { padding: 5px 24px 5px 12px; }
QMenu::item:selected { background: {{ c.teal_soft }}; }
QMenu::separator { height: 1px; background: {{ c.hairline }}; margin: 4px 8px; }
QTableView { background: {{ c.sheet }}; border: 0; gridline-color: {{ c.grid }}; selection-background-color: {{ c.teal_soft }}; selection-color: {{ c.ink }}; alternate-background-color: {{ c.sheet }}; }
QHeaderView { background: {{ c.sheet }}; }
QHeaderView::section { background: {{ c.sheet }}; color: {{ c.muted }}; border: 0; border-bottom: 1px solid {{ c.hairline }}; padding: 4px 6px; font-size: {{ label }}px; }
QTableCornerButton::section { background: {{ c.sheet }}; border: 0; }
QTabBar { background: transparent; }
QTabBar::tab { background: transparent; padding: 5px 7px; border: 0; border-bottom: 2px solid transparent; color: {{ c.muted }}; font-family: "{{ mono }}"; font-size: {{ label }}px; }
QTabBar::tab:selected { color: {{ c.ink }}; border-bottom: 2px solid {{ c.teal }}; }
QTabBar::tab:focus { color: {{ c.teal }}; }
"""
)


def load_fonts() -> None:
    """Register the shipped typefaces."""
    folder = resources.files("kyklon.app.theme") / "fonts"
    for name in FONTS:
        QFontDatabase.addApplicationFontFromData((folder / f"{name}.ttf").read_bytes())


def style_sheet(theme: Theme) -> str:
    sizes = {name: round(size * theme.scale) for name, size in SIZES.items()}
    tick = resources.files("kyklon.app.theme") / "icons" / ("tick-dark.svg" if theme.dark else "tick.svg")
    return _SHEET.render(tick=str(tick), c=theme.palette, text=TEXT, head=HEAD, mono=MONO, scale=theme.scale, **sizes)
