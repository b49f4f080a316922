"""A list whose rows are made when somebody comes near to them: tens of thousands of runs are in a long
history, and few of them are ever looked at."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from itertools import islice
from typing import Generic, TypeVar

from PySide6.QtWidgets import QTreeWidget, QTreeWidgetItem

_MORE = 300
"""Rows that are made at a time."""

Item = TypeVar("Item")


class GrowingList(Generic[Item]):
    """Fills a tree from items.

    :param row: makes the row of an item.
    :param shown: is called for each row once it is in the tree.
    """

    def __init__(
        self,
        tree: QTreeWidget,
        row: Callable[[Item], QTreeWidgetItem],
        shown: Callable[[QTreeWidgetItem], None],
    ) -> None:
        self._tree, self._row, self._shown = tree, row, shown
        self._rest: Iterator[Item] = iter(())
        tree.verticalScrollBar().valueChanged.connect(self._scrolled)

    def show(self, items: Iterable[Item]) -> None:
        """Show other items, from the first on. They are taken one by one as they are needed."""
        self._rest = iter(())  # clearing a list that was scrolled asks for more of it
        self._tree.clear()
        self._rest = iter(items)
        self._grow()

    def _scrolled(self, value: int) -> None:
        bar = self._tree.verticalScrollBar()
        if value >= bar.maximum() - bar.pageStep():
            self._grow()

    def _grow(self) -> None:
        rows = [self._row(item) for item in islice(self._rest, _MORE)]
        self._tree.addTopLevelItems(rows)
        for row in rows:
            self._shown(row)
