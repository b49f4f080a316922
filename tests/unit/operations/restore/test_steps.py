"""Steps of a plan are packed, and come back as they were."""

from __future__ import annotations

import tracemalloc
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from good_tide.core.clock import SetClock
from good_tide.core.entries import NOTHING_EXTRA, Entry, Extent, Extra, Kind, Stat
from good_tide.core.identifiers import ChunkId, ContentDigest, Nanoseconds
from good_tide.core.progress import Silent
from good_tide.core.records import Snapshot
from good_tide.core.restoring import Action, Existing
from good_tide.operations.restore.carry_out import carry_out
from good_tide.operations.restore.plan import Wish, plan_restore
from good_tide.operations.restore.set_aside import undo
from good_tide.operations.restore.steps import Step, Steps
from tests.support.base import T0, GoodTideTest

names = st.binary(min_size=1, max_size=6).filter(lambda name: b"/" not in name and b"\0" not in name)
chunks = st.sampled_from([None, *(ChunkId(bytes([one]) * 32) for one in range(3))])
extents = st.lists(st.builds(Extent, chunks, st.integers(0, 9), st.integers(1, 99)), max_size=3).map(tuple)
extras = st.one_of(
    st.just(NOTHING_EXTRA),
    st.builds(Extra, target=names),
    st.builds(Extra, link_group=st.tuples(st.integers(0, 2), st.integers(2**63, 2**63 + 1))),
)
stats = st.builds(Stat, size=st.integers(0, 99), modified=st.integers(-(10**18), 10**18))
entries = st.builds(
    Entry, names, st.sampled_from(list(Kind)), stats, st.just(ContentDigest(b"d" * 16)), extents, extras
)


class StepsTest(GoodTideTest):
    def snapshots(self) -> list[Snapshot]:
        self.write("a.txt", "a")
        store = self.new_store()
        return [self.snap(store), self.snap(store, 1)]

    def test_they_come_back_as_they_were(self) -> None:
        taken = self.snapshots()
        paths = st.lists(names, max_size=3).map(tuple)
        steps = st.builds(
            Step,
            st.sampled_from(list(Action)),
            st.sampled_from([Path("/home/ada"), Path("/mnt")]),
            paths,
            entries,
            st.lists(names, min_size=1, max_size=3).map(lambda parts: b"/" + b"/".join(parts)),
            st.sampled_from(taken),
            st.sampled_from(["", "It was not there at that moment"]),
        )

        @given(st.lists(steps, max_size=8))
        def check(given_steps: list[Step]) -> None:
            packed = Steps()
            for step in given_steps:
                packed.append(step)
            self.assertEqual(list(packed), given_steps)
            self.assertEqual([packed[-1:], packed[0:2]], [given_steps[-1:], given_steps[0:2]])
            self.assertEqual(packed.payload, sum(step.payload for step in given_steps))
            for action in Action:
                mine = [step for step in given_steps if step.action is action]
                self.assertEqual((packed.counts[action], list(packed.having(action))), (len(mine), mine))
            written = [
                extent.chunk
                for step in given_steps
                if step.payload
                for extent in step.entry.extents
                if extent.chunk
            ]
            self.assertEqual(
                list(packed.written_chunks()),
                [chunk for at, chunk in enumerate(written) if not at or written[at - 1] != chunk],
            )
            self.assertEqual(set(packed.targets()), {step.target for step in given_steps})

        check()

    def test_a_plan_of_many_items_takes_little_memory(self) -> None:
        (taken, _), chunk = self.snapshots(), ChunkId(b"c" * 32)
        steps = Steps()
        tracemalloc.start()
        try:
            for number in range(20_000):
                name = f"letter {number}.txt".encode()
                stat = Stat(0o644, 1000, 1000, 250, 10**18 + number, 10**18 + number, 10**6 + number)
                extents = (Extent(chunk, number * 250, 250),)
                entry = Entry(name, Kind.FILE, stat, ContentDigest(name.ljust(16)[:16]), extents)
                folder = f"part {number // 20}".encode()
                source = b"/home/ada/" + folder + b"/" + name
                steps.append(Step(Action.CREATE, Path("/home/ada"), (folder, name), entry, source, taken))
            used, _ = tracemalloc.get_traced_memory()
        finally:
            tracemalloc.stop()
        self.assertLess(used / len(steps), 220, "bytes each")
        self.assertEqual(steps.needed, {Path("/home/ada"): 20_000 * 250})

    def test_what_was_created_before_the_first_thing_was_replaced_is_undone_as_well(self) -> None:
        for name in ("a.txt", "b.txt", "c.txt"):
            self.write(name, name)
        store = self.new_store()
        past = self.snap(store)
        (self.work / "a.txt").unlink()
        (self.work / "b.txt").write_text("later")
        plan = plan_restore(store, [Wish(past, bytes(self.work))], None, Existing.SET_ASIDE, Silent())
        records = self.folder / "records"
        report = carry_out(store, plan, SetClock(Nanoseconds(T0)), Silent(), records)
        self.assertEqual((report.created, report.replaced, len(report.records)), (1, 1, 0))
        self.assertEqual(list(records.iterdir()), [], "the record lies beside what was set aside")
        undone = undo(report.set_aside[0])
        self.assertEqual((undone.removed, undone.put_back, undone.kept), (2, 1, []))
        self.assertEqual(sorted(path.name for path in self.work.iterdir()), ["b.txt", "c.txt"])
        self.assertEqual((self.work / "b.txt").read_text(), "later")
