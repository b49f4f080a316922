"""The window's pieces for set-up and coverage, each on its own."""

from __future__ import annotations

from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest

from good_tide.core.coverage import Covered
from good_tide.desktop.coverage.area_picture import AreaPicture
from good_tide.protocol.coverage_calls import FolderShare
from tests.support.widgets import WidgetTest


def share(path: str, size: int, out: int = 0) -> FolderShare:
    return FolderShare(
        path.encode(),
        1 if size else 0,
        size,
        1 if out else 0,
        out,
        0,
        Covered.IN if size else Covered.OUT,
        False,
    )


class AreaTest(WidgetTest):
    def test_areas_are_as_large_as_their_shares_and_lie_within_each_other(self) -> None:
        picture = AreaPicture(self.look)
        picture.show_folders(
            [
                share("/a", 600),
                share("/b", 300),
                share("/c", 100),
                share("/b/inside", 150),
                share("/empty", 0),
            ]
        )
        self.shown(picture)
        boxes = {folder.path: box for box, folder in picture.boxes}
        self.assertEqual(set(boxes), {b"/a", b"/b", b"/c", b"/b/inside"})
        whole = sum(boxes[name].width() * boxes[name].height() for name in (b"/a", b"/b", b"/c"))
        for name, part in ((b"/a", 0.6), (b"/b", 0.3), (b"/c", 0.1)):
            self.assertAlmostEqual(boxes[name].width() * boxes[name].height() / whole, part, delta=0.04)
        self.assertTrue(boxes[b"/b"].contains(boxes[b"/b/inside"]))
        tops = [boxes[name] for name in (b"/a", b"/b", b"/c")]
        for one, other in [(one, other) for one in tops for other in tops if one is not other]:
            self.assertFalse(one.adjusted(1, 1, -1, -1).intersects(other.adjusted(1, 1, -1, -1)))

    def test_a_click_leads_to_the_innermost_folder_and_what_is_out_is_hatched(self) -> None:
        picture = AreaPicture(self.look)
        picture.show_folders([share("/a", 500), share("/b", 0, 500), share("/a/in", 400)])
        self.shown(picture)
        clicked: list[bytes] = []
        picture.chosen.connect(clicked.append)
        boxes = {folder.path: box for box, folder in picture.boxes}
        for path in (b"/a/in", b"/b"):
            QTest.mouseClick(picture, Qt.MouseButton.LeftButton, pos=boxes[path].center().toPoint())
        self.assertEqual(clicked, [b"/a/in", b"/b"])
        image = picture.grab().toImage()
        colors = {
            path: {
                image.pixelColor(int(box.center().x()) + step, int(box.center().y())).name()
                for step in range(20)
            }
            for path, box in boxes.items()
        }
        self.assertEqual(len(colors[b"/a/in"]), 1, "what is in is plain")
        self.assertGreater(len(colors[b"/b"]), 2, "what is out is hatched")
        self.assertIn("500 B out", picture.accessibleDescription())
        self.assertIsNone(picture.folder_at(QPointF(-5, -5)))

    def test_files_of_a_folder_itself_that_are_out_are_hatched_beside_its_folders(self) -> None:
        picture = AreaPicture(self.look)
        picture.show_folders([share("/a", 0, 900), share("/a/in", 0, 100)])
        self.shown(picture)
        image = picture.grab().toImage()
        box = next(box for box, folder in picture.boxes if folder.path == b"/a")
        beside = {
            image.pixelColor(int(box.right()) - 60 + step, int(box.center().y())).name() for step in range(20)
        }
        self.assertGreater(len(beside), 2)

    def test_many_and_strange_folders_are_painted(self) -> None:
        picture = AreaPicture(self.look)
        picture.show_folders(
            [
                FolderShare(
                    b"/x\xff\n" + bytes([65 + number % 26]) * number,
                    1,
                    1 << number,
                    0,
                    0,
                    0,
                    Covered.IN,
                    False,
                )
                for number in range(1, 60)
            ]
        )
        self.shown(picture)
        self.assertTrue(picture.boxes)
        picture.show_folders([])
        self.shown(picture)
        self.assertEqual(picture.boxes, [])
