"""When widgets get their style."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from PySide6.QtWidgets import QApplication, QWidget


@contextlib.contextmanager
def styled_at_the_end() -> Iterator[None]:
    """Build a window, and look up how its widgets are styled once, when they are all there. Otherwise Qt
    looks it up anew for a whole branch each time something is put into something, which is most of what
    building a window takes.

    Where other windows are shown it is done the slow way: they would lose their style meanwhile.
    """
    application = QApplication.instance()
    others = any(map(QWidget.isVisible, QApplication.topLevelWidgets()))
    if others or not isinstance(application, QApplication):
        yield
        return
    sheet = application.styleSheet()
    application.setStyleSheet("")
    try:
        yield
    finally:
        application.setStyleSheet(sheet)
