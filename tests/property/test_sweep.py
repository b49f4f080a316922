"""Machines that share a store take, release, carry and sweep, and are cut off anywhere: what any snapshot
needs stays, and what none needs goes."""

from __future__ import annotations

import contextlib
import random
from pathlib import Path
from unittest import mock

import hypothesis
from hypothesis import stateful
from hypothesis import strategies as st

from good_tide.core.clock import SetClock
from good_tide.core.errors import GoodTideError, PlaceError
from good_tide.core.identifiers import Nanoseconds, SnapshotId
from good_tide.core.progress import Silent
from good_tide.core.records import Machine
from good_tide.operations.records.journal import Journal
from good_tide.operations.retention.purge import plan_purge, purge
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.holding import drain, prime
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.storage.doomed import DOOMED_FOLDER
from good_tide.storage.folders import SNAPSHOT_FOLDER
from good_tide.storage.holding import HoldingArea
from good_tide.storage.marks import HOLDING_OWNER, WRITER_FOLDER, seen_marks
from good_tide.storage.store import Store
from good_tide.storage.sweep import DEAD_AFTER, Sweep, Watched
from tests.support.base import CHEAP, HOUR, MACHINE, OTHER_MACHINE, T0, GoodTideTest, create_store, open_store
from tests.support.memory_place import PowerCutError
from tests.support.survival import content_of, on_disk
from tests.support.sweeping import memory_of, sweep


def changed_a_little(size: int, seed: int) -> bytes:
    """One of two contents of about some size, with an edit of its own: its versions share most bytes."""
    content = bytearray(random.Random(seed % 2).randbytes(size))
    at = random.Random(seed).randrange(size)
    content[at : at + 30] = random.Random(seed).randbytes(10 * seed)
    return bytes(content)


_LOW_LIMITS = {
    "sweep._MANY_SMALL": 4,
    "gathering._MANY": 3,
    "summaries._EACH": 2,
    "summaries._MOST": 6,
    "summaries._MOST_SMALL": 2,
    "packed._LEAST_LEANING": 0,
}
"""From how many on things are joined, and how long what leans on others is: few, so that a short history does
it."""
_LINES = [f"{random.Random(number).getrandbits(200):050x}" for number in range(80)]


class SweepMachine(stateful.RuleBasedStateMachine):
    """Two machines snapshot, release and sweep one store in any order; sweeps and snapshots are cut off;
    clocks are wrong. Each machine keeps its store open, as an agent does, or opens it anew."""

    def __init__(self) -> None:
        super().__init__()
        self.test = GoodTideTest("setUp")
        self.test.setUp()
        for limit, value in _LOW_LIMITS.items():
            self.test.enterContext(mock.patch(f"good_tide.storage.{limit}", value))
        root = self.test.folder / "store"
        create_store(root, None, cost=CHEAP)
        self.header, self.keys = open_store(root, None).header, open_store(root, None).keys
        self.place = memory_of(root)
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
        (folder / f"file {self.count % 3}").write_bytes(changed_a_little(100_000, seed))
        (folder / f"note {seed % 3}").write_bytes(changed_a_little(4_000, seed))
        (folder / "script").write_text("".join(f"{line} {seed}\n" for line in _LINES))
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
            (folder / f"file {seed % 3}").write_bytes(changed_a_little(100_000, seed))
            (folder / f"note {seed % 3}").write_bytes(changed_a_little(4_000, seed))
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
