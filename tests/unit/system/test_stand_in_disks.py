"""Disks as places for stores: recognised, checked, found again; job files; who may read."""

from __future__ import annotations

from unittest import mock

from good_tide.core.errors import (
    PersonError,
    PlaceFullError,
)
from good_tide.core.places import Level, worst
from good_tide.core.settings import Job
from good_tide.operations.places import probing
from good_tide.operations.places.whereabouts import Whereabouts
from good_tide.operations.stores.disks import examine, known_store_ids, look_at, store_ref
from good_tide.storage.folder_place import FolderPlace
from good_tide.system.stand_in_disks import StandIn, StandInDisks
from tests.support.base import CHEAP, PASSPHRASE, GoodTideTest, create_store, open_store
from tests.support.disk_facts import GIB, MINE


class StandInTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.disks = StandInDisks(self.folder / "rack")
        for disk in (
            StandIn(name="Pier", capacity=100 * GIB, device="one"),
            StandIn(name="harbour", kind="network", file_system="cifs"),
            StandIn(name="gone", kind="network", answers=False),
        ):
            self.disks.add(disk)

    def test_a_store_is_found_again_wherever_its_disk_is_mounted(self) -> None:
        folder = self.disks.folder("Pier") / "good-tide" / "desk"
        created = create_store(folder, PASSPHRASE, cost=CHEAP)
        ref = store_ref(self.disks, FolderPlace(folder))
        self.assertEqual((ref.disk, ref.inside, ref.name), ("label:Pier", "good-tide/desk", "Pier"))
        self.disks.plug("Pier", False)
        self.assertIsNone(Whereabouts(self.disks).of(ref))
        self.disks.root.rename(self.folder / "other rack")
        elsewhere = StandInDisks(self.folder / "other rack")
        elsewhere.plug("Pier")
        self.assertEqual(
            Whereabouts(elsewhere).of(ref),
            FolderPlace(self.folder / "other rack" / "media" / "Pier" / "good-tide" / "desk"),
        )
        job = Job(name="x", folders=(), stores=(ref,))
        self.assertEqual(known_store_ids([job], Whereabouts(elsewhere)), {created.header.store})
        found = look_at(elsewhere, frozenset((created.header.store,)))
        pier = next(disk for disk in found if disk.name == "Pier")
        self.assertEqual([(store.whose, store.encrypted) for store in pier.stores], [("this", True)])
        self.assertFalse(next(disk for disk in found if disk.name == "gone").answers)
        self.assertIn(
            "no stand-in disk", str(self.assertRaisesWith(PersonError, lambda: elsewhere.plug("none")))
        )

    def assertRaisesWith(self, kind: type[Exception], act: object) -> Exception:  # noqa: N802
        with self.assertRaises(kind) as caught:
            act()  # type: ignore[operator]
        return caught.exception

    def test_examining_a_folder(self) -> None:
        folder = self.disks.folder("Pier") / "new"
        found = examine(self.disks, FolderPlace(folder), MINE, frozenset(), measure=True)
        self.assertIs(worst(list(found.checks)), Level.GOOD)
        self.assertTrue(any("MB a second" in check.what for check in found.checks))
        self.assertEqual(list(folder.parent.iterdir()), [], "a measurement leaves nothing behind")
        (folder.parent / "letters").mkdir()
        (folder.parent / "letters" / "a").touch()
        full = examine(self.disks, FolderPlace(folder.parent / "letters"), MINE, frozenset(), measure=False)
        self.assertIn("holds other things", full.checks[0].what)
        create_store(folder, None, cost=CHEAP)
        self.assertEqual(
            examine(self.disks, FolderPlace(folder), MINE, frozenset(), False).holds,
            open_store(folder, None).header.store,
        )

    def test_a_place_that_does_not_take_the_measurement_says_why(self) -> None:
        full = PlaceFullError("Writing to Pier: no room left on the disk", "Free some room")
        with mock.patch("good_tide.operations.stores.disks.measure_speed", side_effect=full):
            found = examine(
                self.disks, FolderPlace(self.disks.folder("Pier") / "new"), MINE, frozenset(), measure=True
            )
        self.assertEqual((found.checks[0].level, found.checks[0].way_out), (Level.BAD, "Free some room"))

    def test_a_disk_that_is_plugged_in_is_noticed(self) -> None:
        self.assertTrue(self.disks.wait(0))
        self.assertFalse(self.disks.wait(0))
        self.disks.plug("Pier", False)
        self.assertTrue(self.disks.wait(0))
        self.assertEqual([disk.name for disk in self.disks.disks()], ["harbour", "gone"])

    def test_a_place_that_hangs_does_not_answer(self) -> None:
        with mock.patch.object(probing, "_ANSWER_SECONDS", 0.01):
            self.assertIsNone(probing.probe_apart(self.work, frozenset()))
        answer = probing.probe_apart(self.work, frozenset())
        assert answer is not None
        self.assertTrue(answer.writable and answer.total)
        self.assertIsNone(
            probing.probe_apart(self.folder / "pulled", frozenset()), "a disk pulled while it is looked at"
        )
