"""Every place works in the smallest window and in a large one: nothing lies where nobody can get at it."""

from __future__ import annotations

import unittest

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractScrollArea, QWidget

from good_tide.desktop.coverage.view import COVERAGE
from good_tide.desktop.shell.place_on_screen import fitted
from good_tide.desktop.shell.views import VIEWS
from tests.support.windows import WindowTest

SIZES = (QSize(900, 560), QSize(1000, 620), QSize(1280, 760), QSize(2560, 1440))


def out_of_reach(page: QWidget) -> list[str]:
    """What lies outside a page, or outside a scroll area that cannot be scrolled there."""
    found = []
    for widget in page.findChildren(QWidget):
        if not widget.isVisible() or widget.width() < 2 or widget.isWindow():
            continue
        holder = widget.parentWidget() or page
        while holder is not page and not isinstance(holder, QAbstractScrollArea):
            holder = holder.parentWidget() or page
        place = QRect(widget.mapTo(holder, QPoint()), widget.size())
        if isinstance(holder, QAbstractScrollArea):
            off = Qt.ScrollBarPolicy.ScrollBarAlwaysOff
            cut = holder.horizontalScrollBarPolicy() == off and place.right() > holder.width()
        else:
            cut = not page.rect().contains(place)
        if cut:
            found.append(f"{type(widget).__name__} {getattr(widget, 'text', str)()!r} {place.getRect()}")
    return found


class SizesTest(WindowTest):
    def test_nothing_lies_where_nobody_can_get_at_it(self) -> None:
        for size in SIZES:
            self.window.resize(size)
            for kind in VIEWS:
                self.window.show_view(kind)
                QTest.qWait(400)
                with self.subTest(kind.title, size=size.toTuple()):
                    self.assertEqual(self.window.size(), size, "the window cannot be as small")
                    self.assertEqual(out_of_reach(self.window.views[kind]), [])

    def test_folders_keep_their_names_where_there_is_little_room(self) -> None:
        tree = self.views.coverage.tree
        for size, shown in ((SIZES[0], False), (SIZES[-1], True)):
            self.window.resize(size)
            self.window.show_view(COVERAGE)
            QTest.qWait(200)
            self.assertGreaterEqual(tree.columnWidth(0), 150)
            self.assertEqual(not tree.isColumnHidden(4), shown)


class FittedTest(unittest.TestCase):
    def test_the_window_opens_within_what_the_screen_has_free(self) -> None:
        free = QRect(0, 32, 1280, 768)
        small, large = fitted(QSize(1280, 800), free), fitted(QSize(1280, 800), QRect(0, 0, 2560, 1440))
        self.assertTrue(free.contains(small))
        self.assertGreaterEqual(small.top() - free.top(), 24, "there is room for the title bar")
        self.assertEqual(large.size(), QSize(1280, 800))
