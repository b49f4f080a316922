"""What agent and command line ask of an open store, which is a token to them."""

from __future__ import annotations

import contextlib

from good_tide.core.errors import DamageError, NotInPlaceError
from good_tide.core.identifiers import SnapshotId, StoreId
from good_tide.core.records import Machine, Snapshot
from good_tide.storage.catalog import Catalog
from good_tide.storage.folders import SNAPSHOT_FOLDER
from good_tide.storage.store import Store
from good_tide.storage.summaries import known_snapshots, listed_names


def id_of(store: Store) -> StoreId:
    """The id of an open store."""
    return store.header.store


def called(store: Store) -> str:
    """How the place of an open store is called."""
    return store.place.where.called


def unlike(store: Store, catalog: Catalog) -> tuple[int, int]:
    """How many snapshots the catalog does not know yet, and how many it knows that are gone."""
    known = catalog.names()
    present = listed_names(store, known)
    return len(present - known), len(known - present)


def has_parity(store: Store) -> bool:
    """Whether the packs of an open store get parity."""
    return store.layout.parity


def all_snapshots(store: Store) -> tuple[list[Snapshot], list[DamageError]]:
    """All readable snapshots of a store in order of time, and what is wrong with the others."""
    return known_snapshots(store)


def snapshot_of(store: Store, name: SnapshotId) -> Snapshot:
    """One snapshot.

    Raises:
        DamageError: it is not intact. PlaceError: it is not there.
    """
    return store.read_snapshot(name)


def is_there(store: Store, name: SnapshotId) -> bool:
    """Whether a snapshot lies in a store now, were it damaged: nobody released it."""
    with contextlib.suppress(NotInPlaceError):
        store.place.size(f"{SNAPSHOT_FOLDER}/{name}")
        return True
    return False


def covered_folders(store: Store, snapshot: Snapshot) -> list[bytes]:
    """The folders that a snapshot covers."""
    known = snapshot.brief.folders
    return list(known) if known is not None else [root.name for root in store.roots(snapshot.record)]


def machines_in(store: Store) -> list[Machine]:
    """The machines whose snapshots are in a store, in order of their first."""
    return list({one.machine.id: one.machine for one in known_snapshots(store)[0]}.values())
