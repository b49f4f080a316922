"""Tables: of one version, or of two with the cells that differ marked."""

from __future__ import annotations

from typing import NamedTuple

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtGui import QColor, QFont
from PySide6.QtWidgets import QHBoxLayout, QTabBar, QTableView, QVBoxLayout, QWidget

from good_tide.core.comparing import RowPair, TableDifference
from good_tide.core.previews import Sheet, TablePreview
from good_tide.core.translation import tr
from good_tide.desktop.content.page import Arrangement, Page
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import OneLine

_Index = QModelIndex | QPersistentModelIndex
_LETTERS = 26
_WIDEST = 260


class ShownRow(NamedTuple):
    """A row as it is shown: its cells, what stands before it, the name of its ground's colour, and which of
    its cells are marked."""

    cells: tuple[str, ...] = ()
    head: str = ""
    ground: str = ""
    marked: frozenset[int] = frozenset()


class SheetModel(QAbstractTableModel):
    """Rows of a table for Qt."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self.rows: list[ShownRow] = []
        self._numbers: frozenset[int] = frozenset()
        self._width = 0
        self._words = ""

    def take(self, rows: list[ShownRow], numbers: frozenset[int]) -> None:
        """Show other rows."""
        self.beginResetModel()
        self.rows, self._numbers, self._words = rows, numbers, ""
        self._width = max((len(row.cells) for row in rows), default=0)
        self.endResetModel()

    def mark(self, words: str) -> list[tuple[int, int]]:
        """Mark cells in which words stand; says where they are."""
        self._words = words.casefold()
        if self.rows and self._width:
            self.dataChanged.emit(self.index(0, 0), self.index(len(self.rows) - 1, self._width - 1))
        return [
            (number, column)
            for number, row in enumerate(self.rows)
            for column, cell in enumerate(row.cells)
            if self._words and self._words in cell.casefold()
        ]

    def rowCount(self, parent: _Index | None = None) -> int:  # noqa: N802
        return len(self.rows)

    def columnCount(self, parent: _Index | None = None) -> int:  # noqa: N802
        return self._width

    def headerData(  # noqa: N802
        self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole
    ) -> object:
        if role == Qt.ItemDataRole.DisplayRole:
            return (
                _column_name(section) if orientation is Qt.Orientation.Horizontal else self.rows[section].head
            )
        return None

    def data(self, index: _Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        row = self.rows[index.row()]
        cell = row.cells[index.column()] if index.column() < len(row.cells) else ""
        found = bool(self._words) and self._words in cell.casefold()
        match role:
            case Qt.ItemDataRole.DisplayRole | Qt.ItemDataRole.ToolTipRole:
                return cell
            case Qt.ItemDataRole.TextAlignmentRole:
                side = (
                    Qt.AlignmentFlag.AlignRight
                    if index.column() in self._numbers
                    else Qt.AlignmentFlag.AlignLeft
                )
                return side | Qt.AlignmentFlag.AlignVCenter
            case Qt.ItemDataRole.BackgroundRole if found:
                return QColor(self._look.sand_soft)
            case Qt.ItemDataRole.BackgroundRole if row.ground and (
                not row.marked or index.column() in row.marked
            ):
                return QColor(self._look.color(row.ground))
            case Qt.ItemDataRole.FontRole if found or index.column() in row.marked:
                font = QFont()
                font.setBold(True)
                font.setUnderline(index.column() in row.marked)
                return font
        return None


def _column_name(number: int) -> str:
    """``A`` to ``Z``, then ``AA``, as tables name their columns."""
    name = ""
    number += 1
    while number:
        number, letter = divmod(number - 1, _LETTERS)
        name = chr(ord("A") + letter) + name
    return name


class SheetView(QTableView):
    """One table that is only read."""

    def __init__(self, look: Palette, name: str) -> None:
        super().__init__()
        self.rows = SheetModel(look)
        self.setModel(self.rows)
        self.setAccessibleName(name)
        self.setCornerButtonEnabled(False)
        self.setTabKeyNavigation(False)  # who comes here by Tab goes on by it
        self.verticalHeader().setDefaultSectionSize(24)
        self.setHorizontalScrollMode(QTableView.ScrollMode.ScrollPerPixel)
        self._places: list[tuple[int, int]] = []

    def take(self, rows: list[ShownRow], numbers: frozenset[int]) -> None:
        """Show rows, each column as wide as it needs within bounds."""
        self._places = []
        self.rows.take(rows, numbers)
        self.resizeColumnsToContents()
        for column in range(self.rows.columnCount()):
            self.setColumnWidth(column, min(self.columnWidth(column), _WIDEST))

    def mark(self, words: str) -> int:
        """Mark the cells in which words stand; returns how many."""
        self._places = self.rows.mark(words)
        return len(self._places)

    def go(self, backward: bool) -> bool:
        """To the next cell that is marked."""
        if not self._places:
            return False
        now = self.currentIndex()
        at = (now.row(), now.column()) if now.isValid() else (-1, -1)
        if backward:
            place = ([one for one in self._places if one < at] or self._places)[-1]
        else:
            place = ([one for one in self._places if one > at] or self._places)[0]
        self.setCurrentIndex(self.rows.index(*place))
        return True


class TablePage(Page):
    """The tables of one version."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self.view = SheetView(look, tr("Content of the version"))
        self._tabs, self._note = QTabBar(), OneLine("quiet")
        self._tabs.setAccessibleName(tr("Tables of the document"))
        self._shown = TablePreview((), "")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        layout.addWidget(self._tabs)
        layout.addWidget(self.view, 1)
        layout.addWidget(self._note)
        self._tabs.currentChanged.connect(self._choose)

    def show_tables(self, shown: TablePreview) -> None:
        """Show a version's tables."""
        self._shown = shown
        _name_tabs(self._tabs, [sheet.name for sheet in shown.sheets])
        self._choose(0)

    def _choose(self, number: int) -> None:
        if not 0 <= number < len(self._shown.sheets):
            return
        sheet = self._shown.sheets[number]
        self.view.take([ShownRow(row, str(at)) for at, row in enumerate(sheet.rows, 1)], sheet.numbers)
        note = tr("Only the beginning is shown.") if sheet.cut else self._shown.origin
        self._note.setText(note)
        self._note.setVisible(bool(note))

    def mark_words(self, words: str) -> int:
        return self.view.mark(words)

    def go_to_word(self, backward: bool = False) -> None:
        self.view.go(backward)


class TableDifferencePage(Page):
    """The tables of two versions, the cells that differ marked. Beside each other with the rows that belong
    together at the same height, or in one column."""

    arrangements = (Arrangement.BESIDE, Arrangement.ONE)

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self.left = SheetView(look, tr("The chosen version"))
        self.right = SheetView(look, tr("What it is compared with"))
        self._left_head, self._right_head = OneLine("quiet"), OneLine("quiet")
        self._tabs = QTabBar()
        self._tabs.setAccessibleName(tr("Tables of the document"))
        self._names = "", ""
        self._tables: tuple[TableDifference, ...] = ()
        self._mine, self._other = TablePreview((), ""), TablePreview((), "")
        self._beside = False
        for mine, theirs in (
            (self.left.verticalScrollBar(), self.right.verticalScrollBar()),
            (self.left.horizontalScrollBar(), self.right.horizontalScrollBar()),
        ):
            mine.valueChanged.connect(theirs.setValue)
            theirs.valueChanged.connect(mine.setValue)
        beside = QHBoxLayout()
        beside.setSpacing(8)
        self._right_side = QWidget()
        for side, head, view in (
            (QWidget(), self._left_head, self.left),
            (self._right_side, self._right_head, self.right),
        ):
            column = QVBoxLayout(side)
            column.setContentsMargins(0, 0, 0, 0)
            column.setSpacing(2)
            column.addWidget(head)
            column.addWidget(view, 1)
            beside.addWidget(side, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        layout.addWidget(self._tabs)
        layout.addLayout(beside, 1)
        self._tabs.currentChanged.connect(lambda number: self._fill())

    def show_difference(
        self,
        tables: tuple[TableDifference, ...],
        mine: TablePreview,
        other: TablePreview,
        names: tuple[str, str],
    ) -> None:
        """Show what differs; ``names`` are what the two are called."""
        self._tables, self._mine, self._other, self._names = tables, mine, other, names
        _name_tabs(self._tabs, [table.name for table in tables])
        self._fill()

    def arrange(self, arrangement: Arrangement) -> None:
        self._beside = arrangement is Arrangement.BESIDE
        self._fill()

    def _fill(self) -> None:
        self._right_side.setVisible(self._beside)
        number = max(0, self._tabs.currentIndex())
        if number >= len(self._tables):
            return
        table = self._tables[number]
        mine = next(sheet for sheet in self._mine.sheets if sheet.name == table.name)
        other = next((sheet for sheet in self._other.sheets if sheet.name == table.name), Sheet("", ()))
        numbers = mine.numbers or other.numbers
        if self._beside:
            self._left_head.setText(self._names[0])
            self._right_head.setText(self._names[1])
            self.left.take([_shown(pair, pair.left, mine, "+", "kelp_soft") for pair in table.rows], numbers)
            self.right.take(
                [_shown(pair, pair.right, other, "−", "coral_soft") for pair in table.rows], numbers
            )
            for column in range(self.left.rows.columnCount()):
                width = max(self.left.columnWidth(column), self.right.columnWidth(column))
                self.left.setColumnWidth(column, width)
                self.right.setColumnWidth(column, width)
        else:
            self._left_head.setText(f"+ {self._names[0]}   − {self._names[1]}")
            self.left.take(_in_one(table, mine, other), numbers)

    def mark_words(self, words: str) -> int:
        return self.left.mark(words) + (self.right.mark(words) if self._beside else 0)

    def go_to_word(self, backward: bool = False) -> None:
        if not self.left.go(backward) and self._beside:
            self.right.go(backward)


def _name_tabs(tabs: QTabBar, names: list[str]) -> None:
    tabs.blockSignals(True)
    while tabs.count():
        tabs.removeTab(0)
    for name in names:
        tabs.addTab(name.replace("&", "&&") or tr("Table"))
    tabs.blockSignals(False)
    tabs.setVisible(len(names) > 1)


def _shown(pair: RowPair, at: int | None, sheet: Sheet, sign: str, ground: str) -> ShownRow:
    """A row of one side; an empty one where this side has none."""
    if at is None:
        return ShownRow(ground="band")
    if pair.left is None or pair.right is None:
        return ShownRow(sheet.rows[at], f"{sign} {at + 1}", ground)
    if pair.cells:
        return ShownRow(sheet.rows[at], f"{sign} {at + 1}", ground, frozenset(pair.cells))
    return ShownRow(sheet.rows[at], str(at + 1))


def _in_one(table: TableDifference, mine: Sheet, other: Sheet) -> list[ShownRow]:
    """The rows below each other; one that differs twice, as the other has it and as the chosen one has it."""
    rows = []
    for pair in table.rows:
        if pair.right is not None and (pair.left is None or pair.cells):
            rows.append(_shown(pair, pair.right, other, "−", "coral_soft"))
        if pair.left is not None:
            rows.append(_shown(pair, pair.left, mine, "+", "kelp_soft"))
    return rows
