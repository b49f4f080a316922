"""What is in an archive."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHeaderView, QTreeWidget, QTreeWidgetItem, QVBoxLayout

from good_tide.core.clock import SECOND
from good_tide.core.previews import ListingPreview
from good_tide.core.translation import tr
from good_tide.core.words import count_words, harmless, size_words, time_words
from good_tide.desktop.content.page import Page
from good_tide.desktop.painting.widgets import OneLine, align_numbers

_LONGEST_TIME = 4_000_000_000


class ListingPage(Page):
    """Names, sizes and times of what an archive has."""

    def __init__(self) -> None:
        super().__init__()
        self._note = OneLine("quiet")
        self.tree = QTreeWidget()
        self.tree.setHeaderLabels([tr("Name"), tr("Size"), tr("Saved")])
        self.tree.setAccessibleName(tr("What is in the archive"))
        self.tree.setRootIsDecorated(False)
        self.tree.setUniformRowHeights(True)
        self.tree.header().setStretchLastSection(False)
        self.tree.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        for column in (1, 2):
            self.tree.header().setSectionResizeMode(column, QHeaderView.ResizeMode.ResizeToContents)
        align_numbers(self.tree, (1,))
        self._found: list[QTreeWidgetItem] = []
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        layout.addWidget(self._note)
        layout.addWidget(self.tree, 1)

    def show_listing(self, shown: ListingPreview, now: int) -> None:
        """Show what is in an archive."""
        self._found = []
        self.tree.clear()
        items = []
        for one in shown.items:
            known = one.time is not None and 0 < one.time < _LONGEST_TIME
            time = time_words(int((one.time or 0) * SECOND), now) if known else ""
            item = QTreeWidgetItem([harmless(one.path), "" if one.folder else size_words(one.size), time])
            item.setTextAlignment(1, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            items.append(item)
        self.tree.addTopLevelItems(items)
        more = "; " + tr("only the beginning is listed") if shown.cut else ""
        self._note.setText(
            tr("{origin}: {count}, {total} unpacked{more}").format(
                origin=shown.origin,
                count=count_words(shown.count, "entry", "entries"),
                total=size_words(shown.total),
                more=more,
            )
        )

    def mark_words(self, words: str) -> int:
        match = Qt.MatchFlag.MatchContains
        self._found = self.tree.findItems(words, match, 0) if words else []
        return len(self._found)

    def go_to_word(self, backward: bool = False) -> None:
        if self._found:
            now = self.tree.currentItem()
            at = self._found.index(now) if now in self._found else (0 if backward else -1)
            self.tree.setCurrentItem(self._found[(at + (-1 if backward else 1)) % len(self._found)])
