"""Where the window opens: where it was, or else as large as it is meant to be, but never beyond the free area
of the screen."""

from __future__ import annotations

from PySide6.QtCore import QByteArray, QRect, QSettings, QSize
from PySide6.QtWidgets import QWidget

_KEY = "place"
_FRAME = QSize(8, 40)
"""Room for the desktop's frame and title bar around a window, pixels; it is not known before it is shown."""


def fitted(wanted: QSize, free: QRect) -> QRect:
    """A rectangle of a size, smaller where the free area is, in its middle."""
    size = wanted.boundedTo(free.size() - _FRAME)
    made = QRect(free.topLeft(), size)
    made.moveCenter(free.center())
    made.moveTop(free.top() + (free.height() - size.height() + _FRAME.height()) // 2)
    return made


def open_in_place(window: QWidget) -> None:
    """Give a window the place it had, or one within the screen's free area."""
    kept = QSettings("good-tide", "window").value(_KEY)
    if isinstance(kept, QByteArray) and window.restoreGeometry(kept):
        return
    window.setGeometry(fitted(window.size(), window.screen().availableGeometry()))


def keep_place(window: QWidget) -> None:
    """Remember where a window is."""
    QSettings("good-tide", "window").setValue(_KEY, window.saveGeometry())
