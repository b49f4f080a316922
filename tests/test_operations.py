"""Snapshots, history, restore and undo on real files."""

from __future__ import annotations

import os
import random
import shutil
import signal
import socket
import subprocess
import sys
from concurrent.futures import Future
from pathlib import Path
from unittest import mock

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from good_tide.core.clock import SetClock
from good_tide.core.entries import Entry, Extent, Kind
from good_tide.core.errors import PersonError, PlaceError, StoppedError
from good_tide.core.identifiers import Nanoseconds, local_name
from good_tide.core.pages import encode_page
from good_tide.core.progress import Progress, Silent, Steering
from good_tide.core.records import SnapshotRecord
from good_tide.core.restoring import Existing
from good_tide.operations.history.browse import contents, entry_at, tidy
from good_tide.operations.history.path_history import path_history
from good_tide.operations.history.preview import compare_with_disk, preview
from good_tide.operations.integrity.verify import verify
from good_tide.operations.restore.plan import Wish, plan_restore
from good_tide.operations.restore.set_aside import RECORD_FILE, undo
from good_tide.operations.snapshot import read_ahead as reading_ahead
from good_tide.operations.snapshot.capture import CaptureRequest, capture
from good_tide.operations.snapshot.read_ahead import Batch, ReadAhead
from good_tide.operations.stores.opening import synced_catalog
from good_tide.source.small_files import Expected, SmallRead
from good_tide.storage.runs import RunLock
from good_tide.storage.writer import WriteSession
from tests.base import HOUR, MACHINE, T0, GoodTideTest, as_ordinary_person, restless, tree


class CaptureTest(GoodTideTest):
    def test_everything_a_folder_can_hold_comes_back(self) -> None:
        self.write(b"bad \xff name\n.txt", "odd")
        self.write("deep/er/est/file", "x" * 70_000)
        self.write("empty file")
        first = self.write("linked", "one content")
        os.link(first, self.work / "deep" / "also linked")
        (self.work / "link").symlink_to("/nowhere/at all")
        (self.work / "empty folder").mkdir(mode=0o751)
        (self.work / "empty folder").chmod(0o751)
        self.write("script", "#!").chmod(0o4755)
        os.utime(first, ns=(1, 1_234_567_890_123_456_789))
        os.setxattr(first, "user.comment", b"\0binary")
        with (self.work / "sparse").open("wb") as file:
            file.seek(3_000_000)
            file.write(b"end")
            file.truncate(9_000_000)
        subprocess.run(["setfacl", "-m", "u:12345:r", str(self.work / "script")], check=True)
        before = tree(self.work)
        store = self.new_store()
        snapshot = self.snap(store)
        self.assertEqual((snapshot.gaps, snapshot.record.left_out), (0, ()))
        self.restore(store, snapshot, self.work, self.folder / "out")
        self.assertEqual(tree(self.folder / "out" / "work"), before)
        self.assertLess((self.folder / "out" / "work" / "sparse").stat().st_blocks * 512, 1_000_000)
        links = [
            (self.folder / "out" / "work" / name).stat().st_ino for name in ("linked", "deep/also linked")
        ]
        self.assertEqual(*links)

    def test_an_unchanged_folder_adds_nothing_and_a_change_adds_itself_only(self) -> None:
        for number in range(30):
            self.write(f"a/{number}", f"number {number}" * 50)
            self.write(f"b/{number}.bin", random.Random(number).randbytes(90_000))
        store = self.new_store()
        first = self.snap(store)
        with (
            mock.patch("good_tide.operations.snapshot.capture.UNTRUSTED_NS", 0),
            mock.patch("good_tide.operations.snapshot.small_files.UNTRUSTED_NS", 0),
        ):
            second = self.snap(store, 1)
        self.assertEqual((second.record.tally.changed_files, second.record.tally.new_bytes), (0, 0))
        third = self.snap(store, 2)
        self.assertEqual(third.record.roots, second.record.roots)
        self.write("a/3", "other words")
        fourth = self.snap(store, 3)
        self.assertEqual((fourth.record.tally.changed_files, fourth.record.tally.new_bytes), (1, 11))
        self.assertEqual(first.record.tally.files, 60)

    def test_copies_and_moved_files_are_stored_once(self) -> None:
        small, large = (
            self.write("small.txt", random.Random(1).randbytes(20_000)),
            self.write("large.bin", random.Random(2).randbytes(2_000_000)),
        )
        store = self.new_store()
        self.snap(store)
        catalog, _ = synced_catalog(store, self.cache)
        shutil.copy(small, self.work / "copy.txt")
        shutil.copy(large, self.work / "copy.bin")
        (self.work / "moved").mkdir()
        small.rename(self.work / "moved" / "small.txt")
        request = CaptureRequest((self.work,), MACHINE)
        taken = capture(
            store, request, SetClock(Nanoseconds(T0 + HOUR)), Silent(), self.state, catalog.stored_small
        )
        self.assertEqual(taken.record.tally.new_bytes, 0)
        catalog.close()

    def test_what_cannot_be_read_is_named_and_not_taken_over_from_before(self) -> None:
        self.write("good.txt", "fine")
        locked = self.write("locked.txt", "mine")
        store = self.new_store()
        self.snap(store)
        locked.chmod(0)
        (self.work / "pipe").touch()
        (self.work / "pipe").unlink()
        os.mkfifo(self.work / "pipe")
        with socket.socket(socket.AF_UNIX) as made:
            made.bind(str(self.work / "socket"))
        code = (
            "import sys; from tests.base import *\ns = open_store(Path(sys.argv[1]), PASSPHRASE); capture(s,"
            " CaptureRequest((Path(sys.argv[2]),), MACHINE), SetClock(Nanoseconds(T0 + HOUR)), Silent(),"
            " Path(sys.argv[3]))"
        )
        with as_ordinary_person() as prefix:
            subprocess.run(
                [*prefix, sys.executable, "-c", code, store.place.title, str(self.work), str(self.state)],
                check=True,
                cwd=Path(__file__).parent.parent,
            )
        taken = store.snapshots()[0][-1]
        reasons = {os.path.basename(item.path): item.reason for item in taken.record.left_out}
        self.assertEqual(reasons, {b"locked.txt": "unreadable", b"pipe": "special", b"socket": "special"})
        self.assertEqual(taken.gaps, 1)
        entry = entry_at(store, taken, os.fsencode(locked))
        self.assertEqual((entry.kind, entry.extents), (Kind.LEFT_OUT, ()))
        catalog, _ = synced_catalog(store, self.cache)
        found = path_history(catalog, os.fsencode(locked), MACHINE.id)
        assert found is not None
        self.assertEqual([one.snapshots for one in found.versions], [1])
        catalog.close()

    def test_a_file_that_will_not_hold_still_is_kept_with_a_mark(self) -> None:
        log = self.write("restless.log", "begin")
        self.write("calm.txt", "calm")
        store = self.new_store()
        with restless(log):
            taken = self.snap(store)
        self.assertEqual((taken.record.unsteady, taken.gaps), ((os.fsencode(log),), 1))
        again = self.snap(store, 1)
        self.assertEqual(again.gaps, 0)
        self.restore(store, again, log, self.folder / "out")
        self.assertEqual((self.folder / "out" / "restless.log").read_bytes(), log.read_bytes())

    def test_links_are_not_followed_and_the_store_leaves_itself_out(self) -> None:
        (self.folder / "outside").mkdir()
        (self.folder / "outside" / "private.txt").write_text("not covered")
        (self.work / "way out").symlink_to(self.folder / "outside")
        store = self.new_store("work/backup")
        taken = self.snap(store)
        self.assertEqual(
            [(item.reason, os.path.basename(item.path)) for item in taken.record.left_out],
            [("store", b"backup")],
        )
        self.assertEqual((taken.gaps, taken.record.tally.files), (0, 0))

    def test_bad_requests_say_what_is_wrong(self) -> None:
        store = self.new_store()
        clock = SetClock(Nanoseconds(T0))
        with self.assertRaises(PersonError):
            capture(store, CaptureRequest((self.folder / "missing",), MACHINE), clock, Silent(), self.state)
        self.snap(store, 2)
        with self.assertRaises(PersonError):
            capture(
                store, CaptureRequest((self.work,), MACHINE, at=Nanoseconds(T0)), clock, Silent(), self.state
            )
        self.assertGreater(self.snap(store, 0).record.time, T0 + 2 * HOUR)
        with (
            RunLock(self.state, store.header.store, MACHINE.id),
            self.assertRaisesRegex(PlaceError, "Another snapshot"),
        ):
            self.snap(store, 3)

    def test_a_stopped_run_shows_nothing_and_the_next_goes_on_from_it(self) -> None:
        for number in range(6):
            self.write(f"{number}.bin", random.Random(number).randbytes(1_500_000))
        store = self.new_store()

        def stop_at_the_third(progress: Progress) -> None:
            if progress.files_done >= 3:
                steering.stop()

        steering = Steering(stop_at_the_third)
        with (
            mock.patch("good_tide.operations.snapshot.capture._REPORT_SECONDS", 0),
            self.assertRaises(StoppedError),
        ):
            self.snap(store, 0, MACHINE, steering)
        self.assertEqual(store.snapshots()[0], [])
        taken = self.snap(store, 1)
        self.assertLess(taken.record.tally.new_bytes, 7_000_000)
        self.assertTrue(verify(store, True, Silent()).ok)


class ReadAheadTest(GoodTideTest):
    """Small files read by the helper process come out as those read here, whatever happens to it."""

    def setUp(self) -> None:
        super().setUp()
        for number in range(60):
            self.write(f"part {number % 6}/note {number}.txt", f"{number}" * (number + 1))
        os.setxattr(self.work / "part 1" / "note 1.txt", "user.cue", b"LX 14")
        self.write("empty")

    def test_the_helper_reads_the_same(self) -> None:
        store = self.new_store()
        with (
            mock.patch.object(reading_ahead, "_WORTH_A_HELPER", 5),
            mock.patch.object(reading_ahead, "_Helper", side_effect=reading_ahead._Helper) as helper,
        ):
            taken = self.snap(store)
        self.assertEqual(helper.call_count, 1)
        self.assertEqual(
            (taken.record.tally.files, taken.record.tally.changed_files, taken.gaps), (61, 61, 0)
        )
        self.restore(store, taken, self.work, self.folder / "back")
        self.assertEqual(tree(self.folder / "back" / "work"), tree(self.work))

    def test_a_helper_that_dies_loses_nothing(self) -> None:
        real = reading_ahead._Helper.ask

        def ask_and_kill(
            helper: reading_ahead._Helper, folder: int, files: list[Expected]
        ) -> Future[SmallRead | None]:
            helper._process.kill()
            return real(helper, folder, files)

        with (
            mock.patch.object(reading_ahead, "_WORTH_A_HELPER", 5),
            mock.patch.object(reading_ahead._Helper, "ask", ask_and_kill),
        ):
            taken = self.snap(self.new_store())
        self.assertEqual((taken.record.tally.files, taken.gaps), (61, 0))

    def test_the_helper_ends_with_its_socket_and_leaves_ctrl_c_to_the_main_process(self) -> None:
        helper = reading_ahead._Helper(bytes(32))
        folder = os.open(self.work / "part 1", os.O_RDONLY | os.O_DIRECTORY)
        self.addCleanup(os.close, folder)
        info = (self.work / "part 1" / "note 1.txt").stat()
        expected = [
            (b"note 1.txt", info.st_size, info.st_mtime_ns, info.st_ctime_ns, info.st_ino),
            (b"gone", 1, 2, 3, 4),
        ]
        first = helper.ask(folder, expected).result(30)
        assert first is not None
        helper._process.send_signal(signal.SIGINT)
        second = helper.ask(folder, expected).result(30)
        self.assertEqual(first, second)
        self.assertEqual((first.contents, first.attributes), ([b"11", None], {0: ((b"user.cue", b"LX 14"),)}))
        helper.close()
        self.assertEqual(helper._process.returncode, 0)

    def test_files_that_change_before_the_helper_comes_are_read_with_care(self) -> None:
        real = ReadAhead.read

        def change_first(ahead: ReadAhead, folder: int, files: list[Expected]) -> Batch:
            for name, *_ in files:
                if name == b"note 2.txt":
                    (self.work / "part 2" / "note 2.txt").write_text("longer than it was before")
                elif name == b"note 3.txt":
                    (self.work / "part 3" / "note 3.txt").unlink()
            return real(ahead, folder, files)

        with mock.patch.object(ReadAhead, "read", change_first):
            store = self.new_store()
            taken = self.snap(store)
        self.assertEqual(
            [(item.path[-10:], item.reason) for item in taken.record.left_out], [(b"note 3.txt", "vanished")]
        )
        found = {where[-10:]: entry for where, entry in contents(store, taken, None, True)}
        self.assertEqual(found[b"note 2.txt"].stat.size, len("longer than it was before"))


class HistoryTest(GoodTideTest):
    def test_versions_tell_when_a_file_stood_and_went(self) -> None:
        store = self.new_store()
        states = {0: "a", 1: "a", 2: "b", 3: None, 4: "a"}
        for hour, content in states.items():
            path = self.work / "plan.txt"
            path.write_text(content) if content else path.unlink()
            self.snap(store, hour)
        catalog, _ = synced_catalog(store, self.cache)
        found = path_history(catalog, os.fsencode(self.work / "plan.txt"), MACHINE.id)
        assert found is not None
        self.assertEqual(
            [(one.snapshots, (one.first_seen - T0) // HOUR) for one in found.versions],
            [(2, 0), (1, 2), (1, 4)],
        )
        self.assertIsNone(found.gone_since)
        (self.work / "plan.txt").rename(self.work / "new plan.txt")
        self.snap(store, 5)
        catalog.sync(store)
        gone = path_history(catalog, os.fsencode(self.work / "plan.txt"), MACHINE.id)
        assert gone is not None and gone.gone_since is not None
        self.assertEqual((gone.gone_since - T0) // HOUR, 5)
        spans = catalog.lifelines(catalog.folder(MACHINE.id, os.fsencode(self.work)) or 0)
        renamed = catalog.same_content(MACHINE.id, spans[0].spans[0].identity, [6])
        self.assertIn(os.fsencode(self.work / "new plan.txt"), renamed)
        self.assertEqual(catalog.find(MACHINE.id, "NEW PL"), [os.fsencode(self.work / "new plan.txt")])
        catalog.close()

    @settings(max_examples=12, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
    @given(
        st.lists(
            st.dictionaries(
                st.sampled_from(["a", "b", "d/a", "d/b", "d/e/c"]), st.sampled_from(["1", "2"]), max_size=5
            ),
            min_size=1,
            max_size=6,
        )
    )
    def test_lifelines_equal_an_obvious_model_and_the_catalog_is_only_a_cache(
        self, states: list[dict[str, str]]
    ) -> None:
        case = self.folder / f"case{len(list(self.folder.iterdir()))}"
        work = case / "work"
        store = self.new_store(f"{case.name}/store", None)
        for hour, state in enumerate(states):
            shutil.rmtree(work, ignore_errors=True)
            work.mkdir()
            for name, content in state.items():
                (work / name).parent.mkdir(parents=True, exist_ok=True)
                (work / name).write_text(content)
            self.snap(store, hour, MACHINE, None, work)
        for _ in range(2):
            catalog, damage = synced_catalog(store, case)
            self.assertEqual(damage, [])
            for name in ("a", "b", "d/a", "d/b", "d/e/c"):
                expected = [state.get(name) for state in states]
                found = path_history(catalog, os.fsencode(work / name), MACHINE.id)
                runs = [
                    content
                    for number, content in enumerate(expected)
                    if content is not None and (number == 0 or expected[number - 1] != content)
                ]
                self.assertEqual(len(found.versions) if found else 0, len(runs))
                self.assertEqual(
                    sum(one.snapshots for one in found.versions) if found else 0,
                    sum(content is not None for content in expected),
                )
            catalog.close()
            shutil.rmtree(case / local_name(store.header.store))


class RestoreTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store()
        self.write("plan.txt", "first plan")
        self.write("same.txt", "same")
        self.write("gone/inner.txt", "inner")
        self.past = self.snap(self.store)
        self.write("plan.txt", "second plan, worse")
        shutil.rmtree(self.work / "gone")

    def test_in_place_sets_aside_and_undo_brings_back(self) -> None:
        before = tree(self.work)
        report = self.restore(self.store, self.past, self.work, None)
        self.assertEqual((report.created, report.replaced, report.identical, report.problems), (2, 1, 2, []))
        self.assertEqual((self.work / "plan.txt").read_text(), "first plan")
        aside = report.set_aside[0]
        self.assertEqual((aside / "plan.txt").read_text(), "second plan, worse")
        undone = undo(aside)
        self.assertEqual((undone.put_back, undone.kept), (1, []))
        self.assertEqual(
            {name: what[-3:] for name, what in tree(self.work).items() if what[0] == "file"},
            {name: what[-3:] for name, what in before.items() if what[0] == "file"},
        )
        self.assertFalse(aside.exists())

    def test_undo_leaves_what_was_changed_since(self) -> None:
        report = self.restore(self.store, self.past, self.work, None)
        (self.work / "plan.txt").write_text("third plan, after the restore")
        undone = undo(report.set_aside[0])
        self.assertEqual(undone.kept, [b"plan.txt"])
        self.assertEqual((self.work / "plan.txt").read_text(), "third plan, after the restore")
        self.assertEqual((report.set_aside[0] / "plan.txt").read_text(), "second plan, worse")
        with self.assertRaises(PersonError):
            undo(self.work)

    def test_undo_after_a_crash_between_setting_aside_and_replacing(self) -> None:
        real = os.rename

        def rename(source: object, target: object, **where: int) -> None:
            if isinstance(source, bytes) and source.startswith(b".good-tide-"):
                raise KeyboardInterrupt
            real(source, target, **where)  # type: ignore[arg-type]

        with mock.patch("os.rename", rename), self.assertRaises(KeyboardInterrupt):
            self.restore(self.store, self.past, self.work / "plan.txt", None)
        aside = next(self.work.glob("Set aside*"))
        undo(aside)
        self.assertEqual((self.work / "plan.txt").read_text(), "second plan, worse")

    def test_skip_and_keep_both(self) -> None:
        skipped = self.restore(self.store, self.past, self.work / "plan.txt", None, Existing.SKIP)
        self.assertEqual((skipped.skipped, (self.work / "plan.txt").read_text()), (1, "second plan, worse"))
        self.restore(self.store, self.past, self.work / "plan.txt", None, Existing.KEEP_BOTH)
        self.assertEqual((self.work / "plan (restored).txt").read_text(), "first plan")
        self.assertEqual((self.work / "plan.txt").read_text(), "second plan, worse")

    def test_a_clash_of_names_gets_the_parents_name_and_is_told(self) -> None:
        self.write("a/list.txt", "a")
        self.write("b/list.txt", "b")
        taken = self.snap(self.store, 1)
        wishes = [Wish(taken, os.fsencode(self.work / one / "list.txt")) for one in ("a", "b")]
        plan = plan_restore(self.store, wishes, self.folder / "out", Existing.SET_ASIDE, Silent())
        self.assertEqual(
            [step.shown for step in plan.steps],
            [os.fsencode(self.folder / "out" / name) for name in ("list.txt", "b - list.txt")],
        )
        self.assertEqual(len(plan.notes), 1)

    def test_no_link_in_the_target_leads_elsewhere(self) -> None:
        outside = self.folder / "outside"
        outside.mkdir()
        (outside / "inner.txt").write_text("precious")
        (self.work / "gone").symlink_to(outside)
        blocked = self.restore(self.store, self.past, self.work / "gone" / "inner.txt", None)
        self.assertEqual(len(blocked.problems), 1)
        self.restore(self.store, self.past, self.work, None)
        self.assertEqual((outside / "inner.txt").read_text(), "precious")
        self.assertEqual((self.work / "gone" / "inner.txt").read_text(), "inner")
        self.assertFalse((self.work / "gone").is_symlink())

    def test_no_hostile_name_in_a_store_leads_elsewhere(self) -> None:
        for name in (b"..", b"../evil", b"/evil", b"."):
            with WriteSession(self.store, "hostile-") as session:
                page = session.put_page(encode_page([Entry(name, Kind.LINK)]))
                root = Entry(os.fsencode(self.work), Kind.FOLDER, extents=(Extent(page, 0, 0),))
                record = SnapshotRecord(T0 + HOUR, MACHINE, encode_page([root]))
                hostile = session.publish(lambda new, stored, record=record: record)  # type: ignore[misc]
            out = self.folder / "out"
            with self.subTest(name), self.assertRaisesRegex(Exception, "cannot be"):
                self.restore(self.store, hostile, self.work, out)
            self.assertFalse((self.folder / "evil").exists())

    def test_preview_and_comparison(self) -> None:
        self.write(
            "gäste.txt", "Gästeliste der Premiere, Grüße aus der Küche, für alle Gäste\n".encode("latin-1")
        )
        self.write("picture.png", b"\x89PNG\r\n\x1a\n" + bytes(40))
        self.write("noise.bin", random.Random(1).randbytes(9000))
        taken = self.snap(self.store, 1)

        def shown(name: str) -> tuple[str, str]:
            found = preview(self.store, entry_at(self.store, taken, os.fsencode(self.work / name)))
            return found.form, found.text

        self.assertEqual(shown("plan.txt"), ("text", "second plan, worse"))
        self.assertIn("Küche", shown("gäste.txt")[1])
        self.assertEqual((shown("picture.png")[0], shown("noise.bin")[0]), ("picture", "summary"))
        path = os.fsencode(self.work / "plan.txt")
        compared = compare_with_disk(self.store, entry_at(self.store, self.past, path), path)
        difference, words = compared.difference, compared.words
        assert difference is not None
        self.assertEqual((difference.changed, words), (1, "Differs from what is on the disk now"))

    def test_paths_never_seen_offer_near_names(self) -> None:
        with self.assertRaisesRegex(PersonError, "plan.txt"):
            entry_at(self.store, self.past, tidy(str(self.work / "plam.txt")))

    def test_record_file_is_named_in_the_set_aside_folder(self) -> None:
        report = self.restore(self.store, self.past, self.work, None)
        self.assertTrue((report.set_aside[0] / RECORD_FILE).exists())
