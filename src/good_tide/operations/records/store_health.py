"""What is remembered of the health of each store, in the records of the settings' jobs."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from good_tide.core.damage import Damage, costs_words
from good_tide.core.errors import GoodTideError
from good_tide.core.health import StoreHealth
from good_tide.core.identifiers import StoreId
from good_tide.operations.records.kept_file import KeptFile

if TYPE_CHECKING:
    from good_tide.storage.store import Store

_FILE = "health.json"


class _Health(msgspec.Struct, omit_defaults=True):
    stores: dict[StoreId, StoreHealth] = {}


class HealthRecords:
    """What is known of all stores' health.

    :param records: the folder of the settings' records.
    """

    def __init__(self, records: Path) -> None:
        self._file = KeptFile(records / _FILE, _Health)

    def of(self, store: StoreId) -> StoreHealth:
        """What is known of a store."""
        return self._file.read().stores.get(store, StoreHealth())

    def change(self, store: StoreId, change: Callable[[StoreHealth], StoreHealth]) -> StoreHealth:
        """Keep what is known of a store, as it becomes by a change of what it is now."""
        with self._file.changing() as health:
            made = health.stores[store] = change(health.stores.get(store, StoreHealth()))
            return made

    def note_written(self, store: Store, when: int) -> None:
        """A snapshot came into a store; and what is known to be damaged by now."""
        from good_tide.storage.needs import harmful  # most who ask how a store is do not open it

        new, mended = harmful(store), len(store.mending.files)

        def written(known: StoreHealth) -> StoreHealth:
            fresh = tuple(file for file in new if file not in known.judged and file not in known.damage)
            known = msgspec.structs.replace(known, written=when, failing_since=0, error="", advice="")
            if mended:
                known = msgspec.structs.replace(known, mended=known.mended + mended, mended_at=when)
            if not fresh:
                return known
            return msgspec.structs.replace(
                known, damage=(*known.damage, *fresh), costs="", lost=False, accepted=False, found=when
            )

        self.change(store.header.store, written)
        store.mending.files.clear()

    def note_failed(self, store: StoreId, error: GoodTideError, when: int) -> None:
        """A store did not take a snapshot."""

        def failed(known: StoreHealth) -> StoreHealth:
            return msgspec.structs.replace(
                known, failing_since=known.failing_since or when, error=error.what, advice=error.advice
            )

        self.change(store, failed)

    def note_looked(self, store: Store, damage: Sequence[Damage], lost: bool, when: int) -> None:
        """A verification or a repair has looked at all of a store.

        :param lost: whether what is damaged could not be mended.
        """
        files = tuple(one.file for one in damage)
        judged = tuple({*files, *store.damage.files})
        mended = len(store.mending.files)

        def looked(known: StoreHealth) -> StoreHealth:
            same = set(files) <= set(known.damage)
            return msgspec.structs.replace(
                known,
                damage=files,
                judged=judged,
                costs=costs_words(damage),
                lost=bool(files) and (lost or (known.lost and same)),
                accepted=known.accepted and same and bool(files),
                found=(known.found if same else 0) or when if files else 0,
                mended=known.mended + mended,
                mended_at=when if mended else known.mended_at,
            )

        self.change(store.header.store, looked)
        store.mending.files.clear()
