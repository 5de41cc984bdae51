"""The style sheet, made from the tokens."""

from __future__ import annotations

from dataclasses import asdict
from importlib import resources
from string import Template

from PyQt6.QtGui import QFontDatabase

from kyklon.app.theme.tokens import HEAD, MONO, SIZES, TEXT, Theme

FONTS = (
    "Barlow_400Regular",
    "Barlow_500Medium",
    "Barlow_600SemiBold",
    "BarlowCondensed_500Medium",
    "BarlowCondensed_600SemiBold",
    "IBMPlexMono_400Regular",
    "IBMPlexMono_500Medium",
)

_SHEET = Template(
    """
* { font-family: "${text}"; font-size: ${body}px; color: ${ink}; outline: none; }
QMainWindow, QDialog, #centre, #findings, #pages { background: ${ground}; }
QToolTip { background: ${ink}; color: ${sheet}; border: 0; padding: 4px 8px; }
#topbar { background: ${sheet}; border-bottom: 2px solid ${hairline}; }
#divider { background: ${hairline}; }
#walk { background: ${teal_soft}; border-bottom: 1px solid ${hairline}; }
#bottombar { background: ${sheet}; border-top: 2px solid ${hairline}; }
#routecard { background: ${ground}; border-right: 2px solid ${hairline}; }
[role="sheet"] { background: ${sheet}; border: 1px solid ${hairline}; border-radius: 4px; }
[role="section"] { font-size: ${section}px; font-weight: 600; }
[role="title"] { font-size: ${title}px; font-weight: 600; }
[role="number"] { font-family: "${head}"; font-size: ${number}px; font-weight: 600; color: ${teal}; }
[role="caption"] { font-family: "${head}"; font-size: ${label}px; font-weight: 600; color: ${muted}; }
[role="muted"] { color: ${muted}; }
[role="small"] { font-size: ${label}px; color: ${muted}; }
[role="strong"] { font-weight: 600; }
[role="mono"] { font-family: "${mono}"; }
[role="big"] { font-family: "${head}"; font-size: ${big}px; font-weight: 600; }
[role="stop"] { color: ${red}; font-weight: 600; }
[role="caution"] { color: ${amber}; font-weight: 600; }
[role="good"] { color: ${teal}; font-weight: 600; }
[role="warning"] { background: ${amber_soft}; border-left: 3px solid ${amber}; padding: 5px 8px; }
QPushButton { background: transparent; border: 1px solid ${hairline}; border-radius: 4px; padding: 5px 12px; font-weight: 500; }
QPushButton:hover { background: ${teal_soft}; }
QPushButton:focus, QComboBox:focus, QLineEdit:focus, QSpinBox:focus, QPlainTextEdit:focus { border: 2px solid ${teal}; }
QPushButton:disabled { color: ${muted}; border-color: ${grid}; }
QPushButton[kind="primary"] { background: ${teal}; color: ${on_teal}; border: 2px solid ${teal}; font-weight: 600; padding: 7px 16px; }
QPushButton[kind="primary"]:hover { background: ${ink}; color: ${sheet}; }
QPushButton[kind="primary"]:focus { border: 2px solid ${ink}; }
QPushButton[kind="primary"]:disabled { background: ${grid}; color: ${muted}; border-color: ${grid}; }
QPushButton[kind="outline"] { border: 1.5px solid ${teal}; color: ${teal}; font-weight: 600; }
QPushButton[kind="outline"]:disabled { border-color: ${grid}; color: ${muted}; }
QPushButton[kind="quiet"] { border: 1px solid transparent; padding: 4px 6px; }
QPushButton[kind="quiet"]:hover { color: ${teal}; background: transparent; }
QPushButton[kind="quiet"]:focus { border: 1px solid ${teal}; }
QPushButton[kind="link"] { border: 0; border-bottom: 1px solid transparent; padding: 2px 0; text-align: left; color: ${teal}; font-size: ${label}px; }
QPushButton[kind="link"]:hover, QPushButton[kind="link"]:focus { background: transparent; border-bottom: 1px solid ${teal}; }
QPushButton[kind="heading"] { border: 0; border-bottom: 1px solid transparent; padding: 0; text-align: left; font-family: "${head}"; font-size: ${label}px; font-weight: 600; color: ${muted}; }
QPushButton[kind="heading"]:hover, QPushButton[kind="heading"]:focus { background: transparent; color: ${teal}; border-bottom: 1px solid ${teal}; }
QPushButton[kind="segment"] { border: 0; border-bottom: 2px solid ${hairline}; border-radius: 0; padding: 4px 14px 5px 14px; font-weight: 500; color: ${muted}; }
QPushButton[kind="segment"]:hover { color: ${teal}; background: transparent; }
QPushButton[kind="segment"]:checked { border-bottom: 2px solid ${teal}; color: ${ink}; font-weight: 600; }
QPushButton[kind="segment"]:focus { color: ${teal}; }
QPushButton[kind="danger"] { background: ${red}; color: ${sheet}; border: 2px solid ${red}; font-weight: 600; padding: 7px 16px; }
QPushButton[kind="danger"]:disabled { background: ${grid}; color: ${muted}; border-color: ${grid}; }
QComboBox, QLineEdit, QSpinBox, QDoubleSpinBox { background: ${field}; border: 1px solid ${hairline}; border-radius: 3px; padding: 4px 8px; min-height: ${line}px; selection-background-color: ${teal}; selection-color: ${on_teal}; }
QComboBox::drop-down { border: 0; width: 18px; }
QComboBox::down-arrow { image: none; width: 0; height: 0; }
QComboBox QAbstractItemView { background: ${field}; border: 1px solid ${hairline}; selection-background-color: ${teal_soft}; selection-color: ${ink}; padding: 2px; }
QSpinBox::up-button, QSpinBox::down-button, QDoubleSpinBox::up-button, QDoubleSpinBox::down-button { width: 0; border: 0; }
QCheckBox { spacing: 8px; }
QCheckBox::indicator { width: 14px; height: 14px; border: 1.5px solid ${muted}; border-radius: 2px; background: ${field}; }
QCheckBox::indicator:checked { background: ${teal}; border-color: ${teal}; image: url("${tick}"); }
QCheckBox::indicator:focus { border-color: ${ink}; }
QPlainTextEdit, QTextEdit { background: ${field}; border: 1px solid ${hairline}; border-radius: 3px; padding: 4px; }
QTextBrowser { padding: 14px 18px; selection-background-color: ${teal}; selection-color: ${on_teal}; }
QListWidget { background: ${sheet}; border: 1px solid ${hairline}; border-radius: 3px; padding: 4px; outline: 0; }
QListWidget::item { padding: 4px 8px; border-radius: 2px; color: ${ink}; }
QListWidget::item:selected { background: ${teal_soft}; color: ${ink}; }
QListWidget::item:disabled { color: ${muted}; padding: 8px 4px 2px 4px; }
QScrollArea { background: transparent; border: 0; }
QScrollArea > QWidget > QWidget { background: transparent; }
QScrollBar:vertical { background: transparent; width: 10px; margin: 0; }
QScrollBar:horizontal { background: transparent; height: 10px; margin: 0; }
QScrollBar::handle { background: ${hairline}; border-radius: 4px; min-height: 24px; min-width: 24px; margin: 1px; }
QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page { background: transparent; border: 0; width: 0; height: 0; }
QMenu { background: ${sheet}; border: 1px solid ${hairline}; padding: 4px; }
QMenu::item { padding: 5px 24px 5px 12px; }
QMenu::item:selected { background: ${teal_soft}; }
QMenu::separator { height: 1px; background: ${hairline}; margin: 4px 8px; }
QTableView { background: ${sheet}; border: 0; gridline-color: ${grid}; selection-background-color: ${teal_soft}; selection-color: ${ink}; alternate-background-color: ${sheet}; }
QHeaderView { background: ${sheet}; }
QHeaderView::section { background: ${sheet}; color: ${muted}; border: 0; border-bottom: 1px solid ${hairline}; padding: 4px 6px; font-size: ${label}px; }
QTableCornerButton::section { background: ${sheet}; border: 0; }
QSlider::groove:horizontal { height: 4px; background: ${grid}; border-radius: 2px; }
QSlider::sub-page:horizontal { background: ${teal}; border-radius: 2px; }
QSlider::handle:horizontal { width: 14px; height: 14px; margin: -6px 0; border-radius: 8px; background: ${teal}; border: 1px solid ${sheet}; }
QSlider::handle:horizontal:focus { border: 2px solid ${ink}; }
QTabBar { background: transparent; }
QTabBar::tab { background: transparent; padding: 5px 7px; border: 0; border-bottom: 2px solid transparent; color: ${muted}; font-size: ${label}px; }
QTabBar::tab:selected { color: ${ink}; border-bottom: 2px solid ${teal}; }
QTabBar::tab:focus { color: ${teal}; }
QTabBar QToolButton { background: ${sheet}; border: 1px solid ${hairline}; border-radius: 3px; }
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
    names = {"text": TEXT, "head": HEAD, "mono": MONO, "tick": tick, "line": round(18 * theme.scale)}
    return _SHEET.substitute(asdict(theme.palette), **names, **sizes)
