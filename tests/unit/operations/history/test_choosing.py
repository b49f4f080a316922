"""Which snapshot is meant: times and ids lead back to what they were printed for, and nobody else's snapshot
is taken in its place."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

from good_tide.core.clock import SetClock
from good_tide.core.errors import DamageError, PersonError
from good_tide.core.identifiers import MachineId, Nanoseconds
from good_tide.core.progress import Silent
from good_tide.core.records import Machine
from good_tide.core.settings import Job, StoreRef
from good_tide.operations.history.choosing import Chooser, Whose
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.stores.opening import synced_catalog
from good_tide.operations.workplace import Workplace, save_job
from tests.support.base import HOUR, MACHINE, OFFICE, OTHER_MACHINE, SOUND, T0, GoodTideTest, open_store


class ChoosingTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store(passphrase=None)
        self.settings = self.folder / "settings"
        self.here = Workplace(
            self.cache, self.state, self.folder, self.settings, self.folder / "run", MACHINE
        )

    def at(self, moment: int, content: str, machine: Machine = MACHINE, folder: Path | None = None) -> str:
        target = folder or self.work
        target.mkdir(exist_ok=True)
        (target / "plan.txt").write_text(content)
        request = CaptureRequest((target,), machine)
        return capture(self.store, request, SetClock(Nanoseconds(moment)), Silent(), self.state).id

    def chooser(self, whose: Whose | None = None, *paths: Path) -> Chooser:
        return Chooser(
            self.context(settings=self.settings),
            open_store(self.folder / "store", None),
            whose or Whose(),
            [os.fsencode(path) for path in paths],
        )

    def test_latest_and_times_are_of_this_machine(self) -> None:
        own = self.at(T0, "mine")
        other = self.at(T0 + HOUR, "theirs", OTHER_MACHINE)
        self.assertEqual(self.chooser().choose("latest").id, own)
        self.assertEqual(self.chooser().choose("2030-01-01").id, own)
        self.assertEqual(self.chooser(Whose(machine="laptop")).choose("latest").id, other)
        self.assertEqual(self.chooser(Whose(machine=OTHER_MACHINE.id[:8])).choose("latest").id, other)
        self.assertEqual(self.chooser().choose(other[:10]).id, other, "an id names a snapshot of any machine")
        with self.assertRaisesRegex(PersonError, "No machine called desktop"):
            self.chooser(Whose(machine="desktop")).choose("latest")
        with self.assertRaisesRegex(PersonError, "is of laptop, not of this machine"):
            self.chooser().in_place(self.chooser().choose(other))
        self.chooser(Whose(machine="laptop")).in_place(self.chooser().choose(other))

    def test_on_another_machine_the_only_history_is_meant_and_of_several_one_is_to_be_named(self) -> None:
        only = self.at(T0, "theirs", OTHER_MACHINE)
        self.assertEqual(self.chooser().choose("latest").id, only)
        self.chooser().in_place(self.chooser().choose("latest"))
        self.at(T0 + HOUR, "of a third", Machine(MachineId("c3" * 16), "studio"))
        with self.assertRaisesRegex(PersonError, "--machine: laptop, studio"):
            self.chooser().choose("latest")

    def test_jobs_that_share_a_store_are_told_apart_by_path_or_by_name(self) -> None:
        sound = Machine(MachineId("d4" * 16), "desk · Sound")
        ref = StoreRef(path=str(self.folder / "store"))
        other = self.folder / "other"
        one = self.at(T0, "office")
        two = self.at(T0 + HOUR, "sound", sound, other)
        save_job(self.settings, Job(id=OFFICE, name="Office", folders=(str(self.work),), stores=(ref,)))
        save_job(
            self.settings, Job(id=SOUND, name="Sound", folders=(str(other),), stores=(ref,), machine=sound)
        )
        self.assertEqual(self.chooser(None, self.work / "plan.txt").choose("latest").id, one)
        self.assertEqual(self.chooser(None, other / "plan.txt").choose("latest").id, two)
        self.assertEqual(self.chooser(Whose(job="Sound")).choose("latest").id, two)
        with self.assertRaisesRegex(PersonError, "--job: Office, Sound"):
            self.chooser().choose("latest")

    def test_a_damaged_newest_one_is_not_replaced_by_the_one_before(self) -> None:
        first, second = self.at(T0, "first"), self.at(T0 + HOUR, "second")
        file = self.folder / "store" / "snapshots" / second
        shutil.rmtree(self.folder / "store" / "copies" / "snapshots")
        whole = file.read_bytes()
        for known in (False, True):
            if known:
                file.write_bytes(whole)
                synced_catalog(open_store(self.folder / "store", None), self.cache)[0].close()
            file.write_bytes(whole[:-3])
            with self.subTest(known=known):
                for wanted in ("latest", "2030-01-01"):
                    with self.assertRaises(DamageError) as caught:
                        self.chooser().choose(wanted)
                    self.assertIn(first[:12], caught.exception.advice)
                self.assertEqual(self.chooser().choose(first[:12]).id, first)
        self.assertEqual(
            self.chooser().choose("2026-09-21T16:13:20+02:00").id,
            first,
            "known to be younger than what is meant",
        )
