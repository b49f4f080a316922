"""What is remembered between runs: passphrases in the key ring, notes, how a store is opened; and stores read
without the program."""

from __future__ import annotations

from good_tide.core.errors import PersonError
from good_tide.core.settings import Job
from good_tide.operations.workplace import find_job, load_jobs, remove_job, save_job
from tests.support.base import GoodTideTest


class KeptThingsTest(GoodTideTest):
    def test_jobs_are_kept_by_name_and_a_broken_one_is_named(self) -> None:
        settings = self.folder / "settings"
        with self.assertRaises(PersonError):
            find_job(settings, None)
        for name in ("Büro / 1", "Studio"):
            save_job(settings, Job(name=name, folders=("/x",), stores=()))
        self.assertEqual([job.name for job in load_jobs(settings)], ["Büro / 1", "Studio"])
        self.assertEqual(find_job(settings, "studio").name, "Studio")
        for wanted, words in ((None, "several jobs"), ("none", "no job none")):
            with self.assertRaises(PersonError) as caught:
                find_job(settings, wanted)
            self.assertIn(words, str(caught.exception))
        remove_job(settings, find_job(settings, "Büro / 1").id)
        self.assertEqual(find_job(settings, None).name, "Studio")
        (settings / "jobs" / "broken.toml").write_text("name = 3\n")
        with self.assertRaises(PersonError) as caught:
            load_jobs(settings)
        self.assertIn("broken.toml", str(caught.exception))
