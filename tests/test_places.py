"""Disks as places for stores: recognised, checked, found again; job files; who may read."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import unittest
from pathlib import Path
from unittest import mock

import keyring
import keyring.errors
import msgspec
from hypothesis import given, settings
from hypothesis import strategies as st

from good_tide.core.clock import SECOND, SetClock
from good_tide.core.errors import (
    NameTakenError,
    PersonError,
    PlaceError,
    PlaceFullError,
    WrongPassphraseError,
)
from good_tide.core.identifiers import Nanoseconds, StoreId
from good_tide.core.jobfile import JobFile, JobFileError, expand_folder, job_file_text, parse_job_file
from good_tide.core.jobfile import store_ref as read_ref
from good_tide.core.ladder import READY, Ladder, Rung, Step
from good_tide.core.passphrases import gives_away, judge, proposal_bits, propose
from good_tide.core.places import DiskFacts, FoundStore, Level, Wanted, check_place, worst
from good_tide.core.rhythm import Rhythm
from good_tide.core.settings import Job, Room, StoreRef, StoreUse
from good_tide.operations.records.disk_absences import DiskAbsences
from good_tide.operations.records.passphrase_tries import TryCounter
from good_tide.operations.stores import probing
from good_tide.operations.stores.disks import best_disk, examine, known_store_ids, locate, look_at, store_ref
from good_tide.storage.header import create_store
from good_tide.storage.keyslots import add_recovery, change_passphrase, list_slots, revoke
from good_tide.storage.place import LocalPlace
from good_tide.storage.store import open_store
from good_tide.system.disks import SystemDisks
from good_tide.system.keyrings import DesktopKeyRing
from good_tide.system.mounts import mount_of, read_mounts
from good_tide.system.stand_in_disks import StandIn, StandInDisks
from good_tide.system.udisks import Drive, drives
from good_tide.system.user_folders import proposed_folders, user_folders
from tests.base import CHEAP, OFFICE, PASSPHRASE, REPOSITORY, T0, GoodTideTest, program

GIB = 1 << 30
GOOD = DiskFacts(
    id="uuid:1",
    name="Pier",
    kind="external",
    file_system="ext4",
    path="/media/pier",
    total=100 * GIB,
    free=50 * GIB,
    writable=True,
    devices=frozenset(("sdb",)),
)
MINE = Wanted(bytes=10 * GIB, devices=frozenset(("sda",)))


STORE = StoreId("5a" * 16)


class CheckTest(GoodTideTest):
    def test_each_thing_that_speaks_against_a_place_is_told_with_a_way_out(self) -> None:
        change, store = (
            msgspec.structs.replace,
            FoundStore("/media/pier/s", StoreId("00"), True, "unknown", 3),
        )
        for name, disk, wanted, level, words in (
            ("all well", GOOD, MINE, Level.GOOD, "another physical disk"),
            (
                "same disk",
                change(GOOD, devices=frozenset(("sda",))),
                MINE,
                Level.DOUBTFUL,
                "same physical disk",
            ),
            (
                "unknown disk",
                change(GOOD, devices=frozenset()),
                MINE,
                Level.DOUBTFUL,
                "does not tell on which physical disk",
            ),
            ("too small", change(GOOD, free=5 * GIB), MINE, Level.BAD, "Too small"),
            ("tight", change(GOOD, free=15 * GIB), MINE, Level.DOUBTFUL, "Less than twice"),
            ("full", change(GOOD, free=0), Wanted(), Level.BAD, "no room left"),
            ("not mine", change(GOOD, writable=False), MINE, Level.BAD, "may not write"),
            ("read-only", change(GOOD, read_only=True), MINE, Level.BAD, "read-only"),
            ("disc image", change(GOOD, file_system="iso9660"), MINE, Level.BAD, "cannot be changed"),
            ("memory", change(GOOD, file_system="tmpfs"), MINE, Level.BAD, "is memory"),
            ("small files only", change(GOOD, file_system="vfat"), MINE, Level.DOUBTFUL, "files above 4 GB"),
            ("no journal", change(GOOD, file_system="exfat"), MINE, Level.DOUBTFUL, "no journal"),
            (
                "unknown file system",
                change(GOOD, file_system=""),
                MINE,
                Level.DOUBTFUL,
                "does not tell its file system",
            ),
            ("slow", GOOD, change(MINE, speed=4.0), Level.DOUBTFUL, "Slow"),
            ("very slow", GOOD, change(MINE, speed=0.4), Level.DOUBTFUL, "Very slow"),
            (
                "answers badly",
                change(GOOD, answer_seconds=1.4),
                MINE,
                Level.DOUBTFUL,
                "answers slowly: 1.4 s",
            ),
            ("hangs", change(GOOD, answers=False), MINE, Level.BAD, "does not answer"),
            (
                "often away",
                change(GOOD, removable=True),
                change(MINE, times_away=5),
                Level.DOUBTFUL,
                "went away 5 times",
            ),
            ("a store", change(GOOD, stores=(store,)), MINE, Level.GOOD, "only its passphrase tells"),
            (
                "own store",
                change(GOOD, stores=(change(store, whose="this"),)),
                MINE,
                Level.GOOD,
                "of this machine with 3 snapshots",
            ),
            (
                "newer store",
                change(GOOD, stores=(change(store, whose="newer"),)),
                MINE,
                Level.DOUBTFUL,
                "newer version",
            ),
        ):
            with self.subTest(name):
                checks = check_place(disk, wanted)
                self.assertEqual(worst(checks), level)
                found = next((check for check in checks if words in check.what), None)
                self.assertIsNotNone(found, [check.what for check in checks])
                if level is not Level.GOOD:
                    self.assertTrue(found is not None and found.way_out)
                    self.assertIs(checks[0].level, level)

    def test_the_best_disk_has_no_bad_check_and_fewest_doubts(self) -> None:
        change = msgspec.structs.replace
        small, inside = (
            change(GOOD, id="a", free=GIB),
            change(GOOD, id="b", kind="internal", devices=MINE.devices),
        )
        share = change(GOOD, id="c", kind="network", file_system="nfs4", devices=frozenset())
        self.assertEqual(best_disk([small, inside, share, GOOD], MINE), GOOD)
        self.assertEqual(best_disk([small, inside, share], MINE), share)
        self.assertIsNone(best_disk([small], MINE))


class SystemDisksTest(GoodTideTest):
    """A machine made of files: partitions, LUKS in LVM on RAID, a loop file, btrfs, a bind mount, a share."""

    def setUp(self) -> None:
        super().setUp()
        self.sys, self.dev = self.folder / "sys", self.folder / "dev"
        real = self.sys / "devices"
        for disk, number, bus in (
            ("sda", "8:0", "pci"),
            ("sdb", "8:16", "pci"),
            ("sdc", "8:32", "usb1"),
            ("loop0", "7:0", "virtual"),
        ):
            self.device(real / bus / "block" / disk, number)
            (self.sys / "block").mkdir(exist_ok=True)
            (self.sys / "block" / disk).symlink_to(real / bus / "block" / disk)
        for disk, part, number, bus in (
            ("sda", "sda1", "8:1", "pci"),
            ("sdb", "sdb1", "8:17", "pci"),
            ("sdc", "sdc1", "8:33", "usb1"),
        ):
            self.device(real / bus / "block" / disk / part, number)
            (real / bus / "block" / disk / part / "partition").write_text("1")
        self.stack("md0", "9:0", "sda1", "sdb1")
        self.stack("dm-0", "254:0", "md0")
        self.stack("dm-1", "254:1", "dm-0")
        (real / "virtual" / "block" / "loop0" / "loop").mkdir()
        (real / "virtual" / "block" / "loop0" / "loop" / "backing_file").write_text("/home/ada/image\n")
        (real / "usb1" / "block" / "sdc" / "device").mkdir()
        (real / "usb1" / "block" / "sdc" / "device" / "model").write_text("Sea Drive\n")
        for kind, name, target in (("by-label", "P\\x20ier", "sdc1"), ("by-uuid", "11-22", "sdc1")):
            folder = self.dev / "disk" / kind
            folder.mkdir(parents=True, exist_ok=True)
            (self.dev / target).touch()
            (folder / name).symlink_to(self.dev / target)
        self.table = self.folder / "mountinfo"
        self.table.write_text(
            "20 1 254:1 / / rw - ext4 /dev/mapper/root rw\n"
            "21 20 0:5 / /proc rw - proc proc rw\n"
            f"22 20 8:33 / /media/P\\040ier rw - ext4 {self.dev}/sdc1 rw\n"
            f"23 22 8:33 /inner /srv/bound rw - ext4 {self.dev}/sdc1 rw\n"
            "24 20 7:0 / /mnt/image ro - ext4 /dev/loop0 ro\n"
            "25 20 0:40 / /net/harbour rw - nfs4 harbour:/archive rw\n"
            "broken line\n"
        )
        self.told: dict[str, Drive] = {}
        self.disks = SystemDisks(self.table, self.sys, self.dev, lambda: self.told)

    def device(self, folder: Path, number: str) -> None:
        folder.mkdir(parents=True)
        (self.sys / "dev" / "block").mkdir(parents=True, exist_ok=True)
        (self.sys / "dev" / "block" / number).symlink_to(folder)

    def stack(self, name: str, number: str, *below: str) -> None:
        folder = self.sys / "devices" / "virtual" / "block" / name
        self.device(folder, number)
        (folder / "slaves").mkdir()
        for one in below:
            (folder / "slaves" / one).symlink_to(next(self.sys.glob(f"devices/**/{one}")))

    def test_physical_disks_are_found_through_everything_on_top_of_them(self) -> None:
        found = {disk.path: disk for disk in self.disks.disks()}
        self.assertEqual(set(found), {"/", "/media/P ier", "/mnt/image", "/net/harbour"})
        self.assertEqual(found["/"].devices, {"sda", "sdb"})
        self.assertEqual(
            found["/mnt/image"].devices, {"sda", "sdb"}, "a loop file is on the disk of its file"
        )
        pier = found["/media/P ier"]
        self.assertEqual(
            (pier.devices, pier.kind, pier.name, pier.id), ({"sdc"}, "external", "P ier", "uuid:11-22")
        )
        self.assertEqual(pier.aliases, ("label:P ier", "mount:/media/P ier"))
        self.assertEqual(
            (found["/net/harbour"].kind, found["/net/harbour"].id), ("network", "share:harbour:/archive")
        )
        self.assertTrue(found["/mnt/image"].read_only)

    def test_a_disk_that_was_plugged_in_but_is_not_mounted_is_told_of(self) -> None:
        self.device(self.sys / "devices" / "usb2" / "block" / "sdd", "8:48")
        (self.sys / "block" / "sdd").symlink_to(self.sys / "devices" / "usb2" / "block" / "sdd")
        (self.sys / "block" / "sdd" / "size").write_text("2048\n")
        self.told = {"sdd": Drive("Harbour Works Buoy", True)}
        found = next(disk for disk in self.disks.disks() if not disk.mounted)
        self.assertEqual((found.name, found.total, found.path), ("Harbour Works Buoy", 1 << 20, ""))
        check = check_place(found, MINE)[0]
        self.assertIs(check.level, Level.BAD)
        self.assertIn("erases what is on it", check.way_out)

    def test_a_folder_is_on_the_innermost_mount(self) -> None:
        mounts = read_mounts(self.table)
        bound = mount_of(Path("/srv/bound/x"), mounts)
        assert bound is not None
        self.assertEqual((bound.device, bound.root), ((8, 33), "/inner"))
        other = self.disks.of_folder(Path("/srv/bound/x"))
        assert other is not None
        self.assertEqual(other.devices, {"sdc"})

    @unittest.skipUnless(os.geteuid() == 0, "mounting needs root")
    def test_real_small_file_systems(self) -> None:
        script = (
            f"set -e; mount -t tmpfs -o size=20m none {self.work}; mkdir {self.work}/store; mount -o"
            f" remount,ro {self.work}; "
            f"{sys.executable} -c 'from good_tide.operations.stores.disks import *; from"
            " good_tide.system.disks import SystemDisks; from pathlib import"
            " Path; "
            f'd = SystemDisks(); e = examine(d, Path("{self.work}/new"), Wanted(bytes=30 << 20), frozenset(),'
            " True); "
            "print([(c.level.value, c.what) for c in e.checks])'"
        )
        done = subprocess.run(
            ["unshare", "-m", "sh", "-c", script], capture_output=True, text=True, check=False
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        for words in ("tmpfs is memory", "Too small: 20.0 MiB free of 20.0 MiB"):
            self.assertIn(words, done.stdout)


class OrdinaryPersonTest(GoodTideTest):
    @unittest.skipUnless(os.geteuid() == 0, "another user needs root")
    def test_somebody_who_may_not_write_to_the_top_of_a_disk_may_write_to_their_home_on_it(self) -> None:
        home = Path(os.environ["HOME"])
        home.mkdir(parents=True)
        (home / "Documents").mkdir()
        (home / "Documents" / "a.txt").write_text("a")
        subprocess.run(["chown", "-R", "1000:1000", str(self.folder)], check=True)
        self.folder.chmod(0o755)
        prefix = ["setpriv", "--reuid=1000", "--regid=1000", "--clear-groups", "--"]
        if subprocess.run(
            [*prefix, sys.executable, "-c", "import good_tide"], capture_output=True, check=False
        ).returncode:
            self.skipTest("the Python of this checkout cannot be run by another user")
        disks = program("disks", "--json", prefix=prefix)
        self.assertEqual(disks.returncode, 0, disks.stderr)
        made = program(
            "job",
            "add",
            "Office",
            "--folder",
            home / "Documents",
            "--store",
            home / "good-tide" / "desk",
            "--unencrypted",
            prefix=prefix,
        )
        self.assertEqual(made.returncode, 0, made.stderr)
        refused = program(
            "job",
            "add",
            "Other",
            "--folder",
            home / "Documents",
            "--store",
            "/good-tide",
            "--unencrypted",
            prefix=prefix,
        )
        self.assertEqual(refused.returncode, 2)
        self.assertIn("You may not write here", refused.stderr)


class DiskServiceTest(GoodTideTest):
    """The disk service on a private bus, played by a stand-in."""

    def test_names_come_over_the_bus_and_nothing_comes_without_it(self) -> None:
        self.assertEqual(drives("unix:path=/nowhere"), {})
        script = "from tests.stand_in_udisks import main; main()"
        done = subprocess.run(
            ["dbus-run-session", "--", sys.executable, "-c", script],
            cwd=REPOSITORY,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(
            json.loads(done.stdout),
            {"sdb": ["Harbour Works Buoy 2", True], "sdb1": ["Harbour Works Buoy 2", True]},
        )


class ComingsTest(GoodTideTest):
    def test_a_disk_that_goes_away_often_is_remembered_for_four_weeks(self) -> None:
        clock = SetClock(Nanoseconds(T0))
        for _ in range(4):
            DiskAbsences(self.state, clock).went(["label:Pier"])
        self.assertEqual(
            (
                DiskAbsences(self.state, clock).times("label:Pier"),
                DiskAbsences(self.state, clock).times("other"),
            ),
            (4, 0),
        )
        clock.set(Nanoseconds(T0 + 30 * 86400 * SECOND))
        self.assertEqual(DiskAbsences(self.state, clock).times("label:Pier"), 0)
        (self.state / "disks-away.json").write_text("nonsense")
        DiskAbsences(self.state, clock).went(["label:Pier"])
        self.assertEqual(DiskAbsences(self.state, clock).times("label:Pier"), 1)


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
        ref = store_ref(self.disks, folder)
        self.assertEqual((ref.disk, ref.inside, ref.name), ("label:Pier", "good-tide/desk", "Pier"))
        self.disks.plug("Pier", False)
        self.assertIsNone(locate(ref, self.disks))
        self.disks.root.rename(self.folder / "other rack")
        elsewhere = StandInDisks(self.folder / "other rack")
        elsewhere.plug("Pier")
        self.assertEqual(
            locate(ref, elsewhere), self.folder / "other rack" / "media" / "Pier" / "good-tide" / "desk"
        )
        job = Job(name="x", folders=(), stores=(ref,))
        self.assertEqual(known_store_ids([job], elsewhere), {created.header.store})
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
        found = examine(self.disks, folder, MINE, frozenset(), measure=True)
        self.assertIs(worst(list(found.checks)), Level.GOOD)
        self.assertTrue(any("MB a second" in check.what for check in found.checks))
        self.assertEqual(list(folder.parent.iterdir()), [], "a measurement leaves nothing behind")
        (folder.parent / "letters").mkdir()
        (folder.parent / "letters" / "a").touch()
        full = examine(self.disks, folder.parent / "letters", MINE, frozenset(), measure=False)
        self.assertIn("holds other things", full.checks[0].what)
        create_store(folder, None, cost=CHEAP)
        self.assertEqual(
            examine(self.disks, folder, MINE, frozenset(), False).holds, open_store(folder, None).header.store
        )

    def test_a_place_that_does_not_take_the_measurement_says_why(self) -> None:
        full = PlaceFullError("Writing to Pier: no room left on the disk", "Free some room")
        with mock.patch("good_tide.operations.stores.disks.measure_speed", side_effect=full):
            found = examine(self.disks, self.disks.folder("Pier") / "new", MINE, frozenset(), measure=True)
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
                self.GOOD.replace("[[store]]", '[kinds]\nfilms = ["x"]\n[[store]]'),
                5,
                "kinds.films",
                "no kind",
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


class ReadersTest(GoodTideTest):
    def test_a_changed_passphrase_opens_and_the_old_one_does_not(self) -> None:
        store = self.new_store()
        packs = sorted(store.place.names("packs"))
        change_passphrase(store.place, store.keys, PASSPHRASE, "another one", "hint", CHEAP)
        with self.assertRaises(WrongPassphraseError):
            open_store(self.folder / "store", PASSPHRASE)
        self.assertEqual(open_store(self.folder / "store", "another one").keys.secret, store.keys.secret)
        self.assertEqual([slot.kind for slot in list_slots(store.place)], ["passphrase", "recovery"])
        self.assertEqual(sorted(store.place.names("packs")), packs)
        with self.assertRaises(WrongPassphraseError):
            change_passphrase(store.place, store.keys, "guess", "x y z", cost=CHEAP)

    def test_a_lost_passphrase_is_replaced_with_the_recovery_key_and_keys_are_revoked(self) -> None:
        new = create_store(self.folder / "s", PASSPHRASE, cost=CHEAP)
        assert new.recovery_key is not None
        place = LocalPlace(self.folder / "s")
        change_passphrase(place, new.keys, new.recovery_key, "found again", cost=CHEAP)
        fresh = add_recovery(place, new.keys, CHEAP)
        self.assertEqual(len(list_slots(place)), 3)
        open_store(self.folder / "s", fresh)
        while len(list_slots(place)) > 1:
            revoke(place, 1)
        with self.assertRaises(PersonError):
            revoke(place, 1)
        with self.assertRaises(PersonError):
            revoke(place, 9)
        with self.assertRaises(WrongPassphraseError):
            open_store(self.folder / "s", "found again")

    def test_unusable_passphrases_and_hints_are_refused(self) -> None:
        for passphrase, hint in (("", ""), ("x" * 10_000, ""), ("Low Tide", "it is LOWTIDE!")):
            with self.subTest(passphrase[:9]), self.assertRaises(PersonError):
                create_store(self.folder / "s", passphrase, hint, CHEAP)
        self.assertFalse(gives_away("by the sea", "harbour lantern"))
        self.assertLess(judge("password1").score, 2)
        self.assertIn("words", judge("password1").advice)
        self.assertEqual(judge(propose()).score, 4)
        self.assertGreater(proposal_bits(), 50)
        judge("harbour " * 1250)

    def test_a_store_made_by_two_at_the_same_moment_is_made_by_one(self) -> None:
        root = self.folder / "s"
        real = LocalPlace.create

        def other_first(place: LocalPlace, name: str, owner: str) -> object:
            if name == "store.json" and not (root / "store.json").exists():
                with mock.patch.object(LocalPlace, "create", real):
                    (root / "README.txt").rename(root / "README.old")
                    (self.folder / "theirs").mkdir()
                    other = create_store(self.folder / "theirs" / "s", PASSPHRASE, cost=CHEAP)
                    os.link(self.folder / "theirs" / "s" / "store.json", root / "store.json")
                    self.assertNotEqual(other.header.store, "")
            return real(place, name, owner)

        with mock.patch.object(LocalPlace, "create", other_first), self.assertRaises(NameTakenError):
            create_store(root, PASSPHRASE, cost=CHEAP)

    def test_wrong_tries_slow_down_across_restarts(self) -> None:
        clock = SetClock(Nanoseconds(T0))
        waits = []
        for _ in range(6):
            counter = TryCounter(self.state, STORE, clock)
            waits.append(counter.seconds_to_wait())
            counter.wrong()
        self.assertEqual(waits, [0, 0, 0, 2, 4, 8])
        with self.assertRaises(PlaceError):
            TryCounter(self.state, STORE, clock).check()
        clock.set(Nanoseconds(T0 + 17 * SECOND))
        TryCounter(self.state, STORE, clock).check()
        clock.set(Nanoseconds(T0 - 3600 * SECOND))
        self.assertGreater(
            TryCounter(self.state, STORE, clock).seconds_to_wait(), 0, "a clock set back does not help"
        )
        TryCounter(self.state, STORE, clock).right()
        TryCounter(self.state, STORE, clock).check()

    def test_every_state_of_the_key_ring_has_its_sentence(self) -> None:
        ring = DesktopKeyRing()
        for error, words in (
            (keyring.errors.NoKeyringError(), "no key ring"),
            (keyring.errors.KeyringLocked(), "locked"),
            (keyring.errors.InitError(), "No program"),
            (keyring.errors.PasswordSetError("full"), "full"),
            (OSError("bus"), "did not answer"),
        ):
            with (
                self.subTest(words),
                mock.patch.object(keyring, "set_password", side_effect=error),
                self.assertRaises(PlaceError) as caught,
            ):
                ring.remember("store", "words")
            self.assertIn(words, str(caught.exception))
