"""Disks as places for stores: recognised, checked, found again; job files; who may read."""

from __future__ import annotations

import os
from pathlib import Path

import msgspec
from hypothesis import given, settings
from hypothesis import strategies as st

from good_tide.core.errors import (
    PersonError,
)
from good_tide.core.jobfile import JobFile, JobFileError, expand_folder, job_file_text, parse_job_file
from good_tide.core.jobfile import store_ref as read_ref
from good_tide.core.ladder import READY, Ladder, Rung, Step
from good_tide.core.rhythm import Rhythm
from good_tide.core.settings import Job, Room, StoreRef, StoreUse
from good_tide.system.user_folders import proposed_folders, user_folders
from tests.support.base import OFFICE, REPOSITORY, GoodTideTest


class JobFileTest(GoodTideTest):
    GOOD = 'name = "Office"\nfolders = ["~/Docs"]\nrules = ["exclude path a/"]\n[[store]]\nlabel = "Pier"\n'

    def test_errors_name_line_and_key(self) -> None:
        for text, line, key, words in (
            ("name = \n", 1, "", "Invalid value"),
            (self.GOOD.replace('"Office"', "3"), 1, "name", "expected text"),
            (self.GOOD.replace('"~/Docs"', "7"), 2, "folders[0]", "expected text"),
            (self.GOOD.replace("rules", "ruels"), 3, "ruels", "there is no key"),
            (self.GOOD.replace("exclude path a/", "exclude colour red"), 3, "rules[0]", "no condition"),
            (self.GOOD.replace("label", "lable"), 5, "store[0].lable", "there is no key"),
            (self.GOOD + 'uuid = "1"\n', 4, "store[0]", "exactly one"),
            (self.GOOD.replace('name = "Office"\n', ""), 1, "", "name"),
            (self.GOOD.replace('["~/Docs"]', "[]"), 2, "folders", "no folder"),
            ("format = 9\n" + self.GOOD, 1, "format", "format 9"),
            (
                self.GOOD.replace("[[store]]", '[kinds]\nfilms = ["x y"]\n[[store]]'),
                5,
                "kinds.films",
                "no ending",
            ),
            (self.GOOD.replace("rules", 'ladder = ["2d fortnight"]\nrules'), 3, "ladder", "is no rung"),
            (self.GOOD.replace("rules", 'precious = ["Contracts/", "!x"]\nrules'), 3, "precious[1]", "!"),
        ):
            with self.subTest(words, key=key), self.assertRaises(JobFileError) as caught:
                parse_job_file(text)
            self.assertEqual(
                (caught.exception.line, caught.exception.key), (line, key), str(caught.exception)
            )
            self.assertIn(words, str(caught.exception))

    def test_a_job_is_saved_so_that_it_means_the_same_on_the_next_machine(self) -> None:
        folders = {"DOCUMENTS": "/home/ada/Papers"}
        job = Job(
            id=OFFICE,
            name="Office",
            folders=("/home/ada/Papers", "/home/ada/Sound", "/srv/plans"),
            rules=("exclude path Drafts/",),
            kinds={"documents": ("qxd",)},
            stores=(
                StoreRef(path="/media/x/s", name="Pier", disk="label:Pier", inside="s"),
                StoreRef(path="/plain/s", name="s"),
            ),
            store_use="turns",
        )
        text = job_file_text(job, {"/media/x/s": False}, "/home/ada", folders)
        file = parse_job_file(text)
        self.assertEqual(file.folders, ("$DOCUMENTS", "~/Sound", "/srv/plans"))
        self.assertEqual(
            [(part.label, part.path, part.folder, part.encrypted) for part in file.store],
            [("Pier", "", "s", False), ("", "/plain/s", "", True)],
        )
        theirs = {"DOCUMENTS": "/home/piet/Documents"}
        self.assertEqual(
            [expand_folder(one, "/home/piet", theirs) for one in file.folders[:2]],
            ["/home/piet/Documents", "/home/piet/Sound"],
        )
        with self.assertRaises(PersonError):
            expand_folder("$NOWHERE", "/home/piet", theirs)

    @settings(max_examples=80)
    @given(
        st.text(st.characters(exclude_categories=["Cs"]), min_size=1, max_size=20).filter(str.strip),
        st.lists(
            st.sampled_from(["/home/ada", "/home/ada/x y", "/srv/ä", "/home/adam"]), min_size=1, unique=True
        ),
        st.lists(
            st.sampled_from(
                ['exclude path "a \\"b\\""', "exclude larger 3 GiB", "include kind sound older 2 years"]
            ),
            unique=True,
        ),
        st.lists(
            st.sampled_from(
                [("label:P ier", "s/x"), ("uuid:1-2", "."), ("share://h/a", "good-tide/desk"), ("", "")]
            ),
            unique=True,
        ),
        st.sampled_from(["both", "turns"]),
        st.sampled_from([*READY.values(), Ladder((Rung(Step.DAY, "10d"),))]),
        st.builds(
            Room,
            limit_bytes=st.integers(0, 1 << 50),
            limit_part=st.sampled_from([0.0, 0.8]),
            when_short=st.sampled_from(["stop", "thin"]),
        ),
        st.builds(
            Rhythm,
            large_bytes=st.integers(0, 1 << 40),
            timed_only=st.just(("~/Films",)),
            quiet_seconds=st.integers(1, 99),
            spread_seconds=st.none() | st.integers(0, 9),
        ),
    )
    def test_whatever_a_job_says_is_in_its_file(
        self,
        name: str,
        folders: list[str],
        rules: list[str],
        stores: list[tuple[str, str]],
        use: StoreUse,
        ladder: Ladder,
        room: Room,
        rhythm: Rhythm,
    ) -> None:
        refs = tuple(
            StoreRef(path=f"/m/{number}", name=f"disk {number}", disk=disk, inside=inside)
            for number, (disk, inside) in enumerate(stores)
        )
        job = Job(
            name=name,
            folders=tuple(folders),
            rules=tuple(rules),
            stores=refs,
            store_use=use,
            ladder=ladder,
            room=room,
            rhythm=rhythm,
            precious=("Contracts/",),
        )
        file = parse_job_file(job_file_text(job, {}, "/home/ada", {}))
        self.assertEqual((file.parsed_ladder(), file.room, file.precious), (ladder, room, job.precious))
        self.assertEqual(file.rhythm.rhythm("UTC"), rhythm)
        self.assertEqual((file.name, file.rules, file.store_use), (job.name, job.rules, job.store_use))
        self.assertEqual(tuple(expand_folder(one, "/home/ada", {}) for one in file.folders), job.folders)
        found = [read_ref(part, "desk") for part in file.store]
        self.assertEqual(
            [(ref.disk, ref.inside) for ref in found if ref.disk],
            [(disk, inside) for disk, inside in stores if disk],
        )
        self.assertEqual(
            [ref.path for ref in found if not ref.disk], [ref.path for ref in refs if not ref.disk]
        )

    def test_starting_points_and_schema_are_what_the_program_reads(self) -> None:
        names = [
            parse_job_file(file.read_text()).name
            for file in sorted((REPOSITORY / "src/good_tide/starting_points").glob("*.toml"))
        ]
        self.assertEqual(names, ["Everything in the home folder", "Office", "Studio with large media"])
        schema = msgspec.json.decode((REPOSITORY / "docs/job-file.schema.json").read_bytes())
        self.assertEqual(schema, msgspec.json.decode(msgspec.json.encode(msgspec.json.schema(JobFile))))

    def test_usual_folders_come_from_the_standards_file(self) -> None:
        home = self.folder / "home"
        (home / "Papiere").mkdir(parents=True)
        config = Path(os.environ["XDG_CONFIG_HOME"])
        config.mkdir(parents=True)
        (config / "user-dirs.dirs").write_text(
            '# x\nXDG_DOCUMENTS_DIR="$HOME/Papiere"\nXDG_MUSIC_DIR="$HOME/"\n'
        )
        self.assertEqual(user_folders(str(home))["DOCUMENTS"], str(home / "Papiere"))
        self.assertNotIn(
            "MUSIC", user_folders(str(home)), "a directory that is the home folder itself stands for none"
        )
        self.assertEqual(proposed_folders(str(home)), [str(home / "Papiere")])
