"""Disks as places for stores: recognised, checked, found again; job files; who may read."""

from __future__ import annotations

import os
import subprocess
import sys
import unittest
from pathlib import Path
from unittest import mock

from good_tide.core.places import Level, check_place
from good_tide.lines.mounts import mount_of, read_mounts
from good_tide.operations.places.probing import Probe
from good_tide.operations.stores import disks
from good_tide.storage.folder_place import FolderPlace
from good_tide.storage.share_place import SharePlace
from good_tide.system.disks import SystemDisks
from good_tide.system.udisks import Drive
from tests.support.base import GoodTideTest, create_store
from tests.support.disk_facts import MINE


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

    def test_each_share_that_the_file_manager_has_opened_has_room_of_its_own(self) -> None:
        every = self.folder / "gvfs"
        share = every / "smb-share:server=harbour,share=office"
        share.mkdir(parents=True)
        with open(self.table, "a", encoding="utf-8") as table:
            table.write(f"26 20 0:41 / {every} rw - fuse.gvfsd-fuse gvfsd-fuse rw\n")
        asked: list[Path] = []

        def probe(path: Path, known: frozenset[str]) -> Probe:
            asked.append(path)
            return Probe(1 << 40, 1 << 39, True, ())

        with mock.patch.object(disks, "probe_apart", probe):
            found = disks.examine(self.disks, FolderPlace(share / "new"), MINE, frozenset(), False)
        assert found.disk is not None
        self.assertEqual((asked, found.disk.kind, found.disk.free), ([share], "network", 1 << 39))
        self.assertIsNot(found.checks[0].level, Level.BAD)

    def test_a_folder_of_a_share_is_looked_at_by_another_process(self) -> None:
        share = self.folder / "share"
        share.mkdir()
        (share / "letter").write_text("somebody's")
        with open(self.table, "a", encoding="utf-8") as table:
            table.write(f"26 20 0:41 / {share} rw - cifs //harbour/office rw\n")
        told = Probe(1 << 40, 1 << 39, True, ())

        def examined(folder: Path, measure: bool) -> tuple[list[str], int]:
            where = SharePlace(folder)
            self.addCleanup(where.line.end)
            with (
                mock.patch.object(disks, "probe_apart", lambda *words: told),
                mock.patch("os.access", side_effect=AssertionError("not touched here")),
                mock.patch("os.statvfs", side_effect=AssertionError("not touched here")),
            ):
                found = disks.examine(self.disks, where, MINE, frozenset(), measure)
            assert found.disk is not None
            return [check.what for check in found.checks if check.level is Level.BAD], found.disk.free

        self.assertEqual(examined(share / "new" / "store", True), ([], 1 << 39))
        self.assertEqual(examined(share / "new", False), ([], 1 << 39))
        self.assertEqual(os.listdir(share), ["letter"])
        self.assertIn("is not a folder", examined(share / "letter", False)[0][0])
        self.assertIn("holds other things", examined(share, False)[0][0])
        create_store(share / "store", None)
        made = SharePlace(share / "store")
        self.addCleanup(made.line.end)
        with mock.patch.object(disks, "probe_apart", lambda *words: told):
            found = disks.examine(self.disks, made, MINE, frozenset(), False)
        self.assertIsNotNone(found.holds)

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
            " good_tide.system.disks import SystemDisks; from good_tide.storage.place_kinds import"
            " folder_place; from pathlib import Path; "
            f'd = SystemDisks(); e = examine(d, folder_place(Path("{self.work}/new")), Wanted(bytes=30<<20),'
            " frozenset(),"
            " True); "
            "print([(c.level.value, c.what) for c in e.checks])'"
        )
        done = subprocess.run(
            ["unshare", "-m", "sh", "-c", script], capture_output=True, text=True, check=False
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        for words in ("tmpfs is memory", "Too small: 20.0 MiB free of 20.0 MiB"):
            self.assertIn(words, done.stdout)
