"""How large type is, and with it everything else: as the person chose, or as the desktop says. Qt lays
everything out for one size and enlarges all of it, so that no text outgrows what it stands in; a resolution
that the desktop names for fonts it takes for such a factor by itself."""

from __future__ import annotations

import os

from PySide6.QtCore import QSettings

SIZES = (1.0, 1.25, 1.5, 2.0)
"""Sizes that a person can choose; those that a desktop asks for may lie between."""
_FACTOR, _DONE = "QT_SCALE_FACTOR", "GOOD_TIDE_TYPE"
_KEY = "type"


def chosen_type() -> float:
    """What the person chose; 0: as the desktop says."""
    try:
        return float(str(QSettings("good-tide", "window").value(_KEY, 0) or 0))
    except ValueError:
        return 0.0


def choose_type(size: float) -> None:
    """Remember what the person chose, from the next start on."""
    QSettings("good-tide", "window").setValue(_KEY, size)


def enlarge(size: float) -> None:
    """Let the application that is made next be so many times as large as usual."""
    if _DONE in os.environ or size == 1.0:
        return
    os.environ[_DONE] = f"{size:g}"
    os.environ[_FACTOR] = f"{float(os.environ.get(_FACTOR) or 1) * size:g}"
