"""Jobs of one machine that share a store: one set of chunks, and a history for each."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

from good_tide.core.errors import PersonError
from good_tide.core.identifiers import MachineId
from good_tide.core.records import Machine
from good_tide.core.settings import Job
from good_tide.operations.jobs.making import own_history
from tests.support.base import GoodTideTest, program

DESK = Machine(MachineId("a1" * 16), "office-desk")


def job(name: str) -> Job:
    return Job(name=name, folders=("/home/ada",), stores=())


class OwnHistoryTest(GoodTideTest):
    def test_the_first_job_has_the_machines_history_and_each_further_one_its_own(self) -> None:
        office = own_history(job("Office"), [], DESK)
        films = own_history(job("Films"), [office], DESK)
        sound = own_history(job("Sound"), [office, films], DESK)
        self.assertIsNone(office.machine)
        assert films.machine is not None and sound.machine is not None
        self.assertEqual(films.machine.name, "office-desk · Films")
        self.assertEqual(len({DESK.id, films.machine.id, sound.machine.id}), 3)

    def test_a_job_made_again_goes_on_with_its_history(self) -> None:
        office = own_history(job("Office"), [], DESK)
        first, again = own_history(job("Films"), [office], DESK), own_history(job("films"), [office], DESK)
        assert first.machine is not None and again.machine is not None
        self.assertEqual(first.machine.id, again.machine.id)
        self.assertIsNone(own_history(job("Office"), [first], DESK).machine)

    def test_a_renamed_job_keeps_its_history_from_a_new_one_under_its_old_name(self) -> None:
        office = own_history(job("Office"), [], DESK)
        films = own_history(job("Films"), [office], DESK)
        renamed = Job(name="Recordings", folders=films.folders, stores=(), machine=films.machine)
        new = own_history(job("Films"), [office, renamed], DESK)
        assert new.machine is not None and renamed.machine is not None
        self.assertNotEqual(new.machine.id, renamed.machine.id)

    def test_two_jobs_of_one_name_are_refused(self) -> None:
        with self.assertRaises(PersonError):
            own_history(job("office"), [job("Office")], DESK)


class SharedStoreTest(GoodTideTest):
    def ok(self, *words: str | Path) -> dict[str, Any]:
        found = program(*words, "--json")
        self.assertEqual(found.returncode, 0, found.stdout + found.stderr)
        return dict(json.loads(found.stdout))

    def test_neither_thins_nor_shows_what_is_the_others(self) -> None:
        store, films = self.folder / "store", self.folder / "films"
        films.mkdir()
        scene = os.urandom(300_000)
        (films / "scene.mov").write_bytes(scene)
        self.write("a.bin", scene)
        self.ok("job", "add", "Office", "--folder", self.work, "--store", store, "--unencrypted")
        self.ok("job", "add", "Films", "--folder", films, "--store", store, "--unencrypted")
        for number in range(3):
            for name in ("Office", "Films"):
                self.write("note.txt", f"{name} {number}")
                self.ok("snapshot", name)
        self.assertLess(
            self.ok("room", store)["stored"], 450_000, "both need the scene, and it is stored once"
        )
        self.assertEqual(len(self.ok("room", store, "--by", "machine")["by"]), 2)
        self.ok("ladder", "Films", "--rung", "1h year")
        released = self.ok("thin", "Films", "--yes")["released"]
        self.assertEqual(
            len(released),
            2,
            "of the three of Films; those of Office are not touched, though one of them is older",
        )
        self.assertEqual(self.ok("thin", "Office", "--yes")["released"], [])
        self.assertEqual(len(self.ok("history", "--store", store)["snapshots"]), 4)
        self.assertEqual(len(self.ok("versions", "--store", store, self.work / "note.txt")["versions"]), 3)
        self.assertEqual(len(self.ok("versions", "--store", store, films / "scene.mov")["versions"]), 1)
        rows = self.ok("fleet", store)["machines"]
        self.assertEqual(
            sorted((row["job"], row["snapshots"]) for row in rows), [("Films", 1), ("Office", 3)]
        )
