"""A restore plan as a tree with counts, and items taken out of it."""

from __future__ import annotations

import os
from collections import Counter

from good_tide.core.progress import Silent
from good_tide.core.restoring import Action, Existing, PlanItem
from good_tide.operations.restore.plan import Plan, Wish, plan_restore
from good_tide.operations.restore.plan_tree import TOP, PlanTree
from tests.support.base import GoodTideTest


class PlanTreeTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        for name in ("a/deep/1.txt", "a/deep/2.txt", "a/3.txt", "a.txt", "ab/4.txt", "same.txt"):
            self.write(name, name)
        self.store = self.new_store()
        self.taken = self.snap(self.store)
        (self.work / "a/deep/1.txt").unlink()
        self.write("a/deep/2.txt", "another")
        (self.work / "ab/4.txt").unlink()
        (self.work / "ab").rmdir()

    def plan(self, *names: str) -> Plan:
        wishes = [Wish(self.taken, os.fsencode(self.work / name)) for name in names or ("",)]
        wishes = [Wish(wish.snapshot, wish.path.rstrip(b"/")) for wish in wishes]
        return plan_restore(self.store, wishes, None, Existing.SET_ASIDE, Silent())

    def below(self, tree: PlanTree, above: int, only: Action | None = None) -> dict[str, PlanItem]:
        return {os.path.basename(os.fsdecode(one.path)): one for one in tree.branches(above, only)}

    def test_each_folder_counts_what_happens_below_it(self) -> None:
        tree = PlanTree(self.plan())
        (top,) = tree.branches(TOP)
        self.assertEqual(top.path, os.fsencode(self.work))
        inside = self.below(tree, top.number)
        self.assertEqual(set(inside), {"a", "ab", "a.txt", "same.txt"})
        self.assertEqual(inside["ab"].counts, {Action.CREATE: 2})
        deep = self.below(tree, inside["a"].number)["deep"]
        self.assertEqual(deep.counts, {Action.IDENTICAL: 1, Action.CREATE: 1, Action.REPLACE: 1})
        self.assertEqual(deep.size, len("a/deep/1.txt") + len("a/deep/2.txt"))
        total = Counter(step.action for step in self.plan().steps)
        self.assertEqual(Counter(top.counts), total)

    def test_only_the_way_to_what_is_asked_for(self) -> None:
        tree = PlanTree(self.plan())
        (top,) = tree.branches(TOP, Action.REPLACE)
        self.assertEqual(set(self.below(tree, top.number, Action.REPLACE)), {"a"})
        self.assertEqual(list(tree.branches(TOP, Action.BLOCKED)), [])

    def test_what_is_chosen_alone_stands_at_the_top(self) -> None:
        tree = PlanTree(self.plan("a/deep/1.txt", "ab"))
        self.assertEqual(set(self.below(tree, TOP)), {"1.txt", "ab"})

    def test_without_an_item_and_all_below_it(self) -> None:
        plan = self.plan()
        less = plan.without((os.fsencode(self.work / "a"),))
        left = {os.path.relpath(os.fsdecode(step.shown), self.work) for step in less.steps}
        self.assertEqual(
            left, {".", "a.txt", "ab", "ab/4.txt", "same.txt"}, "neither a.txt nor ab is below a"
        )
        self.assertIs(plan.without(()), plan)

    def test_where_what_is_brought_can_be_seen(self) -> None:
        self.assertEqual(set(self.plan().places()), {str(self.work / "a/deep"), str(self.work)})
        self.assertEqual(self.plan("a/deep/1.txt").places(), (str(self.work / "a/deep"),))
