"""The sweep: what no snapshot needs goes, what any needs stays, whatever is cut off in between."""

from __future__ import annotations

import contextlib
import os
import random
import subprocess
import unittest
from pathlib import Path

import hypothesis
from hypothesis import stateful
from hypothesis import strategies as st

from good_tide.core.clock import SECOND, SetClock
from good_tide.core.errors import DamageError, GoodTideError, PlaceError, PlaceFullError
from good_tide.core.identifiers import Nanoseconds, SnapshotId
from good_tide.core.progress import Silent
from good_tide.core.records import Machine, Snapshot
from good_tide.operations.integrity.verify import verify
from good_tide.operations.records.journal import Journal
from good_tide.operations.retention.purge import plan_purge, purge
from good_tide.operations.snapshot.capture import CaptureRequest, capture
from good_tide.operations.snapshot.holding import drain, prime
from good_tide.operations.stores.carrying import carry
from good_tide.storage.doomed import DOOMED_FOLDER, read_doomed
from good_tide.storage.header import create_store
from good_tide.storage.holding import HoldingArea
from good_tide.storage.marks import HOLDING_OWNER, LEASE_FOLDER, WRITER_FOLDER, Mark, remove_mark, seen_marks
from good_tide.storage.store import SNAPSHOT_FOLDER, Store, open_store
from good_tide.storage.sweep import DEAD_AFTER, Sweep, SweepReport, Watched
from good_tide.storage.writer import WriteSession
from tests.base import CHEAP, HOUR, MACHINE, OTHER_MACHINE, PASSPHRASE, T0, GoodTideTest
from tests.memory_place import MemoryPlace, PowerCutError
from tests.survival import content_of, on_disk


def sweep(
    store: Store, now: int = T0, watched: Watched | None = None, owner: str = "sweeper-"
) -> SweepReport:
    return Sweep(store, owner, watched or Watched(), now, Silent()).run()


def release(store: Store, snapshot: Snapshot) -> None:
    store.place.remove(f"{SNAPSHOT_FOLDER}/{snapshot.id}")


class SweepTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store()
        self.chance = random.Random(4)
        self.snapshots: list[Snapshot] = []
        self.states: list[dict[str, bytes]] = []
        for hour in range(4):
            self.write("always.bin", b"always" * 40_000)
            self.write("big.bin", self.chance.randbytes(400_000))
            self.write(f"sub/{hour}.txt", self.chance.randbytes(3_000))
            self.snapshots.append(self.snap(self.fresh(), hour))
            self.states.append(on_disk(self.work))

    def fresh(self) -> Store:
        return open_store(self.folder / "store", PASSPHRASE)

    def size(self) -> int:
        return self.store.place.total_bytes()

    def check(self, *left: int) -> None:
        """Exactly these snapshots stand, whole."""
        store = self.fresh()
        self.assertEqual(sorted(store.snapshot_ids()), sorted(self.snapshots[number].id for number in left))
        for number in left:
            self.assertEqual(content_of(store, self.snapshots[number].id), self.states[number])
        self.assertTrue(verify(store, True, Silent()).ok)

    def test_nothing_is_given_back_while_everything_is_needed(self) -> None:
        before = self.size()
        self.assertEqual(sweep(self.fresh()).freed, 0)
        self.assertLess(self.size(), before + 10_000)
        self.check(0, 1, 2, 3)

    def test_what_only_released_snapshots_held_is_given_back(self) -> None:
        for number in (0, 2):
            release(self.store, self.snapshots[number])
        plan = Sweep(self.fresh(), "sweeper-", Watched(), T0, Silent()).plan()
        before = self.size()
        report = sweep(self.fresh())
        self.assertGreater(before - self.size(), 780_000)
        self.assertLess(abs(plan.freed - (before - self.size())), 30_000)
        self.assertEqual(
            (report.waits, read_doomed(self.fresh()), self.store.place.names(LEASE_FOLDER)), (0, {}, [])
        )
        self.check(1, 3)
        self.assertEqual(sweep(self.fresh()).freed, 0)

    def test_the_next_snapshots_build_on_what_is_left(self) -> None:
        release(self.store, self.snapshots[0])
        sweep(self.fresh())
        self.write("big.bin", b"other" * 1000)
        self.snapshots.append(self.snap(self.fresh(), 9))
        self.states.append(on_disk(self.work))
        self.assertLess(self.snapshots[-1].record.tally.stored_bytes, 40_000)
        self.check(1, 2, 3, 4)

    def test_a_writer_at_work_is_waited_for_and_what_it_builds_on_stays(self) -> None:
        content = self.states[0]["big.bin"]
        release(self.store, self.snapshots[0])
        with WriteSession(self.fresh(), "desk-"):
            report = sweep(self.fresh())
            self.assertEqual((report.packs, report.freed), (0, 0))
            self.assertGreater(report.waits, 0)
            self.write("big.bin", content)
            self.snapshots.append(self.snap(self.fresh(), 9))
            self.states.append(on_disk(self.work))
        self.assertGreater(
            self.snapshots[-1].record.tally.stored_bytes,
            390_000,
            "a writer that came later builds on what is doomed",
        )
        sweep(self.fresh())
        self.check(1, 2, 3, 4)

    def test_a_writer_from_before_may_publish_what_was_doomed(self) -> None:
        content = self.states[0]["big.bin"]
        sealed = self.store.place.read(f"snapshots/{self.snapshots[0].id}")
        release(self.store, self.snapshots[0])
        early = self.fresh()
        with WriteSession(early, "desk-") as session:
            sweep(self.fresh())
            self.write("big.bin", content)
            session.publish_as(self.snapshots[0].id, sealed)
        sweep(self.fresh())
        self.check(0, 1, 2, 3)

    def test_a_store_that_was_opened_before_a_sweep_does_not_build_on_what_is_gone(self) -> None:
        content = self.states[0]["big.bin"]
        early = self.fresh()
        self.assertGreater(len(early.index), 0)
        release(self.store, self.snapshots[0])
        sweep(self.fresh())
        self.write("big.bin", content)
        self.snapshots.append(self.snap(early, 9))
        self.states.append(on_disk(self.work))
        self.assertGreater(self.snapshots[-1].record.tally.stored_bytes, 390_000)
        self.check(1, 2, 3, 4)

    def test_carrying_does_not_build_on_what_is_doomed(self) -> None:
        create_store(self.folder / "twin", PASSPHRASE, cost=CHEAP, twin=self.store.keys)
        twin = open_store(self.folder / "twin", PASSPHRASE)
        carry(self.fresh(), twin, None, self.state, Silent())
        twin.place.remove(f"{SNAPSHOT_FOLDER}/{self.snapshots[0].id}")
        Mark(twin.place, WRITER_FOLDER, "slow-").say(())
        self.assertGreater(sweep(open_store(self.folder / "twin", PASSPHRASE)).waits, 0)
        carry(self.fresh(), open_store(self.folder / "twin", PASSPHRASE), None, self.state, Silent())
        for mark in seen_marks(twin.place, WRITER_FOLDER):
            twin.place.remove(f"{WRITER_FOLDER}/{mark.file}")
        sweep(open_store(self.folder / "twin", PASSPHRASE))
        store = open_store(self.folder / "twin", PASSPHRASE)
        self.assertTrue(verify(store, True, Silent()).ok)
        self.assertEqual(content_of(store, self.snapshots[0].id), self.states[0])

    def test_a_writer_that_died_is_passed_over_after_a_day_by_the_sweepers_own_clock(self) -> None:
        release(self.store, self.snapshots[0])
        Mark(self.store.place, WRITER_FOLDER, "gone-").say(())
        watched = Watched()
        self.assertGreater(sweep(self.fresh(), T0, watched).waits, 0)
        self.assertGreater(sweep(self.fresh(), T0 + DEAD_AFTER - SECOND, watched).waits, 0)
        self.assertGreater(sweep(self.fresh(), T0 - 400 * DEAD_AFTER, watched).waits, 0)
        self.assertGreater(sweep(self.fresh(), T0 - 399 * DEAD_AFTER, watched).packs, 0)
        self.assertEqual(seen_marks(self.store.place, WRITER_FOLDER), [])
        self.check(1, 2, 3)

    def test_a_writer_that_was_passed_over_does_not_publish(self) -> None:
        store = self.fresh()
        with self.assertRaises(PlaceError) as caught, WriteSession(store, "desk-") as session:
            for mark in seen_marks(store.place, WRITER_FOLDER):
                store.place.remove(f"{WRITER_FOLDER}/{mark.file}")
            session.publish(lambda new, stored: self.snapshots[0].record)
        self.assertIn("begins again", str(caught.exception))
        self.check(0, 1, 2, 3)

    def test_two_sweeps_at_once_and_one_that_died(self) -> None:
        release(self.store, self.snapshots[0])
        watched = Watched()
        with Mark(self.store.place, LEASE_FOLDER, "other-"), self.assertRaises(PlaceError):
            sweep(self.fresh(), T0, watched)
        died = Mark(self.store.place, LEASE_FOLDER, "other-")
        died.say(())
        with self.assertRaises(PlaceError):
            sweep(self.fresh(), T0, watched)
        self.assertGreater(sweep(self.fresh(), T0 + DEAD_AFTER, watched).freed, 0)
        own = Mark(self.store.place, LEASE_FOLDER, "sweeper-")
        own.say(())
        self.assertEqual(sweep(self.fresh(), T0).freed, 0)

    def test_an_area_marks_the_store_again_when_its_mark_was_taken_away(self) -> None:
        area = HoldingArea(self.folder / "area", self.store.header, self.store.keys)

        def marks() -> list[str]:
            return [
                mark.owner
                for mark in seen_marks(self.store.place, WRITER_FOLDER)
                if mark.owner.startswith(HOLDING_OWNER)
            ]

        prime(area, self.store, self.snapshots[-1], self.state)
        self.assertEqual(len(marks()), 1)
        remove_mark(self.store.place, WRITER_FOLDER, marks()[0])
        prime(area, self.store, self.snapshots[-1], self.state)
        self.assertEqual(len(marks()), 1)
        area.give_way(self.store)
        self.assertEqual(len(marks()), 1)
        area.clear()
        area.give_way(self.store)
        self.assertEqual(marks(), [])
        prime(area, self.store, self.snapshots[-1], self.state)
        self.assertEqual(len(marks()), 1)

    def test_packs_of_a_cut_run_are_not_lost_by_a_second_cut(self) -> None:
        """The store stays open, as in an agent: the first run leaves a pack that no index names, the second
        takes it over and fails."""
        place = _memory_of(self.folder / "store")
        self.write("film.bin", random.Random(99).randbytes(400_000))
        request, clock, cut = CaptureRequest((self.work,), MACHINE), SetClock(Nanoseconds(T0 + 50 * HOUR)), 0
        while not set(place.names("packs")) - set(self.store.place.names("packs")):
            cut += 1
            place = _memory_of(self.folder / "store")
            place.cut_after = cut
            with contextlib.suppress(PowerCutError, GoodTideError):
                capture(
                    Store(place, self.store.header, self.store.keys), request, clock, Silent(), self.state
                )
        place = place.after_power_cut()
        kept_open = Store(place, self.store.header, self.store.keys)
        for limit in range(12):
            place.cut_after = limit
            with contextlib.suppress(PowerCutError, GoodTideError):
                capture(kept_open, request, clock, Silent(), self.state)
        place.cut_after = None
        place.volatile.clear()
        taken = capture(kept_open, request, clock, Silent(), self.state)
        self.assertEqual(
            content_of(Store(place, self.store.header, self.store.keys), taken.id), on_disk(self.work)
        )

    def test_damage_stops_it_before_anything_is_deleted(self) -> None:
        release(self.store, self.snapshots[0])
        damaged = self.folder / "store" / SNAPSHOT_FOLDER / self.snapshots[1].id
        whole = damaged.read_bytes()
        damaged.write_bytes(whole[:-5] + b"wrong")
        before = self.size()
        with self.assertRaises(DamageError):
            sweep(self.fresh())
        self.assertLess(before - self.size(), 1000)
        damaged.write_bytes(whole)
        sweep(self.fresh())
        self.check(1, 2, 3)

    def test_a_reader_finds_what_was_moved(self) -> None:
        reader = self.fresh()
        self.assertEqual(content_of(reader, self.snapshots[3].id), self.states[3])
        reader = self.fresh()
        self.assertGreater(len(reader.index), 0)
        for number in (0, 1, 2):
            release(self.store, self.snapshots[number])
        self.assertGreater(sweep(self.fresh()).rewritten, 0)
        self.assertEqual(content_of(reader, self.snapshots[3].id), self.states[3])
        self.check(3)

    def test_a_disk_without_room_gets_room(self) -> None:
        for number in (0, 1, 2):
            release(self.store, self.snapshots[number])
        place = _memory_of(self.folder / "store")
        place.limit = place.total_bytes() + 60_000
        store = Store(place, self.store.header, self.store.keys)
        with self.assertRaises(GoodTideError):
            place.create("x", "x").write(bytes(70_000))
        place.clear_temporary("x")
        report = sweep(store)
        self.assertGreater(report.freed, 1_000_000)
        self.assertTrue(verify(Store(place, self.store.header, self.store.keys), True, Silent()).ok)

    def test_the_power_goes_at_every_operation(self) -> None:
        for number in (0, 1):
            release(self.store, self.snapshots[number])
        whole = _memory_of(self.folder / "store")
        cut, done = 0, False
        while not done:
            place = whole.after_power_cut()
            place.cut_after = cut
            try:
                sweep(Store(place, self.store.header, self.store.keys))
                done = True
            except PowerCutError:
                pass
            left = place.after_power_cut()
            store = Store(left, self.store.header, self.store.keys)
            for number in (2, 3):
                self.assertEqual(
                    content_of(store, self.snapshots[number].id),
                    self.states[number],
                    f"after {cut} operations",
                )
            if cut % 3 == 0 or done:
                sweep(store, T0 + DEAD_AFTER)
                self.assertTrue(
                    verify(Store(left, self.store.header, self.store.keys), True, Silent()).ok,
                    f"after {cut} operations",
                )
                self.assertEqual(left.names(DOOMED_FOLDER), [])
                self.assertLess(left.total_bytes(), whole.total_bytes() - 700_000)
            cut += 1
        self.assertGreater(cut, 10)


def _memory_of(root: Path) -> MemoryPlace:
    """The files of a store as a place in memory."""
    place = MemoryPlace()
    place.files = {
        str(path.relative_to(root)): path.read_bytes()
        for path in root.rglob("*")
        if path.is_file() and path.parent.name != "tmp"
    }
    return place


class SweepMachine(stateful.RuleBasedStateMachine):
    """Two machines snapshot, release and sweep one store in any order; sweeps and snapshots are cut off;
    clocks are wrong. Each machine keeps its store open, as an agent does, or opens it anew."""

    def __init__(self) -> None:
        super().__init__()
        self.test = GoodTideTest("setUp")
        self.test.setUp()
        root = self.test.folder / "store"
        create_store(root, None, cost=CHEAP)
        self.header, self.keys = open_store(root, None).header, open_store(root, None).keys
        self.place = _memory_of(root)
        self.expected: dict[SnapshotId, dict[str, bytes]] = {}
        self.watched = {MACHINE.id: Watched(), OTHER_MACHINE.id: Watched()}
        self.now = T0
        self.count = 0
        self.open = {machine.id: self.store() for machine in (MACHINE, OTHER_MACHINE)}
        self.held: dict[str, dict[SnapshotId, dict[str, bytes]]] = {MACHINE.id: {}, OTHER_MACHINE.id: {}}
        """What waits in each machine's holding area."""

    def area(self, machine: Machine, here: bool) -> HoldingArea:
        """A machine's holding area; with the store behind it when its disk is here."""
        area = HoldingArea(
            self.test.folder / f"holding of {machine.name}",
            self.header,
            self.keys,
            self.store().snapshot_ids(),
        )
        area.base = self.store_of(machine, False) if here else None
        return area

    def store_of(self, machine: Machine, anew: bool) -> Store:
        if anew:
            self.open[machine.id] = self.store()
        return self.open[machine.id]

    def teardown(self) -> None:
        self.test.doCleanups()

    def store(self) -> Store:
        return Store(self.place, self.header, self.keys)

    def folder(self, machine: Machine) -> Path:
        made = self.test.work / machine.name
        if not made.is_dir():
            made.mkdir()
            (made / "plan").write_text(f"what is never taken out of {machine.name}")
        return made

    @stateful.rule(
        machine=st.sampled_from([MACHINE, OTHER_MACHINE]),
        seed=st.integers(0, 9),
        cut=st.one_of(st.none(), st.integers(0, 25)),
        anew=st.booleans(),
    )
    def snapshot(self, machine: Machine, seed: int, cut: int | None, anew: bool) -> None:
        """A snapshot with a file out of ten contents, so that released ones come again; cut off or not."""
        folder = self.folder(machine)
        (folder / f"file {self.count % 3}").write_bytes(random.Random(seed).randbytes(100_000 + 1000 * seed))
        (folder / f"note {seed % 3}").write_text(f"a small one, {seed}")
        self.count += 1
        self.now += HOUR
        self.place.cut_after = cut
        try:
            taken = capture(
                self.store_of(machine, anew),
                CaptureRequest((folder,), machine),
                SetClock(Nanoseconds(self.now)),
                Silent(),
                self.test.state,
            )
            self.expected[taken.id] = on_disk(folder)
        except (PowerCutError, GoodTideError):
            pass
        self._power_back()

    def _power_back(self) -> None:
        names = set(self.store().snapshot_ids()) if self.place.cut_after is not None else set()
        self.place.volatile.clear()
        self.place.cut_after = None
        for fresh in names - set(self.expected):
            found = self.store().read_snapshot(fresh)  # published, and cut off before it was told
            self.expected[fresh] = on_disk(self.folder(found.record.machine))

    @stateful.rule(
        machine=st.sampled_from([MACHINE, OTHER_MACHINE]),
        seeds=st.lists(st.integers(0, 9), max_size=3),
        cut=st.one_of(st.none(), st.integers(0, 6)),
    )
    def on_the_road(self, machine: Machine, seeds: list[int], cut: int | None) -> None:
        """The disk leaves, with what the holding area needs taken over before, or cut off in that; snapshots
        go on without it."""
        area, store = self.area(machine, True), self.store_of(machine, True)
        own = [one for one in store.snapshots()[0] if one.record.machine == machine]
        if own and not self.held[machine.id]:
            self.place.cut_after = cut
            with contextlib.suppress(PowerCutError, GoodTideError):
                prime(area, store, own[-1], self.test.state)
            self._power_back()
        if not self.area(machine, False).marks:
            return
        folder = self.folder(machine)
        for seed in seeds:
            (folder / f"file {seed % 3}").write_bytes(random.Random(seed).randbytes(100_000 + 1000 * seed))
            (folder / f"note {seed % 3}").write_text(f"a small one, {seed}")
            self.now += HOUR
            taken = capture(
                self.area(machine, False),
                CaptureRequest((folder,), machine),
                SetClock(Nanoseconds(self.now)),
                Silent(),
                self.test.state,
            )
            self.held[machine.id][taken.id] = on_disk(folder)

    @stateful.rule(machine=st.sampled_from([MACHINE, OTHER_MACHINE]))
    def give_way(self, machine: Machine) -> None:
        """A sweep asks this machine's area, in which nothing waits, to build on what is doomed no longer."""
        if not self.held[machine.id] and self.area(machine, True).root.is_dir():
            self.area(machine, True).give_way(self.store())

    @stateful.rule(
        machine=st.sampled_from([MACHINE, OTHER_MACHINE]), cut=st.one_of(st.none(), st.integers(0, 40))
    )
    def carry(self, machine: Machine, cut: int | None) -> None:
        """The disk is back: what waits is carried over, or cut off in that."""
        held = self.held[machine.id]
        if not held:
            return
        self.place.cut_after = cut
        with contextlib.suppress(PowerCutError, PlaceError):
            drain(self.area(machine, True), self.store_of(machine, True), self.test.state, Silent())
        self.place.volatile.clear()
        self.place.cut_after = None
        arrived, waits = set(self.store().snapshot_ids()), self.area(machine, True).held_names()
        for name in list(held):
            assert name in arrived or name in waits
            if name in arrived:
                self.expected[name] = held[name]
            if name not in waits:
                del held[name]
        assert cut is not None or not held

    @stateful.rule(which=st.integers(0, 1000))
    def release(self, which: int) -> None:
        """How far a run that was cut off had come depends on its threads, and so does how many there are to
        choose from."""
        if not self.expected:
            return
        name = list(self.expected)[which % len(self.expected)]
        self.place.files.pop(f"{SNAPSHOT_FOLDER}/{name}")
        del self.expected[name]

    @stateful.rule(
        machine=st.sampled_from([MACHINE, OTHER_MACHINE]),
        cut=st.one_of(st.none(), st.integers(0, 30)),
        skew=st.integers(-400, 400),
    )
    def sweep(self, machine: Machine, cut: int | None, skew: int) -> None:
        self.place.cut_after = cut
        with contextlib.suppress(PowerCutError, PlaceError):
            sweep(self.open[machine.id], self.now + skew * HOUR, self.watched[machine.id], f"{machine.name}-")
        self._power_back()

    @stateful.rule(
        kind=st.sampled_from(["file", "note"]),
        number=st.integers(0, 2),
        cut=st.one_of(st.none(), st.integers(0, 40)),
    )
    def purge(self, kind: str, number: int, cut: int | None) -> None:
        """A file is taken out of all history, a small one that shares a block or another; a cut leaves some
        snapshots written anew, some not, and one in both forms."""
        pattern, journal = f"{kind} {number}", Journal(self.test.state, SetClock(Nanoseconds(self.now)))
        rewritten = [
            {name: content for name, content in files.items() if name != pattern}
            for files in self.expected.values()
        ]
        self.place.cut_after = cut
        with contextlib.suppress(PowerCutError, PlaceError):
            plan = plan_purge(self.store(), pattern, "", Silent())
            purge(self.store(), plan, self.test.state, SetClock(Nanoseconds(self.now)), journal, Silent())
        journal.close()
        self.place.volatile.clear()
        self.place.cut_after = None
        store = self.store()
        names = set(store.snapshot_ids())
        for fresh in names - set(self.expected):
            files = content_of(store, fresh)
            assert files in rewritten
            self.expected[fresh] = files
        for name in set(self.expected) - names:
            del self.expected[name]
        if cut is None:
            assert all(pattern not in files for files in self.expected.values())

    @stateful.invariant()
    def everything_visible_restores(self) -> None:
        store = self.store()
        assert set(store.snapshot_ids()) == set(self.expected)
        for name, files in self.expected.items():
            assert content_of(store, name) == files
        for machine in (MACHINE, OTHER_MACHINE):
            for name, files in self.held[machine.id].items():
                assert content_of(self.area(machine, True), name) == files

    @stateful.rule()
    def nothing_unneeded_is_left_in_the_end(self) -> None:
        """All marks stood still for long, and what waited was carried over; two sweeps later only what is
        needed is there."""
        for machine in (MACHINE, OTHER_MACHINE):
            self.carry(machine, None)
        for later in (0, 2, 4):
            with contextlib.suppress(PlaceError):
                sweep(
                    self.store(), self.now + later * DEAD_AFTER, self.watched[MACHINE.id], f"{MACHINE.name}-"
                )
            for machine in (MACHINE, OTHER_MACHINE):
                self.give_way(machine)
        plan = Sweep(self.store(), "x-", Watched(), self.now, Silent()).plan()
        assert (
            plan.packs,
            self.place.names(DOOMED_FOLDER),
            [
                mark
                for mark in seen_marks(self.place, WRITER_FOLDER)
                if not mark.owner.startswith(HOLDING_OWNER)
            ],
        ) == (0, [], []), plan


SweepMachine.TestCase.settings = hypothesis.settings(max_examples=25, stateful_step_count=18)
SweepMachineTest = SweepMachine.TestCase


@unittest.skipUnless(os.geteuid() == 0, "mounting a small file system needs root")
class SmallDiskTest(GoodTideTest):
    """A real file system of a few megabytes, filled to the last block."""

    def setUp(self) -> None:
        super().setUp()
        self.disk = self.folder / "disk"
        self.disk.mkdir()
        made = subprocess.run(
            ["mount", "-t", "tmpfs", "-o", "size=6m", "tmpfs", str(self.disk)],
            check=False,
            capture_output=True,
        )
        if made.returncode:
            self.skipTest("this system does not mount")
        self.addCleanup(lambda: subprocess.run(["umount", "-l", str(self.disk)], check=False))
        create_store(self.disk / "store", None, cost=CHEAP)

    def fresh(self) -> Store:
        return open_store(self.disk / "store", None)

    def test_snapshot_release_sweep_and_restore_on_a_full_disk(self) -> None:
        chance, states = random.Random(8), {}
        full = False
        for hour in range(40):
            self.write("film.bin", chance.randbytes(500_000))
            self.write("letter.txt", f"hour {hour}")
            try:
                taken = self.snap(self.fresh(), hour)
            except PlaceFullError:
                full = True
                break
            states[taken.id] = on_disk(self.work)
        self.assertTrue(full)
        with contextlib.suppress(OSError), (self.disk / "the rest").open("wb") as rest:
            while True:
                rest.write(bytes(4096))
                rest.flush()
        self.assertEqual(os.statvfs(self.disk).f_bavail, 0)
        store = self.fresh()
        for name, files in states.items():
            self.assertEqual(content_of(store, name), files)
        found = store.snapshots()[0]
        for snapshot in found[: len(found) // 2]:
            release(store, snapshot)
        Sweep(self.fresh(), "sweeper-", Watched(), T0, Silent()).plan()
        report = sweep(self.fresh())
        self.assertGreater(report.freed, 1_000_000)
        self.assertTrue(verify(self.fresh(), True, Silent()).ok)
        taken = self.snap(self.fresh(), 50)
        self.assertEqual(content_of(self.fresh(), taken.id), on_disk(self.work))
        for snapshot in found[len(found) // 2 :]:
            self.assertEqual(content_of(self.fresh(), snapshot.id), states[snapshot.id])
