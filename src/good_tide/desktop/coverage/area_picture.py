"""Where the bytes are: each folder an area as large as its share, its sub-folders within, what is out
hatched."""

from __future__ import annotations

import os
from collections.abc import Sequence

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QFont, QHelpEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QToolTip, QWidget

from good_tide.core.translation import tr
from good_tide.core.words import count_words, printable, size_words
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.picture import hatch, sized, text
from good_tide.protocol.coverage_calls import FolderShare

_DEEPEST = 2


class AreaPicture(QWidget):
    """Areas of folders. ``chosen`` carries the path of the folder that was clicked."""

    chosen = Signal(bytes)

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self._folders: list[FolderShare] = []
        self._below: dict[bytes, list[FolderShare]] = {}
        self.boxes: list[tuple[QRectF, FolderShare]] = []
        self.selected = b""
        self.setMinimumHeight(150)
        self.setMouseTracking(True)
        self.setAccessibleName(tr("Where the bytes are"))

    def show_folders(self, folders: Sequence[FolderShare]) -> None:
        """Covered folders and those in them."""
        known = {one.path for one in folders}
        self._folders = [one for one in folders if one.size + one.out_size]
        self._below = {}
        for one in self._folders:
            parent = os.path.dirname(one.path)
            self._below.setdefault(parent if parent in known else b"", []).append(one)
        tops = self._below.get(b"", [])
        self.setAccessibleDescription(
            ", ".join(
                tr("{name} {size} in, {out_size} out").format(
                    name=_name(one), size=size_words(one.size), out_size=size_words(one.out_size)
                )
                for one in tops
            )
        )
        self.update()

    def select(self, path: bytes) -> None:
        """Mark a folder."""
        self.selected = path
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.boxes = []
        self._divide(painter, self._below.get(b"", []), QRectF(self.rect()), 0)
        for box, folder in self.boxes:
            if folder.path == self.selected:
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(self._look.color("ink"), 2.2))
                painter.drawRoundedRect(box, 4, 4)

    def _divide(self, painter: QPainter, folders: list[FolderShare], box: QRectF, depth: int) -> None:
        """Lay folders out in a box: cut it in two at about half of the bytes, along its longer side, again
        and again."""
        if not folders or box.width() < 4 or box.height() < 4:
            return
        if len(folders) == 1:
            self._one(painter, folders[0], box, depth)
            return
        ordered = sorted(folders, key=_weight, reverse=True)
        total = sum(map(_weight, ordered))
        first, taken = [ordered[0]], _weight(ordered[0])
        while len(first) < len(ordered) - 1 and taken < total / 2.5:
            first.append(ordered[len(first)])
            taken += _weight(first[-1])
        one, other = QRectF(box), QRectF(box)
        if box.width() >= box.height():
            one.setWidth(box.width() * taken / total)
            other.setLeft(one.right())
        else:
            one.setHeight(box.height() * taken / total)
            other.setTop(one.bottom())
        self._divide(painter, first, one, depth)
        self._divide(painter, ordered[len(first) :], other, depth)

    def _one(self, painter: QPainter, folder: FolderShare, box: QRectF, depth: int) -> None:
        look = self._look
        inner = box.adjusted(2, 2, -2, -2)
        if inner.width() < 3 or inner.height() < 3:
            return
        self.boxes.append((inner, folder))
        painter.setPen(QPen(look.color("kelp" if depth == 0 else "shoal_deep"), 1.2))
        painter.setBrush(look.color("kelp_soft" if depth != 1 else "paper"))
        painter.drawRoundedRect(inner, 4, 4)
        titled = inner.width() > 60 and inner.height() > 18
        inside = (
            self._below.get(folder.path, [])
            if depth < _DEEPEST and inner.height() > 50 and inner.width() > 60
            else []
        )
        within = inner.adjusted(4, 21 if titled else 4, -4, -4)
        if inside:
            own = max(0, _weight(folder) - sum(map(_weight, inside)))
            own_out = max(0, folder.out_size - sum(one.out_size for one in inside))
            shrunk = QRectF(within)
            shrunk.setWidth(max(8.0, within.width() * max(0.15, 1 - own / max(1, _weight(folder)))))
            self._divide(painter, inside, shrunk, depth + 1)
            within.setLeft(shrunk.right() + 2)
            self._hatch(painter, within, own_out / own if own else 0.0)
        elif folder.out_size:
            self._hatch(painter, inner, folder.out_size / _weight(folder))
        if titled:
            painter.setFont(
                sized(
                    self.font(),
                    9.5 if depth == 0 else 9,
                    QFont.Weight.DemiBold if depth == 0 else QFont.Weight.Normal,
                )
            )
            size = (
                size_words(folder.size)
                if folder.size
                else tr("{out_size} out").format(out_size=size_words(folder.out_size))
            )
            advance, room = painter.fontMetrics().horizontalAdvance, inner.width() - 8
            words = f"{_name(folder)}  {size}"
            if advance(words) + 3 > room:  # the name is what a box is known by
                words = _name(folder)
            plate = QRectF(inner.left() + 4, inner.top() + 2, min(room, advance(words) + 8.0), 17)
            if folder.out_size and not inside:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(look.color("paper"))
                painter.drawRoundedRect(plate, 3, 3)
            text(painter, plate.adjusted(3, 0, 0, 0), words, look.color("ink"))

    def _hatch(self, painter: QPainter, box: QRectF, part: float) -> None:
        """Hatch the lower part of a box: what is out."""
        if part > 0 and box.width() > 3:
            out = QRectF(box)
            out.setTop(box.bottom() - box.height() * part)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(hatch(self._look, "paper", "shoal_deep"))
            painter.drawRoundedRect(out.adjusted(1, 1, -1, -1), 3, 3)

    def folder_at(self, point: QPointF) -> FolderShare | None:
        """The innermost folder at a point."""
        return next((folder for box, folder in reversed(self.boxes) if box.contains(point)), None)

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        found = self.folder_at(event.position())
        if found is not None:
            self.chosen.emit(found.path)

    def event(self, event: QEvent) -> bool:
        if isinstance(event, QHelpEvent):
            found = self.folder_at(QPointF(event.pos()))
            words = ""
            if found is not None:
                words = tr("{path}\nin: {files}, {size}").format(
                    path=printable(found.path),
                    files=count_words(found.files, "file"),
                    size=size_words(found.size),
                )
                words += (
                    "\n"
                    + tr("out: {out_files}, {out_size}").format(
                        out_files=count_words(found.out_files, "file"), out_size=size_words(found.out_size)
                    )
                    if found.out_files
                    else ""
                )
            QToolTip.showText(event.globalPos(), words, self)
            return True
        return super().event(event)


def _weight(folder: FolderShare) -> int:
    return folder.size + folder.out_size


def _name(folder: FolderShare) -> str:
    return printable(os.path.basename(folder.path)) or "/"
