"""What takes the room of a store, in the window: chosen, released, pinned, taken out of all history."""

from __future__ import annotations

import random
from typing import Any

from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from good_tide.core.identifiers import StoreId
from good_tide.desktop.shell.views import VIEWS
from good_tide.desktop.stores.room_page import RoomPage
from good_tide.protocol.contract import Call
from good_tide.protocol.faults import Fault
from good_tide.protocol.store_calls import HeldHistory, Purge, ReadHeldHistory, ReleaseSnapshots
from good_tide.storage.pins import read_pins
from good_tide.storage.store import Store
from tests.support.base import OFFICE, OTHER_MACHINE, open_store, tree
from tests.support.windows import WindowTest, row_of


class RoomPageTest(WindowTest):
    def make_history(self, store: Store) -> None:
        chance = random.Random(3)
        for hour in range(8):
            self.write("Letters/plan.txt", str(hour))
            if hour in (2, 3, 4):
                self.write("Posters/film.mkv", chance.randbytes(300_000))
            elif hour == 5:
                (self.work / "Posters/film.mkv").unlink()
            self.snap(store, hour * 24)
        self.snap(store, 200, OTHER_MACHINE)

    def open_page(self) -> RoomPage:
        self.window.show_view(VIEWS[2])
        stores = self.views.stores
        self.until(lambda: bool(stores.cards) and stores.cards[0].what.isVisible())
        self.press(stores.cards[0].what)
        page = stores.room_page
        self.until(lambda: len(page.picture.snapshots) == 9)
        self.assertTrue(page.isVisible())
        return page

    def store(self) -> Store:
        return open_store(self.folder / "store", None)

    def drag(
        self,
        page: RoomPage,
        first: int,
        last: int,
        keys: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier,
    ) -> None:
        picture = page.picture
        begin, end = (
            QPoint(int(picture.place_of(picture.snapshots[number])), 80) for number in (first, last)
        )
        QTest.mousePress(picture, Qt.MouseButton.LeftButton, keys, begin - QPoint(5, 0))
        QTest.mouseMove(picture, end + QPoint(5, 0))
        self.assertFalse(picture.grab().isNull())
        QTest.mouseRelease(picture, Qt.MouseButton.LeftButton, keys, end + QPoint(5, 0))

    def wait_words(self, page: RoomPage, words: str) -> None:
        self.until(lambda: words in page.words.text())

    def test_a_stretch_of_time_is_chosen_and_released(self) -> None:
        page = self.open_page()
        self.assertIn("9 snapshots of 2 machines need", page.sentence.text())
        self.assertFalse(page.release.isVisible())
        self.drag(page, 2, 3)
        self.wait_words(page, "2 snapshots")
        self.wait_words(page, "gives back 6")
        before = self.store().place.total_bytes()
        self.press(page.release)
        assert page.question is not None
        self.assertIn("Release 2 snapshots on Pier?", page.question.windowTitle())
        self.press(page.question.leave)
        self.assertEqual(len(self.store().snapshot_ids()), 9)
        self.press(page.release)
        self.press(page.question.act)
        self.until(
            lambda: "2 snapshots released; 6" in self.window.notice.text and len(page.picture.snapshots) == 7
        )
        self.assertLess(self.store().place.total_bytes(), before - 590_000)
        self.assertEqual(page.picture.chosen, set())
        self.assertEqual(len(self.window.overview.tide), 6)

    def test_the_newest_and_pinned_ones_stay(self) -> None:
        page = self.open_page()
        names = [one.id for one in page.picture.snapshots]
        self.drag(page, 1, 1)
        page.why.setText("as handed over")
        self.press(page.pin)
        self.until(lambda: page.picture.snapshots[1].pin == "as handed over")
        self.assertEqual([pin.snapshot for pin in read_pins(self.store()).values()], [names[1]])
        self.assertFalse(page.release.isEnabled())
        self.drag(page, 0, 8)
        self.wait_words(page, "3 of them stay")
        self.press(page.release)
        assert page.question is not None
        self.assertEqual(page.question.act.text(), "Release 6 snapshots")
        page.question.reject()
        self.drag(page, 8, 8)
        self.wait_words(page, "is the newest of its machine and stays")
        self.drag(page, 1, 1, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(page.picture.chosen, {names[1], names[8]})
        self.press(page.unpin)
        self.until(lambda: page.picture.snapshots[1].pin is None)
        self.assertEqual(read_pins(self.store()), {})

    def test_by_click_and_by_keyboard(self) -> None:
        page = self.open_page()
        picture = page.picture
        QTest.mouseClick(
            picture, Qt.MouseButton.LeftButton, pos=QPoint(int(picture.place_of(picture.snapshots[4])), 60)
        )
        self.assertEqual(picture.chosen, {picture.snapshots[4].id})
        QTest.keyClick(picture, Qt.Key.Key_Left)
        self.assertEqual(picture.chosen, {picture.snapshots[3].id})
        QTest.keyClick(picture, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
        self.assertEqual(len(picture.chosen), 2)
        QTest.mouseClick(picture, Qt.MouseButton.LeftButton, pos=QPoint(2, 60))
        self.assertEqual(picture.chosen, set())
        self.assertIn("Drag over", page.words.text())
        self.press(page.back)
        self.assertFalse(page.isVisible())

    def test_what_takes_the_room_leads_to_what_can_be_done(self) -> None:
        page = self.open_page()
        folders = {one.name: one for one in page.parts.parts}
        self.assertGreater(folders[f"{self.work}/Posters"].only_here, 890_000)
        QTest.mouseClick(page.parts, Qt.MouseButton.LeftButton, pos=QPoint(20, 24 + 10))
        self.assertEqual(page.pattern.text(), "/Posters/")
        page.by.setCurrentIndex(page.by.findData("kind"))
        self.assertEqual(page.parts.parts[0].name, "video")
        page.by.setCurrentIndex(page.by.findData("machine"))
        self.assertEqual([one.shared > 0 for one in page.parts.parts], [True, True])
        QTest.keyClick(page.parts, Qt.Key.Key_Down)
        self.assertEqual(len(page.picture.chosen), 8)
        page.by.setCurrentIndex(page.by.findData("period"))
        QTest.keyClick(page.parts, Qt.Key.Key_Down)
        self.assertEqual(
            len(page.picture.chosen), 9 if len(page.parts.parts) == 1 else len(page.picture.chosen)
        )
        self.assertFalse(page.grab().isNull())

    def test_something_is_taken_out_of_all_history(self) -> None:
        page = self.open_page()
        page.pattern.setText("*.nothing")
        self.press(page.look)
        self.until(lambda: "No snapshot holds" in page.touched.text())
        page.pattern.setText("*.mkv")
        QTest.keyClick(page.pattern, Qt.Key.Key_Return)
        self.until(lambda: page.out.isEnabled())
        self.assertIn("1 path in 3 snapshots; gives back up to 92", page.touched.text())
        self.assertEqual(
            (row_of(page.paths, 0).text(0)[-9:], row_of(page.paths, 0).text(1)), ("/film.mkv", "3")
        )
        page.pattern.setText("*.mk")
        self.assertFalse(page.out.isEnabled())
        page.pattern.setText("*.mkv")
        self.press(page.look)
        self.press(page.out)
        assert page.question is not None
        self.assertIn("cannot be brought back", page.question.findChildren(type(page.touched))[1].text())
        self.press(page.question.act)
        self.until(lambda: "taken out of 3 snapshots; 9" in self.window.notice.text)
        store = self.store()
        self.assertEqual(len(store.snapshot_ids()), 9)
        self.assertLess(store.place.total_bytes(), 300_000)
        third = store.snapshots()[0][2]
        self.restore(store, third, self.work, self.folder / "out")
        self.assertEqual(
            {name for name in tree(self.folder / "out") if b"." in name}, {b"work/Letters/plan.txt"}
        )
        self.until(lambda: page.parts.parts[0].only_here < 100_000)

    def test_a_pattern_that_would_take_everything_is_refused(self) -> None:
        page = self.open_page()
        page.pattern.setText("~nobody/[")
        self.press(page.look)
        self.until(lambda: page.touched.text() not in ("", "Looking through all snapshots…"))
        self.assertFalse(page.out.isEnabled())

    def test_a_store_opened_only_to_read_is_looked_at_but_not_changed(self) -> None:
        session = self.agent.sessions.of(OFFICE)
        session.reading = True
        store = self.views.stores.cards[0].view.id
        refused: list[Fault] = []
        calls: tuple[Call[Any], ...] = (
            ReleaseSnapshots(OFFICE, store, ()),
            Purge(OFFICE, store, "*.mkv"),
            ReadHeldHistory(OFFICE, StoreId("nowhere")),
        )
        for call in calls:
            self.window.link.ask(call, None, refused.append)
        held: list[HeldHistory] = []
        self.window.link.ask(ReadHeldHistory(OFFICE, store), held.append)
        self.until(lambda: len(refused) == 3 and bool(held))
        self.assertEqual(len(held[0].snapshots), 9)
        self.window.state.ask()
        self.until(lambda: self.window.overview.reading)
        page = self.open_page()
        self.drag(page, 0, 3)
        self.wait_words(page, "gives back")
        self.assertFalse(page.release.isVisible() or page.pin.isVisible())
