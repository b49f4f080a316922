"""In which versions a phrase stands."""

from __future__ import annotations

import os

from good_tide.core.progress import Silent
from good_tide.operations.history.containing import containing
from good_tide.operations.history.path_history import path_life
from good_tide.operations.stores.opening import synced_catalog
from good_tide.viewing.apart import Viewer
from tests.support import documents
from tests.support.base import MACHINE, GoodTideTest


class ContainingTest(GoodTideTest):
    def test_since_when_and_until_when(self) -> None:
        store = self.new_store(passphrase=None)
        texts = ("the fee", "The  Fee\nis 120 €", "the FÉE  is 120 € a night", "\0\0\0", "nothing")
        for hour, text in enumerate(texts):
            self.write("letter.txt", text)
            self.snap(store, hour)
        (self.work / "letter.txt").unlink()
        self.snap(store, 5)
        self.write("letter.txt", texts[1])
        self.snap(store, 6)
        catalog, _ = synced_catalog(store, self.cache)
        self.addCleanup(catalog.close)
        path = os.fsencode(self.work / "letter.txt")
        life = path_life(catalog, MACHINE.id, path)
        viewer = Viewer()
        self.addCleanup(viewer.close)
        found = containing(viewer, store, catalog.tide(MACHINE.id), life, " fee is  120", Silent())
        self.assertEqual(found, [False, True, True, None, False, True])

    def test_in_documents_tables_and_under_an_earlier_name(self) -> None:
        store = self.new_store(passphrase=None)
        self.write("old.odt", documents.open_text("The fee is 120."))
        self.snap(store, 0)
        (self.work / "old.odt").rename(self.work / "new.odt")
        self.snap(store, 1)
        self.write("new.odt", documents.open_text("No fee any more."))
        self.write("list.csv", "Item;Fee\nTape;120\n")
        self.write("all.zip", documents.zipped(fee_txt="x"))
        self.snap(store, 2)
        catalog, _ = synced_catalog(store, self.cache)
        self.addCleanup(catalog.close)
        viewer, tide = Viewer(), catalog.tide(MACHINE.id)
        self.addCleanup(viewer.close)
        for name, phrase, has in (
            ("new.odt", "fee is 120", [True, True, False]),
            ("list.csv", "tape;120", [True]),
            ("list.csv", "tape 120", [True]),
            ("all.zip", "fee", [None]),
        ):
            with self.subTest(name, phrase=phrase):
                life = path_life(catalog, MACHINE.id, os.fsencode(self.work / name))
                self.assertEqual(containing(viewer, store, tide, life, phrase, Silent()), has)
