"""A job knows its store, a machine knows itself: others in their places are noticed, named and refused."""

from __future__ import annotations

import contextlib
from pathlib import Path

from good_tide.core.identifiers import local_name
from good_tide.operations.stores.opening import Catalog, open_catalog
from good_tide.storage.store import Store
from tests.support.base import (
    GoodTideTest,
)


class LocalNameTest(GoodTideTest):
    """Nothing that a store says becomes a path."""

    def test_caches_of_earlier_versions_go_on_and_those_of_strangers_do_not(self) -> None:
        store = self.new_store(passphrase=None)
        self.snap(store)
        with open_catalog_closing(store, self.cache) as catalog:
            catalog.sync(store)
        named = self.cache / local_name(store.header.store)
        self.assertTrue(named.is_dir())
        named.rename(self.cache / store.header.store)
        with open_catalog_closing(store, self.cache) as catalog:
            self.assertEqual(len(catalog.names()), 1)
        self.assertTrue(named.is_dir() and not (self.cache / store.header.store).exists())
        stranger = self.new_store("stranger", None)
        stranger.header = store.header  # it says that it is the same one
        with open_catalog_closing(stranger, self.cache) as catalog:
            self.assertEqual(catalog.names(), set())


def open_catalog_closing(store: Store, cache: Path) -> contextlib.AbstractContextManager[Catalog]:
    return contextlib.closing(open_catalog(store, cache))
