"""The holding area: limits, losses that are told, carrying over, and runs that go on after a cut."""

from __future__ import annotations

import random

from good_tide.core.clock import SetClock
from good_tide.core.errors import NotInPlaceError, PlaceError, PlaceFullError, StoppedError
from good_tide.core.happenings import Filter
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Progress, Silent
from good_tide.core.records import Snapshot
from good_tide.core.settings import Holding, Job, StoreRef
from good_tide.operations.integrity.verify import verify
from good_tide.operations.snapshot import holding
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.stores import holding_area as areas
from good_tide.storage.runs import RunLock
from good_tide.storage.store import Store
from tests.support.base import (
    HOUR,
    MACHINE,
    OFFICE,
    OTHER_MACHINE,
    PASSPHRASE,
    T0,
    GoodTideTest,
    open_store,
    tree,
)

MIB = 1 << 20


class HoldingTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.random = random.Random(7)
        self.store = self.new_store()
        self.write("deep/plan.txt", "first\n")
        self.write("film.bin", self.noise(200_000))
        self.ref = StoreRef(path=str(self.folder / "store"), name="Pier")
        self.job = Job(
            id=OFFICE, name="Office", folders=(str(self.work),), stores=(self.ref,), machine=MACHINE
        )
        self.clock = SetClock(Nanoseconds(T0))
        self.ctx = self.context(self.clock)
        self.warned: list[str] = []
        newest = self.snap(self.store, 0)
        holding.prime(self.area(self.store), self.store, newest, self.state)

    def noise(self, size: int) -> bytes:
        return self.random.randbytes(size)

    def area(self, store: Store | None = None, limit: int = 1 << 30) -> areas.HoldingArea:
        setting = Holding(limit_bytes=limit, part_of_free=0.9)
        if store is not None:
            return areas.area_for(self.folder, self.ref, store, setting)
        return areas.open_area(self.folder, self.ref, PASSPHRASE, setting, ())

    def take(self, hour: int, limit: int = 1 << 30) -> Snapshot:
        self.clock.set(Nanoseconds(T0 + hour * HOUR))
        request = CaptureRequest((self.work,), MACHINE, own=(areas.area_root(self.folder),))
        return holding.take_into(
            self.ctx,
            self.area(limit=limit),
            self.job,
            request,
            Silent(),
            lambda what, todo: self.warned.append(what),
        )

    def test_an_area_that_lost_its_listings_takes_them_over_again(self) -> None:
        for pack in (areas.area_root(self.folder)).rglob("packs/*/*"):
            pack.unlink()
        self.write("deep/plan.txt", "second\n")
        store = open_store(self.folder / "store", PASSPHRASE)
        holding.prime(self.area(store), store, self.snap(store, 1), self.state)
        (self.folder / "store").rename(self.folder / "away")
        self.write("deep/plan.txt", "third\n")
        taken = self.take(2)
        (self.folder / "away").rename(self.folder / "store")
        store = open_store(self.folder / "store", PASSPHRASE)
        holding.drain(self.area(store), store, self.state, Silent())
        self.restore(store, store.read_snapshot(taken.id), self.work, self.folder / "back")
        self.assertEqual(tree(self.folder / "back" / "work"), tree(self.work))

    def test_only_what_changed_is_kept_and_everything_arrives_byte_for_byte(self) -> None:
        states = {}
        for hour in (1, 2, 3):
            self.write("deep/plan.txt", f"hour {hour}\n")
            self.write(f"new {hour}.bin", self.noise(90_000))
            states[self.take(hour).id] = tree(self.work)
        size = self.area().place.total_bytes()
        self.assertLess(size, 600_000)
        report = holding.drain(self.area(self.store), self.store, self.state, Silent())
        assert report is not None
        self.assertEqual(
            (len(report.carried), report.damaged, areas.held_count(self.folder, self.ref)), (3, (), 0)
        )
        self.assertTrue(verify(open_store(self.folder / "store", PASSPHRASE), True, Silent()).ok)
        for snapshot in open_store(self.folder / "store", PASSPHRASE).snapshots()[0][1:]:
            into = self.folder / snapshot.id
            self.restore(open_store(self.folder / "store", PASSPHRASE), snapshot, self.work, into)
            restored = {name: facts[:1] + facts[3:4] for name, facts in tree(into / "work").items()}
            self.assertEqual(
                restored, {name: facts[:1] + facts[3:4] for name, facts in states[snapshot.id].items()}
            )
        self.assertIsNone(holding.drain(self.area(self.store), self.store, self.state, Silent()))

    def test_jobs_that_share_the_store_share_the_area_and_each_goes_on_from_its_own(self) -> None:
        sound = self.folder / "sound"
        sound.mkdir()
        for number in range(4):
            (sound / f"cue {number}.wav").write_bytes(self.noise(90_000))
        newest = self.snap(self.store, 1, OTHER_MACHINE, None, sound)
        holding.prime(self.area(self.store), self.store, newest, self.state)
        (sound / "cue 0.wav").write_bytes(self.noise(90_000))
        self.write("deep/plan.txt", "second\n")
        self.clock.set(Nanoseconds(T0 + 3 * HOUR))
        taken = [self.take(2)]
        for hour in (3, 4):
            self.clock.set(Nanoseconds(T0 + hour * HOUR))
            request = CaptureRequest((sound,), OTHER_MACHINE, own=(areas.area_root(self.folder),))
            taken.append(
                holding.take_into(self.ctx, self.area(), self.job, request, Silent(), lambda what, todo: None)
            )
        self.assertEqual(
            [one.record.tally.changed_files for one in taken], [1, 1, 0], "nothing but what changed is read"
        )
        self.assertEqual(len(self.area().marks), 2)
        report = holding.drain(self.area(self.store), self.store, self.state, Silent())
        assert report is not None
        self.assertEqual((len(report.carried), report.damaged), (3, ()))
        store = open_store(self.folder / "store", PASSPHRASE)
        self.assertTrue(verify(store, True, Silent()).ok)
        self.assertEqual(
            [one.record.machine.id for one in store.snapshots()[0]],
            [MACHINE.id, OTHER_MACHINE.id, MACHINE.id, *[OTHER_MACHINE.id] * 2],
        )
        holding.prime(self.area(store), store, store.snapshots()[0][-1], self.state)
        self.assertEqual(
            sorted(self.area().marks), sorted([store.snapshots()[0][2].id, store.snapshots()[0][-1].id])
        )

    def test_a_mark_that_cannot_be_read_is_taken_over_anew(self) -> None:
        self.write("deep/plan.txt", "second\n")
        self.take(1)
        mark = next((self.area().root / "mark").iterdir())
        mark.write_bytes(b"damaged" + mark.read_bytes()[7:-7] + b"damaged")
        report = holding.drain(self.area(self.store), self.store, self.state, Silent())
        assert report is not None
        self.assertEqual((len(report.carried), report.damaged), (1, ()))
        newest = self.store.snapshots()[0][-1]
        holding.prime(self.area(self.store), self.store, newest, self.state)
        self.assertEqual(list(self.area().marked()), [newest.id])
        self.write("deep/plan.txt", "third\n")
        self.assertEqual(self.take(3).record.tally.changed_files, 1)
        self.assertTrue(verify(open_store(self.folder / "store", PASSPHRASE), True, Silent()).ok)

    def test_two_jobs_do_not_write_into_the_area_at_once(self) -> None:
        self.write("film.bin", self.noise(90_000))
        with RunLock.for_work(self.state, self.store.header.store, "held"), self.assertRaises(PlaceError):
            self.take(1)
        self.assertEqual(self.area().held_names(), [])
        self.take(2)
        self.assertEqual(len(self.area().held_names()), 1)

    def test_content_on_the_disk_is_said_to_be_away(self) -> None:
        self.take(1)
        area = self.area()
        entry = next(
            entry
            for page in area.roots(area.held()[0].record)[0].pages
            for entry in area.page(page).entries()
            if entry.name == b"film.bin"
        )
        assert entry.extents[0].chunk is not None
        with self.assertRaises(NotInPlaceError):
            area.read_chunk(entry.extents[0].chunk)

    def test_the_oldest_leave_first_with_a_warning_before(self) -> None:
        limit = self.area().place.total_bytes() + 3 * MIB
        for hour in range(1, 7):
            self.write("film.bin", self.noise(900_000))
            self.take(hour, limit)
            self.assertLessEqual(self.area().place.total_bytes(), limit)
        held = [(snapshot.record.time - T0) // HOUR for snapshot in self.area().held()]
        self.assertEqual(held[-1], 6)
        self.assertEqual(held, list(range(held[0], 7)))
        self.assertGreater(held[0], 1)
        first_loss = next(
            number for number, words in enumerate(self.warned) if "left the holding area" in words
        )
        self.assertTrue(any("nearly full" in words for words in self.warned[:first_loss]))
        self.assertEqual(len(self.ctx.journal.events(Filter(levels=("trouble",)))), held[0] - 1)
        report = holding.drain(self.area(self.store), self.store, self.state, Silent())
        assert report is not None
        self.assertEqual(len(report.carried), len(held))
        self.assertTrue(verify(open_store(self.folder / "store", PASSPHRASE), True, Silent()).ok)

    def test_a_change_larger_than_the_limit_is_refused_and_nothing_is_broken(self) -> None:
        limit = self.area().place.total_bytes() + MIB
        self.write("film.bin", self.noise(3 * MIB))
        with self.assertRaises(PlaceFullError):
            self.take(1, limit)
        self.assertEqual(self.area().held_names(), [])
        self.write("film.bin", self.noise(10_000))
        self.assertEqual(self.take(2, limit).record.tally.files, 2)

    def test_carrying_over_that_is_cut_off_goes_on_and_doubles_nothing(self) -> None:
        for hour in (1, 2, 3):
            self.write("deep/plan.txt", f"hour {hour}\n")
            self.take(hour)

        class Cut(Silent):
            def report(self, progress: Progress) -> None:
                if progress.files_done == 1:
                    raise StoppedError("cut off")

        with self.assertRaises(StoppedError):
            holding.drain(self.area(self.store), self.store, self.state, Cut())
        report = holding.drain(
            self.area(open_store(self.folder / "store", PASSPHRASE)), self.store, self.state, Silent()
        )
        assert report is not None
        times = [
            snapshot.record.time for snapshot in open_store(self.folder / "store", PASSPHRASE).snapshots()[0]
        ]
        self.assertEqual([(time - T0) // HOUR for time in times], [0, 1, 2, 3])

    def test_the_area_is_never_covered_and_follows_a_changed_passphrase(self) -> None:
        self.assertNotIn(b"holding", {name.split(b"/")[0] for name in tree(self.work)})
        request = CaptureRequest((self.folder / "holding",), MACHINE, own=(areas.area_root(self.folder),))
        taken = capture(self.store, request, SetClock(Nanoseconds(T0 + 9 * HOUR)), Silent(), self.state)
        self.assertEqual((taken.record.tally.files, taken.record.left_out[0].reason), (0, "store"))
