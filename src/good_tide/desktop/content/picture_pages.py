"""Pictures: one, or two beside each other, faded over each other, or what differs between them; sound as its
curve; documents as pages."""

from __future__ import annotations

import zstandard
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QImage, QPainter, QPaintEvent, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import (
    QGridLayout,
    QLabel,
    QScrollArea,
    QSizePolicy,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from good_tide.core.previews import LARGEST_SIDE, PicturePreview, Pixels, SoundPreview
from good_tide.core.translation import tr
from good_tide.core.words import duration_words
from good_tide.desktop.content.page import Arrangement, Page
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import OneLine, label

_SQUARE = 8


def image_of(pixels: Pixels) -> QImage:
    """A picture for Qt; an empty one where the numbers do not fit each other."""
    side = min(pixels.width, pixels.height)
    if side < 1 or max(pixels.width, pixels.height) > LARGEST_SIDE:
        return QImage()
    length = 4 * pixels.width * pixels.height
    try:
        plain = zstandard.decompress(pixels.packed, max_output_size=length)
    except zstandard.ZstdError:
        return QImage()
    if len(plain) != length:
        return QImage()
    shape = pixels.width, pixels.height, 4 * pixels.width
    return QImage(plain, *shape, QImage.Format.Format_RGBA8888).copy()  # the bytes go with this call


class PictureCanvas(QWidget):
    """One or two pictures, as large as there is room for, never larger than they are."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self.mine, self.other = QImage(), QImage()
        self.arrangement = Arrangement.BESIDE
        self.share = 0.5
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(80)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        whole = QRectF(self.rect())
        if self.other.isNull():
            self._draw(painter, self.mine, whole)
        elif self.arrangement is Arrangement.BESIDE:
            half = (whole.width() - 8) / 2
            self._draw(painter, self.mine, QRectF(0, 0, half, whole.height()))
            self._draw(painter, self.other, QRectF(half + 8, 0, half, whole.height()))
        elif self.arrangement is Arrangement.FADED:
            self._draw(painter, self.other, whole)
            painter.setOpacity(self.share)
            self._draw(painter, self.mine, whole)
        else:
            self._draw(painter, differing(self.mine, self.other), whole)
        painter.end()

    def _draw(self, painter: QPainter, image: QImage, room: QRectF) -> None:
        if image.isNull():
            return
        size = image.size()
        if size.width() > room.width() or size.height() > room.height():
            size = size.scaled(room.size().toSize(), Qt.AspectRatioMode.KeepAspectRatio)
        box = QRectF(0, 0, size.width(), size.height())
        box.moveCenter(room.center())
        if image.hasAlphaChannel():
            self._draw_squares(painter, box)
        painter.drawImage(box, image)

    def _draw_squares(self, painter: QPainter, box: QRectF) -> None:
        """The ground of what can be seen through."""
        tile = QPixmap(2 * _SQUARE, 2 * _SQUARE)
        tile.fill(Qt.GlobalColor.white)
        on = QPainter(tile)
        for x, y in ((0, 0), (_SQUARE, _SQUARE)):
            on.fillRect(x, y, _SQUARE, _SQUARE, Qt.GlobalColor.lightGray)
        on.end()
        painter.drawTiledPixmap(box, tile)


def differing(mine: QImage, other: QImage) -> QImage:
    """How much two pictures differ at each place: what is the same is dark, what differs bright."""
    size = QSize(max(mine.width(), other.width()), max(mine.height(), other.height()))
    found = QImage(size, QImage.Format.Format_RGB32)
    found.fill(Qt.GlobalColor.white)
    painter = QPainter(found)
    painter.drawImage(0, 0, mine)
    painter.end()
    ground = QImage(size, QImage.Format.Format_RGB32)
    ground.fill(Qt.GlobalColor.white)
    painter = QPainter(ground)
    painter.drawImage(0, 0, other)
    painter.end()
    painter = QPainter(found)
    painter.setCompositionMode(QPainter.CompositionMode.CompositionMode_Difference)
    painter.drawImage(0, 0, ground)
    painter.end()
    return found


class PicturePage(Page):
    """One picture or two."""

    arrangements = (Arrangement.BESIDE, Arrangement.FADED, Arrangement.DIFFERENCE)

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self.canvas = PictureCanvas(look)
        self._facts = OneLine("quiet")
        self._names = "", ""
        self.fade = QSlider(Qt.Orientation.Horizontal)
        self.fade.setRange(0, 100)
        self.fade.setValue(50)
        self.fade.setAccessibleName(tr("How much of the chosen version is seen"))
        self.fade.valueChanged.connect(self._faded)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        layout.addWidget(self.canvas, 1)
        layout.addWidget(self.fade)
        layout.addWidget(self._facts)

    def show_pictures(
        self, mine: PicturePreview, other: PicturePreview | None = None, names: tuple[str, str] = ("", "")
    ) -> None:
        """Show one, or two with what they are called."""
        self.canvas.mine = image_of(mine.pixels)
        self.canvas.other = QImage() if other is None else image_of(other.pixels)
        facts = mine.facts if other is None else f"{names[0]}: {mine.facts}     {names[1]}: {other.facts}"
        self._facts.setText(facts)
        self.canvas.setAccessibleName(tr("Picture. {facts}").format(facts=facts))
        self.fade.setVisible(other is not None and self.canvas.arrangement is Arrangement.FADED)
        self.canvas.update()

    def arrange(self, arrangement: Arrangement) -> None:
        self.canvas.arrangement = arrangement
        self.fade.setVisible(arrangement is Arrangement.FADED and not self.canvas.other.isNull())
        self.canvas.update()

    def _faded(self, percent: int) -> None:
        self.canvas.share = percent / 100
        self.canvas.update()


class _Curve(QWidget):
    """A sound's curve over time."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self.sound = SoundPreview(0.0, "", (), ())
        self.longest = 0.0
        self.setMinimumHeight(60)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0, 2, 0, -2)
        painter.fillRect(box, self._look.color("band"))
        middle, half = box.center().y(), box.height() / 2
        painter.setPen(QPen(self._look.color("line"), 1))
        painter.drawLine(QPointF(0, middle), QPointF(box.width(), middle))
        sound, count = self.sound, len(self.sound.low)
        if not count or not self.longest:
            return
        width = box.width() * min(1.0, sound.seconds / self.longest)
        across = [width * number / max(1, count - 1) for number in range(count)]
        upper = [QPointF(x, middle - half * high) for x, high in zip(across, sound.high, strict=True)]
        lower = [QPointF(x, middle - half * low) for x, low in zip(across, sound.low, strict=True)]
        painter.setPen(QPen(self._look.color("kelp"), 1))
        painter.setBrush(self._look.color("shoal_deep"))
        painter.drawPolygon(QPolygonF([*upper, *reversed(lower)]))


class SoundPage(Page):
    """One sound, or two below each other on one scale of time."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._heads = label("", "quiet"), label("", "quiet")
        self._curves = _Curve(look), _Curve(look)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        for head, curve in zip(self._heads, self._curves, strict=True):
            layout.addWidget(head)
            layout.addWidget(curve, 1)
        layout.addStretch(1)

    def show_sounds(
        self, mine: SoundPreview, other: SoundPreview | None = None, names: tuple[str, str] = ("", "")
    ) -> None:
        """Show one, or two with what they are called."""
        longest = max(mine.seconds, other.seconds if other is not None else 0.0)
        for sound, name, head, curve in zip((mine, other), names, self._heads, self._curves, strict=True):
            head.setVisible(sound is not None)
            curve.setVisible(sound is not None)
            if sound is not None:
                words = f"{_length(sound.seconds)}, {sound.facts}"
                words += "; " + tr("only the beginning is drawn") if sound.cut else ""
                head.setText(f"{name}: {words}" if name else words)
                curve.setAccessibleName(tr("Sound, {words}").format(words=words))
                curve.sound, curve.longest = sound, longest
                curve.update()


def _length(seconds: float) -> str:
    return f"{seconds:.1f} s" if seconds < 60 else duration_words(seconds)


class PagesPage(Page):
    """Pages of a document below each other; of two documents in two columns."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self._note = OneLine("quiet")
        self._inside = QWidget()
        self._grid = QGridLayout(self._inside)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setSpacing(8)
        self._area = QScrollArea()
        self._area.setWidgetResizable(True)
        self._area.setWidget(self._inside)
        self._area.setAccessibleName(tr("Pages of the document"))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        layout.addWidget(self._area, 1)
        layout.addWidget(self._note)

    def show_pages(self, columns: list[tuple[Pixels, ...]], note: str) -> None:
        """Show the pages of one document, or of two."""
        while (item := self._grid.takeAt(0)) is not None:
            page = item.widget()
            if page is not None:
                page.deleteLater()
        for column, pages in enumerate(columns):
            for row, pixels in enumerate(pages):
                shown = _PagePicture(image_of(pixels))
                shown.setAccessibleName(tr("Page {row}").format(row=row + 1))
                self._grid.addWidget(shown, row, column, Qt.AlignmentFlag.AlignTop)
        self._grid.setRowStretch(max(map(len, columns), default=0), 1)
        self._area.verticalScrollBar().setValue(0)
        self._note.setText(note)


class _PagePicture(QLabel):
    """A page as wide as its column."""

    def __init__(self, image: QImage) -> None:
        super().__init__()
        self._image = image
        policy = QSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)

    def heightForWidth(self, width: int) -> int:  # noqa: N802
        if self._image.isNull():
            return 40
        return round(min(width, self._image.width()) * self._image.height() / self._image.width())

    def hasHeightForWidth(self) -> bool:  # noqa: N802
        return True

    def sizeHint(self) -> QSize:  # noqa: N802
        return QSize(self.width(), self.heightForWidth(self.width()))

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        width = min(self.width(), self._image.width())
        left = (self.width() - width) / 2
        painter.drawImage(QRectF(left, 0, width, self.heightForWidth(self.width())), self._image)
        painter.end()
