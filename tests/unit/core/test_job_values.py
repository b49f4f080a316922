"""Settings of a job one by one: compared, and changed by their keys."""

from __future__ import annotations

import unittest

import msgspec

from good_tide.core.errors import PersonError
from good_tide.core.job_values import differences, values, with_values, words_of
from good_tide.core.jobfile import Here, JobFile, RhythmPart, StorePart, job_file, store_ref
from good_tide.core.settings import Holding, Job, Reporting, StoreRef

FILE = JobFile(name="Office", folders=("~/Documents",), store=(StorePart(name="Pier", label="PIER"),))


class JobValuesTest(unittest.TestCase):
    def test_every_setting_that_a_job_file_has_can_be_set(self) -> None:
        for assignment, key, value in (
            ("reporting.when=weekly", "reporting.when", "weekly"),
            ("reporting.to=a@example.org", "reporting.to", ("a@example.org",)),
            ("rhythm.considerate.load=no", "rhythm.considerate.load", False),
            ("rhythm.considerate.battery_below=40", "rhythm.considerate.battery_below", 40),
            ("rhythm.spread_seconds=90", "rhythm.spread_seconds", 90),
            ("holding.limit_bytes=20 GiB", "holding.limit_bytes", 20 << 30),
            ("holding.part_of_free=0.5", "holding.part_of_free", 0.5),
            ("kinds.scores=musx", "kinds.scores", ("musx",)),
            ("noise=trouble", "noise", "trouble"),
            ("read_back_days=0", "read_back_days", 0),
            ("passphrase_file=~/words", "passphrase_file", "~/words"),
        ):
            with self.subTest(assignment):
                self.assertEqual(values(with_values(FILE, [assignment]))[key], value)

    def test_a_list_is_set_entry_by_entry_and_emptied(self) -> None:
        two = with_values(FILE, ["rules=exclude path a/", "rules=exclude kind temporary"])
        self.assertEqual(two.rules, ("exclude path a/", "exclude kind temporary"))
        self.assertEqual(with_values(two, ["rules="]).rules, ())
        own = with_values(FILE, ["kinds.scores=musx", "kinds.scores=mscz"])
        self.assertEqual(own.kinds, {"scores": ("musx", "mscz")})
        self.assertEqual(with_values(own, ["kinds.scores="]).kinds, {})

    def test_what_cannot_be_set_is_refused_with_a_way_on(self) -> None:
        for assignment, said in (
            ("reporting", "KEY=VALUE"),
            ("reporting.whenn=weekly", "Did you mean reporting.when"),
            ("store=x", "There is no setting"),
            ("mail.host=x", "There is no setting"),
            ("reporting.when=hourly", "reporting.when"),
            ("holding.limit_bytes=-5", "holding.limit_bytes"),
            ("holding.limit_bytes=much", "is not a size"),
            ("read_back_days=soon", "is a number"),
            ("holding.on=perhaps", "is true or false"),
            ("kinds.SCORES=musx", "cannot name a kind"),
            ("rules=exclude kind scores", "there is no kind"),
            ("name=", "name"),
        ):
            with self.subTest(assignment), self.assertRaises(PersonError) as refused:
                with_values(FILE, [assignment])
            self.assertIn(said, str(refused.exception))
        with self.assertRaises(PersonError):
            with_values(FILE, ["noise=trouble", "noise=changes"])

    def test_differences_name_each_setting_and_each_line_of_a_list(self) -> None:
        other = msgspec.structs.replace(
            FILE,
            rules=("exclude path a/",),
            rhythm=RhythmPart(every="2h"),
            holding=Holding(on=False),
            reporting=Reporting(to=("a@example.org",)),
            store=(StorePart(name="Mole", uuid="12-34", folder="x"),),
        )
        found = [one.words for one in differences(FILE, other)]
        self.assertEqual(
            found,
            [
                "rules: none → exclude path a/",
                "rhythm.every: 1h → 2h",
                "holding.on: true → false",
                "reporting.to: none → a@example.org",
                "store: Pier: label PIER, folder good-tide/{machine} → none",
                "store: none → Mole: uuid 12-34, folder x",
            ],
        )
        self.assertEqual(differences(FILE, FILE), [])

    def test_an_order_that_differs_is_a_difference(self) -> None:
        one = msgspec.structs.replace(FILE, rules=("exclude path a/", "exclude path b/"))
        other = msgspec.structs.replace(FILE, rules=one.rules[::-1])
        self.assertEqual(len(differences(one, other)), 1)
        self.assertEqual(words_of(10_000), "10,000")


class PortableTest(unittest.TestCase):
    def test_a_file_for_the_next_machine_names_disks_by_label_and_leaves_names_open(self) -> None:
        job = Job(
            name="Office",
            folders=("/home/ada/Documents",),
            stores=(
                StoreRef(
                    path="/media/x/tide/desk/ada", name="Pier", disk="uuid:12-34", inside="tide/desk/ada"
                ),
                StoreRef(path="/srv/desk/store", name="store"),
            ),
            passphrase_file="/home/ada/words",
        )
        here = Here("/home/ada", {}, "desk", "ada", {"uuid:12-34": "PIER"})
        file = job_file(job, {}, here)
        self.assertEqual((file.store[0].label, file.store[0].uuid), ("PIER", ""))
        self.assertEqual(file.store[0].folder, "tide/{machine}/{user}")
        self.assertEqual((file.store[1].path, file.passphrase_file), ("/srv/{machine}/store", "~/words"))
        there = store_ref(file.store[0], "laptop", "ben")
        self.assertEqual((there.disk, there.inside), ("label:PIER", "tide/laptop/ben"))
        self.assertEqual(store_ref(file.store[1], "laptop", "ben").path, "/srv/laptop/store")
        self.assertEqual(
            job_file(job, {}, Here("/home/ada")).store[0].uuid, "12-34", "as it is, unless asked"
        )
