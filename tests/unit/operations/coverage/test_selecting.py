"""Coverage at work: snapshots under rules, surveys, and why a thing is in or out."""

from __future__ import annotations

import os
from pathlib import Path
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from good_tide.core.clock import SetClock
from good_tide.core.coverage import Coverage
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Silent
from good_tide.core.records import Snapshot
from good_tide.core.rules import parse_rule
from good_tide.operations.coverage.survey import Survey, Weighing, idle_rules, why
from good_tide.operations.history.browse import contents
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.storage.store import Store
from tests.support.base import HOUR, MACHINE, T0, GoodTideTest, as_ordinary_person, program

TAG = "Signature: 8a477f597d28d172789f06886806bc55\n"


class SelectingTest(GoodTideTest):
    def taken(self, store: Store, hour: int, *rules: str) -> Snapshot:
        request = CaptureRequest(
            (self.work,), MACHINE, rules=tuple(map(parse_rule, rules)), home=str(self.folder)
        )
        return capture(store, request, SetClock(Nanoseconds(T0 + hour * HOUR)), Silent(), self.state)

    def held(self, store: Store, snapshot: Snapshot) -> set[str]:
        prefix = os.fsencode(self.work) + b"/"
        return {
            os.fsdecode(where[len(prefix) :])
            for where, _ in contents(store, snapshot, None, True)
            if where.startswith(prefix)
        }

    def weighed(self, *rules: str) -> Weighing:
        survey = Survey([self.work])
        survey.look(float("inf"))
        weighing = Weighing(survey, Coverage(tuple(map(parse_rule, rules)), str(self.folder), T0), T0)
        weighing.weigh(float("inf"))
        return weighing

    def test_rules_decide_what_a_snapshot_holds(self) -> None:
        for name in (
            "a.txt",
            "Drafts/one.txt",
            "Drafts/keep/two.txt",
            "Drafts/keep/x.tmp",
            "Only/x.tmp",
            "cache/CACHEDIR.TAG",
            "cache/y",
            "Empty/z~",
        ):
            self.write(name, TAG if name.endswith("TAG") else name)
        (self.work / "hollow").mkdir()
        store = self.new_store()
        rules = (
            "exclude kind temporary",
            "include path /Drafts/keep/",
            "exclude path Drafts/",
            "exclude marker cachedir",
        )
        taken = self.taken(store, 0, *rules)
        kept = {"a.txt", "Drafts", "Drafts/keep", "Drafts/keep/two.txt", "Only", "Empty", "hollow"}
        self.assertEqual(self.held(store, taken), kept)
        self.assertEqual(taken.record.rules, rules)
        self.assertEqual(taken.record.tally.files, 2)

    def test_an_excluded_folder_that_holds_nothing_included_is_left_away(self) -> None:
        self.write("Drafts/one.txt", "one")
        self.write("a.txt", "a")
        store = self.new_store()
        self.assertEqual(
            self.held(store, self.taken(store, 0, "include path *.keep", "exclude path Drafts/")), {"a.txt"}
        )
        self.write("Drafts/two.keep", "two")
        self.assertEqual(
            self.held(store, self.taken(store, 1, "include path *.keep", "exclude path Drafts/")),
            {"a.txt", "Drafts", "Drafts/two.keep"},
        )

    def test_a_second_run_under_the_same_rules_adds_nothing_and_a_new_rule_takes_hold(self) -> None:
        for number in range(30):
            self.write(f"folder {number % 3}/file {number}.txt", str(number))
            self.write(f"folder {number % 3}/file {number}.tmp", str(number))
        store = self.new_store()
        with (
            mock.patch("good_tide.operations.snapshot.file_taking.UNTRUSTED_NS", 0),
            mock.patch("good_tide.operations.snapshot.small_files.UNTRUSTED_NS", 0),
        ):
            self.taken(store, 0, "exclude kind temporary")
            again = self.taken(store, 1, "exclude kind temporary")
            self.assertEqual(
                (again.record.tally.changed_files, again.record.tally.new_bytes, again.record.tally.files),
                (0, 0, 30),
            )
            self.assertEqual(len(self.held(store, self.taken(store, 2, "exclude path file*"))), 3)
            self.assertEqual(len(self.held(store, self.taken(store, 3))), 63)

    def test_what_is_out_leaves_no_gap_when_it_cannot_be_read(self) -> None:
        self.write("a.txt", "a")
        secret = self.write("hidden/secret.tmp", "s")
        secret.chmod(0)
        (self.work / "shut").mkdir()
        (self.work / "shut").chmod(0)
        passphrase, rules = self.folder / "p", self.folder / "rules"
        passphrase.write_text("tide and time")
        rules.write_text("exclude path shut/\nexclude kind temporary\n")
        with as_ordinary_person() as prefix:
            made = program(
                "job",
                "add",
                "Office",
                "--folder",
                self.work,
                "--store",
                self.folder / "s",
                "--rules",
                rules,
                passphrase=passphrase,
                prefix=prefix,
            )
            self.assertEqual(made.returncode, 0, made.stderr)
            done = program("snapshot", "Office", passphrase=passphrase, prefix=prefix)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)

    @settings(max_examples=40)
    @given(
        st.lists(
            st.sampled_from(
                [
                    "exclude path a/",
                    "include path /a/b/",
                    "exclude path *.txt",
                    "include kind documents",
                    "exclude larger 5 B",
                    "exclude path /b/*",
                    "include path ~/work/b/a/",
                    "exclude path b",
                    "exclude kind video",
                    "include path **/b/*.txt",
                ]
            ),
            max_size=4,
            unique=True,
        )
    )
    def test_a_snapshot_holds_what_the_survey_says_is_in(self, rules: list[str]) -> None:
        if not any(self.work.iterdir()):
            for folder in ("", "a/", "a/b/", "b/", "b/a/", "b/b/"):
                for name in ("x.txt", "long name.txt", "y", "film.mp4"):
                    self.write(folder + name, name)
            self.store = self.new_store("walked")
            self.hour = 0
        self.hour += 1
        held = self.held(self.store, self.taken(self.store, self.hour, *rules))
        weighing = self.weighed(*rules)
        files = {name for name in held if not (self.work / name).is_dir()}
        self.assertEqual(
            (len(files), sum((self.work / name).stat().st_size for name in files)),
            (weighing.total.files, weighing.total.bytes),
        )
        for path in self.work.rglob("*"):
            if path.is_file():
                answer = why([self.work], weighing.coverage, path)
                self.assertEqual(answer.is_in, str(path.relative_to(self.work)) in files, answer.words)


class SurveyTest(SelectingTest):
    def test_rules_tell_what_they_catch_and_which_hides_which(self) -> None:
        for number in range(8):
            self.write(f"Films/film {number}.mp4", "x" * (number + 1) * 100)
        self.write("notes.txt", "n")
        weighing = self.weighed("exclude path Films/", "exclude kind video", "exclude kind archives")
        first = weighing.catches[0]
        self.assertEqual((first.files, first.bytes, len(first.largest)), (8, 3600, 5))
        self.assertEqual(max(first.largest), (800, str(self.work / "Films" / "film 7.mp4")))
        notes = idle_rules(weighing, str(self.folder), T0)
        self.assertEqual([(note.rule, note.hidden_by) for note in notes], [(1, 0), (2, None)])
        self.assertEqual(weighing.largest_in(3), [(1, str(self.work / "notes.txt"))])

    def test_names_that_are_no_text_and_empty_folders_are_kept_as_they_are(self) -> None:
        names = [b"b\xfcro.txt", "büro.txt".encode(), b" ", b"new\nline", b"tab\t"]
        for name in names:
            (self.work / os.fsdecode(name)).write_bytes(b"x")
        (self.work / "empty").mkdir()
        survey = Survey([self.work])
        survey.look(60)
        seen = {survey.path(number): folder.names for number, folder in enumerate(survey.folders)}
        self.assertLessEqual({os.fsdecode(name) for name in names}, set(seen[str(self.work)]))
        self.assertEqual(seen[str(self.work / "empty")], [])

    def test_a_survey_goes_on_in_steps_and_sums_come_out_the_same(self) -> None:
        for number in range(200):
            self.write(f"part {number % 7}/deep {number % 3}/file {number}", "x" * number)
        survey = Survey([self.work])
        weighing = Weighing(survey, Coverage([parse_rule("exclude path file*0")]), T0)
        steps = 0
        while not weighing.done:
            survey.look(0)
            survey.look(0.0005)
            weighing.weigh(0.0005)
            steps += 1
        self.assertGreater(steps, 1)
        whole = self.weighed("exclude path file*0")
        self.assertEqual(weighing.total, whole.total)
        top = weighing.sums()[0]
        self.assertEqual((top.files + top.out_files, top.out_files), (200, 20))

    def test_why_names_the_deciding_rule_and_the_place_it_catches(self) -> None:
        self.write("Drafts/deep/x.txt", "x")
        coverage = Coverage(
            [parse_rule("exclude larger 1 GiB"), parse_rule("exclude path Drafts/")], str(self.folder), T0
        )
        answer = why([self.work], coverage, self.work / "Drafts" / "deep" / "x.txt")
        self.assertEqual((answer.is_in, answer.rule, answer.at), (False, 1, str(self.work / "Drafts")))
        self.assertIn("rule 2, “exclude path Drafts/”", answer.words)
        self.assertIn("in none of the covered folders", why([self.work], coverage, Path("/elsewhere")).words)
        self.assertIn("not there now", why([self.work], coverage, self.work / "never.txt").words)

    def test_names_that_are_no_text_and_links_do_not_disturb(self) -> None:
        with open(os.path.join(os.fsencode(self.work), b"b\xffd.txt"), "wb") as file:
            file.write(b"12345")
        (self.work / "loop").symlink_to(self.work)
        os.mkfifo(self.work / "pipe")
        self.assertEqual(
            (self.weighed("exclude path b?d.txt").total.out_files, self.weighed().total.files), (1, 1)
        )

    def test_a_folder_that_is_not_there_is_named(self) -> None:
        survey = Survey([self.work, self.folder / "gone"])
        survey.look(float("inf"))
        self.assertEqual(survey.missing, [str(self.folder / "gone")])

    def test_a_folder_inside_another_is_counted_once(self) -> None:
        self.write("sub/x.txt", "x")
        survey = Survey([self.work / "sub", self.work])
        survey.look(float("inf"))
        self.assertEqual(sum(len(folder.names) for folder in survey.folders), 1)
