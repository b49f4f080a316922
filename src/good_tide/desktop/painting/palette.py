"""Colours of the window, light and dark, and the style sheet made of them."""

from __future__ import annotations

import functools
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtGui import QColor

_ICONS = (Path(__file__).parent.parent / "icons").as_posix()


@functools.lru_cache(maxsize=256)
def _color(value: str, alpha: int) -> QColor:
    color = QColor(value)
    color.setAlpha(alpha)
    return color


@dataclass(frozen=True, slots=True)
class Palette:
    """Colours by what they are for. Text colours have a contrast of at least 4.5 on ``ground`` and
    ``paper``."""

    dark: bool
    ink: str
    quiet_text: str
    ground: str
    paper: str
    rail: str
    line: str
    band: str
    kelp: str
    kelp_soft: str
    shoal: str
    shoal_deep: str
    sand: str
    sand_soft: str
    coral: str
    coral_soft: str
    dusk: str
    head: str
    head_text: str
    head_quiet: str
    on_kelp: str

    def color(self, name: str, alpha: int = 255) -> QColor:
        """A colour by its name, for painting."""
        return _color(getattr(self, name), alpha)


LIGHT = Palette(
    dark=False,
    ink="#12303A",
    quiet_text="#5A6B70",
    ground="#F7F5F0",
    paper="#FFFFFF",
    rail="#ECE7DC",
    line="#DED9CD",
    band="#F3EFE6",
    kelp="#1F6F63",
    kelp_soft="#E4EFED",
    shoal="#A9C9C5",
    shoal_deep="#7FAFA9",
    sand="#8A6A1F",
    sand_soft="#F3E8CF",
    coral="#A93A28",
    coral_soft="#F8DFD9",
    dusk="#4E5F82",
    head="#12303A",
    head_text="#FFFFFF",
    head_quiet="#B8C9CB",
    on_kelp="#FFFFFF",
)

DARK = Palette(
    dark=True,
    ink="#E9EFEE",
    quiet_text="#A3B4B7",
    ground="#0E252D",
    paper="#14313B",
    rail="#0B1F26",
    line="#26464F",
    band="#112B34",
    kelp="#6FC2B3",
    kelp_soft="#1B444A",
    shoal="#44756F",
    shoal_deep="#5F968F",
    sand="#DDBB78",
    sand_soft="#3F3A28",
    coral="#F0846F",
    coral_soft="#4A2E2C",
    dusk="#A9B7D6",
    head="#081A20",
    head_text="#F3F6F5",
    head_quiet="#9FB4B7",
    on_kelp="#08201C",
)


def style_sheet(look: Palette) -> str:
    """Style of all ordinary widgets."""
    shade = "dark" if look.dark else "light"
    return f"""
    * {{ font-family: 'Inter'; font-size: 10pt; color: {look.ink}; }}
    QMainWindow, QDialog, #ground {{ background: {look.ground}; }}
    #head {{ background: {look.head}; }}
    #head QLabel {{ color: {look.head_text}; }}
    #head #quiet {{ color: {look.head_quiet}; }}
    #rail {{ background: {look.rail}; }}
    #card {{ background: {look.paper}; border-radius: 8px; }}
    #notice {{ background: {look.kelp_soft}; border-radius: 8px; }}
    #trouble {{ background: {look.coral_soft}; border-radius: 8px; }}
    #attention {{ background: {look.sand_soft}; border-radius: 8px; }}
    #title {{ font-size: 13pt; font-weight: 600; }}
    #strong {{ font-weight: 600; }}
    #small {{ color: {look.quiet_text}; font-size: 9pt; }}
    #clear {{ background: transparent; }}
    #row {{ background: {look.ground}; border: 1px solid {look.line}; border-radius: 6px; }}
    #row:hover {{ border-color: {look.kelp}; }}
    #key {{ font-family: 'DejaVu Sans Mono', monospace; font-size: 15pt; font-weight: 600; }}
    QCheckBox {{ spacing: 8px; }}
    QRadioButton::indicator {{ width: 14px; height: 14px; border: 1px solid {look.quiet_text};
        border-radius: 8px; background: {look.paper}; }}
    QRadioButton::indicator:checked {{ width: 6px; height: 6px; border: 5px solid {look.kelp};
        border-radius: 8px; background: {look.paper}; }}
    QCheckBox::indicator, QTreeView::indicator, QListView::indicator {{
        width: 14px; height: 14px; border: 1px solid {look.quiet_text}; border-radius: 3px;
        background: {look.paper}; }}
    QCheckBox::indicator:checked, QTreeView::indicator:checked, QListView::indicator:checked {{
        background: {look.kelp}; border-color: {look.kelp}; image: url({_ICONS}/check-{shade}.svg); }}
    QTreeView::indicator:indeterminate {{
        background: {look.kelp}; border-color: {look.kelp}; image: url({_ICONS}/dash-{shade}.svg); }}
    QRadioButton::indicator:disabled, QCheckBox::indicator:disabled {{ border-color: {look.line};
        background: {look.ground}; }}
    QRadioButton:focus, QCheckBox:focus {{ color: {look.dusk}; text-decoration: underline; }}
    #quiet {{ color: {look.quiet_text}; }}
    #harm {{ color: {look.coral}; font-weight: 600; }}
    QPushButton {{ background: {look.paper}; border: 1px solid {look.line}; border-radius: 6px;
        padding: 6px 14px; min-height: 18px; }}
    QPushButton:hover {{ border-color: {look.kelp}; }}
    QPushButton:focus, QToolButton:focus {{ border: 2px solid {look.dusk}; padding: 5px 13px; }}
    QPushButton:disabled {{ color: {look.quiet_text}; }}
    QPushButton#primary {{ background: {look.kelp}; color: {look.on_kelp}; border: 1px solid {look.kelp};
        font-weight: 600; }}
    QPushButton#primary:focus {{ border: 2px solid {look.ink}; }}
    QPushButton#primary:disabled {{ background: {look.shoal}; border-color: {look.shoal}; }}
    #head QPushButton {{ background: transparent; color: {look.head_text};
        border: 1px solid {look.head_quiet}; }}
    #head QPushButton#primary {{ background: #1F6F63; color: #FFFFFF; font-weight: 600; }}
    #head QPushButton#primary:disabled {{ background: transparent; color: {look.head_quiet};
        border-color: #35525B; }}
    #head QComboBox {{ background: transparent; color: {look.head_text}; border-color: {look.head_quiet}; }}
    #head QPushButton:focus {{ border: 2px solid #FFFFFF; }}
    QToolButton {{ border: 1px solid transparent; border-radius: 6px; padding: 4px 8px;
        background: transparent; }}
    QToolButton:hover {{ background: {look.kelp_soft}; }}
    QToolButton:checked {{ background: {look.kelp_soft}; color: {look.kelp}; font-weight: 600; }}
    QToolButton#mode {{ padding: 4px 5px; }}
    QToolButton#crumb {{ font-size: 12pt; font-weight: 600; padding: 2px 4px; }}
    QToolButton#place {{ border-radius: 8px; padding: 6px 2px; font-size: 8.5pt; color: {look.quiet_text}; }}
    QToolButton#place:checked {{ background: {look.paper}; color: {look.ink}; font-weight: 600; }}
    QAbstractScrollArea {{ background: transparent; border: 0; }}
    QComboBox::drop-down {{ border: 0; width: 22px; }}
    QComboBox::down-arrow {{ image: url({_ICONS}/down-{shade}.svg); width: 12px; height: 12px; }}
    QSpinBox {{ background: {look.paper}; border: 1px solid {look.line}; border-radius: 6px;
        padding: 3px 6px; min-height: 18px; }}
    QSpinBox:focus {{ border: 2px solid {look.kelp}; padding: 2px 5px; }}
    QSpinBox::up-button, QSpinBox::down-button {{ border: 0; width: 18px; background: transparent; }}
    QSpinBox::up-arrow {{ image: url({_ICONS}/up-{shade}.svg); width: 9px; height: 9px; }}
    QSpinBox::down-arrow {{ image: url({_ICONS}/down-{shade}.svg); width: 9px; height: 9px; }}
    QLineEdit, QComboBox {{ background: {look.paper}; border: 1px solid {look.line}; border-radius: 6px;
        padding: 5px 10px; min-height: 18px; }}
    QLineEdit:focus, QComboBox:focus {{ border: 2px solid {look.kelp}; padding: 4px 9px; }}
    QComboBox QAbstractItemView, QListWidget, QTreeWidget, QPlainTextEdit, QTextBrowser {{
        background: {look.paper}; border: 1px solid {look.line}; border-radius: 6px;
        selection-background-color: {look.kelp_soft}; selection-color: {look.ink}; outline: 0; }}
    QListWidget::item, QTreeWidget::item {{ padding: 5px 6px; border: 0; }}
    QTreeWidget::item:selected, QListWidget::item:selected {{ background: {look.kelp_soft};
        color: {look.ink}; }}
    QHeaderView::section {{ background: {look.paper}; color: {look.quiet_text}; border: 0;
        border-bottom: 1px solid {look.line}; padding: 6px; }}
    QSlider::groove:horizontal {{ background: {look.line}; height: 4px; border-radius: 2px; }}
    QSlider::sub-page:horizontal {{ background: {look.shoal_deep}; height: 4px; border-radius: 2px; }}
    QSlider::handle:horizontal {{ background: {look.kelp}; width: 14px; height: 14px; margin: -5px 0;
        border-radius: 7px; }}
    QSlider::handle:horizontal:focus {{ border: 2px solid {look.dusk}; margin: -7px 0; }}
    QProgressBar {{ background: {look.line}; border: 0; border-radius: 4px; max-height: 8px;
        min-height: 8px; }}
    QProgressBar::chunk {{ background: {look.kelp}; border-radius: 4px; }}
    QScrollBar:vertical {{ background: transparent; width: 10px; margin: 0; }}
    QScrollBar::handle:vertical {{ background: {look.shoal}; border-radius: 5px; min-height: 30px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QScrollBar:horizontal {{ background: transparent; height: 10px; }}
    QScrollBar::handle:horizontal {{ background: {look.shoal}; border-radius: 5px; min-width: 30px; }}
    QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
    QAbstractScrollArea::corner {{ background: transparent; border: 0; }}
    QTableView {{ background: {look.paper}; border: 1px solid {look.line}; gridline-color: {look.line};
        selection-background-color: {look.kelp_soft}; selection-color: {look.ink}; }}
    QTableCornerButton::section {{ background: {look.paper}; border: 0; }}
    QTabBar::tab {{ background: transparent; color: {look.quiet_text}; padding: 4px 10px; border: 0; }}
    QTabBar::tab:selected {{ color: {look.ink}; border-bottom: 2px solid {look.kelp}; }}
    QRadioButton {{ spacing: 8px; }}
    QToolTip {{ background: {look.head}; color: {look.head_text}; border: 0; padding: 4px; }}
    """
