"""Milliseconds a frame while somebody zooms and steps through a timeline of many rows, painted as the window
paints it: ``python -m benchmarks.zooming [ROWS] [SNAPSHOTS]``. Beside it, what filling as large a picture
with one colour takes here: nothing can be faster than that."""

from __future__ import annotations

import random
import statistics
import sys
import time
from collections.abc import Callable

from PySide6.QtCore import QCoreApplication, Qt
from PySide6.QtGui import QPixmap
from PySide6.QtWidgets import QVBoxLayout, QWidget

from good_tide.core.history import Lifeline, Span, TidePoint, history_id
from good_tide.core.identifiers import SnapshotId
from good_tide.core.tide import Tide
from good_tide.desktop.shell.application import make_application
from good_tide.desktop.timeline.lifelines import LifelineView
from good_tide.desktop.timeline.model import TimelineModel
from good_tide.desktop.timeline.tide_chart import TideChart

_HOUR = 3_600_000_000_000
_FRAMES = 120
_FOLDERS = 30
"""Rows that are folders, the first ones: in each something changed in a part of the snapshots."""
_WANTED_MS = 16.0


def made_up(rows: int, snapshots: int) -> TimelineModel:
    """A timeline of so many files, each with some twenty versions."""
    chance = random.Random(4)
    tide = [
        TidePoint(
            number,
            SnapshotId(f"{number:032x}"),
            number * _HOUR,
            "",
            rows,
            rows * 1000,
            1000,
            0,
            2,
            3,
            1,
            4000,
            4000,
            4000,
        )
        for number in range(1, snapshots + 1)
    ]
    model = TimelineModel(Tide.of(tide), history_id([point.name for point in tide]))
    folder = (Span("d", 0, 0, b"", 1, None),)
    lines = []
    for number in range(_FOLDERS):
        inside = tuple(sorted(chance.sample(range(1, snapshots + 1), snapshots // _FOLDERS)))
        lines.append(Lifeline(f"folder {number:02}".encode(), folder, inside))
    for number in range(rows - _FOLDERS):
        firsts = sorted({1, *(chance.randrange(1, snapshots) for _ in range(20))})
        spans = tuple(
            Span("f", 1000, first * _HOUR, bytes([at]), first, following - 1 if following else None)
            for at, (first, following) in enumerate(zip(firsts, [*firsts[1:], 0], strict=True))
        )
        lines.append(Lifeline(f"file {number:05}.txt".encode(), spans))
    model.root = b"/home/somebody"
    model.take_view(b"/home/somebody", lines)
    model.take_view(b"", [Lifeline(b"/home/somebody", folder)])
    return model


def _frames(act: Callable[[int], None], paint: Callable[[], None]) -> list[float]:
    taken = []
    for number in range(_FRAMES):
        begun = time.perf_counter()
        act(number)
        paint()
        taken.append((time.perf_counter() - begun) * 1000)
    return taken


def main() -> None:
    """Paint and print."""
    rows = int(sys.argv[1]) if len(sys.argv) > 1 else 2000
    snapshots = int(sys.argv[2]) if len(sys.argv) > 2 else 2000
    _, look = make_application("light")
    model = made_up(rows, snapshots)
    chart, lines = TideChart(look), LifelineView(look)
    now = (snapshots + 1) * _HOUR
    window = QWidget()
    column = QVBoxLayout(window)
    column.addWidget(chart)
    column.addWidget(lines, 1)
    window.resize(1200, 770)
    window.show()
    chart.show_model(model, now)
    lines.show_model(model, now)
    model.choose(b"/home/somebody/file 00003.txt")
    picture = QPixmap(window.size())

    def paint() -> None:
        """As the window's event loop does: what was asked to be painted anew is."""
        QCoreApplication.processEvents()

    def zoom(number: int) -> None:
        model.axis.zoom(0.97 if number % 40 < 20 else 1.03, 400.0)
        chart.refresh()
        lines.refresh()

    def step(number: int) -> None:
        model.go(snapshots - number)
        chart.refresh()
        lines.refresh()

    def fill() -> None:
        picture.fill(Qt.GlobalColor.white)

    paint()
    for name, act in (("zooming", zoom), ("stepping", step)):
        taken = _frames(act, paint)
        worst = sorted(taken)[int(len(taken) * 0.95)]
        print(
            f"{name:9} {rows:,} rows, {snapshots:,} snapshots: {statistics.median(taken):6.2f} ms a frame,"
            f" 19 of 20 under {worst:.2f} ms (wanted: {_WANTED_MS:.0f})"
        )
    floor = statistics.median(_frames(lambda number: None, fill))
    print(f"one colour over a picture as large: {floor:.2f} ms")


if __name__ == "__main__":
    main()
