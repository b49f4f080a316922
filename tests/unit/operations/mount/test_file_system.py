"""What the system is told of a folder, without mounting anything."""

from __future__ import annotations

import errno
import os
import stat
import subprocess
import unittest
from typing import Any
from unittest import mock

import mfusepy

from good_tide.core.clock import SetClock
from good_tide.core.identifiers import Nanoseconds
from good_tide.operations.mount import file_system
from good_tide.operations.mount.file_system import PastMount
from good_tide.operations.mount.stored_folder import StoredFolder, row_of
from good_tide.operations.mount.tree import PastTree
from tests.support.base import HOUR, MACHINE, T0, GoodTideTest


class FileSystemTest(GoodTideTest):
    """Asks as the library of FUSE does."""

    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store(passphrase=None)

    def mount(self) -> PastMount:
        tree = PastTree(self.store, MACHINE.id, self.cache, SetClock(Nanoseconds(T0 + HOUR)))
        with mock.patch.object(mfusepy.FUSE, "__init__", lambda *given, **named: None):
            return PastMount(tree, mock.Mock(), "/nowhere", "a store", mock.Mock())

    def latest(self, mount: PastMount) -> bytes:
        name = mount._tree.item(b"/moments/latest").entry.extra.target
        return b"/moments/" + name + bytes(self.work)

    def listed(self, mount: PastMount, path: bytes, room: int) -> dict[bytes, tuple[int, ...]]:
        """What is told of a folder, ``room`` names at a time."""
        found: dict[bytes, tuple[int, ...]] = {}
        at = 0
        while True:
            taken: list[int] = []

            def fill(buf: Any, name: bytes, info: Any, offset: int, flags: int) -> int:
                if len(taken) == room:  # noqa: B023  # it is called in this turn only
                    return 1
                taken.append(offset)  # noqa: B023
                self.assertNotIn(name, found)
                found[name] = (
                    (info.st_mode, info.st_size, info.st_mtimespec.tv_sec, info.st_mtimespec.tv_nsec)
                    if info is not None
                    else ()
                )
                return 0

            self.assertEqual(mount.readdir_fuse_3(path, None, fill, at, None, 1), 0)
            if not taken:
                return found
            at = taken[-1]

    def test_a_long_folder_is_told_in_parts_with_all_that_is_known_of_each_name(self) -> None:
        for number in range(50):
            path = self.write(f"{number}.txt", "x" * number)
            os.utime(path, ns=(0, 1_700_000_000_123_456_789 + number))
        (self.work / "sub").mkdir()
        self.snap(self.store)
        mount = self.mount()
        for room in (1, 7, 52, 1000):
            with self.subTest(room=room):
                found = self.listed(mount, self.latest(mount), room)
                self.assertEqual(len(found), 53)
                self.assertEqual((found[b"."], found[b".."]), ((), ()))
                mode, *rest = found[b"7.txt"]
                self.assertTrue(stat.S_ISREG(mode))
                self.assertEqual(rest, [7, 1_700_000_000, 123_456_796])
                self.assertTrue(stat.S_ISDIR(found[b"sub"][0]))

    def test_what_is_told_of_a_folder_is_what_is_told_of_each_name(self) -> None:
        for number in range(30):
            self.write(f"{number}.txt", "x" * number)
        self.write("large.bin", os.urandom(3_000_000))
        with open(self.write("holes.img"), "r+b") as file:
            file.write(os.urandom(200_000))
            file.seek(5_000_000)
            file.write(os.urandom(200_000))
        with open(self.write("nothing.img"), "r+b") as file:
            file.truncate(1_000_000)
        os.link(self.work / "large.bin", self.work / "further name.bin")
        (self.work / "link").symlink_to("a/target/of/some/length")
        (self.work / "sub").mkdir(0o750)
        os.mkfifo(self.work / "pipe")
        (self.work / "1.txt").chmod(0o400)
        self.snap(self.store)
        mount = self.mount()
        path = self.latest(mount)
        folder = mount._tree.inside(path)
        assert isinstance(folder, StoredFolder)
        rows = folder.rows(path)
        self.assertEqual(rows, [row_of(name, path + b"/" + name, item) for name, item in folder.items()])
        self.assertEqual(len(rows), 36)
        told = {row.name: row for row in rows}
        self.assertEqual(told[b"large.bin"][1:3], (told[b"further name.bin"].inode, 2))
        self.assertLess(told[b"holes.img"].blocks * 512, 500_000)
        self.assertEqual(told[b"link"].size, len("a/target/of/some/length"))
        self.assertNotIn(b"pipe", told)

    def test_what_is_written_at_once_is_what_each_field_has(self) -> None:
        info, mode = mfusepy.c_stat(), stat.S_IFREG | 0o640
        file_system._write_stat(info, 1 << 60, 2, mode, 1000, 1001, 1 << 40, 7, *range(10, 16))
        numbers = info.st_ino, info.st_nlink, info.st_mode, info.st_uid, info.st_gid
        self.assertEqual(numbers, (1 << 60, 2, mode, 1000, 1001))
        self.assertEqual((info.st_size, info.st_blocks), (1 << 40, 7))
        times = [info.st_atimespec, info.st_mtimespec, info.st_ctimespec]
        self.assertEqual([(one.tv_sec, one.tv_nsec) for one in times], [(10, 11), (12, 13), (14, 15)])

    def test_where_no_access_list_is_in_a_history_nobody_asks_for_each_file(self) -> None:
        self.write("a.txt", "a")
        self.snap(self.store)
        mount = self.mount()
        path = self.latest(mount) + b"/a.txt"

        def answers(mount: PastMount) -> list[int]:
            names = (b"system.posix_acl_access", b"security.selinux", b"user.note")
            return [mount.getxattr(path, name, None, 0) for name in names]

        self.assertEqual(answers(mount), [-errno.ENOTSUP, -errno.ENOTSUP, -errno.ENODATA])
        self.write("sub/b.txt", "b")
        subprocess.run(["setfacl", "-m", "u:1234:r", str(self.work / "sub" / "b.txt")], check=True)
        self.snap(self.store, 1)
        self.assertEqual(answers(self.mount()), [-errno.ENODATA, -errno.ENOTSUP, -errno.ENODATA])
        mount = self.mount()
        with_list = self.latest(mount) + b"/sub/b.txt"
        self.assertGreater(mount.getxattr(with_list, b"system.posix_acl_access", None, 0), 0)

    def test_a_catalog_of_an_earlier_version_does_not_know_that(self) -> None:
        self.write("a.txt", "a")
        self.snap(self.store)
        mount = self.mount()
        mount._tree._catalog._db.execute("DROP TABLE plain")
        mount._tree._catalog.close()
        self.assertFalse(self.mount()._tree.has_no_lists)
        self.write("a.txt", "b")
        self.snap(self.store, 1)
        self.assertFalse(self.mount()._tree.has_no_lists)


if __name__ == "__main__":
    unittest.main()
