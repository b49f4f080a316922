"""Where a path lies that is named from outside."""

from __future__ import annotations

import msgspec

from good_tide.core.covered_paths import PathIs
from good_tide.core.identifiers import JobId
from good_tide.core.settings import Job
from good_tide.operations.coverage.placing import placed, with_path
from tests.support.base import T0, GoodTideTest


class PlacingTest(GoodTideTest):
    def job(self, *rules: str, name: str = "work") -> Job:
        folder = self.folder / name
        folder.mkdir(exist_ok=True)
        return Job(
            id=JobId(name), name=name, folders=(str(folder),), stores=(), home=str(self.folder), rules=rules
        )

    def how(self, path: str, *jobs: Job) -> tuple[PathIs, str]:
        found = placed(jobs, str(self.folder / path), T0)
        return found.how, found.job.name if found.job is not None else ""

    def test_in_ruled_out_above_and_outside(self) -> None:
        work, sound = self.job("exclude path Drafts/"), self.job(name="sound")
        self.write("Drafts/a.txt", "draft")
        self.assertEqual(self.how("work/letter.txt", work, sound), (PathIs.IN, "work"))
        self.assertEqual(self.how("sound", work, sound), (PathIs.IN, "sound"))
        self.assertEqual(self.how("work/Drafts/a.txt", work, sound), (PathIs.RULED_OUT, "work"))
        self.assertEqual(self.how("workshop/a.txt", work, sound), (PathIs.OUTSIDE, ""))
        self.assertEqual(self.how("", work, sound)[0], PathIs.ABOVE)
        self.assertEqual(self.how("work/letter.txt"), (PathIs.NO_JOB, ""))

    def test_the_job_that_takes_it_in_goes_before_one_that_leaves_it_out(self) -> None:
        first, second = self.job("exclude path Drafts/"), self.job()
        second = msgspec.structs.replace(second, name="all of it")
        self.assertEqual(self.how("work/Drafts/a.txt", first, second), (PathIs.IN, "all of it"))

    def test_links_are_followed_only_where_the_path_as_it_is_written_is_not_covered(self) -> None:
        work = self.job()
        (self.folder / "way").symlink_to(self.work)
        self.write("letter.txt", "dear")
        found = placed([work], str(self.folder / "way/letter.txt"), T0)
        self.assertEqual((found.how, found.path), (PathIs.IN, str(self.work / "letter.txt")))
        outside = self.folder / "elsewhere"
        outside.mkdir()
        (self.work / "shortcut").symlink_to(outside)
        found = placed([work], str(self.work / "shortcut"), T0)
        self.assertEqual((found.how, found.path), (PathIs.IN, str(self.work / "shortcut")))

    def test_covering_adds_the_folder_in_place_of_those_inside_it(self) -> None:
        work = self.job("exclude kind temporary")
        self.write("letter.txt", "dear")
        (self.folder / "more").mkdir()
        for path in ("more", "more/there.txt"):
            (self.folder / "more/there.txt").touch()
            folders, rules = with_path(work, str(self.folder / path))
            self.assertEqual(folders, (str(self.work), str(self.folder / "more")))
            self.assertEqual(rules, work.rules)
        self.assertEqual(with_path(work, str(self.folder))[0], (str(self.folder),))
        self.assertEqual(with_path(work, str(self.work / "letter.txt")), (work.folders, work.rules))

    def test_what_a_rule_leaves_out_is_taken_in_and_nothing_else_is(self) -> None:
        names = (
            "Drafts/a [1].txt",
            "Drafts/a 1.txt",
            "Drafts/old/*.txt",
            "Drafts/!x",
            "Drafts/ y ",
            "Drafts/\\z",
        )
        for home in (str(self.folder), "/nonexistent"):
            for name in names:
                self.write(name, "draft")
            job = msgspec.structs.replace(self.job("exclude path Drafts/"), home=home)
            for name in names:
                changed = msgspec.structs.replace(job, rules=with_path(job, str(self.work / name))[1])
                is_in = {one for one in names if placed([changed], str(self.work / one), T0).how is PathIs.IN}
                self.assertEqual(is_in, {name}, changed.rules)
            changed = msgspec.structs.replace(job, rules=with_path(job, str(self.work / "Drafts/old"))[1])
            is_in = {one for one in names if placed([changed], str(self.work / one), T0).how is PathIs.IN}
            self.assertEqual(is_in, {"Drafts/old/*.txt"})
