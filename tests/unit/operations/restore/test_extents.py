"""How much of what was chosen is brought back: what is missing, what changed, or exactly as it was."""

from __future__ import annotations

import os
import shutil
from unittest import mock

from good_tide.core.clock import SetClock
from good_tide.core.coverage import Coverage
from good_tide.core.errors import PlaceFullError
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Silent
from good_tide.core.restoring import Action, Existing, Extent
from good_tide.core.rules import parse_rule
from good_tide.operations.coverage.selecting import Selector
from good_tide.operations.restore.carry_out import carry_out
from good_tide.operations.restore.plan import Plan, Wish, plan_restore
from good_tide.operations.restore.report import RestoreReport
from good_tide.operations.restore.set_aside import undo
from tests.support.base import T0, GoodTideTest, tree


class ExtentsTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store(passphrase=None)
        for name in ("a.txt", "b.txt", "sub/c.txt", "sub/d.txt", "gone/e.txt"):
            self.write(name, name)
        self.first = self.snap(self.store)
        self.before = tree(self.work)
        self.write("b.txt", "changed")
        self.write("sub/c.txt", "changed too")
        (self.work / "a.txt").unlink()
        shutil.rmtree(self.work / "gone")
        self.write("strange.txt", "strange")
        self.write("sub/strange/deep.txt", "strange")
        self.write("cache/rest.tmp", "left out")
        self.write("sub/rest.tmp", "left out")

    def plan(self, extent: Extent, rules: bool = False) -> Plan:
        selector = Selector(Coverage([parse_rule('exclude path "*.tmp"')])) if rules else None
        wish = Wish(self.first, os.fsencode(self.work))
        return plan_restore(self.store, [wish], None, Existing.SET_ASIDE, Silent(), extent, selector)

    def carry_out(self, plan: Plan) -> RestoreReport:
        return carry_out(self.store, plan, SetClock(Nanoseconds(T0)), Silent())

    def content(self, name: str) -> str | None:
        path = self.work / name
        return path.read_text() if path.exists() else None

    def test_only_what_is_missing(self) -> None:
        report = self.carry_out(self.plan(Extent.MISSING))
        self.assertEqual((report.created, report.replaced, report.set_aside), (3, 0, ()))
        self.assertEqual([self.content(name) for name in ("a.txt", "gone/e.txt")], ["a.txt", "gone/e.txt"])
        self.assertEqual([self.content("b.txt"), self.content("strange.txt")], ["changed", "strange"])

    def test_only_what_changed(self) -> None:
        report = self.carry_out(self.plan(Extent.CHANGED))
        self.assertEqual((report.created, report.replaced), (0, 2))
        self.assertEqual([self.content(name) for name in ("b.txt", "sub/c.txt")], ["b.txt", "sub/c.txt"])
        self.assertEqual([self.content("a.txt"), self.content("gone/e.txt")], [None, None])

    def test_exactly_as_it_was_and_undone(self) -> None:
        now = tree(self.work)
        plan = self.plan(Extent.EXACTLY)
        self.assertEqual(plan.count(Action.ASIDE), 4)
        report = self.carry_out(plan)
        self.assertEqual((report.strange, report.problems), (4, []))
        (aside,) = report.set_aside
        self.assertEqual((aside / "sub/strange/deep.txt").read_text(), "strange")
        restored = {
            path: what for path, what in tree(self.work).items() if not path.startswith(b"Set aside ")
        }
        self.assertEqual(restored.keys(), self.before.keys())
        self.assertEqual(self.plan(Extent.EXACTLY).count(Action.ASIDE), 0, "what is set aside is not strange")
        undone = undo(aside)
        self.assertEqual((undone.kept, tree(self.work).keys()), ([], now.keys()))
        self.assertEqual(self.content("sub/c.txt"), "changed too")

    def test_what_the_rules_leave_out_stays(self) -> None:
        report = self.carry_out(self.plan(Extent.EXACTLY, rules=True))
        self.assertEqual(self.content("sub/rest.tmp"), "left out")
        self.assertEqual(report.strange, 3)

    def test_what_has_gone_since_the_plan_is_no_trouble(self) -> None:
        plan = self.plan(Extent.EXACTLY)
        (self.work / "strange.txt").unlink()
        self.assertEqual(self.carry_out(plan).problems, [])

    def test_what_only_created_is_undone_as_well(self) -> None:
        now = tree(self.work)
        records = self.folder / "records"
        clock = SetClock(Nanoseconds(T0))
        report = carry_out(self.store, self.plan(Extent.MISSING), clock, Silent(), records, check=True)
        self.assertEqual((report.created, report.checked, report.set_aside), (3, 2, ()))
        (record,) = report.records
        self.write("gone/mine.txt", "written since")
        undone = undo(record)
        self.assertEqual((undone.removed, undone.kept), (2, [b"gone"]))
        self.assertTrue(record.exists(), "what was left can be tried again")
        (self.work / "gone/mine.txt").unlink()
        self.assertEqual(undo(record).kept, [])
        self.assertEqual((tree(self.work).keys(), list(records.iterdir())), (now.keys(), []))
        report = carry_out(self.store, self.plan(Extent.ALL), clock, Silent(), records)
        self.assertEqual((len(report.set_aside), report.records, list(records.iterdir())), (1, (), []))
        undo(report.set_aside[0])
        self.assertEqual(tree(self.work).keys(), now.keys())

    def test_a_restore_that_would_not_fit_is_not_begun(self) -> None:
        plan, before = self.plan(Extent.ALL), tree(self.work)
        real = os.statvfs(self.work)
        full = mock.Mock(f_bavail=0, f_frsize=real.f_frsize)
        with (
            mock.patch("os.statvfs", return_value=full),
            self.assertRaisesRegex(PlaceFullError, "nothing was"),
        ):
            self.carry_out(plan)
        self.assertEqual(tree(self.work), before)

    def test_both_are_kept_of_the_longest_names_too(self) -> None:
        name = "ü" * 125 + ".txt"
        self.write(name, "then")
        second = self.snap(self.store, 1)
        self.write(name, "now")
        for number in range(3):
            wish = Wish(second, os.fsencode(self.work / name))
            plan = plan_restore(self.store, [wish], None, Existing.KEEP_BOTH, Silent())
            self.assertEqual(self.carry_out(plan).problems, [], number)
            if number == 0:
                (beside,) = self.work.glob("ü*(*")
                beside.write_text("worked on since")
        found = [path.read_text() for path in self.work.glob("ü*")]
        self.assertEqual(sorted(found), ["now", "then", "worked on since"], "and once brought is enough")

    def test_a_record_that_cannot_be_kept_does_not_hold_up_a_restore(self) -> None:
        (self.folder / "no folder").write_text("")
        plan, clock = self.plan(Extent.MISSING), SetClock(Nanoseconds(T0))
        report = carry_out(self.store, plan, clock, Silent(), self.folder / "no folder" / "records")
        self.assertEqual((report.created, report.records, report.problems), (3, (), []))

    def test_what_the_disk_made_of_it_is_noticed(self) -> None:
        clock = SetClock(Nanoseconds(T0))
        real = os.ftruncate

        def spoil(handle: int, length: int) -> None:
            real(handle, length)
            if length == len("gone/e.txt"):
                os.pwrite(handle, b"?", 0)

        with mock.patch("os.ftruncate", spoil):
            report = carry_out(self.store, self.plan(Extent.MISSING), clock, Silent(), check=True)
        self.assertEqual((report.checked, len(report.problems)), (1, 1))
        self.assertIn("not what the store has", report.problems[0].reason)
