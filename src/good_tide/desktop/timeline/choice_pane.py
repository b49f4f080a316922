"""The pane beside the rows: one version of a file; or of a folder, what differs between the two marks."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence

from PySide6.QtCore import QTimer, QUrl, Signal
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import QStackedWidget

from good_tide.core.entries import Kind
from good_tide.core.history import Span
from good_tide.core.identifiers import HistoryId, JobId
from good_tide.core.restoring import Extent
from good_tide.core.tide import NO_TIDE
from good_tide.core.translation import tr
from good_tide.core.words import number_words, printable, time_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.timeline.folder_pane import FolderPane
from good_tide.desktop.timeline.inspector import Inspector
from good_tide.desktop.timeline.model import TimelineModel
from good_tide.desktop.timeline.several_pane import SeveralPane
from good_tide.protocol.faults import Fault
from good_tide.protocol.history_calls import DifferencesView, ReadDifferences
from good_tide.protocol.restore_calls import PickedItem
from good_tide.protocol.version_calls import (
    Beside,
    ChangesView,
    ContainingView,
    Detail,
    FindInVersions,
    MakeCopy,
    OpenWith,
    ReadChanges,
    ReadComparison,
    ReadDetail,
    ShowAsFolder,
)

_SETTLE_MS = 60


class ChoicePane(QStackedWidget):
    """Shows what is chosen, and asks for it when somebody rests on it.

    ``bring_all``: a list of ``PickedItem`` is to be brought back. ``bring``: a ``PickedItem`` is to be
    brought back, and how much of it. ``gather``: one is to be put on the restore list. ``go``: another moment
    is to be looked at. ``shown``: a path is to be shown among the rows. ``outdated``: what is shown is of
    another history.
    """

    bring_all = Signal(object)
    bring = Signal(object, object)
    gather = Signal(object)
    go = Signal(int)
    archive = Signal(object)
    """A list of ``PickedItem`` is to be saved as an archive."""
    shown = Signal(bytes)
    outdated = Signal()
    says = Signal()
    """Which versions say what is looked for is known, or no longer asked."""

    def __init__(self, look: Palette, link: AgentLink) -> None:
        super().__init__()
        self._link, self._job, self._now = link, JobId(""), 0
        self._model = TimelineModel(NO_TIDE)
        self._compared: tuple[bytes, int, int, HistoryId] | None = None
        self._stale = False
        self._asked = 0
        """Counts what was asked for, so that an answer to what was asked before is passed over."""
        self.inspector, self.folder = Inspector(look), FolderPane(look)
        self.addWidget(self.inspector)
        self.addWidget(self.folder)
        self.several = SeveralPane()
        self.addWidget(self.several)
        self.several.archive.connect(
            lambda paths: self.archive.emit([self._model.picked(path) for path in paths])
        )
        self.folder.archive.connect(lambda path: self.archive.emit(self._model.picked_whole(path)))
        self.several.bring.connect(
            lambda paths: self.bring_all.emit([self._model.picked(path) for path in paths])
        )
        self.several.gather.connect(self._gather_all)
        self.settle = QTimer(self, singleShot=True, interval=_SETTLE_MS)
        self.settle.timeout.connect(self._ask)
        self.inspector.go.connect(self.go)
        self.inspector.restore.connect(lambda item: self.bring.emit(item, Extent.ALL))
        self.inspector.gather.connect(self.gather)
        self.inspector.elsewhere.connect(self.shown)
        self.inspector.looked_for.connect(self._look_for)
        self.inspector.compare.connect(self._compare_version)
        self.inspector.open_copy.connect(self._open_copy)
        self.inspector.open_with.connect(self._open_with)
        self.inspector.as_folder.connect(lambda path: self._show_as_folder(path, self.inspector.take_says))
        self.folder.as_folder.connect(lambda path: self._show_as_folder(path, self.folder.say))
        self.inspector.strip.wanted.connect(self._ask_changes)
        self.folder.bring.connect(lambda path, extent: self.bring.emit(self._model.picked(path), extent))
        self.folder.gather.connect(lambda path: self.gather.emit(self._model.picked(path)))
        self.folder.go.connect(self.shown)

    def _gather_all(self, paths: list[bytes]) -> None:
        for path in paths:
            self.gather.emit(self._model.picked(path))

    def forget(self) -> None:
        """What was compared may be another by now: it is asked for again, and stays as it is until then."""
        self._stale = True

    def show_choice(self, model: TimelineModel, job: JobId, now: int) -> None:
        """Show the chosen row at the moment that is looked at; with nothing chosen, the folder looked
        into."""
        self._model, self._job, self._now = model, job, now
        several = model.several
        if several:
            self.setCurrentWidget(self.several)
            self.several.show_paths(several, time_words(model.time_of(model.moment), now))
            return
        row, span = model.chosen if model.chosen is not None else (None, None)
        if row is not None and span is None:
            self.setCurrentWidget(self.inspector)
            self.inspector.show_absent(row, model, now)
        elif row is not None and span is not None and span.kind != Kind.FOLDER:
            self.setCurrentWidget(self.inspector)
            self.inspector.show_version(row, span, model, now)
            self.settle.start()
        elif model.moment:
            self._compare(row.path if row is not None else model.root)

    def _compare(self, path: bytes) -> None:
        """Show what differs in a folder."""
        model = self._model
        self.setCurrentWidget(self.folder)
        wanted = path, model.moment, model.against, model.history
        if wanted == self._compared and self._stale:
            self._stale = False
            self._asked += 1
            self.settle.start()
        elif wanted != self._compared:
            self._compared, self._stale = wanted, False
            self._asked += 1
            title = printable(os.path.basename(path)) if path else tr("All covered folders")
            self.folder.ask(path, title, self._moments())
            self.settle.start()

    def _moments(self) -> str:
        """Which two moments are compared, in a sentence."""
        model = self._model
        then = time_words(model.time_of(model.moment), self._now)
        if model.against:
            return tr("From {then} to {time_of}.").format(
                then=then, time_of=time_words(model.time_of(model.against), self._now)
            )
        return tr(
            "From {then} to what is on the disk now. Shift and a click, or Shift and an arrow, compares with"
            " another moment."
        ).format(then=then)

    def _ask(self) -> None:
        if self.currentWidget() is self.inspector:
            self._ask_version()
        else:
            self._ask_differences()

    def _ask_version(self) -> None:
        chosen = self._model.chosen
        if chosen is not None and chosen[1] is not None and chosen[1].kind != Kind.LEFT_OUT:
            picked = self._model.picked(chosen[0].path)
            call = ReadDetail(self._job, picked.path, picked.snapshot, picked.time, chosen[0].path)
            self._link.ask(call, self._take_version, self._no_version)

    def _take_version(self, detail: Detail) -> None:
        self.inspector.take_detail(detail, self._now)

    def _no_version(self, fault: Fault) -> None:
        """It is not there any more: what is shown is of another history."""
        self.inspector.show_fault(str(fault))
        self.outdated.emit()

    def _compare_version(self, picked: PickedItem, beside: Beside) -> None:
        against = self._model.tide[self._model.against - 1].name if self._model.against else None
        chosen = self._model.chosen
        now = picked.path if chosen is None else chosen[0].path
        call = ReadComparison(self._job, picked.path, picked.snapshot, picked.time, beside, against, now)
        self._link.ask(call, lambda view: self.inspector.take_comparison(view, against), self._no_version)

    def _ask_changes(self, numbers: tuple[int, int]) -> None:
        """How much some of the shown versions changed, each against the one before it."""
        chosen = self._model.chosen
        if chosen is None:
            return
        path, begin = chosen[0].path, numbers[0]
        files = [(where, span) for where, span in chosen[0].life if span.kind == Kind.FILE]
        tide = self._model.tide
        versions = [(where, tide[span.first - 1].name) for where, span in files[begin - 1 : numbers[1]]]

        def came(view: ChangesView) -> None:
            now = self._model.chosen
            if now is not None and now[0].path == path:
                self.inspector.strip.take_changes(begin, view.changes[1:])

        self._link.ask(ReadChanges(self._job, tuple(versions)), came, lambda fault: None)

    def _open_copy(self, picked: PickedItem) -> None:
        """A read-only copy of a version in the program for such files."""

        def made(path: str) -> None:
            if not QDesktopServices.openUrl(QUrl.fromLocalFile(path)):
                self.inspector.take_says(
                    tr("No program opens such files here. The copy is {path}").format(path=path)
                )

        def failed(fault: Fault) -> None:
            self.inspector.take_says(str(fault))

        call = MakeCopy(self._job, picked.path, picked.snapshot, picked.time)
        self._link.ask(call, made, failed)

    def _open_with(self, picked: PickedItem) -> None:
        """The same, in a program that the person chooses."""
        call = OpenWith(self._job, picked.path, picked.snapshot, picked.time)
        self._link.ask(call, lambda done: None, lambda fault: self.inspector.take_says(str(fault)))

    def _show_as_folder(self, path: bytes, say: Callable[[str], None]) -> None:
        """What was there at the moment looked at, in the file manager."""
        model = self._model
        if not model.moment:
            return

        def ready(folder: str) -> None:
            say("")
            if not QDesktopServices.openUrl(QUrl.fromLocalFile(folder)):
                say(tr("There is no file manager here. It can be read in {folder}").format(folder=folder))

        say(tr("The folders of that moment are being made ready…"))
        point = model.tide[model.moment - 1]
        call = ShowAsFolder(self._job, path, point.name, point.time)
        self._link.ask(call, ready, lambda fault: say(str(fault)))

    def _look_for(self, path: bytes, phrase: str) -> None:
        """In which versions a phrase stands; nothing any more for an empty one."""
        if not phrase:
            self._model.says = None
            self.inspector.take_says("")
            self.says.emit()
            return

        def came(view: ContainingView) -> None:
            model = self._model
            row = model.row_of(path)
            if view.history != model.history or row is None or self.inspector.phrase.text().strip() != phrase:
                return
            model.says = path, frozenset(view.first)
            self.inspector.take_says(_said(model, [span for _, span in row.life], view, self._now))
            self.says.emit()

        self._link.ask(FindInVersions(self._job, path, phrase), came)

    def _ask_differences(self) -> None:
        model, compared = self._model, self._compared
        if compared is None or not model.moment:
            return
        then = model.tide[model.moment - 1]
        against = model.tide[model.against - 1] if model.against else None
        call = ReadDifferences(
            self._job,
            compared[0],
            then.name,
            then.time,
            against.name if against is not None else None,
            against.time if against is not None else 0,
        )

        asked = self._asked

        def came(view: DifferencesView) -> None:
            if asked == self._asked:
                self.folder.show_differences(view, against is None)

        def failed(fault: Fault) -> None:
            if asked == self._asked:
                self.folder.fail(str(fault))

        self._link.ask(call, came, failed)


def _said(model: TimelineModel, spans: Sequence[Span], view: ContainingView, now: int) -> str:
    """Since when, until when, and in how many versions a phrase stands."""
    saying = [span for span in spans if span.first in view.first]
    if not saying:
        return tr("No version says it.") if not view.unclear else tr("No version that has text says it.")
    since, last = time_words(model.time_of(saying[0].first), now), saying[-1].last
    until = (
        tr("it says it now")
        if last is None
        else tr("last {time_of}").format(time_of=time_words(model.time_of(last), now))
    )
    return tr("Says it since {since}, {until}: {saying} of {spans} versions.").format(
        since=since, until=until, saying=number_words(len(saying)), spans=number_words(len(spans))
    )
