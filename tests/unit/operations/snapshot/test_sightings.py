"""What was seen in each folder is kept on this machine: runs go only where something changed, nothing that
changed is passed over, and a program that writes everything anew costs nothing."""

from __future__ import annotations

import os
import random
import shutil
import sqlite3
from collections.abc import Callable
from pathlib import Path
from unittest import mock

import msgspec

from good_tide.core.clock import SECOND, SetClock
from good_tide.core.entries import Entry, Kind
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.pages import encode_page
from good_tide.core.progress import Silent
from good_tide.core.records import Snapshot
from good_tide.core.rules import parse_rules
from good_tide.lines.mounts import read_mounts
from good_tide.operations.snapshot import listing_drafts, looking, sightings, small_files, walk
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.snapshot.sightings import key_of
from good_tide.operations.snapshot.touched import Touched, TouchedSince
from good_tide.source import folders
from good_tide.source.sight import seen_in
from good_tide.storage.folders import INDEX_FOLDER
from good_tide.storage.store import Store
from tests.support.base import HOUR, MACHINE, T0, GoodTideTest, open_store

LONG_AGO, RECENTLY = 1_700_000_000 * SECOND, T0 - HOUR


class _Folders(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.root = self.folder / "store"
        self.new_store(passphrase=None)
        for module in ("file_taking", "small_files"):
            trusting = mock.patch(f"good_tide.operations.snapshot.{module}.UNTRUSTED_NS", -1)
            trusting.start()
            self.addCleanup(trusting.stop)
        for number in range(60):
            path = self.write(f"season {number % 4}/show {number % 12}/{number}/cue.txt", f"cue {number}")
            os.utime(path, ns=(RECENTLY, RECENTLY))
        self.hour = 0

    def fresh(self) -> Store:
        return open_store(self.root, None)

    def take(self, rules: str = "", at: int | None = None, touched: TouchedSince | None = None) -> Snapshot:
        self.hour += 1
        clock = SetClock(Nanoseconds(T0 + self.hour * HOUR if at is None else at))
        request = CaptureRequest((self.work,), MACHINE, rules=tuple(parse_rules(rules)), touched=touched)
        return capture(self.fresh(), request, clock, Silent(), self.state)

    def walked(self, rules: str = "") -> list[str]:
        """The names of the folders that a run goes into, and what it read of files is checked."""
        gone_into: list[str] = []
        real = folders.scan

        def scan(handle: int) -> object:
            gone_into.append(os.path.basename(os.readlink(f"/proc/self/fd/{handle}")))
            return real(handle)

        with mock.patch("good_tide.operations.snapshot.walk.scan", scan):
            snapshot = self.take(rules)
        self.assert_whole(snapshot, rules)
        return gone_into

    def reading(self, take: Callable[[], object]) -> int:
        """How many small files a run reads."""
        count = 0
        real = small_files.SmallFiles.entry

        def entry(this: small_files.SmallFiles, *args: object) -> Entry:
            nonlocal count
            count += 1
            return real(this, *args)  # type: ignore[arg-type]

        with mock.patch.object(small_files.SmallFiles, "entry", entry):
            take()
        return count

    def assert_whole(self, snapshot: Snapshot, rules: str = "") -> None:
        """A snapshot is what somebody would take who never saw these folders, in counts and contents."""
        store = self.fresh()
        request = CaptureRequest((self.work,), MACHINE, rules=tuple(parse_rules(rules)))
        other = self.folder / f"other {self.hour}"
        clock = SetClock(Nanoseconds(snapshot.record.time + 1))
        alone = self.new_store(other.name, None)
        afresh = capture(alone, request, clock, Silent(), self.folder / f"elsewhere {self.hour}")
        self.assertEqual(self.listed(store, snapshot), self.listed(alone, afresh))
        one, two = snapshot.record.tally, afresh.record.tally
        self.assertEqual((one.files, one.bytes, one.folders), (two.files, two.bytes, two.folders))
        shutil.rmtree(other)

    def listed(self, store: Store, snapshot: Snapshot) -> dict[bytes, object]:
        found: dict[bytes, object] = {}
        waiting = [(entry.name, entry) for entry in store.roots(snapshot.record)]
        while waiting:
            path, entry = waiting.pop()
            stat = msgspec.structs.replace(entry.stat, changed=0, inode=0)
            content = b"".join(
                store.read_chunk(one.chunk)[one.offset : one.offset + one.length]
                for one in entry.extents
                if one.chunk is not None and entry.kind is Kind.FILE
            )
            found[path] = entry.kind, stat, entry.extra.target, entry.extra.attributes, content
            if entry.kind is Kind.FOLDER:
                waiting += [(path + b"/" + one.name, one) for one in store.listing(entry.pages)]
        return found


class SightingsTest(_Folders):
    def test_everything_written_anew_with_the_same_content_stores_next_to_nothing(self) -> None:
        self.take()
        self.take()
        for path in self.work.rglob("*.txt"):
            content, times = path.read_bytes(), path.stat()
            path.unlink()
            path.write_bytes(content)
            os.utime(path, ns=(times.st_atime_ns, times.st_mtime_ns))
        for folder in self.work.rglob("*"):
            if folder.is_dir():
                os.utime(folder, ns=(LONG_AGO, LONG_AGO))
        self.take()
        for path in self.work.rglob("*"):
            path.chmod(path.stat().st_mode)  # another change time, and nothing else
        packs = sorted((self.root / "packs").rglob("*"))
        self.assertEqual(self.reading(lambda: self.assert_whole(self.take())), 120, "read, and afresh once")
        self.assertEqual(sorted((self.root / "packs").rglob("*")), packs)
        self.assertEqual(self.walked(), [self.work.name])

    def test_a_run_goes_only_where_something_changed(self) -> None:
        self.take()
        self.assertEqual(self.walked(), [self.work.name])
        self.write("season 2/show 6/6/cue.txt", "other")
        self.assertEqual(self.walked(), [self.work.name, "season 2", "show 6", "6"])
        (self.work / "season 3").rename(self.work / "last season")
        self.assertEqual(self.reading(self.take), 0, "known by what was seen under its name before")
        self.assertEqual(self.walked(), [self.work.name])
        shutil.rmtree(self.work / "season 1/show 1")
        self.assertEqual(self.walked(), [self.work.name, "season 1"])
        self.assertEqual(self.walked(), [self.work.name])

    def test_whatever_changes_is_found(self) -> None:
        rng = random.Random(11)
        self.take()
        for step in range(25):
            for _ in range(rng.randrange(4)):
                self.change(rng, step)
            self.assert_whole(self.take())

    def change(self, rng: random.Random, step: int) -> None:
        """Something that people and programs do to their files."""
        every = sorted(path for path in self.work.rglob("*") if not path.is_symlink())
        files = [path for path in every if path.is_file()]
        folders = [path for path in every if path.is_dir()]
        file, folder = rng.choice(files), rng.choice(folders)
        times = file.stat()
        match rng.randrange(10):
            case 0:
                file.write_bytes(rng.randbytes(times.st_size))  # of the same length
                os.utime(file, ns=(times.st_atime_ns, times.st_mtime_ns))  # and time
            case 1:
                (folder / f"new {step}").write_bytes(rng.randbytes(rng.choice((0, 50, 200_000))))
            case 2:
                file.unlink()
            case 3:
                folder.rename(folder.with_name(f"renamed {step} {rng.randrange(99)}"))
            case 4:
                folder.chmod(rng.choice((0o700, 0o755)))
            case 5:
                os.setxattr(rng.choice((file, folder)), "user.note", str(step).encode())
            case 6:
                (folder / f"link {step} {rng.randrange(99)}").symlink_to(rng.choice(("a", "/b")))
            case 7:
                (folder / f"inside {step} {rng.randrange(99)}").mkdir()
            case 8:
                os.replace(file, folder / f"moved {step}")
            case 9:
                os.utime(file, ns=(LONG_AGO, LONG_AGO + step))

    def test_rules_that_change_and_ages_that_turn_are_followed(self) -> None:
        old = T0 - 89 * 24 * HOUR
        os.utime(self.work / "season 0/show 0/12/cue.txt", ns=(old, old))
        ages = "exclude older 90 days\nexclude path season*1/"
        self.take()
        self.assert_whole(self.take(ages), ages)
        self.assertEqual(self.walked(ages), [self.work.name])
        kept = self.take(ages).record.tally.files
        later = self.take(ages, T0 + 48 * HOUR)
        self.assertEqual(later.record.tally.files, kept - 1, "another day, and a file is too old")
        self.hour = 60
        self.assert_whole(self.take(ages), ages)
        self.assert_whole(self.take())

    def test_two_processes_look_at_a_half_each(self) -> None:
        with mock.patch.object(looking, "_WORTH_A_HELPER", 10), mock.patch.object(looking, "_CHECK_EACH", 4):
            self.take()
            self.assertEqual(self.walked(), [self.work.name])
            self.write("season 3/show 11/11/cue.txt", "other")
            self.write("season 0/show 0/0/new.txt", "new")
            found = self.walked()
            self.assertEqual(len(found), 7)
            with mock.patch("sys.executable", "/bin/false"):
                self.assertEqual(
                    self.walked(), [self.work.name], "what a helper does not say is looked at here"
                )

    def test_a_link_in_place_of_a_folder_is_not_followed_to_look(self) -> None:
        self.take()
        below = sum(path.is_dir() for path in (self.work / "season 2").rglob("*"))
        every = sum(path.is_dir() for path in self.work.rglob("*")) + 1
        elsewhere = self.folder / "elsewhere"
        (self.work / "season 2").rename(elsewhere)  # with all that is in it as it was
        (self.work / "season 2").symlink_to(elsewhere)
        with mock.patch("good_tide.operations.snapshot.looking.seen_in", wraps=seen_in) as seen:
            snapshot = self.take()
        self.assertEqual(seen.call_count, every - below - 1)
        self.assert_whole(snapshot)

    def test_what_is_kept_may_be_lost_or_damaged(self) -> None:
        rng = random.Random(5)
        self.take()
        (kept,) = (self.state / "sightings").iterdir()
        whole = kept.read_bytes()
        for _ in range(12):
            data = bytearray(whole)
            for _ in range(rng.choice((1, 30, 300))):
                data[rng.randrange(len(data))] ^= 1 << rng.randrange(8)
            kept.write_bytes(data)
            self.assert_whole(self.take())
        kept.write_bytes(b"no database")
        self.assert_whole(self.take())
        kept.unlink()
        self.assertEqual(self.reading(self.take), 60, "without it everything is read once")
        self.assertEqual(self.reading(self.take), 0)

    def test_what_nobody_used_for_a_year_is_forgotten(self) -> None:
        self.take()
        (kept,) = (self.state / "sightings").iterdir()
        old, young = kept.with_name("old.db"), kept.with_name("young.db")
        for file in (old, young):
            file.write_bytes(b"")
        os.utime(old, (1_600_000_000, 1_600_000_000))
        self.take()
        self.assertEqual(sorted((self.state / "sightings").iterdir()), sorted([kept, young]))

    def test_a_home_that_takes_nothing_costs_speed_and_nothing_else(self) -> None:
        self.take()
        with mock.patch.object(sightings.Sightings, "_begin", side_effect=sqlite3.OperationalError("full")):
            self.write("season 0/show 0/0/cue.txt", "other")
            self.assert_whole(self.take())
            self.assertEqual(self.reading(self.take), 1, "only what was read since it was full")
        self.assert_whole(self.take())
        self.assertEqual(self.walked(), [self.work.name])

    def test_a_run_that_is_cut_off_after_its_snapshot_leaves_no_wrong_memory(self) -> None:
        self.take()
        self.write("season 0/show 0/0/cue.txt", "other")
        with (
            mock.patch.object(sightings.Sightings, "finish", side_effect=KeyboardInterrupt),
            self.assertRaises(KeyboardInterrupt),
        ):
            self.take()
        self.write("season 0/show 0/0/cue.txt", "third")
        self.assert_whole(self.take())
        self.assertEqual(self.walked(), [self.work.name])

    def test_when_the_store_has_lost_something_everything_is_walked(self) -> None:
        self.take()
        self.write("season 0/show 0/0/cue.txt", "other")
        self.take()
        lost = next((self.root / INDEX_FOLDER).iterdir())
        (self.root / "copies" / INDEX_FOLDER / lost.name).unlink()
        lost.unlink()
        self.assertGreater(len(self.walked()), 60)

    def test_listings_of_earlier_versions_need_not_be_read_again(self) -> None:
        def stamped(entries: list[Entry], stamped: bool = True) -> bytes:
            return encode_page(entries)

        with (
            mock.patch.object(listing_drafts, "encode_page", stamped),
            mock.patch.object(walk, "encode_page", stamped),
        ):
            self.take()
        shutil.rmtree(self.state / "sightings")
        self.assertEqual(self.reading(self.take), 0)
        self.assertEqual(self.walked(), [self.work.name])

    def test_files_dated_before_1970(self) -> None:
        os.utime(self.work / "season 0/show 0/0/cue.txt", (-5000, -5000))
        self.take()
        self.assertEqual(self.walked(), [self.work.name])
        shutil.rmtree(self.state / "sightings")
        self.assert_whole(self.take())
        self.take("exclude path nothing")  # everything is walked, and nothing has changed
        self.assertEqual(self.reading(self.take), 0)

    def test_names_that_sort_between_a_folder_and_what_is_in_it(self) -> None:
        for name in ("show", "show!", "show-2", "show/in", "sho", "show/in!", "show0"):
            self.write(f"odd/{name}/a.txt", name)
        self.take()
        self.assertEqual(self.walked(), [self.work.name])
        self.write("odd/show/in/a.txt", "other")
        self.assertEqual(self.walked(), [self.work.name, "odd", "show", "in"])
        self.assertEqual(Path(self.work / "odd/show/in/a.txt").read_text(), "other")


class TouchedTest(_Folders):
    """Runs that are told where something happened."""

    def test_what_a_watch_does_not_tell_is_missed_for_no_longer_than_a_day(self) -> None:
        rng = random.Random(2)
        changed: dict[Path, int] = {}
        """Files that a snapshot does not have as they are, and since which hour."""
        told: set[bytes] = set()
        longest = looked = 0
        files = sorted(self.work.rglob("*.txt"))
        self.take()
        for hour in range(2, 80):
            for path in rng.sample(files, 2):
                path.write_text(f"hour {hour}")
                changed.setdefault(path, hour)
                if rng.random() < 0.5:
                    told.add(key_of(os.fsencode(path.parent)))
            with mock.patch("good_tide.operations.snapshot.looking.seen_in", wraps=seen_in) as seen:
                snapshot = self.take(touched=lambda moment: frozenset(told))
            looked += seen.call_count
            listed = self.listed(self.fresh(), snapshot)
            for path, since in list(changed.items()):
                entry = listed[os.fsencode(path)]
                assert isinstance(entry, tuple)
                if entry[-1] == path.read_bytes():
                    longest = max(longest, hour - since)
                    del changed[path]
            told.clear()
        self.assertLessEqual(longest, 24)
        self.assertGreater(longest, 1, "not all was told")
        self.assertLess(looked, 3 * 100 + 80 * 4, "a run looks at all folders three times in these days")

    def test_a_run_that_is_told_finds_it_and_looks_nowhere_else(self) -> None:
        self.take()
        path = self.write("season 0/show 0/0/cue.txt", "other")
        (self.work / "season 1/show 1/1/new").mkdir()
        keys = {key_of(os.fsencode(one)) for one in (path.parent, self.work / "season 1/show 1/1")}
        with mock.patch("good_tide.operations.snapshot.looking.seen_in", wraps=seen_in) as seen:
            self.assert_whole(self.take(touched=lambda moment: frozenset(keys)))
        self.assertEqual(seen.call_count, 2)
        self.write("season 1/show 1/1/new/inside.txt", "new")
        self.assert_whole(self.take(touched=lambda moment: None))

    def test_what_was_told_is_kept_by_folder_until_it_is_too_much(self) -> None:
        touched = Touched((str(self.work),))
        self.assertIsNone(touched.since(Nanoseconds(10)), "not yet watched")
        touched.begin(5)
        touched.note(str(self.work / "a/b.txt"), 20)
        self.assertIsNone(touched.since(Nanoseconds(4)), "before it was watched")
        self.assertEqual(touched.since(Nanoseconds(10)), {key_of(os.fsencode(self.work / "a"))})
        self.assertEqual(touched.since(Nanoseconds(20 + 6 * SECOND)), frozenset())
        with mock.patch("good_tide.operations.snapshot.touched._MOST", 3):
            for number in range(5):
                touched.note(f"{self.work}/{number}/x", 30)
        self.assertIsNone(touched.since(Nanoseconds(25)))
        self.assertIsNotNone(touched.since(Nanoseconds(30)))
        touched.lose()
        self.assertIsNone(touched.since(Nanoseconds(40)))

    def test_where_others_can_change_things_unseen_everything_is_looked_at(self) -> None:
        table = "20 1 0:1 / / rw - ext4 /dev/a rw\n"
        more = f"21 20 0:2 / {self.work}/share rw - cifs //server/share rw\n"
        mounts = self.folder / "mounts"
        for text, known in ((table, True), (table + more, False), ("", False)):
            mounts.write_text(text)
            with mock.patch("good_tide.operations.snapshot.touched.read_mounts", lambda: read_mounts(mounts)):
                touched = Touched((str(self.work),))
                touched.begin(1)
                self.assertEqual(touched.since(Nanoseconds(2)) is not None, known)
                mounts.write_text(table + more.replace("cifs", "ext4"))
                self.assertIsNone(touched.since(Nanoseconds(3)), "something was mounted since")
