"""What is looked for: names in all of history, or what is missing in a folder. The rows show what was found
in place of a folder, and one comes back to where one was."""

from __future__ import annotations

import os

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from good_tide.core.findings import Findings
from good_tide.core.identifiers import JobId
from good_tide.core.name_query import NameQuery
from good_tide.core.tide import NO_TIDE
from good_tide.core.translation import tr
from good_tide.core.words import count_words, printable
from good_tide.desktop.link import AgentLink
from good_tide.desktop.timeline.model import TimelineModel
from good_tide.desktop.timeline.search_bar import SearchBar
from good_tide.protocol.history_calls import FindNames, FoundView
from good_tide.protocol.path_calls import FindMissing

_MOST_FOUND = 500


class Finding(QWidget):
    """Asks for what is looked for, and puts it into the model that is shown.

    ``found``: it has come. ``over``: nothing is looked for any more; one had scrolled so far before.
    ``led_in``: the rows are to be walked now. ``outdated``: what came is of another history.
    """

    found = Signal()
    over = Signal(int)
    led_in = Signal()
    outdated = Signal()

    def __init__(self, link: AgentLink, parent: QWidget) -> None:
        super().__init__(parent)
        self._link = link
        self.model, self.job = TimelineModel(NO_TIDE), JobId("")
        self.bar = SearchBar()
        self._scrolled = 0
        self._before: tuple[bytes, bytes | None, int] | None = None
        """While something is looked for: the folder, the row and how far one had scrolled before."""
        self._missing_in: bytes | None = None
        """The folder of which one wants to know what is missing."""
        self._leads_in = False
        self.bar.wanted.connect(self._ask_names)
        self.bar.left.connect(self._left)
        self.bar.lead_in.connect(self._lead_in)
        self.hide()

    @property
    def missing(self) -> bool:
        """Whether what is missing in a folder is shown, and no search."""
        return self._missing_in is not None

    def note_scrolled(self, far: int) -> None:
        """One has scrolled so far."""
        self._scrolled = far

    def forget(self) -> None:
        """Nothing is looked for any more, and one stays where one is."""
        self._before = self._missing_in = None
        self.bar.end()

    def end(self) -> None:
        """Look for nothing any more, and go back to where one was."""
        if self._missing_in is not None:
            self._left()
        else:
            self.bar.end()

    def again(self) -> None:
        """Ask the same again: history is another one."""
        if self._missing_in is not None:
            self._ask_missing()
        elif self._before is not None:
            self.bar.again()

    def ask_missing(self, folder: bytes) -> None:
        """What is missing in a folder?"""
        self._begin()
        self._missing_in = folder
        self._ask_missing()

    def _ask_missing(self) -> None:
        assert self._missing_in is not None
        self._link.ask(FindMissing(self.job, self._missing_in, _MOST_FOUND), self._take, in_order=True)

    def _ask_names(self, query: NameQuery) -> None:
        self._begin()
        self._missing_in = None
        self._link.ask(FindNames(self.job, query, _MOST_FOUND), self._take, in_order=True)

    def _begin(self) -> None:
        if self._before is None:
            self._before = self.model.root, self.model.selected, self._scrolled

    def _take(self, view: FoundView) -> None:
        if self._before is None:
            return  # nothing is looked for any more
        if view.history != self.model.history:
            self.outdated.emit()
            return
        self.model.take_found(view.findings, view.lost)
        self.bar.setVisible(self._missing_in is None)
        self.found.emit()
        if self._leads_in:
            self._lead_in()

    def _lead_in(self) -> None:
        """From the field into the rows: at once, or when what is looked for has come."""
        self._leads_in = self.model.found is None and self.bar.active
        if not self._leads_in:
            self.led_in.emit()

    def _left(self) -> None:
        """Back to where one was, or to what was chosen among what was found."""
        self.bar.hide()
        self._leads_in, self._missing_in = False, None
        if self._before is None:
            return
        root, selected, scrolled = self._before
        self._before, self.model.found = None, None
        self.model.root, self.model.selected = root, selected
        self.over.emit(scrolled)

    def words(self, found: Findings) -> str:
        """What was found, in a sentence."""
        if self._missing_in is None:
            return self.bar.words(found)
        name = printable(os.path.basename(self._missing_in)) or tr("all covered folders")
        if not found.count:
            return tr("Nothing is missing in {name}. Escape leads to all that is there.").format(name=name)
        count = count_words(found.count, "thing")
        if found.more:
            return tr("More than {count} missing in {name}, the newest here. Escape leads back.").format(
                count=count, name=name
            )
        return tr("{count} missing in {name}. Escape leads back.").format(count=count, name=name)
