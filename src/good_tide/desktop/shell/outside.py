"""Paths that come from outside the window: their place in history is looked up, and what is not covered can
be covered by one press."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, Signal

from good_tide.core.covered_paths import PathIs
from good_tide.core.translation import tr
from good_tide.core.words import printable
from good_tide.desktop.link import AgentLink
from good_tide.desktop.shell.strips import NoticeStrip
from good_tide.desktop.view import PathOffer
from good_tide.protocol.path_calls import CoverPath, FindPath, PathView
from good_tide.protocol.wishes import Wish


class FromOutside(QObject):
    """Leads to paths that somebody names from outside.

    ``found``: a job is to be shown, and in it what a view takes (``PathOffer``). ``changed``: something is
    covered that was not.
    """

    found = Signal(object, object)
    changed = Signal()

    def __init__(self, link: AgentLink, notice: NoticeStrip, parent: QObject) -> None:
        super().__init__(parent)
        self._link, self._notice = link, notice

    def look(self, wish: Wish) -> None:
        """Find the path that is wished for."""
        self._link.ask(FindPath(wish.path, self._link.job), lambda view: self._take(view, wish))

    def _take(self, view: PathView, wish: Wish) -> None:
        if view.how is PathIs.NO_JOB:
            return  # the set-up is shown
        if view.known is not False:
            missing = wish.missing and view.is_folder
            self.found.emit(view.job, PathOffer(view.path, view.is_folder, wish.before, missing))
        elif view.how is not PathIs.OUTSIDE:
            missing = wish.missing and view.how is PathIs.ABOVE
            self.found.emit(view.job, PathOffer(view.nearest, True, wish.before, missing))
        path = printable(view.path)
        if view.how is PathIs.OUTSIDE:
            said = (
                tr("{path} is no longer covered: its history ends").format(path=path)
                if view.known
                else tr("{path} is not covered: no snapshot has it").format(path=path)
            )
            self._offer(said, view, tr("Cover it from now on"))
        elif view.how is PathIs.RULED_OUT:
            said = tr("{path} is left out of snapshots").format(path=path)
            self._offer(said, view, tr("Take it in from now on"))
        elif view.how is PathIs.ABOVE and not view.known:
            self._notice.tell(tr("Covered folders lie in {path}").format(path=path))
        elif view.known is False and view.there:
            self._notice.tell(
                tr("No snapshot has {path} yet").format(path=path),
                tr("It is covered, and the next snapshot takes it in."),
            )
        elif view.known is False:
            self._notice.tell(
                tr("Nothing was ever called {path}").format(path=path),
                tr("The nearest folder of which there is history is shown. Typing finds names anywhere."),
            )

    def _offer(self, said: str, view: PathView, act: str) -> None:
        def cover() -> None:
            self._link.ask(CoverPath(view.job, view.path), done)

        def done(words: str) -> None:
            self._notice.tell(
                words, tr("The next snapshot takes it in. It can be changed again under Coverage.")
            )
            self.changed.emit()

        does: tuple[str, Callable[[], None]] = act, cover
        self._notice.tell(said, view.words, act=does if view.there else None)
