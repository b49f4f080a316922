"""Finding names in all of history: the field, and the buttons that narrow what is found."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PySide6.QtCore import QEvent, QObject, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QMenu, QPushButton, QWidget

from good_tide.core.clock import SECOND
from good_tide.core.findings import Findings
from good_tide.core.kinds import KINDS
from good_tide.core.name_query import FOLDERS, NameQuery, parse_query
from good_tide.core.translation import tr
from good_tide.core.words import count_words
from good_tide.desktop.painting.widgets import button, with_clear_button

_ASK_AFTER_MS = 120
_SHORTEST = 2
_DAY = 86400 * SECOND
_ANY_TIME = NameQuery(()).changed
_SIZES = [
    (tr("Of any size"), 0),
    (tr("1 MiB or more"), 1 << 20),
    (tr("10 MiB or more"), 10 << 20),
    (tr("100 MiB or more"), 100 << 20),
]
_TIMES = [
    (tr("Changed at any time"), 0),
    (tr("Changed in the last day"), 1),
    (tr("Changed in the last week"), 7),
    (tr("Changed in the last month"), 31),
]


class SearchField(QLineEdit):
    """Where names are typed."""

    def __init__(self) -> None:
        super().__init__()
        self.setPlaceholderText(tr("Find in all of history"))
        self.setAccessibleName(tr("Find in all of history"))
        self.setToolTip(
            tr(
                "Parts of names in any order; * and ? stand for anything; with a slash, a part of the path"
                " (Ctrl+F)"
            )
        )
        self.setMinimumWidth(130)
        self.setMaximumWidth(280)
        with_clear_button(self, tr("Clear the search"))

    def sizeHint(self) -> QSize:  # noqa: N802
        return QSize(self.maximumWidth(), super().sizeHint().height())


class Choice(QPushButton):
    """A button that says what is chosen, and offers the others. ``chosen``: another one was."""

    chosen = Signal()

    def __init__(self, choices: Sequence[tuple[str, str | int]]) -> None:
        super().__init__(choices[0][0])
        self.value: str | int = choices[0][1]
        menu = QMenu(self)
        for words, value in choices:
            menu.addAction(words).triggered.connect(partial(self._choose, words, value))
        self.setMenu(menu)

    def _choose(self, words: str, value: str | int, checked: bool = False) -> None:
        self.setText(words)
        self.value = value
        self.chosen.emit()


class SearchBar(QWidget):
    """Narrows a search, and says what was found. Hidden while nothing is looked for.

    ``wanted``: something else is to be looked for (``NameQuery``). ``left``: the search is over. ``lead_in``:
    to the rows. ``near``: a name that was proposed is to be looked for, by its path.
    """

    wanted = Signal(object)
    left = Signal()
    lead_in = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.field = SearchField()
        self.gone, self.between = button(tr("Gone now")), button(tr("Changed between the marks"))
        for one in (self.gone, self.between):
            one.setCheckable(True)
            one.clicked.connect(self._ask)
        self.gone.setToolTip(tr("Only what is not there any more"))
        self.between.setToolTip(tr("Only what appeared, changed or went between the two marks"))
        self.marks: tuple[int, int] | None = None
        self._now = 0
        kinds = [
            (tr("Of any kind"), ""),
            (tr("Folders"), FOLDERS),
            *((kind.title, word) for word, kind in KINDS.items()),
        ]
        self.kind, self.large, self.when = Choice(kinds), Choice(_SIZES), Choice(_TIMES)
        for choice in (self.kind, self.large, self.when):
            choice.chosen.connect(self._ask)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        for widget in (self.gone, self.between, self.kind, self.large, self.when):
            layout.addWidget(widget)
        layout.addStretch()
        self._timer = QTimer(self, singleShot=True, interval=_ASK_AFTER_MS)
        self._timer.timeout.connect(self._ask)
        self.field.textChanged.connect(self._typed)
        self.field.installEventFilter(self)
        self.hide()

    def set_moments(self, now: int, marks: tuple[int, int] | None) -> None:
        """The time now; and the times of the two marks, None while there is only one."""
        self._now, self.marks = now, marks
        self.between.setEnabled(marks is not None)
        if marks is None:
            self.between.setChecked(False)

    @property
    def active(self) -> bool:
        """Whether something is looked for."""
        return len(self.field.text().strip()) >= _SHORTEST

    def query(self) -> NameQuery:
        """What is looked for."""
        days = int(self.when.value)
        changed = (self._now - days * _DAY, _ANY_TIME[1]) if days else _ANY_TIME
        if self.between.isChecked() and self.marks is not None:
            changed = min(self.marks) + 1, max(self.marks)  # what the earlier one has is no change
        words, kind = parse_query(self.field.text()), str(self.kind.value)
        return NameQuery(words, self.gone.isChecked(), kind, changed, int(self.large.value))

    def _typed(self) -> None:
        if self.active:
            self._timer.start()
        else:
            self._timer.stop()
            self.left.emit()

    def _ask(self) -> None:
        if self.active:
            self.wanted.emit(self.query())

    def again(self) -> None:
        """Ask the same again: history is another one."""
        self._ask()

    def end(self) -> None:
        """Look for nothing any more."""
        self.field.clear()
        self.left.emit()

    def type(self, words: str) -> None:
        """Somebody types while the rows have the focus."""
        self.field.setFocus()
        self.field.setText(self.field.text() + words)

    def words(self, found: Findings) -> str:
        """How much was found, in a sentence."""
        never = tr("Nothing was ever called “{strip}”.").format(strip=self.field.text().strip())
        if found.near and found.count:
            return tr("{never} These names are near:").format(never=never)
        if not found.count or found.near:
            return tr("{never} Escape leads back.").format(
                never=tr("Nothing was found.") if self.query().narrowed else never
            )
        if found.more:
            return tr("More than {count}: write more of it. Escape leads back.").format(
                count=count_words(found.count, "name")
            )
        return tr("{count} found. Escape leads back.").format(count=count_words(found.count, "name"))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802
        if watched is self.field and isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.key() == Qt.Key.Key_Escape:
                self.end()
                return True
            if event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Return, Qt.Key.Key_Enter):
                if self._timer.isActive():
                    self._timer.stop()
                    self._ask()
                self.lead_in.emit()
                return True
        return super().eventFilter(watched, event)
