"""A restore plan as a tree, so that a hundred thousand items can be walked: each folder with counts of what
happens below it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from good_tide.core.entries import Kind
from good_tide.core.restoring import Action, PlanItem
from good_tide.operations.restore.plan import Plan
from good_tide.operations.restore.steps import Step

TOP = -1
"""The number that stands for the whole plan."""


class PlanTree:
    """The tree of a plan. What is chosen on its own, without the folders above it, stands at the top."""

    def __init__(self, plan: Plan) -> None:
        self._plan = plan
        self._below: dict[int, list[int]] = {TOP: []}
        self._counts: dict[int, Counter[Action]] = {TOP: Counter()}
        self._sizes: Counter[int] = Counter()
        open_folders: list[tuple[bytes, int]] = []
        for number, step in enumerate(plan.steps):
            path = step.shown
            while open_folders and not path.startswith(open_folders[-1][0]):
                open_folders.pop()
            above = open_folders[-1][1] if open_folders else TOP
            self._below.setdefault(above, []).append(number)
            for _, folder in [(b"", TOP), *open_folders]:
                self._counts.setdefault(folder, Counter())[step.action] += 1
                self._sizes[folder] += step.payload
            if step.entry.kind is Kind.FOLDER and step.action is not Action.BLOCKED:
                open_folders.append((path.rstrip(b"/") + b"/", number))

    def branches(self, above: int, only: Action | None = None) -> Iterator[PlanItem]:
        """What is directly below an item, or at the top; only what has an action, or has something below it
        that has."""
        for number in self._below.get(above, ()):
            branch = self._branch(number, self._plan.steps[number])
            if only is None or branch.counts.get(only):
                yield branch

    def _branch(self, number: int, step: Step) -> PlanItem:
        counts = Counter(self._counts.get(number, ()))
        counts[step.action] += 1
        size = self._sizes[number] + step.payload
        is_folder = step.entry.kind is Kind.FOLDER
        return PlanItem(number, step.shown, step.action, is_folder, step.note, dict(counts), size)
