"""The agent over its socket, and the timeline's model."""

from __future__ import annotations

import os

from good_tide.desktop.timeline.model import TimelineModel
from good_tide.operations.stores.opening import synced_catalog
from tests.support.base import (
    HOUR,
    MACHINE,
    T0,
    GoodTideTest,
)


class ModelTest(GoodTideTest):
    def test_stepping_through_changes_of_the_selected_thing(self) -> None:
        store = self.new_store()
        for hour in range(6):
            if hour in (0, 3):
                self.write("plan.txt", f"version {hour}")
            if hour == 5:
                (self.work / "plan.txt").unlink()
            self.write("other.txt", str(hour))
            self.snap(store, hour)
        catalog, _ = synced_catalog(store, self.cache)
        model = TimelineModel(catalog.tide(MACHINE.id))
        model.axis.width = 700.0
        path = os.fsencode(self.work)
        model.root = path
        self.assertEqual(model.missing_views(), [b"", path])
        model.take_view(path, catalog.lifelines(catalog.folder(MACHINE.id, path) or 0))
        model.selected = path + b"/plan.txt"
        self.assertEqual((model.moment, model.here_then()), (6, (1, 1)))
        visited = [model.moment]
        while model.step_change(forward=False):
            visited.append(model.moment)
        self.assertEqual(visited, [6, 4, 1])
        row = model.row_of(model.selected)
        assert row is not None
        self.assertEqual(model.row_words(row, T0 + 6 * HOUR), "plan.txt: 2 versions, last seen today 20:13")
        self.assertEqual(
            [model.nearest(T0 + minutes * HOUR // 60) for minutes in (-9, 29, 31, 9999)], [1, 1, 2, 6]
        )
        self.assertEqual(
            model.columns(range(1, 7)), [int(model.axis.x(T0 + hour * HOUR)) for hour in range(6)]
        )
        model.axis.start, model.axis.end = T0 + HOUR, T0 + 3 * HOUR
        self.assertEqual(
            model.columns([1, 3, 4, 6]), [int(model.axis.x(T0 + hour * HOUR)) for hour in (2, 3)]
        )
        catalog.close()
