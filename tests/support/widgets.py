"""The window's pieces for set-up and coverage, each on its own."""

from __future__ import annotations

import unittest

from PySide6.QtWidgets import QWidget

from good_tide.desktop.shell.application import make_application


class WidgetTest(unittest.TestCase):
    def setUp(self) -> None:
        _, self.look = make_application("light")

    def shown(self, widget: QWidget, wide: int = 600, high: int = 300) -> QWidget:
        widget.resize(wide, high)
        widget.show()
        self.addCleanup(widget.close)
        widget.grab()
        return widget
