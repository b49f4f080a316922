"""A version shown small beside the mouse, for who rests on its segment."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QSize, Qt, QTimer
from PySide6.QtGui import QFontDatabase, QPixmap
from PySide6.QtWidgets import QFrame, QLabel, QVBoxLayout, QWidget

from good_tide.core.history import Span
from good_tide.core.identifiers import JobId
from good_tide.core.previews import PagesPreview, PicturePreview, Preview, SoundPreview, TextPreview
from good_tide.core.tide import NO_TIDE
from good_tide.core.translation import tr
from good_tide.desktop.content.picture_pages import image_of
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.widgets import label
from good_tide.desktop.timeline.lifelines import Resting
from good_tide.desktop.timeline.model import TimelineModel
from good_tide.protocol.version_calls import ReadGlimpse

_REST_MS = 350
_WIDEST = 340
_BELOW = 18
"""Pixels between the mouse and what is shown."""


class Glimpse(QFrame):
    """What is said of a version at once, and its content when the mouse stays on it."""

    def __init__(self, link: AgentLink, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.ToolTip)
        self.setObjectName("card")
        self._link, self._job = link, JobId("")
        self._resting: Resting | None = None
        self._model = TimelineModel(NO_TIDE)
        self._known: dict[tuple[bytes, bytes], Preview] = {}
        self._words = label("")
        self._text = label("")
        self._text.setFont(QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont))
        self._picture = QLabel()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 8, 10, 8)
        layout.setSpacing(6)
        for widget in (self._words, self._picture, self._text):
            layout.addWidget(widget)
        self.setMaximumWidth(_WIDEST)
        self.rest = QTimer(self, singleShot=True, interval=_REST_MS)
        self.rest.timeout.connect(self._ask)

    def show_resting(self, resting: Resting, model: TimelineModel, job: JobId) -> None:
        """The mouse is on a version."""
        if job != self._job:
            self._known.clear()
        self._model, self._job = model, job
        same = self._resting is not None and self._same(self._resting.span, resting)
        self._resting = resting
        if not same:
            self._words.setText(resting.words)
            self._picture.hide()
            self._text.hide()
            known = self._known.get(self._key(resting))
            if known is not None:
                self._show(known)
            else:
                self.rest.start()
        self._place(resting.at)
        self.show()

    def _same(self, span: Span, resting: Resting) -> bool:
        return self._resting is not None and (span, self._resting.path) == (resting.span, resting.path)

    @staticmethod
    def _key(resting: Resting) -> tuple[bytes, bytes]:
        return resting.path, resting.span.identity

    def move_on(self) -> None:
        """The mouse is on no version any more."""
        self._resting = None
        self.rest.stop()
        self.hide()

    def _ask(self) -> None:
        resting = self._resting
        if resting is None or resting.span.first > len(self._model.tide):
            return
        point = self._model.tide[resting.span.first - 1]

        def came(shown: Preview) -> None:
            self._known[self._key(resting)] = shown
            if self._resting is not None and self._same(resting.span, self._resting):
                self._show(shown)
                self._place(self._resting.at)

        self._link.ask(ReadGlimpse(self._job, resting.path, point.name, point.time), came, lambda fault: None)

    def _show(self, shown: Preview) -> None:
        pixels = None
        match shown:
            case PicturePreview():
                pixels = shown.pixels
            case PagesPreview() if shown.pages:
                pixels = shown.pages[0]
            case TextPreview():
                self._text.setText(shown.text or tr("(empty)"))
                self._text.show()
            case SoundPreview():
                self._text.setText(tr("Sound, {seconds:.1f} s").format(seconds=shown.seconds))
                self._text.show()
        if pixels is not None:
            self._picture.setPixmap(QPixmap.fromImage(image_of(pixels)))
            self._picture.show()
        self.adjustSize()

    def _place(self, at: QPoint) -> None:
        """Beside the mouse, within the screen."""
        size: QSize = self.sizeHint()
        room = self.screen().availableGeometry()
        left = min(at.x() + 12, room.right() - size.width())
        top = at.y() + _BELOW
        if top + size.height() > room.bottom():
            top = at.y() - _BELOW - size.height()
        self.move(max(room.left(), left), max(room.top(), top))
        self.resize(size)
