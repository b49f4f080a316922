"""Marks on a folder's row: the snapshots with changes inside it."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QRectF

from good_tide.core.history import Lifeline
from good_tide.desktop.timeline.model import Row, TimelineModel

_BEFORE, _WIDE, _HIGH = 0.5, 1.6, 12.0
"""How far left of its pixel column a mark begins, how wide and how high it is."""


def runs(columns: Sequence[int]) -> list[tuple[int, int]]:
    """First and last of each run of columns without a gap.

    :param columns: rising.
    """
    found: list[tuple[int, int]] = []
    for column in columns:
        if found and column == found[-1][1] + 1:
            found[-1] = found[-1][0], column
        else:
            found.append((column, column))
    return found


class FolderMarks:
    """The marks as they are painted. They are kept while the same stretch of time is looked at: who steps
    through a long history waits for none of them."""

    def __init__(self) -> None:
        self._shown: tuple[object, ...] = ()
        self._known: dict[bytes, tuple[Lifeline, list[QRectF]]] = {}

    def of(self, model: TimelineModel, row: Row, middle: float) -> list[QRectF]:
        """Those of a row whose middle is at this height."""
        shown = (model, model.axis.start, model.axis.end, model.axis.width)
        if shown != self._shown:
            self._shown = shown
            self._known.clear()
        line, marks = self._known.get(row.path, (None, []))
        if line is not row.line:
            top = middle - _HIGH / 2
            marks = [
                QRectF(first - _BEFORE, top, last - first + _WIDE, _HIGH)
                for first, last in runs(model.columns(row.line.inside))
            ]
            self._known[row.path] = row.line, marks
        return marks
