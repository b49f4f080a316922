"""Opening stores and their catalogs, and what can be said of a store without its passphrase."""

from __future__ import annotations

import contextlib
import math
import os
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import msgspec

from good_tide.core.errors import DamageError, PersonError
from good_tide.core.identifiers import MachineId, SnapshotId, StoreId, local_name
from good_tide.core.progress import Control
from good_tide.core.records import Machine
from good_tide.core.tide import Tide
from good_tide.core.translation import tr
from good_tide.crypto.slots import slot_hint
from good_tide.operations.stores.opened import machines_in
from good_tide.storage.catalog import Catalog
from good_tide.storage.catalog_copy import has_copy
from good_tide.storage.catalog_glance import glance_ended, glance_names, glance_snapshot, glance_tide
from good_tide.storage.folder_place import bytes_to_show
from good_tide.storage.folders import SNAPSHOT_FOLDER
from good_tide.storage.header import STORE_ID, NewStore, create_store, read_header, read_slots
from good_tide.storage.kept_here import KeptHere
from good_tide.storage.ledger import Ledger
from good_tide.storage.place import StorePlace, disk_errors
from good_tide.storage.place_kinds import folder_place, is_far, limit_line, store_place
from good_tide.storage.recovery_script import SCRIPT_FILE, put_script, recovery_script
from good_tide.storage.store import Store, open_store
from good_tide.storage.summaries import snapshot_names

__all__ = [
    "Catalog",
    "Store",
    "StoreFacts",
    "StorePlace",
    "about",
    "carry_catalog",
    "catalog_names",
    "create_at",
    "ended_versions",
    "keeping_here",
    "known_snapshot",
    "known_tide",
    "ledger_age",
    "limit_line",
    "locked_hint",
    "open_at",
    "open_catalog",
    "open_ledger",
    "put_recovery_script",
    "store_id",
    "store_place",
    "synced_catalog",
    "take_into_catalog",
]

_SMALL_CHANGE_FILES = 20_000
"""More changed files are not taken into the catalog at once, but when history is next asked for, or by the
next run."""
_MUCH_UNSEEN = 500
_LONG_HISTORY = 256
"""Snapshots that are worth a copy of the catalog on the store, and as many more before the next."""


class StoreFacts(msgspec.Struct, frozen=True):
    """What a store says of itself; ``machines`` None: hidden without the passphrase."""

    store: StoreId
    format: int
    encrypted: bool
    hint: str
    snapshots: int
    stored_bytes: int
    machines: tuple[Machine, ...] | None


def create_at(
    where: StorePlace,
    passphrase: str | None,
    hint: str = "",
    twin: Store | None = None,
    parity: bool = True,
) -> NewStore:
    """Make a store in a place (``header.create_store``); with ``twin``, one to carry its snapshots to."""
    return create_store(where, passphrase, hint, twin=None if twin is None else twin.keys, parity=parity)


def open_at(where: StorePlace, passphrase: str | None) -> Store:
    """Open the store in a place (``store.open_store``)."""
    return open_store(where, passphrase)


def keeping_here(store: Store, cache: Path) -> Store:
    """A store that was opened; of one on a server or a share this machine keeps what would be carried
    over the line each time (``storage.kept_here``)."""
    if is_far(store.place.where):
        store.keep_with(KeptHere(own_cache(cache, store.header.store) / "kept.sqlite3"))
    return store


def locked_hint(where: StorePlace) -> str | None:
    """The hint of an encrypted store, None for one that needs no passphrase.

    Raises:
        PlaceError: no store there.
    """
    place = where.files()
    return slot_hint(read_slots(place)) if read_header(place).encrypted else None


def store_id(where: StorePlace) -> StoreId:
    """The id of the store in a place.

    Raises:
        PlaceError: no store there.
    """
    return read_header(where.files()).store


def put_recovery_script(target: Path) -> Path:
    """Write the script that recovers files without this program: into a store, or into a file. Returns the
    file's path.

    Raises:
        PersonError: there is something else in its place. PlaceError: the disk does not take it.
    """
    if os.path.isdir(target):
        place = folder_place(target).files()
        read_header(place)
        put_script(place)
        return target / SCRIPT_FILE
    with disk_errors(tr("Writing {target}").format(target=target)):
        try:
            with open(target, "xb") as file:
                file.write(recovery_script())
        except FileExistsError:
            raise PersonError(
                tr("{target} is there already").format(target=target),
                tr("Name a new file, or the folder of a store"),
            ) from None
    return target


def about(where: StorePlace, store: Store | None) -> StoreFacts:
    """What can be said of the store in a place; more when it is open.

    Raises:
        PlaceError: no store there.
        DamageError: its header is damaged.
    """
    place = where.files()
    header = read_header(place)
    machines = tuple(machines_in(store)) if store is not None else None
    return StoreFacts(
        header.store,
        header.format,
        header.encrypted,
        slot_hint(read_slots(place)),
        len(place.names(SNAPSHOT_FOLDER)),
        bytes_to_show(place),
        machines,
    )


def open_catalog(store: Store, cache: Path) -> Catalog:
    """The local catalog of a store, as it was left."""
    return Catalog(_catalog_file(cache, store.header.store), store.keys.fingerprint)


def catalog_names(cache: Path, identity: StoreId) -> frozenset[SnapshotId]:
    """Names of the snapshots that the local catalog of a store knows, by the store's id."""
    return glance_names(_catalog_file(cache, identity))


def known_snapshot(cache: Path, identity: StoreId, name: str) -> tuple[str, int] | None:
    """The machine and the time of a snapshot as the local catalog of a store has them, so that they are known
    of a damaged one too."""
    return glance_snapshot(_catalog_file(cache, identity), name)


def known_tide(cache: Path, identity: StoreId, machine: MachineId, since: int) -> Tide:
    """A machine's snapshots from a moment on, and the newest, as the local catalog of a store has them:
    without store and passphrase."""
    return glance_tide(_catalog_file(cache, identity), machine, since)


def ended_versions(cache: Path, identity: StoreId, machine: MachineId) -> Iterator[tuple[bytes, SnapshotId]]:
    """Versions of a machine's files that no longer stand (``catalog_glance.glance_ended``)."""
    return glance_ended(_catalog_file(cache, identity), machine)


def own_cache(cache: Path, identity: StoreId) -> Path:
    """The folder of the local caches of a store. Earlier versions called it by the store's id."""
    folder, earlier = cache / local_name(identity), cache / identity
    if STORE_ID.fullmatch(identity) and not folder.exists() and earlier.is_dir():
        with contextlib.suppress(OSError):
            earlier.rename(folder)
    return folder


def _catalog_file(cache: Path, identity: StoreId) -> Path:
    return own_cache(cache, identity) / "catalog.sqlite3"


def synced_catalog(
    store: Store, cache: Path, tell: Callable[[int, int], None] | None = None
) -> tuple[Catalog, list[DamageError]]:
    """The local catalog of a store, brought up to date; and what could not be read.

    :param tell: given the snapshots taken in so far, and those there are to take in.
    """
    catalog = open_catalog(store, cache)
    return catalog, catalog.sync(store, tell)


def open_ledger(store: Store, cache: Path, control: Control) -> Ledger:
    """The local ledger of a store, brought up to date: what would come back if parts of history went.

    Raises:
        DamageError: a snapshot or a listing cannot be read.
        StoppedError: the person stopped it.
    """
    return Ledger(_ledger_file(cache, store), store, control)


def ledger_age(store: Store, cache: Path) -> float:
    """Seconds since the local ledger of a store was last written; infinite when there is none."""
    try:
        return max(0.0, time.time() - _ledger_file(cache, store).stat().st_mtime)
    except OSError:
        return math.inf


def _ledger_file(cache: Path, store: Store) -> Path:
    return own_cache(cache, store.header.store) / "ledger.npz"


def take_into_catalog(store: Store, catalog: Catalog) -> None:
    """After a snapshot: bring the catalog up to date, unless that would take long: the newest snapshot
    changed many files, or much of history is unseen."""
    known = catalog.names()
    unseen = snapshot_names(store, known) - known
    if not unseen or len(unseen) > _MUCH_UNSEEN:
        return
    newest = max((store.read_snapshot(name) for name in unseen), key=lambda one: one.time)
    if newest.tally.changed_files <= _SMALL_CHANGE_FILES:
        catalog.sync(store)


def carry_catalog(store: Store, catalog: Catalog, cache: Path, owner: str) -> None:
    """Put a copy of the local catalog on the store, when history became so much longer since that was last
    done that another machine would feel it.

    :param owner: begins the names of temporary files.
    """
    noted = own_cache(cache, store.header.store) / "carried"
    count, before = catalog.count(), 0
    if has_copy(store):
        with contextlib.suppress(OSError, ValueError):
            before = int(noted.read_text())
    if count < _LONG_HISTORY or catalog.trouble or abs(count - before) < max(_LONG_HISTORY, before // 4):
        return
    if catalog.carry(store, owner):
        with contextlib.suppress(OSError):
            noted.write_text(str(count))
