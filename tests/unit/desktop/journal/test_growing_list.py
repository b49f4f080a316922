"""Rows are made when somebody comes near to them, and all of them can be reached."""

from __future__ import annotations

import unittest

from PySide6.QtCore import QCoreApplication, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QTreeWidget, QTreeWidgetItem

from good_tide.desktop.journal.growing_list import GrowingList
from good_tide.desktop.shell.application import make_application
from tests.support.windows import row_of


class GrowingListTest(unittest.TestCase):
    def setUp(self) -> None:
        make_application("light")
        self.tree = QTreeWidget()
        self.tree.setUniformRowHeights(True)
        self.tree.resize(300, 200)
        self.addCleanup(self.tree.deleteLater)
        self.made: list[int] = []
        self.shown: list[str] = []
        self.list: GrowingList[int] = GrowingList(
            self.tree, self.row, lambda row: self.shown.append(row.text(0))
        )
        self.tree.show()

    def row(self, number: int) -> QTreeWidgetItem:
        self.made.append(number)
        return QTreeWidgetItem([str(number)])

    def test_those_in_sight_come_at_once_and_the_others_as_one_goes_on(self) -> None:
        self.list.show(range(1000))
        self.assertEqual(len(self.made), 300)
        self.assertEqual(self.shown, [str(number) for number in self.made])
        self.tree.setCurrentItem(row_of(self.tree, 0))
        presses = 0
        while len(self.made) < 1000 and presses < 10:
            QTest.keyClick(self.tree, Qt.Key.Key_End)
            QCoreApplication.processEvents()
            presses += 1
        self.assertEqual(presses, 3)
        QTest.keyClick(self.tree, Qt.Key.Key_End)
        last = self.tree.currentItem()
        assert last is not None
        self.assertEqual((last.text(0), self.made), ("999", list(range(1000))))

    def test_other_items_take_their_place(self) -> None:
        self.list.show(range(1000))
        self.tree.verticalScrollBar().setValue(100)
        self.list.show(iter((7, 8)))
        self.assertEqual(self.tree.topLevelItemCount(), 2)
        self.tree.verticalScrollBar().valueChanged.emit(self.tree.verticalScrollBar().maximum())
        self.assertEqual(self.tree.topLevelItemCount(), 2)
