"""The program as somebody uses it who may not look everywhere."""

from __future__ import annotations

import errno
from pathlib import Path

from good_tide.core.errors import PlaceFullError, of_system
from tests.support.base import GoodTideTest, as_ordinary_person, program


class OrdinaryPersonTest(GoodTideTest):
    """As somebody who may not look everywhere; the checks of root would find nothing."""

    def setUp(self) -> None:
        super().setUp()
        self.locked = self.folder / "locked"
        (self.locked / "inner").mkdir(parents=True)
        self.locked.chmod(0)
        self.write("plan.txt", "first")
        self.store = self.folder / "store"
        self.run_as("store", "create", self.store, "--unencrypted", code=0)
        self.run_as("snapshot", "--store", self.store, "--folder", self.work, code=0)

    def run_as(self, *words: str | Path, code: int) -> str:
        with as_ordinary_person() as prefix:
            ran = program(*words, prefix=prefix)
        said = ran.stdout + ran.stderr
        self.assertEqual(ran.returncode, code, said)
        self.assertNotIn("Traceback", said)
        return said

    def test_folders_that_one_may_not_look_into_are_said_by_every_command(self) -> None:
        inside, store, plan = self.locked / "inner", self.store, self.work / "plan.txt"
        add = ("job", "add", "Office", "--unencrypted")
        self.assertIn(
            "may not write", self.run_as(*add, "--folder", self.work, "--store", inside / "store", code=2)
        )
        self.assertIn(
            "cannot be looked into", self.run_as(*add, "--folder", self.work, "--store", self.locked, code=2)
        )
        self.assertIn(
            "There is no folder",
            self.run_as(*add, "--folder", inside, "--store", self.folder / "new", code=2),
        )
        self.run_as("history", "--store", inside, code=3)
        self.run_as("store", "create", inside / "store", "--unencrypted", code=3)
        self.run_as("store", "about", inside, code=3)
        self.run_as(
            "restore",
            "--store",
            store,
            "--snapshot",
            "latest",
            "--path",
            plan,
            "--into",
            inside / "x",
            code=3,
        )
        self.run_as("journal", "--export", inside / "journal.csv", code=3)
        self.run_as("undo", "--store", store, inside, code=2)
        self.run_as("--settings", inside, "status", code=3)

    def test_a_covered_folder_that_cannot_be_read_is_told_when_the_job_is_made_and_in_the_snapshot(
        self,
    ) -> None:
        said = self.run_as(
            "job",
            "add",
            "Office",
            "--folder",
            self.locked,
            "--folder",
            self.work,
            "--store",
            self.store,
            code=0,
        )
        self.assertIn("cannot be read by you", said)
        self.assertIn(f"{self.locked} (Permission denied)", self.run_as("snapshot", "Office", code=1))

    def test_what_the_system_refuses_is_a_sentence(self) -> None:
        self.assertEqual(
            str(of_system(OSError(errno.EACCES, "Permission denied", "/x"))),
            "/x: Permission denied. Check the path, and whether you may use it.",
        )
        self.assertIsInstance(of_system(OSError(errno.ENOSPC, "No space left on device")), PlaceFullError)
        self.assertIn("TimeoutError", str(of_system(TimeoutError())))
