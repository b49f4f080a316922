"""Small ready-made widgets in the window's style."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QKeySequence, QPainter, QPaintEvent, QResizeEvent, QShortcut
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QRadioButton,
    QSizePolicy,
    QSpinBox,
    QStyle,
    QStyleOptionButton,
    QToolButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)
from shiboken6 import isValid


def label(words: str = "", style: str = "", wrap: bool = False) -> QLabel:
    """Text that is never taken for markup; ``style`` names a rule of the style sheet."""
    made = Wrapped(words) if wrap else QLabel(words)
    made.setTextFormat(Qt.TextFormat.PlainText)
    made.setObjectName(style)
    return made


class Wrapped(QLabel):
    """Text that is folded, and always has the height that its lines take."""

    def __init__(self, words: str) -> None:
        super().__init__(words)
        self.setWordWrap(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)

    def setText(self, words: str) -> None:  # noqa: N802
        super().setText(words)
        self._fit()

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        height = self.heightForWidth(self.width()) if self.text() and self.width() > 1 else 0
        if self.minimumHeight() != max(0, height):
            self.setMinimumHeight(max(0, height))


class OneLine(QLabel):
    """Plain text in one line that gives way to what stands beside it, and shows by dots that it does.

    :param first: it takes as much as it needs before what stands beside it gets any.
    """

    def __init__(self, style: str = "", first: bool = False) -> None:
        super().__init__()
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setObjectName(style)
        wide = QSizePolicy.Policy.Maximum if first else QSizePolicy.Policy.Ignored
        self.setSizePolicy(wide, QSizePolicy.Policy.Preferred)

    def minimumSizeHint(self) -> QSize:  # noqa: N802
        return QSize(24, self.fontMetrics().height())

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        """Draw as much as there is room for."""
        words = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())
        at = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft
        painter = QPainter(self)
        self.style().drawItemText(
            painter, self.rect(), at, self.palette(), self.isEnabled(), words, self.foregroundRole()
        )
        painter.end()


class OneLineRadio(QRadioButton):
    """A choice whose words are data and may be long: they give way in the middle, and show by dots that they
    do."""

    def __init__(self, words: str) -> None:
        super().__init__(words)
        self._words = words
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.setToolTip(words)

    def minimumSizeHint(self) -> QSize:  # noqa: N802
        return QSize(60, super().minimumSizeHint().height())

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        """Show as much as there is room for."""
        style, option = self.style(), QStyleOptionButton()
        self.initStyleOption(option)
        contents = style.subElementRect(QStyle.SubElement.SE_RadioButtonContents, option, self)
        metrics = self.fontMetrics()
        shown = metrics.elidedText(self._words, Qt.TextElideMode.ElideMiddle, contents.width())
        shown = shown.replace("&", "&&")  # not a key
        if shown != self.text():
            self.setText(shown)
        super().resizeEvent(event)


def button(words: str, primary: bool = False) -> QPushButton:
    """A push button."""
    made = QPushButton(words)
    made.setCursor(Qt.CursorShape.PointingHandCursor)
    if primary:
        made.setObjectName("primary")
    return made


def set_keys(widget: QWidget, keys: Mapping[str, Callable[[], object]]) -> None:
    """Have things done by keys while a widget has the focus."""
    for key, act in keys.items():
        shortcut = QShortcut(QKeySequence(key), widget)
        shortcut.setContext(Qt.ShortcutContext.WidgetShortcut)
        shortcut.activated.connect(act)


def with_clear_button(field: QLineEdit, words: str) -> None:
    """Give a field a button that empties it, which says so to those who do not see it."""
    field.setClearButtonEnabled(True)
    for clear in field.findChildren(QToolButton):
        clear.setAccessibleName(words)


def card(style: str = "card", margin: int = 14, spacing: int = 8) -> tuple[QFrame, QVBoxLayout]:
    """A rounded panel and its layout."""
    frame = QFrame()
    frame.setObjectName(style)
    layout = QVBoxLayout(frame)
    layout.setContentsMargins(margin, margin, margin, margin)
    layout.setSpacing(spacing)
    return frame, layout


def line(*widgets: QWidget, stretch: int | None = None, spacing: int = 8) -> QHBoxLayout:
    """Widgets side by side; ``stretch`` is the position at which the row gives way."""
    layout = QHBoxLayout()
    layout.setSpacing(spacing)
    layout.setContentsMargins(0, 0, 0, 0)
    for widget in widgets:
        layout.addWidget(widget)
    if stretch is not None:
        layout.insertStretch(stretch)
    return layout


def centre(page: QWidget, frame: QWidget) -> None:
    """Lay one panel out in the middle of a page, a little above it."""
    outer = QVBoxLayout(page)
    outer.addStretch(2)
    middle = line(frame, stretch=0)
    middle.addStretch()
    outer.addLayout(middle)
    outer.addStretch(3)


def is_listed(row: QTreeWidgetItem) -> bool:
    """Whether a row is still in its list, which may be filled anew while an answer is on its way."""
    return isValid(row)


def align_numbers(tree: QTreeWidget, columns: tuple[int, ...]) -> None:
    """Headings of columns with numbers stand at the right, as the numbers do."""
    for column in columns:
        tree.headerItem().setTextAlignment(
            column, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        )


def number(low: int, high: int, suffix: str, name: str) -> QSpinBox:
    """A field for a whole number."""
    made = QSpinBox()
    made.setRange(low, high)
    made.setSuffix(suffix)
    made.setAccessibleName(name)
    made.setFixedWidth(96)
    # The style sheet's padding does not reach the text of a number field.
    made.lineEdit().setTextMargins(8, 0, 0, 0)
    return made
