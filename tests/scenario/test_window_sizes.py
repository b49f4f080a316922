"""Every place works in the smallest window and in a large one: nothing lies where nobody can get at it."""

from __future__ import annotations

import unittest

from PySide6.QtCore import QRect, QSize
from tools.window_driver import settle

from good_tide.desktop.coverage.view import COVERAGE
from good_tide.desktop.shell.place_on_screen import fitted
from good_tide.desktop.shell.views import VIEWS
from tests.support.fit import SIZES, out_of_reach
from tests.support.windows import WindowTest


class SizesTest(WindowTest):
    def test_nothing_lies_where_nobody_can_get_at_it(self) -> None:
        for size in SIZES:
            self.window.resize(size)
            for kind in VIEWS:
                self.window.show_view(kind)
                settle(400)
                with self.subTest(kind.title, size=size.toTuple()):
                    self.assertEqual(self.window.size(), size, "the window cannot be as small")
                    self.assertEqual(out_of_reach(self.window.views[kind]), [])

    def test_folders_keep_their_names_where_there_is_little_room(self) -> None:
        tree = self.views.coverage.tree
        for size, shown in ((SIZES[0], False), (SIZES[-1], True)):
            self.window.resize(size)
            self.window.show_view(COVERAGE)
            settle(200)
            self.assertGreaterEqual(tree.columnWidth(0), 150)
            self.assertEqual(not tree.isColumnHidden(4), shown)


class FittedTest(unittest.TestCase):
    def test_the_window_opens_within_what_the_screen_has_free(self) -> None:
        free = QRect(0, 32, 1280, 768)
        small, large = fitted(QSize(1280, 800), free), fitted(QSize(1280, 800), QRect(0, 0, 2560, 1440))
        self.assertTrue(free.contains(small))
        self.assertGreaterEqual(small.top() - free.top(), 24, "there is room for the title bar")
        self.assertEqual(large.size(), QSize(1280, 800))
