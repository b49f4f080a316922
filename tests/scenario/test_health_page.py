"""A store's health in the window: packs that are whole, put right, lost; repair; and the alarm's way back."""

from __future__ import annotations

import os
import random
from pathlib import Path

from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from good_tide.core.pack_states import PackState
from good_tide.core.status import Mood
from good_tide.desktop.shell.views import VIEWS
from good_tide.desktop.stores.health_page import HealthPage
from good_tide.protocol.schedule_calls import TakeSnapshot
from good_tide.storage.store import Store
from tests.support.base import OFFICE
from tests.support.windows import WindowTest, row_of


class HealthPageTest(WindowTest):
    def make_history(self, store: Store) -> None:
        rng = random.Random(2)
        self.plans: list[bytes] = []
        for number in range(12):
            self.write(
                f"letters/{number}.txt", " ".join(rng.choices(["act", "scene", "cue", "prompt"], k=400))
            )
        for hour in range(3):
            self.plans.append(rng.randbytes(200_000))
            self.write("plan.bin", self.plans[-1])
            self.snap(store, hour)

    def open_page(self) -> HealthPage:
        self.window.show_view(VIEWS[2])
        stores = self.views.stores
        self.until(lambda: bool(stores.cards) and stores.cards[0].well.isVisible())
        self.press(stores.cards[0].well)
        page = stores.health_page
        self.until(lambda: page.view is not None)
        return page

    def states(self, page: HealthPage) -> list[PackState]:
        assert page.view is not None
        return sorted({one.state for one in page.view.packs})

    def packs(self) -> list[Path]:
        found = [path for path in (self.folder / "store" / "packs").rglob("*") if path.is_file()]
        return sorted(found, key=os.path.getsize)

    def read_all_back(self, page: HealthPage) -> None:
        self.window.notice.hide()
        self.press(page.prove)
        self.until(lambda: self.window.notice.isVisible() and "trial" in self.window.notice.text)

    def test_what_is_read_back_is_whole_and_what_was_damaged_put_right(self) -> None:
        page = self.open_page()
        self.assertEqual(self.states(page), [PackState.UNREAD])
        self.assertIn("nothing read back yet", page.sentence.text())
        pack = self.packs()[-1]
        data = pack.read_bytes()
        pack.write_bytes(data[:7000] + bytes(500) + data[7500:])
        self.read_all_back(page)
        self.until(lambda: self.states(page) == [PackState.MENDED, PackState.WHOLE])
        self.assertIn("1 damaged file put right", page.sentence.text())
        self.assertTrue(page.well.isVisible())
        QTest.keyClick(page.picture, Qt.Key.Key_Right)
        self.assertIn("read back", page.pack_words.text())
        self.assertIn("put right", page.picture.accessibleDescription())
        self.press(page.back)
        self.until(lambda: "put right" in self.views.stores.cards[0].proven.text())

    def test_a_lost_version_is_marked_on_its_lifeline_until_its_content_is_back(self) -> None:
        page = self.open_page()
        for pack in self.packs()[-3:-1]:
            pack.write_bytes(bytes(pack.stat().st_size))
        self.window.notice.hide()
        self.press(page.repair)
        self.until(lambda: "is lost" in self.window.notice.text)
        self.window.show_view(VIEWS[0])
        place, plan = self.views.timeline, os.fsencode(self.work / "plan.bin")
        place.enter(os.fsencode(self.work))

        def words() -> str:
            row = place.model.row_of(plan)
            return "" if row is None else place.model.row_words(row, self.clock.now())

        self.until(lambda: "lost" in words())
        self.assertIn("content of 1 lost", words())
        row = place.model.row_of(plan)
        assert row is not None
        place.go(next(span.first for span in row.line.spans if place.model.is_lost(span)))
        place.select(plan)
        self.assertIn("Its content is lost", place.inspector._facts.text())
        self.assertFalse(place.lines.grab().isNull())
        for number, plan_then in enumerate(self.plans):
            self.write(f"a copy {number}.bin", plan_then)
        self.window.link.ask(TakeSnapshot(OFFICE))
        self.until(lambda: len(self.window.overview.tide) == 4 and "lost" not in words())

    def test_what_is_lost_is_named_and_accepted(self) -> None:
        page = self.open_page()
        for pack in self.packs()[-3:-1]:
            pack.write_bytes(bytes(pack.stat().st_size))
        self.window.notice.hide()
        self.press(page.repair)
        self.until(lambda: "is lost" in self.window.notice.text)
        self.until(lambda: PackState.LOST in self.states(page))
        self.until(lambda: self.window.head.sign.mood is Mood.HARM)
        self.assertIn("has lost content of 1 file", page.trouble.text())
        self.assertTrue(page.costs.isVisible())
        row = row_of(page.costs, 0)
        self.assertIn("content of 1 file", row.text(0))
        child = row.child(0)
        assert child is not None
        self.assertEqual(child.text(0), str(self.work / "plan.bin"))
        self.assertFalse(page.picture.grab().isNull())
        box = page.picture._boxes[[one.state for one in page.picture.packs].index(PackState.LOST)]
        QTest.mouseClick(
            page.picture, Qt.MouseButton.LeftButton, pos=QPoint(int(box.center().x()), int(box.center().y()))
        )
        self.assertIn("has lost something that snapshots need", page.pack_words.text())
        self.press(page.accept)
        assert page.question is not None
        self.press(page.question.act)
        self.until(lambda: self.window.head.sign.mood is not Mood.HARM)

    def test_an_alarm_leads_to_everything_as_it_was_before(self) -> None:
        letters = sorted((self.work / "letters").iterdir())
        before = {path: path.read_bytes() for path in letters}
        self.window.link.ask(TakeSnapshot(OFFICE))
        self.until(lambda: len(self.window.overview.tide) == 4 and self.window.state.work is None)
        rng = random.Random(9)
        for path in letters:
            path.write_bytes(rng.randbytes(1500))
        self.window.link.ask(TakeSnapshot(OFFICE))
        self.until(self.window.alarm.isVisible)
        self.assertEqual(self.window.head.sign.mood, Mood.HARM)
        self.assertIn("12 files became noise", self.window.alarm.words.text())
        self.assertIn("the last moment before", self.window.alarm.detail.text().lower())
        self.press(self.window.alarm.undo)
        self.until(
            lambda: self.views.timeline.dialog is not None and self.views.timeline.dialog.plan is not None
        )
        dialog = self.views.timeline.dialog
        assert dialog is not None
        dialog.accept()
        self.until(lambda: {path: path.read_bytes() for path in letters} == before)
        self.until(lambda: self.window.state.work is None)
        self.press(self.window.alarm.dismiss)
        self.until(lambda: not self.window.alarm.isVisible())
        self.until(lambda: self.window.head.sign.mood is not Mood.HARM)
