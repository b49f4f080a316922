"""The machines of a store in the window: who is late, what each did this week, who is retired."""

from __future__ import annotations

from good_tide.core.clock import SetClock
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.rhythm import EVERY_HOUR, Rhythm
from good_tide.core.settings import Job
from good_tide.desktop.shell.views import VIEWS
from good_tide.desktop.stores.fleet_page import FleetPage
from good_tide.operations.stores.fleet import leave_status
from good_tide.storage.store import Store
from tests.support.base import HOUR, MACHINE, OTHER_MACHINE, T0
from tests.support.windows import WindowTest, row_of


class FleetPageTest(WindowTest):
    def make_history(self, store: Store) -> None:
        for machine, job, hour in ((MACHINE, "Office", 0), (OTHER_MACHINE, "Sound", 1), (MACHINE, "Post", 2)):
            self.write("a", job)
            taken = self.snap(store, hour, machine)
            clock = SetClock(Nanoseconds(T0 + hour * HOUR))
            rhythm = Rhythm(rules=(EVERY_HOUR,)) if job == "Sound" else Rhythm(rules=())
            leave_status(store, Job(name=job, folders=(), stores=(), rhythm=rhythm), machine, taken, clock)

    def open_page(self) -> FleetPage:
        self.window.show_view(VIEWS[2])
        stores = self.views.stores
        self.until(lambda: bool(stores.cards) and stores.cards[0].fleet.isVisible())
        self.assertIn("late: laptop", stores.cards[0].machines.text())
        self.press(stores.cards[0].fleet)
        self.until(lambda: len(stores.fleet_page.machines) == 3)
        return stores.fleet_page

    def names(self, page: FleetPage) -> list[str]:
        return [row_of(page.rows, number).text(0) for number in range(page.rows.topLevelItemCount())]

    def test_a_late_machine_is_first_and_is_retired(self) -> None:
        page = self.open_page()
        self.assertEqual(self.names(page)[0], "laptop")
        self.assertIn("late by", row_of(page.rows, 0).text(2))
        self.assertIn("no snapshot", row_of(page.rows, 0).toolTip(3))
        self.assertFalse(page.retire.isEnabled(), "no row is chosen")
        page.late.click()
        self.assertEqual(len(self.names(page)), sum(bool(one.late) for one in page.machines))
        page.late.click()
        page.rows.setCurrentItem(row_of(page.rows, 0))
        self.press(page.retire)
        assert page.question is not None
        self.press(page.question.act)
        self.until(lambda: any(one.retired for one in page.machines))
        self.assertEqual(self.names(page)[-1], "laptop")
        self.assertIn("1 retired", page.sentence.text())
        self.assertEqual(page.retire.text(), "Watch it again")
        self.press(page.retire)
        self.until(lambda: not any(one.retired for one in page.machines))

    def test_rows_of_one_machine_come_together(self) -> None:
        page = self.open_page()
        page.order.setCurrentIndex(1)
        self.assertEqual(len(self.names(page)), 2)
        page.order.setCurrentIndex(2)
        self.assertEqual(sorted(self.names(page)), ["Office", "Post", "Sound"])
        self.press(page.back)
        self.assertTrue(self.views.stores.cards[0].isVisible())
