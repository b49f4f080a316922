"""A job knows its store, a machine knows itself: others in their places are noticed, named and refused."""

from __future__ import annotations

import contextlib
import errno
import os
from unittest import mock

from good_tide.core.errors import (
    NameTakenError,
    NotInPlaceError,
    PlaceAwayError,
    PlaceError,
)
from good_tide.core.settings import StoreRef
from good_tide.storage.folder_place import LocalPlace
from good_tide.storage.place import Place
from tests.support.base import (
    GoodTideTest,
)
from tests.support.memory_place import MemoryPlace


class PlaceTest(GoodTideTest):
    def test_a_reference_without_knowledge_is_as_before(self) -> None:
        from good_tide.operations.stores.pinning import check_header, check_keys

        store = self.new_store()
        check_header(StoreRef(path="x"), store.place.where)
        check_keys(StoreRef(path="x"), store)
        with self.assertRaises(PlaceError):
            check_keys(StoreRef(path="x", store=store.header.store, encrypted=True, keys="00" * 16), store)


class PlaceContract:
    """Every place behaves like this."""

    place: Place

    def test_contract(self) -> None:
        place, case = self.place, self
        assert isinstance(case, GoodTideTest)
        with place.create("packs/a/one", "me-") as file:
            file.write(b"hello ")
            file.write(b"world")
            case.assertEqual(file.size, 11)
            case.assertEqual(place.names("packs"), [])
            file.commit()
        case.assertEqual(place.names("packs"), ["a/one"])
        case.assertEqual(
            (place.read("packs/a/one"), place.read("packs/a/one", 1, 3), place.read("packs/a/one", 3, 99)),
            (b"hello world", b"ell", b"lo world"),
        )
        case.assertEqual((place.size("packs/a/one"), place.names("none")), (11, []))
        with place.create("packs/a/two", "me-") as file:
            file.write(b"lost")
        case.assertEqual(place.names("packs"), ["a/one"])
        with place.create("packs/a/one", "me-") as file, case.assertRaises(NameTakenError):
            file.commit(exclusive=True)
        with place.create("packs/a/three", "me-") as file:
            file.commit(exclusive=True)
        place.remove("packs/a/one")
        place.remove("packs/a/one")
        case.assertEqual(place.names("packs"), ["a/three"])
        for act in (lambda: place.read("nothing"), lambda: place.size("nothing")):
            with case.assertRaises(NotInPlaceError):
                act()


class LocalPlaceTest(PlaceContract, GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.place = LocalPlace(self.folder)

    def test_a_file_is_durable_before_its_name_and_the_name_before_commit_returns(self) -> None:
        done: list[str] = []
        real_fsync, real_rename = os.fsync, os.rename

        def fsync(handle: int) -> None:
            done.append("folder" if os.path.isdir(f"/proc/self/fd/{handle}") else "file")
            real_fsync(handle)

        def rename(source: str, target: str, **folders: int) -> None:
            done.append("rename")
            real_rename(source, target, **folders)

        with (
            mock.patch("os.fsync", fsync),
            mock.patch("os.rename", rename),
            self.place.create("index/x", "me-") as file,
        ):
            file.write(b"x")
            done.clear()
            file.commit()
        self.assertEqual([step for step in done if step != "folder"], ["file", "rename"])
        self.assertEqual(done[-1], "folder")

    def test_leftovers_are_cleared_by_their_owner_only(self) -> None:
        for owner in ("me-", "you-"):
            self.place.create("packs/x", owner).write(b"left behind")
        self.place.clear_temporary("me-")
        self.assertEqual([name[:4] for name in self.place.names("tmp")], ["you-"])

    def test_a_folder_that_has_vanished_is_away_and_not_damaged(self) -> None:
        store = self.new_store("gone")
        first = self.snap(store)
        root = self.folder / "gone"
        root.rename(self.folder / "elsewhere")
        for act in (lambda: store.place.names("packs"), store.refresh, lambda: self.snap(store)):
            with self.assertRaises(PlaceAwayError):
                act()
        (self.folder / "elsewhere").rename(root)
        self.assertEqual(store.snapshots(), ([first], []))

    def test_a_file_that_fails_when_it_is_closed_leaves_nothing(self) -> None:
        real = os.close

        def close(handle: int) -> None:
            is_file = os.path.isfile(f"/proc/self/fd/{handle}")
            real(handle)
            if is_file:
                raise OSError(errno.EIO, "Input/output error")

        for committed in (False, True):
            file = self.place.create("index/x", "me-")
            file.write(b"x")
            with mock.patch("os.close", close), contextlib.suppress(PlaceError):
                if committed:
                    file.commit()
                file.discard()
            file.discard()
            self.assertEqual((self.place.names("tmp"), self.place.names("index")), ([], []))

    def test_a_file_system_that_makes_nothing_durable_takes_files(self) -> None:
        def no_fsync(handle: int) -> None:
            raise OSError(errno.EINVAL, "Invalid argument")

        def no_link(*words: object, **more: object) -> None:
            raise OSError(errno.EINVAL, "Invalid argument")

        with (
            mock.patch("os.fsync", no_fsync),
            mock.patch("os.link", no_link),
            self.place.create("index/x", "me-") as file,
        ):
            file.write(b"x")
            file.commit(exclusive=True)
        self.assertEqual(self.place.read("index/x"), b"x")


class MemoryPlaceTest(PlaceContract, GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.place = MemoryPlace()
