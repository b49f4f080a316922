"""Starting the window, and the icon in the panel."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, QSettings, Qt, QTimer, Signal
from PySide6.QtGui import QFont, QFontDatabase, QGuiApplication
from PySide6.QtWidgets import QApplication

from good_tide.desktop.painting.icons import program_icon
from good_tide.desktop.painting.palette import DARK, LIGHT, Palette, style_sheet
from good_tide.desktop.shell.panel import PanelIcon
from good_tide.desktop.shell.place_on_screen import keep_place, open_in_place
from good_tide.desktop.shell.single import SingleInstance
from good_tide.desktop.shell.type_size import chosen_type, enlarge
from good_tide.desktop.shell.window import MainWindow
from good_tide.protocol.wishes import Wish, hand_over

_FONTS = Path(__file__).parent.parent / "fonts"
_POINTS = 10
_WAITS_MS = 10_000
"""So long a process that the bus started waits for what is wanted of it."""


def make_application(theme: str = "") -> tuple[QApplication, Palette]:
    """The Qt application in the program's style.

    :param theme: ``light`` or ``dark``; empty: the person's choice, or else the desktop's.
    """
    application = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(application, QApplication)
    application.setApplicationName("good-tide")
    application.setApplicationDisplayName("Good Tide")
    application.setDesktopFileName("org.goodtide.GoodTide")
    application.setStyle("Fusion")
    for file in sorted(_FONTS.glob("*.otf")):
        QFontDatabase.addApplicationFont(str(file))
    font = QFont("Inter")
    font.setPointSize(_POINTS)
    font.setFeature(QFont.Tag("tnum"), 1)
    application.setFont(font)
    application.setWindowIcon(program_icon())
    wanted = theme or str(QSettings("good-tide", "window").value("theme", "")) or _desktop_theme()
    look = DARK if wanted == "dark" else LIGHT
    sheet = style_sheet(look)
    if application.styleSheet() != sheet:  # setting it looks at every widget there is
        application.setStyleSheet(sheet)
    return application, look


def _desktop_theme() -> str:
    return "dark" if QGuiApplication.styleHints().colorScheme() == Qt.ColorScheme.Dark else "light"


class _Heard(QObject):
    """Brings wishes from another thread into the window's. ``wished``: a ``Wish``."""

    wished = Signal(object)


def run_window(
    socket: Path,
    settings: Path,
    wish: Wish,
    theme: str = "",
    desktop_type: Callable[[], float] = lambda: 1.0,
    listen: Callable[[Callable[[Wish], None]], None] | None = None,
    waits: bool = False,
) -> int:
    """Open the window with what is wished for, and stay until it is closed. A window that is open already
    does it.

    :param desktop_type: how large the desktop wants its type.
    :param listen: lets others wish for something, and calls what it is given, in any thread, with each wish.
    :param waits: the first wish comes that way; without one for some seconds there is no window.
    """
    enlarge(chosen_type() or desktop_type())
    application, look = make_application(theme)
    if not waits and hand_over(socket, wish):
        return 0
    window = MainWindow(look, socket, settings)
    heard = _Heard(window)

    def wished(wanted: Wish) -> None:
        if window.isVisible() or not hand_over(socket, wanted):
            _open(window, socket, application)
            window.show_wish(wanted)

    heard.wished.connect(wished, Qt.ConnectionType.QueuedConnection)
    if not waits:
        wished(wish)
    if listen is not None:
        listen(heard.wished.emit)
    if waits:
        QTimer.singleShot(_WAITS_MS, window, lambda: None if window.isVisible() else application.quit())
    return application.exec()


def _open(window: MainWindow, socket: Path, application: QApplication) -> None:
    """Show the window, if it is not shown yet."""
    if not window.isVisible():
        SingleInstance(socket, window.show_wish, window)
        open_in_place(window)
        application.aboutToQuit.connect(lambda: keep_place(window))
        window.show()
        window.start()


def run_panel(socket: Path, settings: Path) -> int:
    """Show the icon in the desktop's panel, and stay."""
    application, _ = make_application()
    application.setQuitOnLastWindowClosed(False)
    icon = PanelIcon(socket, settings)
    icon.start()
    return application.exec()
