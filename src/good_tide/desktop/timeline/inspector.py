"""The inspector: the chosen version, what is in it, how it differs, and bringing it back."""

from __future__ import annotations

import html
import os

from PySide6.QtCore import QByteArray, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QImage, QPainter, QPixmap
from PySide6.QtSvg import QSvgRenderer
from PySide6.QtWidgets import (
    QButtonGroup,
    QLabel,
    QLineEdit,
    QSizePolicy,
    QStackedWidget,
    QTextBrowser,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from good_tide.core.comparing import Difference, Verdict
from good_tide.core.entries import Kind
from good_tide.core.history import Span
from good_tide.core.identifiers import SnapshotId
from good_tide.core.previews import Form
from good_tide.core.words import count_words, exact_words, printable, size_words, time_words
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import button, label, line, with_clear_button
from good_tide.desktop.timeline.model import Row, TimelineModel
from good_tide.protocol.history_calls import Detail
from good_tide.protocol.restore_calls import PickedItem

_LARGEST_PICTURE = 8000
_TEXT_SHOWN = 200_000
_CONTENT, _NOW, _BEFORE = 0, 1, 2


class Inspector(QWidget):
    """Shows one version."""

    restore = Signal(object)
    """Bring a ``PickedItem`` back."""
    gather = Signal(object)
    go = Signal(int)
    """Look at another moment."""
    looked_for = Signal(bytes, str)
    """In which versions of a path does a phrase stand? Empty: nothing is looked for any more."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self._detail: Detail | None = None
        self._picked, self._last_seq = PickedItem(b"", SnapshotId("")), 0
        self._title = label("", "title", wrap=True)
        self._facts = label("", "quiet", wrap=True)
        self._notes = label("", "quiet", wrap=True)
        self._verdict = label("", "harm", wrap=True)
        self._modes = QButtonGroup(self)
        modes = [
            self._mode("Content", _CONTENT),
            self._mode("Vs. now", _NOW),
            self._mode("Vs. before", _BEFORE),
        ]
        self._text = QTextBrowser()
        self._text.setOpenLinks(False)
        self._text.setAccessibleName("Content of the version")
        self._picture = QLabel()
        self._picture.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._stack = QStackedWidget()
        self._stack.addWidget(self._text)
        self._stack.addWidget(self._picture)
        self.phrase = QLineEdit()
        self.phrase.setPlaceholderText("Since when does it say… (Enter)")
        self.phrase.setAccessibleName("A phrase to look for in all versions")
        with_clear_button(self.phrase, "Look for no phrase any more")
        self.says = label("", "quiet", wrap=True)
        self.phrase.returnPressed.connect(self._look_for)
        self.phrase.textChanged.connect(lambda words: None if words else self._look_for())
        self._restore = button("Restore this version…", primary=True)
        self._gather = button("Add to restore list")
        self._earlier = button("Show when it was last there")
        self._promise = label(
            "What is there now will be set aside and can be brought back.", "quiet", wrap=True
        )
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 14, 14, 14)
        layout.setSpacing(6)
        for words in (self._title, self._facts, self._notes):
            layout.addWidget(words)
        layout.addLayout(line(*modes, stretch=3, spacing=2))
        layout.addWidget(self._verdict)
        layout.addWidget(self._stack, 1)
        layout.addWidget(self.phrase)
        layout.addWidget(self.says)
        self._filler = QWidget()
        self._filler.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Expanding)
        for widget in (self._earlier, self._restore, self._gather, self._promise):
            layout.addWidget(widget)
        layout.addWidget(self._filler, 1)
        self._modes.idClicked.connect(self._show_mode)
        self._restore.clicked.connect(lambda: self.restore.emit(self._picked))
        self._gather.clicked.connect(lambda: self.gather.emit(self._picked))
        self._earlier.clicked.connect(lambda: self.go.emit(self._last_seq))
        self.show_nothing(
            "Choose a file",
            "Click a row on the left to see its versions, or step through time with the arrow keys.",
        )

    def _mode(self, words: str, number: int) -> QToolButton:
        made = QToolButton()
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
            self._earlier,
            self._promise,
            self._stack,
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
        earlier = [span for span in row.line.spans if span.first <= model.moment]
        if earlier and earlier[-1].last is not None:
            last = earlier[-1].last
            words = f"No longer there at this moment. Last seen {time_words(model.time_of(last), now)}."
            self._last_seq = last
            self._earlier.setText("Show when it was last there")
        else:
            first = row.line.spans[0].first
            words = f"Not there yet at this moment. First seen {time_words(model.time_of(first), now)}."
            self._last_seq = first
            self._earlier.setText("Show when it first appeared")
        self.show_nothing(row.title, words)
        self._earlier.show()

    def _look_for(self) -> None:
        self.says.hide()
        self.looked_for.emit(self._picked.path, self.phrase.text().strip())

    def take_says(self, words: str) -> None:
        """In which versions the phrase stands, in a sentence."""
        self.says.setText(words)
        self.says.setVisible(bool(words))

    def show_version(self, row: Row, span: Span, model: TimelineModel, now: int) -> None:
        """A version was chosen; its content is on its way."""
        if row.path != self._picked.path:
            self.phrase.clear()
        self._picked = model.picked(row.path)
        readable = [one for one in row.line.spans if one.kind != Kind.LEFT_OUT]
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
                f"Could not be read when the snapshots from {time_words(begin, now)} to {end} were taken.",
            )
            return
        what = (
            "Folder"
            if row.is_folder
            else f"Version {row.line.version_number(span)} of {len(readable)} · {size_words(span.size)}"
        )
        modified = "" if row.is_folder else f"\nSaved {time_words(span.modified, now, seconds=True)}"
        lost = "\nIts content is lost: the store was damaged." if model.is_lost(span) else ""
        self._facts.setText(f"{what}{modified}\nStood {time_words(begin, now)} to {end}, {count}{lost}")
        self._facts.setToolTip(f"Saved {exact_words(span.modified)}\nFirst seen {exact_words(begin)}")
        self._restore.setText("Restore this folder…" if row.is_folder else "Restore this version…")
        for widget in (self._restore, self._gather, self._promise):
            widget.show()
        self._earlier.hide()
        if row.is_folder:
            self._verdict.hide()
            self._notes.hide()
            self._stack.hide()
            self._filler.show()
            for mode in self._modes.buttons():
                mode.hide()

    def take_detail(self, detail: Detail, model: TimelineModel, now: int) -> None:
        """The content has come."""
        if (detail.path, detail.snapshot) != (
            self._picked.path,
            self._picked.snapshot,
        ) or detail.kind is Kind.FOLDER:
            return
        self._detail = detail
        notes = []
        if detail.elsewhere:
            others = ", ".join(printable(os.path.basename(path)) for path in detail.elsewhere[:3])
            notes.append(f"Same content under another name: {others}")
        if detail.unsteady:
            notes.append("It changed while it was read; it may mix two states.")
        self._notes.setText("\n".join(notes))
        self._notes.setVisible(bool(notes))
        self.phrase.setVisible(detail.kind is Kind.FILE)
        for mode in self._modes.buttons():
            mode.setVisible(detail.kind is Kind.FILE)
        self._modes.button(_NOW).setText("Vs. now" if detail.with_mark is None else "Vs. mark")
        self._show_mode(self._modes.checkedId())

    def _show_mode(self, mode: int) -> None:
        detail = self._detail
        if detail is None:
            return
        self._stack.show()
        self._filler.hide()
        if mode == _CONTENT or detail.kind is not Kind.FILE:
            compared, words = detail.with_disk, detail.with_disk.words if detail.with_disk is not None else ""
            self._show_content(detail)
        else:
            other = detail.with_disk if detail.with_mark is None else detail.with_mark
            compared = other if mode == _NOW else detail.with_before
            difference = compared.difference if compared is not None else None
            words = compared.words if compared is not None else ""
            if difference is not None:
                words += (
                    f" in {difference.changed:,} of {difference.total:,} lines"
                    if difference.changed
                    else " only in line ends"
                )
            marked = "at the mark" if detail.with_mark is not None else "now"
            self._show_difference(difference, marked if mode == _NOW else "before")
        self._verdict.setText(words)
        quiet = compared is None or compared.verdict is not Verdict.OTHER
        self._verdict.setObjectName("quiet" if quiet else "harm")
        self._verdict.style().unpolish(self._verdict)
        self._verdict.style().polish(self._verdict)
        self._verdict.setVisible(bool(self._verdict.text()))

    def _show_content(self, detail: Detail) -> None:
        shown = detail.preview
        if shown.form is Form.PICTURE:
            self._show_picture(shown.picture)
            return
        words = html.escape(shown.text[:_TEXT_SHOWN])
        foot = ""
        if shown.cut or len(shown.text) > _TEXT_SHOWN:
            foot = "<p><i>Only the beginning is shown.</i></p>"
        elif shown.form is Form.TEXT and shown.encoding not in ("UTF-8", "empty"):
            foot = f"<p><i>Read as {html.escape(shown.encoding)}.</i></p>"
        style = (
            "font-family: monospace; font-size: 9pt; white-space: pre-wrap;"
            if shown.form is Form.TEXT
            else "white-space: pre-wrap;"
        )
        body = words if shown.text else "<i>An empty file</i>"
        self._text.setHtml(f'<div style="{style}">{body}</div>{foot}')
        self._stack.setCurrentWidget(self._text)

    def _show_picture(self, data: bytes) -> None:
        room = QSize(max(60, self._stack.width() - 4), max(60, self._stack.height() - 4))
        image = QImage.fromData(data)
        if not image.isNull() and max(image.width(), image.height()) <= _LARGEST_PICTURE:
            pixmap = QPixmap.fromImage(
                image.scaled(
                    room, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation
                )
            )
        else:
            renderer = QSvgRenderer(QByteArray(data))
            if not renderer.isValid():
                self._text.setPlainText("This picture cannot be shown.")
                self._stack.setCurrentWidget(self._text)
                return
            size = renderer.defaultSize().scaled(room, Qt.AspectRatioMode.KeepAspectRatio)
            pixmap = QPixmap(size)
            pixmap.fill(Qt.GlobalColor.white)
            painter = QPainter(pixmap)
            renderer.render(painter, QRectF(0, 0, size.width(), size.height()))
            painter.end()
        self._picture.setPixmap(pixmap)
        self._stack.setCurrentWidget(self._picture)

    def _show_difference(self, difference: Difference | None, other: str) -> None:
        look = self._look
        rows = []
        styles = {"+": (look.kelp_soft, look.kelp), "-": (look.coral_soft, look.coral)}
        for mark, words in difference.lines[:2000] if difference is not None else ():
            if mark == "…":
                rows.append(
                    f'<div style="color:{look.quiet_text}">&nbsp;&nbsp;…'
                    f" {count_words(int(words), 'equal line')}</div>"
                )
                continue
            ground, ink = styles.get(mark, ("transparent", look.ink))
            shown = html.escape(words[:400]) or "&nbsp;"
            sign = mark if mark.strip() else "&nbsp;"
            rows.append(
                f'<div style="background-color:{ground};color:{ink};white-space:pre-wrap">{sign}'
                f" {shown}</div>"
            )
        head = f'<div style="color:{look.quiet_text}">+ in this version, − only {other}</div>' if rows else ""
        self._text.setHtml(f'<div style="font-family:monospace;font-size:9pt">{head}{"".join(rows)}</div>')
        self._stack.setCurrentWidget(self._text)
