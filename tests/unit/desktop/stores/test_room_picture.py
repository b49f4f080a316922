"""What each week added is seen, however many weeks there are."""

from __future__ import annotations

import unittest

from good_tide.core.clock import SECOND
from good_tide.core.identifiers import StoreId
from good_tide.desktop.shell.application import make_application
from good_tide.desktop.stores.room_picture import RoomPicture
from good_tide.protocol.agent_calls import StoreView

_WEEK = 7 * 86400 * SECOND


class RoomPictureTest(unittest.TestCase):
    def test_each_week_has_a_bar(self) -> None:
        _, look = make_application("light")
        bars = {look.color("shoal").rgb(), look.color("shoal_deep").rgb()}
        for weeks in (4, 30, 300):
            with self.subTest(weeks=weeks):
                picture = RoomPicture(look)
                self.addCleanup(picture.deleteLater)
                by_age = tuple((number * _WEEK, 1000) for number in range(2900, 2900 + weeks))
                picture.show_store(
                    StoreView(StoreId("5"), "/disk", "Pier", True, False, disk_total=9, by_age=by_age)
                )
                picture.resize(1000, picture.height())
                image = picture.grab().toImage()
                row = [image.pixel(x, 180) for x in range(image.width())]
                wide = min(90.0, 1000 / weeks)
                seen = sum(
                    any(row[x] in bars for x in range(int(number * wide), int((number + 1) * wide)))
                    for number in range(weeks)
                )
                self.assertEqual(seen, weeks)
