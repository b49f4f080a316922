"""Starting the window, and the icon in the panel."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import QFont, QFontDatabase, QGuiApplication
from PySide6.QtWidgets import QApplication

from good_tide.desktop.painting.icons import program_icon
from good_tide.desktop.painting.palette import DARK, LIGHT, Palette, style_sheet
from good_tide.desktop.shell.panel import PanelIcon
from good_tide.desktop.shell.place_on_screen import keep_place, open_in_place
from good_tide.desktop.shell.single import SingleInstance, hand_over
from good_tide.desktop.shell.type_size import chosen_type, enlarge
from good_tide.desktop.shell.window import MainWindow

_FONTS = Path(__file__).parent.parent / "fonts"
_POINTS = 10


def make_application(theme: str = "") -> tuple[QApplication, Palette]:
    """The Qt application in the program's style.

    :param theme: ``light`` or ``dark``; empty: the person's choice, or else the desktop's.
    """
    application = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(application, QApplication)
    application.setApplicationName("good-tide")
    application.setApplicationDisplayName("Good Tide")
    application.setDesktopFileName("good-tide")
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


def run_window(
    socket: Path,
    settings: Path,
    job: str = "",
    view: str = "",
    theme: str = "",
    desktop_type: Callable[[], float] = lambda: 1.0,
) -> int:
    """Open the window, at a view of a job if they are named, and stay until it is closed. A window that is
    open already does it.

    :param desktop_type: how large the desktop wants its type.
    """
    enlarge(chosen_type() or desktop_type())
    application, look = make_application(theme)
    if hand_over(socket, job, view):
        return 0
    window = MainWindow(look, socket, settings)
    SingleInstance(socket, window.show_named, window)
    open_in_place(window)
    application.aboutToQuit.connect(lambda: keep_place(window))
    window.show()
    window.start()
    if job or view:
        window.link.connected.connect(
            lambda: window.show_named(job, view), Qt.ConnectionType.SingleShotConnection
        )
    return application.exec()


def run_panel(socket: Path, settings: Path) -> int:
    """Show the icon in the desktop's panel, and stay."""
    application, _ = make_application()
    application.setQuitOnLastWindowClosed(False)
    icon = PanelIcon(socket, settings)
    icon.start()
    return application.exec()
