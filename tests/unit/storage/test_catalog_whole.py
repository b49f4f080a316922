"""New folders that are taken into the catalog as a whole make the catalog that comparing makes."""

from __future__ import annotations

import contextlib
import os
import random
import sqlite3
from pathlib import Path
from unittest import mock

from good_tide.core.clock import SetClock
from good_tide.core.entries import Entry, Extent, Kind
from good_tide.core.errors import DamageError
from good_tide.core.identifiers import ChunkId, MachineId, Nanoseconds, PageId, SnapshotId
from good_tide.core.pages import Page, encode_page
from good_tide.core.progress import Silent
from good_tide.core.records import Machine
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.storage import catalog_whole
from good_tide.storage.catalog import Catalog
from good_tide.storage.catalog_intake import Intake
from good_tide.storage.store import Store
from tests.support.base import MACHINE, T0, GoodTideTest

OTHER = Machine(MachineId("0f" * 16), "other")


def facts(file: Path) -> dict[str, list[tuple[object, ...]]]:
    """All that a catalog holds, by paths instead of numbers."""
    with contextlib.closing(sqlite3.connect(file)) as db:
        above = {
            one: (machine, parent, name)
            for one, machine, parent, name in db.execute("SELECT id, machine, parent, name FROM folder")
        }

        def path(folder: int) -> bytes:
            if folder not in above:
                return b"%d" % folder
            machine, parent, name = above[folder]
            before = path(parent) if parent else b"%d" % machine
            return before + b"/" + bytes(name)

        def rows(query: str) -> list[tuple[object, ...]]:
            return sorted([(path(folder), *rest) for folder, *rest in db.execute(query)], key=repr)

        def names() -> list[tuple[object, ...]]:
            found = []
            for machine, folded, plain, folders in db.execute(
                "SELECT machine, folded, plain, folders FROM names"
            ):
                marks = memoryview(folders).cast("q")
                both = zip(folded.split(b"\0")[1:-1], plain.split(b"\0")[1:-1], marks, strict=True)
                found += [(machine, path(mark >> 1), mark & 1, *own) for *own, mark in both]
            return sorted(found, key=repr)

        indexes = db.execute("SELECT name, sql FROM sqlite_master WHERE type = 'index' AND sql IS NOT NULL")
        return {
            "spans": rows(
                "SELECT folder, name, kind, size, modified, identity, first, last, chunk, offset FROM span"
            ),
            "folders": rows("SELECT id, machine, listing FROM folder"),
            "activity": rows("SELECT * FROM activity"),
            "names": names(),
            "snapshots": list(db.execute("SELECT * FROM snapshot ORDER BY machine, seq")),
            "lists": list(db.execute("SELECT * FROM plain ORDER BY machine")),
            "indexes": sorted(indexes),
        }


class CatalogWholeTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        chance = random.Random(5)
        for number in range(60):
            for file in range(number % 4):
                self.write(
                    f"{number % 7}/{number}/in/Cue {file}.TXT", chance.randbytes(chance.randrange(3000))
                )
        for number in range(1500):
            self.write(f"many/{number:04}", b"" if number % 9 == 0 else b"%d" % number)
        self.write("large", chance.randbytes(3_000_000))
        with (self.work / "sparse").open("wb") as holed:
            holed.write(chance.randbytes(200_000))
            holed.seek(5_000_000)
            holed.write(b"end")
        os.symlink("large", self.work / "1/way")
        os.mkfifo(self.work / "2/pipe")
        self.write(b"3/\xff\xfe", "no UTF-8")
        (self.work / "4/nothing/inside").mkdir(parents=True)

    def snapped(self, store: Store, hour: int = 0, machine: Machine = MACHINE) -> SnapshotId:
        taken = capture(
            store,
            CaptureRequest((self.work,), machine),
            SetClock(Nanoseconds(T0 + hour)),
            Silent(),
            self.folder / machine.name,
        )
        return taken.id

    def catalog(self, store: Store, name: str, compared: bool) -> dict[str, list[tuple[object, ...]]]:
        """What a new catalog holds of a store."""
        file = self.folder / f"{name}.db"
        fits = (
            mock.patch.object(Intake, "_is_new", return_value=False) if compared else contextlib.nullcontext()
        )
        with fits, contextlib.closing(Catalog(file, store.keys.fingerprint)) as catalog:
            self.assertEqual(catalog.sync(store), [])
        return facts(file)

    def test_it_is_the_catalog_that_comparing_makes(self) -> None:
        for attribute in ("", "system.posix_acl_access"):
            with self.subTest(attribute=attribute):
                if attribute:
                    rule = b"\2\0\0\0" + b"".join(
                        tag.to_bytes(2, "little")
                        + mode.to_bytes(2, "little")
                        + who.to_bytes(4, "little", signed=True)
                        for tag, mode, who in ((1, 6, -1), (2, 4, 12), (4, 4, -1), (16, 4, -1), (32, 4, -1))
                    )
                    os.setxattr(self.work / "large", attribute, rule)
                store = self.new_store(f"store{len(attribute)}", passphrase=None)
                self.snapped(store)
                found = self.catalog(store, f"whole{len(attribute)}", compared=False)
                self.assertEqual(found, self.catalog(store, f"compared{len(attribute)}", compared=True))
                self.assertEqual([bool(lists) for _, lists in found["lists"]], [bool(attribute)])
                self.assertGreater(len(found["spans"]), 1600)
                with mock.patch.object(catalog_whole, "_BYTES_AT_ONCE", 1):  # each page by itself
                    self.assertEqual(found, self.catalog(store, f"by pages {len(attribute)}", compared=False))

    def test_later_snapshots_and_other_machines_come_on_top_of_it(self) -> None:
        store = self.new_store(passphrase=None)
        self.snapped(store)
        self.write("many/0007", "another")
        self.write("3/later/one/two/three.txt", "3")
        self.write("later/empty", "")
        (self.work / "large").unlink()
        self.snapped(store, 1)
        self.snapped(store, 2, OTHER)
        found = self.catalog(store, "whole", compared=False)
        self.assertEqual(found, self.catalog(store, "compared", compared=True))
        self.assertEqual([row[1] for row in found["snapshots"]], [1, 2, 1])

    def test_a_listing_that_cannot_be_read_leaves_the_catalog_as_it_was(self) -> None:
        store = self.new_store(passphrase=None)
        self.snapped(store)
        file = self.folder / "catalog.db"
        with contextlib.closing(Catalog(file, store.keys.fingerprint)) as catalog:
            empty = facts(file)
            real, asked = store.page, []

            def page(one: PageId) -> Page:
                asked.append(one)
                if len(asked) == 40:
                    raise DamageError("flipped")
                return real(one)

            with mock.patch.object(store, "page", page):
                self.assertEqual(len(catalog.sync(store)), 1)
            self.assertEqual(facts(file), empty)
            self.assertEqual(catalog.sync(store), [])
        self.assertEqual(facts(file), self.catalog(store, "compared", compared=True))

    def test_two_folders_of_one_name_in_two_pages_are_damage(self) -> None:
        store = self.new_store(passphrase=None)
        self.snapped(store)
        file = self.folder / "catalog.db"
        nothing = encode_page([])
        page = encode_page([Entry(b"twice", Kind.FOLDER, extents=(Extent(ChunkId(bytes(32)), 0, 0),))])
        with contextlib.closing(Catalog(file, store.keys.fingerprint)) as catalog:
            empty = facts(file)

            def pages(one: PageId) -> Page:
                return Page(nothing if one == bytes(32) else page)

            root = Entry(
                bytes(self.work),
                Kind.FOLDER,
                extents=tuple(Extent(ChunkId(bytes([number]) * 32), 0, 0) for number in (1, 2)),
            )
            with mock.patch.object(store, "page", pages), mock.patch.object(store, "roots", lambda _: [root]):
                (damage,) = catalog.sync(store)
            self.assertIn("contradicts itself", str(damage))
            self.assertEqual(facts(file), empty)
