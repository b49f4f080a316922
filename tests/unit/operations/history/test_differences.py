"""What differs between two moments: against a comparison of all paths one by one."""

from __future__ import annotations

import os
import random
import resource
import shutil
import time
from pathlib import Path
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from good_tide.core.coverage import Coverage
from good_tide.core.differences import Differences, What, counts_words
from good_tide.core.errors import PersonError
from good_tide.core.progress import Silent
from good_tide.core.records import Snapshot
from good_tide.core.rules import parse_rule
from good_tide.operations.coverage.selecting import Selector
from good_tide.operations.history.differences import between
from good_tide.operations.history.disk_differences import since
from good_tide.storage.store import Store
from tests.support.base import GoodTideTest


def told(found: Differences, root: Path) -> dict[str, What]:
    """What was found, by paths below a folder."""
    return {os.path.relpath(os.fsdecode(one.path), root): one.what for one in found.items}


class DifferencesTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store: Store = self.new_store(passphrase=None)
        self.rng = random.Random(6)
        for number in range(40):
            self.write(f"part {number % 4}/deep/{number}.txt", self.rng.randbytes(50 + number))
        self.write("large.bin", self.rng.randbytes(300_000))
        self.first = self.snap(self.store)

    def both(self, then: Snapshot, path: Path | None = None) -> tuple[Differences, Differences]:
        """Against the disk now, and against a snapshot of it."""
        where = None if path is None else os.fsencode(path)
        now = since(self.store, then, where, None, Silent())
        self.hour = getattr(self, "hour", 0) + 1
        return now, between(self.store, then, self.snap(self.store, self.hour), where, Silent())

    def test_nothing_differs(self) -> None:
        for found in self.both(self.first):
            self.assertEqual((found.items, counts_words(found.counts())), ((), ""))

    def test_gone_new_changed_moved_and_only_metadata(self) -> None:
        (self.work / "part 0/deep/0.txt").unlink()
        shutil.rmtree(self.work / "part 1")
        self.write("part 9/new.txt", "new")
        self.write("part 2/deep/2.txt", "another content")
        (self.work / "part 2/deep/6.txt").chmod(0o600)
        os.utime(self.work / "part 2/deep/10.txt", ns=(0, 5))
        (self.work / "large.bin").rename(self.work / "part 2" / "renamed.bin")
        (self.work / "part 3").rename(self.work / "another part")
        (self.work / "link").symlink_to("part 2")
        disk, snapshot = self.both(self.first)
        gone = {f"part 1/deep/{number}.txt": What.GONE for number in range(1, 40, 4)}
        expected = {
            "part 0/deep/0.txt": What.GONE,
            "part 1": What.GONE,
            "part 1/deep": What.GONE,
            **gone,
            "part 9": What.NEW,
            "part 9/new.txt": What.NEW,
            "link": What.NEW,
            "part 2/deep/2.txt": What.CHANGED,
            "part 2/deep/6.txt": What.METADATA,
            "part 2/deep/10.txt": What.METADATA,
            "part 2/renamed.bin": What.MOVED,
        }
        with self.subTest("two snapshots: a folder that was renamed is one line"):
            self.assertEqual(told(snapshot, self.work), {**expected, "another part": What.MOVED})
            (folder,) = [one for one in snapshot.items if one.path.endswith(b"another part")]
            self.assertEqual((folder.other, folder.files), (os.fsencode(self.work / "part 3"), 10))
        with self.subTest("against the disk"):
            self.assertEqual(told(disk, self.work), {**expected, "another part": What.MOVED})
        counts = snapshot.counts()
        self.assertEqual([counts[what].files for what in What], [11, 2, 1, 11, 2])
        self.assertIn("11 files gone", counts_words(counts))

    def test_in_a_folder_or_a_file_only_and_above_what_is_covered(self) -> None:
        self.write("part 2/deep/2.txt", "another content")
        self.write("part 0/deep/4.txt", "another content")
        for path, expected in (
            (self.work / "part 2", {"part 2/deep/2.txt": What.CHANGED}),
            (self.work / "part 2/deep/2.txt", {"part 2/deep/2.txt": What.CHANGED}),
            (self.work / "part 1", {}),
            (self.work.parent, {"part 2/deep/2.txt": What.CHANGED, "part 0/deep/4.txt": What.CHANGED}),
        ):
            for found in self.both(self.first, path):
                self.assertEqual(told(found, self.work), expected, path)
        with self.assertRaises(PersonError):
            since(self.store, self.first, os.fsencode(self.work / "never"), None, Silent())
        fresh = self.write("fresh.txt", "1")
        for found in self.both(self.first, fresh):
            self.assertEqual(told(found, self.work), {"fresh.txt": What.NEW})

    def test_what_the_rules_leave_out_is_not_new(self) -> None:
        self.write("part 2/deep/copy.tmp", "1")
        self.write("cache/deep/thing.txt", "1")
        self.write("kept.txt", "1")
        rules = [parse_rule('exclude path "*.tmp"'), parse_rule('exclude path "cache/"')]
        found = since(self.store, self.first, None, Selector(Coverage(rules)), Silent())
        self.assertEqual(told(found, self.work), {"kept.txt": What.NEW})
        found = since(
            self.store, self.first, os.fsencode(self.work / "part 2"), Selector(Coverage(rules)), Silent()
        )
        self.assertEqual(found.items, ())

    def test_many_folders_beside_each_other_and_many_below_each_other(self) -> None:
        for number in range(400):
            (self.work / f"many/{number}").mkdir(parents=True)
        before = self.snap(self.store, 1)
        deep = os.open(self.work, os.O_RDONLY)
        for _ in range(1200):
            os.mkdir("d", dir_fd=deep)
            inner = os.open("d", os.O_RDONLY, dir_fd=deep)
            os.close(deep)
            deep = inner
        os.close(deep)
        soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
        open_now = len(os.listdir("/proc/self/fd"))
        resource.setrlimit(resource.RLIMIT_NOFILE, (open_now + 60, hard))
        try:
            found = since(self.store, before, os.fsencode(self.work / "many"), None, Silent())
        finally:
            resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))
        self.assertEqual((found.items, found.unclear), ((), ()))
        resource.setrlimit(resource.RLIMIT_NOFILE, (min(hard, max(soft, 4000)), hard))
        try:
            found = since(self.store, before, None, None, Silent())
            self.assertEqual((len(found.items), found.unclear), (1200, ()))
            after = self.snap(self.store, 2)
            shutil.rmtree(self.work / "many")
            both = between(self.store, before, after, None, Silent())
        finally:
            resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))
        self.assertEqual(len(both.items), 1200)

    def test_a_touched_file_with_the_same_bytes_is_not_changed(self) -> None:
        path = self.work / "large.bin"
        path.write_bytes(path.read_bytes())
        (found,) = since(self.store, self.first, None, None, Silent()).items
        self.assertEqual(found.what, What.METADATA)

    @settings(max_examples=25, deadline=None)
    @given(st.lists(st.tuples(st.integers(0, 4), st.integers(0, 39), st.integers(0, 3)), max_size=12))
    def test_whatever_was_done_both_ways_say_the_same(self, acts: list[tuple[int, int, int]]) -> None:
        with self.fresh_work():
            first = self.snap(self.store, self.next_hour())
            before = self.whole_state()
            for act, number, folder in acts:
                path = self.work / f"part {number % 4}/deep/{number}.txt"
                other = self.work / f"part {folder}/moved {number}.txt"
                if act == 0:
                    path.unlink(missing_ok=True)
                elif act == 1:
                    other.parent.mkdir(parents=True, exist_ok=True)
                    other.write_bytes(b"new" * (folder + 1))
                elif act == 2 and path.exists():
                    path.write_bytes(b"changed" * (number + 1))
                elif act == 3 and path.exists():
                    other.parent.mkdir(parents=True, exist_ok=True)
                    path.rename(other)
                elif act == 4:
                    shutil.rmtree(self.work / f"part {folder}", ignore_errors=True)
            after = self.whole_state()
            disk = since(self.store, first, None, None, Silent())
            snapshot = between(self.store, first, self.snap(self.store, self.next_hour()), None, Silent())
            for found in (disk, snapshot):
                what = {path: one for path, one in told(found, self.work).items() if one is not What.METADATA}
                gone = {os.fsdecode(one.other) for one in found.items if one.other}
                gone = {os.path.relpath(path, self.work) for path in gone}
                missing = {path for path in before if path not in after}
                new = {path for path in after if path not in before}
                inside = tuple(
                    f"{path}/" for path in gone | {p for p, one in what.items() if one is What.MOVED}
                )
                self.assertEqual(
                    {path for path in missing if not path.startswith(inside)},
                    {path for path, one in what.items() if one is What.GONE} | gone,
                )
                self.assertEqual(
                    {path for path in new if not path.startswith(inside)},
                    {path for path, one in what.items() if one in (What.NEW, What.MOVED)},
                )
                changed = {path for path in before if path in after and before[path] != after[path]}
                self.assertEqual(changed, {path for path, one in what.items() if one is What.CHANGED})
            counts = [
                sum(found.counts()[one].files for one in (What.GONE, What.MOVED))
                for found in (disk, snapshot)
            ]
            self.assertEqual(counts[0], counts[1])

    def next_hour(self) -> int:
        self.hour = getattr(self, "hour", 100) + 1
        return self.hour

    def fresh_work(self) -> DifferencesTest:
        shutil.rmtree(self.work)
        for number in range(40):
            self.write(f"part {number % 4}/deep/{number}.txt", f"{number}" * (number + 1))
        return self

    def __enter__(self) -> DifferencesTest:
        return self

    def __exit__(self, *error: object) -> None:
        """Nothing is to be put away."""

    def whole_state(self) -> dict[str, bytes | None]:
        """Everything below the work folder: bytes of files, None for folders."""
        return {
            str(path.relative_to(self.work)): None if path.is_dir() else path.read_bytes()
            for path in self.work.rglob("*")
        }

    def test_many_files_of_which_few_differ(self) -> None:
        for folder in range(100):
            (self.work / f"many {folder}").mkdir()
            for number in range(60):
                (self.work / f"many {folder}" / f"{number}.txt").write_text(f"{folder} {number}")
        with (
            mock.patch("good_tide.operations.snapshot.file_taking.UNTRUSTED_NS", -1),
            mock.patch("good_tide.operations.snapshot.small_files.UNTRUSTED_NS", -1),
        ):
            many = self.snap(self.store, 1)
            self.write("many 50/7.txt", "changed now")
            later = self.snap(self.store, 2)
        store = self.store
        read = store.page
        pages: list[bytes] = []
        store.page = lambda page: pages.append(page) or read(page)  # type: ignore[method-assign,func-returns-value]
        begun = time.process_time()
        found = between(store, many, later, None, Silent())
        self.assertEqual(told(found, self.work), {"many 50/7.txt": What.CHANGED})
        self.assertLess(len(pages), 12, "folders with the same listing are passed over")
        self.assertLess(time.process_time() - begun, 1.0)
