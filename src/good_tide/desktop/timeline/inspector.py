"""The inspector: the chosen version, what is in it, how it differs, and bringing it back."""

from __future__ import annotations

import os

from PySide6.QtCore import Signal
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QButtonGroup, QLineEdit, QSizePolicy, QToolButton, QVBoxLayout, QWidget

from good_tide.core.comparing import Comparison, Verdict
from good_tide.core.entries import Kind
from good_tide.core.history import Span
from good_tide.core.identifiers import SnapshotId
from good_tide.core.translation import tr
from good_tide.core.words import count_words, exact_words, number_words, printable, size_words, time_words
from good_tide.desktop.content.content_view import ContentView
from good_tide.desktop.painting.flow import Flow
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import button, label, with_clear_button
from good_tide.desktop.timeline.folder_pane import AS_FOLDER
from good_tide.desktop.timeline.model import Row, TimelineModel, version_number
from good_tide.desktop.timeline.versions_strip import StripVersion, VersionsStrip
from good_tide.protocol.restore_calls import PickedItem
from good_tide.protocol.version_calls import Beside, ComparisonView, Detail

_CONTENT, _NOW, _BEFORE = 0, 1, 2


class Inspector(QWidget):
    """Shows one version."""

    restore = Signal(object)
    """Bring a ``PickedItem`` back."""
    gather = Signal(object)
    open_copy = Signal(object)
    """Open a read-only copy of a ``PickedItem`` in the program for such files."""
    open_with = Signal(object)
    """The same, in a program that the person chooses."""
    as_folder = Signal(bytes)
    """The folder of a path is to be shown in the file manager as it was."""
    compare = Signal(object, object)
    """A ``PickedItem`` is to be compared; with what (``Beside``)."""
    elsewhere = Signal(bytes)
    """Show another path among the rows."""
    go = Signal(int)
    """Look at another moment."""
    looked_for = Signal(bytes, str)
    """In which versions of a path does a phrase stand? Empty: nothing is looked for any more."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._detail: Detail | None = None
        self._comparisons: dict[Beside, Comparison] = {}
        self._picked, self._last_seq, self._now = PickedItem(b"", SnapshotId("")), 0, 0
        self._marked: SnapshotId | None = None
        self._row = self._before = self._moved_to = b""
        self._when = ""
        self._title = label("", "title", wrap=True)
        self._facts = label("", "quiet", wrap=True)
        self._notes = label("", "quiet", wrap=True)
        self._verdict = label("", "harm", wrap=True)
        self.strip = VersionsStrip(look)
        self._modes = QButtonGroup(self)
        modes = [
            self._mode(tr("Content"), _CONTENT),
            self._mode(tr("Against now"), _NOW),
            self._mode(tr("Against before"), _BEFORE),
        ]
        self.content = ContentView(look)
        self.phrase = QLineEdit()
        self.phrase.setPlaceholderText(tr("Find here; Enter: since when does it say so"))
        self.phrase.setAccessibleName(tr("Words to find in this version, and with Enter in all versions"))
        self.phrase.setToolTip(tr("F3 and Shift+F3 go from place to place"))
        with_clear_button(self.phrase, tr("Look for no words any more"))
        self.says = label("", "quiet", wrap=True)
        self.phrase.returnPressed.connect(self._look_for)
        self.phrase.textChanged.connect(self._find)
        self._restore = button(tr("Restore this version…"), primary=True)
        self._gather = button(tr("Add to restore list"))
        self._open = button(tr("Open a copy"))
        self._open.setToolTip(tr("A copy that can be read only, in the program for such files"))
        self._open_with = button(tr("Open with…"))
        self._open_with.setToolTip(tr("The same copy, in a program that you choose"))
        self._files = button(tr("Show in files as it was"))
        self._files.setToolTip(AS_FOLDER)
        self._files.clicked.connect(lambda: self.as_folder.emit(self._picked.path))
        self._earlier = button(tr("Show when it was last there"))
        self._later = button(tr("Show it where it is now"))
        self._later.clicked.connect(lambda: self.elsewhere.emit(self._moved_to))
        self._promise = label(
            tr("What is there now will be set aside and can be brought back."), "quiet", wrap=True
        )
        self._filler = QWidget()
        self._filler.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Expanding)
        self._lay_out(modes)
        self._modes.idClicked.connect(self._show_mode)
        self._restore.clicked.connect(lambda: self.restore.emit(self._picked))
        self._gather.clicked.connect(lambda: self.gather.emit(self._picked))
        self._open.clicked.connect(lambda: self.open_copy.emit(self._picked))
        self._open_with.clicked.connect(lambda: self.open_with.emit(self._picked))
        self._earlier.clicked.connect(lambda: self.go.emit(self._last_seq))
        self.strip.chosen.connect(self.go)
        for keys, backward in (("F3", False), ("Shift+F3", True)):
            shortcut = QShortcut(QKeySequence(keys), self)
            shortcut.activated.connect(lambda back=backward: self.content.page.go_to_word(back))
        self.show_nothing(
            tr("Choose a file"),
            tr("Click a row on the left to see its versions, or step through time with the arrow keys."),
        )

    def _lay_out(self, modes: list[QToolButton]) -> None:
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 14, 14, 14)
        layout.setSpacing(6)
        for words in (self._title, self._facts, self._notes):
            layout.addWidget(words)
        layout.addWidget(self.strip)
        layout.addWidget(Flow(*modes, spacing=2))
        layout.addWidget(self._verdict)
        layout.addWidget(self.content, 1)
        layout.addWidget(self.phrase)
        layout.addWidget(self.says)
        layout.addWidget(self._earlier)
        layout.addWidget(self._later)
        layout.addWidget(self._restore)
        layout.addWidget(Flow(self._gather, self._open, self._open_with, self._files, spacing=6))
        layout.addWidget(self._promise)
        layout.addWidget(self._filler, 1)

    def _mode(self, words: str, number: int) -> QToolButton:
        made = QToolButton()
        made.setObjectName("mode")
        made.setText(words)
        made.setCheckable(True)
        made.setChecked(number == _CONTENT)
        self._modes.addButton(made, number)
        return made

    def show_nothing(self, title: str, words: str) -> None:
        """Nothing is chosen, or nothing stood at the chosen moment."""
        self._detail = None
        self._title.setText(title)
        self._facts.setText(words)
        for widget in (
            self._notes,
            self._verdict,
            self._restore,
            self._gather,
            self._open,
            self._open_with,
            self._files,
            self._earlier,
            self._later,
            self._promise,
            self.content,
            self.strip,
            self.phrase,
            self.says,
        ):
            widget.hide()
        self._filler.show()
        for mode in self._modes.buttons():
            mode.hide()

    def show_fault(self, words: str) -> None:
        """The chosen version could not be shown."""
        self.show_nothing(self._title.text(), words)

    def show_absent(self, row: Row, model: TimelineModel, now: int) -> None:
        """The chosen thing was not there at the chosen moment."""
        earlier = [span for _, span in row.life if span.first <= model.moment]
        self._moved_to = row.line.later
        if earlier and earlier[-1].last is not None:
            last = earlier[-1].last
            words = tr("No longer there at this moment. Last seen {time_of}.").format(
                time_of=time_words(model.time_of(last), now)
            )
            self._last_seq = last
            self._earlier.setText(tr("Show when it was last there"))
        else:
            first = row.life[0][1].first
            words = tr("Not there yet at this moment. First seen {time_of}.").format(
                time_of=time_words(model.time_of(first), now)
            )
            self._last_seq = first
            self._earlier.setText(tr("Show when it first appeared"))
        if row.line.later and earlier:
            words += " " + tr("It goes on as {later}.").format(later=printable(row.line.later))
        self.show_nothing(row.title, words)
        self._earlier.show()
        self._later.setVisible(bool(row.line.later and earlier))
        self._show_strip(row, model, now)

    def _look_for(self) -> None:
        self.says.hide()
        self.looked_for.emit(self._row, self.phrase.text().strip())

    def _find(self, words: str) -> None:
        """Mark the words where they stand in what is shown."""
        if not words:
            self._look_for()
        count = self.content.page.mark_words(words.strip())
        if words.strip():
            self.take_says(
                tr("Not in what is shown here.")
                if not count
                else tr("{count} times here.").format(count=number_words(count))
            )
            self.content.page.go_to_word()

    def take_says(self, words: str) -> None:
        """In which versions the phrase stands, in a sentence."""
        self.says.setText(words)
        self.says.setVisible(bool(words))

    def _show_strip(self, row: Row, model: TimelineModel, now: int) -> None:
        versions = [
            StripVersion(
                span.first,
                model.time_of(span.first),
                span.size,
                span.identity,
                "" if path == row.path else printable(os.path.basename(path)),
            )
            for path, span in row.life
            if span.kind == Kind.FILE
        ]
        then = row.standing(model.moment)
        at = next((number for number, one in enumerate(versions) if then and one.seq == then[1].first), -1)
        self.strip.show_versions(versions, at, now)

    def show_version(self, row: Row, span: Span, model: TimelineModel, now: int) -> None:
        """A version was chosen; its content is on its way."""
        if row.path != self._row:
            self._row = row.path
            self.phrase.clear()
        self._before = row.line.earlier[-1].path if row.line.earlier else b""
        picked = model.picked(row.path)
        marked = model.tide[model.against - 1].name if model.against else None
        if (picked, marked) != (self._picked, self._marked):
            self._comparisons = {}
        self._picked, self._marked, self._now = picked, marked, now
        self._when = time_words(picked.time, now)
        readable = [one for _, one in row.life if one.kind != Kind.LEFT_OUT]
        self._title.setText(row.title)
        self._title.setToolTip(printable(row.path))
        begin = model.time_of(span.first)
        end = "now" if span.last is None else time_words(model.time_of(span.last), now)
        count = count_words(
            (len(model.tide) if span.last is None else span.last) - span.first + 1, "snapshot"
        )
        if span.kind == Kind.LEFT_OUT:
            self.show_nothing(
                row.title,
                tr("Could not be read when the snapshots from {begin} to {end} were taken.").format(
                    begin=time_words(begin, now), end=end
                ),
            )
            return
        what = (
            tr("Folder")
            if row.is_folder
            else tr("Version {version_number} of {readable} · {size}").format(
                version_number=version_number(row, span), readable=len(readable), size=size_words(span.size)
            )
        )
        modified = (
            ""
            if row.is_folder
            else "\n" + tr("Saved {modified}").format(modified=time_words(span.modified, now, seconds=True))
        )
        lost = "\n" + tr("Its content is lost: the store was damaged.") if model.is_lost(span) else ""
        self._facts.setText(
            tr("{what}{modified}\nStood {begin} to {end}, {count}{lost}").format(
                what=what, modified=modified, begin=time_words(begin, now), end=end, count=count, lost=lost
            )
        )
        self._facts.setToolTip(
            tr("Saved {exact_words}\nFirst seen {exact_words_2}").format(
                exact_words=exact_words(span.modified), exact_words_2=exact_words(begin)
            )
        )
        self._restore.setText(tr("Restore this folder…") if row.is_folder else tr("Restore this version…"))
        for widget in (self._restore, self._gather, self._promise):
            widget.show()
        self._earlier.hide()
        self._later.hide()
        self._show_strip(row, model, now)

    def take_detail(self, detail: Detail, now: int) -> None:
        """The content has come."""
        if (detail.path, detail.snapshot) != (
            self._picked.path,
            self._picked.snapshot,
        ) or detail.kind is Kind.FOLDER:
            return
        self._detail, self._now = detail, now
        notes = []
        if detail.path != self._row:
            notes.append(tr("Then called {path}").format(path=printable(detail.path)))
        elif self._before:
            notes.append(tr("Before, it was called {before}").format(before=printable(self._before)))
        others = [path for path in detail.elsewhere if path not in (self._row, self._before)][:3]
        if others:
            names = ", ".join(printable(os.path.basename(path)) for path in others)
            notes.append(tr("Same content under another name: {names}").format(names=names))
        if detail.unsteady:
            notes.append(tr("It changed while it was read; it may mix two states."))
        self._notes.setText("\n".join(notes))
        self._notes.setVisible(bool(notes))
        is_file = detail.kind is Kind.FILE
        self.phrase.setVisible(is_file)
        self._open.setVisible(is_file)
        self._open_with.setVisible(is_file)
        self._files.setVisible(is_file)
        for mode in self._modes.buttons():
            mode.setVisible(is_file)
        self._modes.button(_NOW).setText(tr("Against now") if self._marked is None else tr("Against mark"))
        self._show_mode(self._modes.checkedId())

    def take_comparison(self, view: ComparisonView, marked: SnapshotId | None) -> None:
        """How it compares has come.

        :param marked: where the second mark was when it was asked for.
        """
        asked = view.path, view.snapshot, marked
        if asked == (self._picked.path, self._picked.snapshot, self._marked):
            self._comparisons[view.beside] = view.comparison
            if self._detail is not None:
                self._show_mode(self._modes.checkedId())

    def _beside(self, mode: int) -> Beside:
        if mode == _BEFORE:
            return Beside.BEFORE
        return Beside.NOW if self._marked is None else Beside.MARK

    def _show_mode(self, mode: int) -> None:
        detail = self._detail
        if detail is None:
            return
        self.content.show()
        self._filler.hide()
        if mode == _CONTENT or detail.kind is not Kind.FILE:
            self.content.show_preview(detail.preview, self._now)
            self._say(detail.with_disk)
        else:
            beside = self._beside(mode)
            found = self._comparisons.get(beside)
            self._say(found, tr("Comparing…"))
            if found is None:
                self.compare.emit(self._picked, beside)
                return
            if found.compared is None:
                self.content.show_preview(detail.preview, self._now)
            else:
                other = {Beside.NOW: tr("on the disk now"), Beside.BEFORE: tr("the version before")}
                names = self._when, other.get(beside, tr("at the other mark"))
                self.content.show_comparison(found.compared, names, self._now)
        if self.phrase.text().strip():
            self.content.page.mark_words(self.phrase.text().strip())

    def _say(self, comparison: Comparison | None, otherwise: str = "") -> None:
        """Say how it compares."""
        self._verdict.setText(comparison.words if comparison is not None else otherwise)
        quiet = comparison is None or comparison.verdict is not Verdict.OTHER
        self._verdict.setObjectName("quiet" if quiet else "harm")
        self._verdict.style().unpolish(self._verdict)
        self._verdict.style().polish(self._verdict)
        self._verdict.setVisible(bool(self._verdict.text()))
