"""The sweep: what no snapshot needs goes, what any needs stays, whatever is cut off in between."""

from __future__ import annotations

import contextlib
import random
from unittest import mock

from good_tide.core.clock import SECOND, SetClock
from good_tide.core.errors import GoodTideError, PlaceError
from good_tide.core.identifiers import ChunkId, Nanoseconds
from good_tide.core.progress import Silent
from good_tide.core.records import Snapshot
from good_tide.operations.integrity.verify import verify
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.holding import prime
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.stores.carrying import carry
from good_tide.storage.doomed import DOOMED_FOLDER, read_doomed
from good_tide.storage.folder_place import LocalPlace
from good_tide.storage.folders import SNAPSHOT_FOLDER
from good_tide.storage.holding import HoldingArea
from good_tide.storage.marks import HOLDING_OWNER, LEASE_FOLDER, WRITER_FOLDER, Mark, remove_mark, seen_marks
from good_tide.storage.packed import pack_file
from good_tide.storage.store import Store
from good_tide.storage.sweep import DEAD_AFTER, Sweep, Watched, has_many_small_packs
from good_tide.storage.writer import WriteSession
from tests.support.base import CHEAP, HOUR, MACHINE, PASSPHRASE, T0, GoodTideTest, create_store, open_store
from tests.support.memory_place import PowerCutError
from tests.support.survival import content_of, on_disk
from tests.support.sweeping import memory_of, release, sweep


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

    def test_what_is_needed_is_looked_for_after_who_is_at_work(self) -> None:
        release(self.store, self.snapshots[0])
        asked: list[str] = []
        names, anew = LocalPlace.names, LocalPlace.look_anew

        def listed(place: LocalPlace, folder: str) -> list[str]:
            asked.append(folder)
            return names(place, folder)

        def looked(place: LocalPlace) -> None:
            asked.append("anew")
            anew(place)

        with mock.patch.multiple(LocalPlace, names=listed, look_anew=looked):
            self.assertGreater(sweep(self.fresh()).freed, 0)
        at = asked.index("anew")
        self.assertIn(WRITER_FOLDER, asked[:at])
        self.assertNotIn(WRITER_FOLDER, asked[at : asked.index(SNAPSHOT_FOLDER, at)])

    def test_of_a_pack_that_cannot_be_copied_only_the_damaged_chunk_counts_as_damaged(self) -> None:
        self.store = self.new_store("plain", None, parity=False)
        for hour in range(2):
            self.write("big.bin", self.chance.randbytes(900_000))
            taken = self.snap(self.store, hour)
            if not hour:
                release(self.store, taken)
        place = self.store.place_of(ChunkId(self.store.keys.chunk_id(b"always" * 40_000)))
        assert place is not None
        path = self.folder / "plain" / pack_file(place.pack)
        data = bytearray(path.read_bytes())
        data[place.offset] ^= 255
        path.write_bytes(data)
        store = open_store(self.folder / "plain", None)
        sweep(store)
        self.assertGreater(len(store.index.tables[place.pack]), 1)
        self.assertEqual(store.damage.packs, {place.pack: frozenset({place.number})})

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

    def test_where_what_was_written_is_not_listed_nothing_is_given_back(self) -> None:
        release(self.fresh(), self.snapshots[0])
        before = self.fresh().place.names("packs")
        real = LocalPlace.names

        def late(place: LocalPlace, folder: str) -> list[str]:
            return [] if folder == LEASE_FOLDER else real(place, folder)

        with (
            mock.patch.object(LocalPlace, "names", late),
            self.assertRaisesRegex(PlaceError, "does not list"),
        ):
            sweep(self.fresh())
        self.assertEqual(self.fresh().place.names("packs"), before)
        self.assertGreater(sweep(self.fresh()).freed, 0)

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
        place = memory_of(self.folder / "store")
        self.write("film.bin", random.Random(99).randbytes(400_000))
        request, clock, cut = CaptureRequest((self.work,), MACHINE), SetClock(Nanoseconds(T0 + 50 * HOUR)), 0
        while not set(place.names("packs")) - set(self.store.place.names("packs")):
            cut += 1
            place = memory_of(self.folder / "store")
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
        (self.folder / "store" / "copies" / SNAPSHOT_FOLDER / self.snapshots[1].id).unlink()
        before = self.size()
        self.assertIn(self.snapshots[1].id, sweep(self.fresh()).unclear)
        self.assertLess(abs(before - self.size()), 1000)
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
        place = memory_of(self.folder / "store")
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
        whole = memory_of(self.folder / "store")
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

    def test_many_small_packs_are_joined_though_nothing_was_released(self) -> None:
        for hour in range(4, 12):
            self.write(f"sub/{hour}.txt", self.chance.randbytes(3_000))
            self.snapshots.append(self.snap(self.fresh(), hour))
            self.states.append(on_disk(self.work))
        before, packs = self.size(), len(self.fresh().index.tables)
        self.assertGreater(packs, 16)
        self.assertFalse(has_many_small_packs(self.fresh()))
        sweep(self.fresh())
        self.assertEqual(len(self.fresh().index.tables), packs, "not worth it yet")
        with mock.patch("good_tide.storage.sweep._WORTH_JOINING", 16):
            self.assertTrue(has_many_small_packs(self.fresh()))
        with mock.patch("good_tide.storage.sweep._MANY_SMALL", 8):
            report = sweep(self.fresh())
        self.assertEqual(report.rewritten, packs)
        self.assertLess(len(self.fresh().index.tables), 6)
        self.assertLess(self.size(), before)
        self.check(*range(12))
