"""Watching folders: many of them, bursts of changes, the system's limits, and what does not count."""

from __future__ import annotations

import errno
import os
import shutil
import subprocess
import sys
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

from good_tide.agent.folder_watching import FolderWatching
from good_tide.core.clock import SECOND, SystemClock
from good_tide.core.coverage import Coverage
from good_tide.core.happenings import Filter
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.planning import Facts, JobRecord, Occasion, decide
from good_tide.core.rhythm import Rhythm
from good_tide.core.rules import parse_rule
from good_tide.core.settings import Job
from good_tide.operations.coverage.change_judge import ChangeJudge
from good_tide.operations.records.journal import Journal
from good_tide.system.watching import FolderWatch, limit_words
from tests.support.base import OFFICE, REPOSITORY, T0, GoodTideTest

_FOLDERS, _CHANGES = 20_000, 50_000


class WatchingTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.journal = Journal(self.state, SystemClock())
        self.addCleanup(self.journal.close)
        self.heard: list[int] = []

    def watcher(self) -> FolderWatching:
        job = Job(
            id=OFFICE,
            name="Office",
            folders=(str(self.work),),
            stores=(),
            rhythm=Rhythm(on_change=True),
        )
        made = FolderWatching(SystemClock(), self.journal, (str(self.state),), lambda: self.heard.append(1))
        made.look([job])
        self.addCleanup(made.end)
        made.wait_ready(120)
        return made

    def until_quiet(self, made: FolderWatching) -> None:
        """Until nothing more is heard for a while."""
        known, count = made._jobs[OFFICE], -1
        while count != known.count:
            count = known.count
            time.sleep(0.7)

    def test_twenty_thousand_folders_and_a_burst_of_fifty_thousand_changes(self) -> None:
        limit = int(Path("/proc/sys/fs/inotify/max_user_watches").read_text())
        if limit < 2 * _FOLDERS:
            self.skipTest(f"this system allows {limit} watches only")
        for number in range(_FOLDERS):
            (self.work / f"{number // 200:03}" / f"{number:05}").mkdir(parents=True)
        began = time.process_time()
        made = self.watcher()
        self.assertEqual(made.words(OFFICE), "The folders are watched for changes.")
        self.assertLess(time.process_time() - began, 60)
        self.assertEqual(made.newest(OFFICE), 0)
        (self.work / "099" / "19999" / "last").write_text("x")
        self.until_quiet(made)
        self.assertGreater(made.newest(OFFICE), 0)
        self.heard.clear()
        before = time.time_ns()
        for number in range(_CHANGES):
            os.close(os.open(self.work / f"{number % 100:03}" / f"file {number}", os.O_CREAT | os.O_WRONLY))
        self.until_quiet(made)
        newest = made.newest(OFFICE)
        self.assertGreater(newest, before)
        self.assertLess(len(self.heard), 120)
        made.taken_in(OFFICE, newest)
        self.assertEqual(made.newest(OFFICE), 0)
        made.wait_ready(120)
        fresh = self.work / "099" / "made later"
        fresh.mkdir()
        self.until_quiet(made)
        made.taken_in(OFFICE, time.time_ns())
        (fresh / "file").write_text("x")
        self.until_quiet(made)
        self.assertGreater(made.newest(OFFICE), 0)

    @unittest.skipUnless(shutil.which("unshare"), "unshare is not installed")
    def test_the_systems_limit_is_reached_for_real(self) -> None:
        for number in range(200):
            (self.work / f"{number:03}").mkdir()
        code = (
            "import sys; from good_tide.system.watching import FolderWatch\nwatch ="
            " FolderWatch((sys.argv[1],), lambda path: None, print); watch.start(); assert"
            " watch.ready.wait(300); watch.end()"
        )
        shell = f'echo 50 > /proc/sys/user/max_inotify_watches && exec "{sys.executable}" -c "$0" "$1"'
        done = subprocess.run(
            ["unshare", "-Ur", "sh", "-c", shell, code, str(self.work)],
            capture_output=True,
            text=True,
            timeout=600,
            check=False,
            cwd=REPOSITORY,
        )
        if "unshare" in done.stderr or "Permission denied" in done.stderr:
            self.skipTest("this system makes no name spaces for its users")
        self.assertIn("The system's limit of watched folders is reached", done.stdout, done.stderr)

    def test_a_limit_that_is_reached_is_said_and_the_clock_takes_over(self) -> None:
        with mock.patch(
            "watchdog.observers.inotify.InotifyObserver.schedule",
            side_effect=OSError(errno.ENOSPC, "No space left on device"),
        ):
            made = self.watcher()
        self.assertTrue(made.falls_back(OFFICE))
        self.assertIn("by the clock", made.words(OFFICE))
        self.assertEqual(len(self.journal.events(Filter(text="limit of watched folders"))), 1)
        rhythm = Rhythm(rules=(), on_change=True, at_most_minutes=30)
        facts = Facts(True, unwatched=True)
        self.assertIsNone(decide(rhythm, JobRecord(served=T0), facts, T0 + 29 * 60 * SECOND, 0, "UTC").run)
        self.assertIs(
            decide(rhythm, JobRecord(served=T0), facts, T0 + 30 * 60 * SECOND, 0, "UTC").run, Occasion.CHANGE
        )
        self.assertIn("cannot be watched", limit_words(OSError(errno.EACCES, "Permission denied")))

    def test_a_run_is_told_in_which_folders_something_happened(self) -> None:
        self.write("season/show/cue.txt", "one")
        self.write("season/other/cue.txt", "two")
        before = Nanoseconds(SystemClock().now())
        made = self.watcher()
        self.assertIsNone(made.touched(OFFICE, before), "before it was watched anything may have happened")
        since = Nanoseconds(SystemClock().now())
        self.write("season/show/cue.txt", "three")
        self.until_quiet(made)
        own = os.fsencode(self.work) + b"/season/show/"
        with mock.patch("good_tide.operations.snapshot.touched._SLACK", 0):
            self.assertEqual(made.touched(OFFICE, since), {own})
        self.assertEqual(made.touched(OFFICE, Nanoseconds(SystemClock().now() + 60 * SECOND)), frozenset())
        known = made._jobs[OFFICE]
        known.count = 10_000
        self.assertIsNone(made.touched(OFFICE, since), "the system may have dropped some")
        made.taken_in(OFFICE, SystemClock().now())
        made.wait_ready(60)
        self.assertIsNone(made.touched(OFFICE, since))
        self.assertEqual(made.touched(OFFICE, Nanoseconds(SystemClock().now())), frozenset())

    def test_what_no_snapshot_takes_in_does_not_count(self) -> None:
        rules = [parse_rule("exclude path Drafts/"), parse_rule("exclude kind temporary")]
        rhythm = Rhythm(on_change=True, large_bytes=1000, timed_only=(str(self.work / "films"),))
        judge = ChangeJudge([str(self.work)], Coverage(rules), rhythm, [str(self.work / "store")])
        for name, size, counts in (
            ("plan.txt", 10, True),
            ("Drafts/one.txt", 10, False),
            ("deep/Drafts/one.txt", 10, False),
            ("x.tmp", 10, False),
            ("large.bin", 2000, False),
            ("films/short.txt", 10, False),
            ("store/packs/ab", 10, False),
            ("sub/deep/plan.txt", 10, True),
        ):
            with self.subTest(name):
                self.assertIs(judge.counts(str(self.write(name, "x" * size))), counts)
        self.assertTrue(judge.counts(str(self.work / "gone.txt")))
        self.assertFalse(judge.counts(str(self.work / "Drafts" / "gone.txt")))
        self.assertFalse(judge.counts("/elsewhere/x"))

    def test_folders_that_come_later_and_names_that_are_no_text_are_heard(self) -> None:
        seen, names = threading.Event(), []

        def changed(path: str) -> None:
            names.append(os.fsencode(path))
            if names[-1].endswith(b"\xff"):
                seen.set()

        watch = FolderWatch((str(self.work), str(self.folder / "never")), changed, self.fail)
        watch.start()
        self.assertTrue(watch.ready.wait(20))
        (self.work / "new" / "deep").mkdir(parents=True)
        time.sleep(0.5)
        (self.work / "new" / "deep" / os.fsdecode(b"bytes\xff")).write_text("x")
        self.assertTrue(seen.wait(120), names)
        watch.end()
