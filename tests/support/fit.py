"""Whether what a window shows fits: nothing out of reach, no text cut without dots, nothing that was not
given to translation."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterable, Iterator

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractScrollArea,
    QComboBox,
    QLabel,
    QLineEdit,
    QPushButton,
    QTreeWidget,
    QWidget,
)
from tools.window_driver import settle

from good_tide.core.kinds import KINDS
from good_tide.core.rules import MARKERS
from good_tide.desktop.painting.widgets import OneLine

SIZES = (QSize(900, 560), QSize(1000, 620), QSize(1280, 760), QSize(2560, 1440))
_RULES = ("exclude", "include", "marker", *KINDS, *MARKERS)
"""The words that rules are written in."""
_DATA = re.compile(r"/|^[\W\d]*$|^\W*(B|KiB|MiB|GiB|TiB|min|ext4|overlay|tmpfs|exfat|Ctrl\+\w)\W*$")
"""What is data, and not words: paths, numbers, sizes, file systems."""


_STAYS_SECONDS = 5.0


def _what_stays(found: Callable[[], list[str]]) -> list[str]:
    """What is found wrong for good: while an answer is being laid out, its texts may not fit for a moment."""
    end = time.monotonic() + _STAYS_SECONDS
    while (wrong := found()) and time.monotonic() < end:
        settle()
    return wrong


def shown(page: QWidget) -> Iterator[QWidget]:
    """The widgets of a page that can be seen."""
    for widget in page.findChildren(QWidget):
        if widget.isVisible() and widget.width() > 1 and not widget.isWindow():
            yield widget


def out_of_reach(page: QWidget) -> list[str]:
    """What lies outside a page, or outside a scroll area that cannot be scrolled there, and stays there."""
    return _what_stays(lambda: _out_of_reach_now(page))


def _out_of_reach_now(page: QWidget) -> list[str]:
    found = []
    for widget in shown(page):
        holder = widget.parentWidget() or page
        clipped = False
        while holder is not page and not isinstance(holder, QAbstractScrollArea):
            in_view = isinstance(holder.parentWidget(), QAbstractScrollArea)  # which is scrolled to
            inside = QRect(widget.mapTo(holder, QPoint()), widget.size())
            clipped = clipped or not (in_view or holder.rect().contains(inside))
            holder = holder.parentWidget() or page
        place = QRect(widget.mapTo(holder, QPoint()), widget.size())
        if isinstance(holder, QAbstractScrollArea):
            off = Qt.ScrollBarPolicy.ScrollBarAlwaysOff
            cut = holder.horizontalScrollBarPolicy() == off and place.right() > holder.width()
        else:
            cut = not page.rect().contains(place)
        if cut or clipped:
            found.append(f"{_called(widget)} {place.getRect()}")
    return found


def _called(widget: QWidget) -> str:
    return f"{type(widget).__name__} {getattr(widget, 'text', str)()!r}"


def cut_texts(page: QWidget) -> list[str]:
    """Texts that do not fit in the place that they have, do not show it by dots, and stay so."""
    return _what_stays(lambda: _cut_texts_now(page))


def _cut_texts_now(page: QWidget) -> list[str]:
    found = []
    for widget in shown(page):
        if isinstance(widget, OneLine):
            continue
        if isinstance(widget, QLabel) and widget.text():
            room = widget.contentsRect()
            if widget.wordWrap():
                wanted = widget.heightForWidth(widget.width())
                cut = wanted > widget.height() + 2
            else:
                lines = widget.text().split("\n")
                cut = max(map(widget.fontMetrics().horizontalAdvance, lines)) > room.width() + 2
            if cut:
                found.append(f"{_called(widget)} {widget.size().toTuple()} {widget.sizeHint().toTuple()}")
        wide = widget.fontMetrics().horizontalAdvance(_words_on(widget))
        if wide > widget.width() - 8 * isinstance(widget, QPushButton):
            found.append(f"{_called(widget)} {widget.size().toTuple()}")
    return found


def _words_on(widget: QWidget) -> str:
    return widget.text().replace("&", "") if isinstance(widget, QAbstractButton) else ""


def untranslated(page: QWidget, data: Iterable[str]) -> list[str]:
    """Words that were not given to translation; of made-up files and disks those in ``data`` stand for
    themselves."""
    found = []
    for widget in shown(page):
        for text in _texts(widget):
            rest, before = re.sub("⟦[^⟦⟧]*⟧", "", text), text
            while rest != before:
                rest, before = re.sub("⟦[^⟦⟧]*⟧", "", rest), rest
            rest = re.sub(r"(exclude|include) [a-z0-9 .\-]+", "", rest, flags=re.IGNORECASE)  # rules
            for one in data:
                rest = rest.replace(one, "")
            if re.search(r"[A-Za-z]{2}", rest) and not _DATA.search(rest):
                found.append(f"{type(widget).__name__} {text!r}")
    return found


def _texts(widget: QWidget) -> list[str]:
    if isinstance(widget, (QLabel, QAbstractButton)):
        return [widget.text()]
    if isinstance(widget, QLineEdit):
        return [widget.placeholderText()]
    if isinstance(widget, QComboBox):
        return [
            widget.itemText(number)
            for number in range(widget.count())
            if widget.itemText(number) not in _RULES
        ]
    if isinstance(widget, QTreeWidget):
        head = widget.headerItem()
        return (
            []
            if head is None or widget.isHeaderHidden()
            else [head.text(at) for at in range(head.columnCount())]
        )
    return []
