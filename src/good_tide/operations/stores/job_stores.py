"""The ways into a job's stores and their holding areas: found, checked, opened with what is known of their
passphrases."""

from __future__ import annotations

import threading
import time
from typing import Protocol

from good_tide.core.errors import PersonError, WrongPassphraseError
from good_tide.core.identifiers import StoreId
from good_tide.core.settings import Job, StoreRef
from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.operations.records.passphrase_attempts import AttemptCounter
from good_tide.operations.stores import holding_area as areas
from good_tide.operations.stores.opening import (
    Store,
    StorePlace,
    catalog_names,
    limit_line,
    locked_hint,
    store_id,
)
from good_tide.operations.stores.passphrases import kept_passphrase, open_counted
from good_tide.operations.stores.pinning import check_header, check_keys, knowing, pin_in_settings


class Passphrases(Protocol):
    """Where passphrases come from besides a job's passphrase file and the key ring."""

    def known(self, store: StoreId) -> str | None:
        """One that a person typed or named before; None if there is none."""
        ...

    def ask(self, where: str, hint: str | None) -> str | None:
        """One that a person types now; None when nobody can be asked."""
        ...

    def unreadable(self, error: PersonError) -> None:
        """A job's passphrase file cannot be read: raises the error, or lets the person be asked."""
        ...


class NobodyToAsk:
    """No passphrases but those that are kept."""

    def known(self, store: StoreId) -> str | None:
        return None

    def ask(self, where: str, hint: str | None) -> str | None:
        return None

    def unreadable(self, error: PersonError) -> None:
        raise error


_ASK_AGAIN = 60.0


class JobStores:
    """The ways into the stores of one job, which comes to know them. What was opened stays open. Threads may
    use it at once."""

    def __init__(self, context: Context, job: Job, passphrases: Passphrases) -> None:
        self.job = job
        self._context, self._passphrases = context, passphrases
        self._open: dict[StoreId, Store] = {}
        self._refused: dict[StoreId, str] = {}
        """Kept passphrases that did not open a store, so that looking again is no further wrong try."""
        self._asked: dict[StoreId, tuple[bool, float]] = {}
        """Whether a passphrase is kept for a store, and when that was asked (seconds of the monotonic
        clock)."""
        self._guard = threading.Lock()
        self._opening: dict[tuple[str, str], threading.RLock] = {}
        """One for each store, held while it is opened, which its disk may hold up."""

    def _lock(self, ref: StoreRef) -> threading.RLock:
        with self._guard:
            return self._opening.setdefault(ref.place, threading.RLock())

    def place_of(self, ref: StoreRef) -> StorePlace | None:
        """Where one of the job's stores is now, None while its disk is away or its share does not answer."""
        return self._context.whereabouts.of(ref)

    def present(self, ref: StoreRef) -> StorePlace:
        """Where a store is now.

        Raises:
            PlaceError: its disk is away.
        """
        where = self.place_of(ref)
        if where is None:
            raise self._context.whereabouts.away(ref)
        return where

    def here(self) -> list[StoreRef]:
        """The job's stores that are here now."""
        return [ref for ref in self.job.stores if self.place_of(ref) is not None]

    def store(self, ref: StoreRef) -> Store:
        """One of the job's stores, whose disk is here.

        Raises:
            GoodTideError: it cannot be opened, or another one is in its place.
        """
        ref = next((one for one in self.job.stores if one.place == ref.place and one.store), ref)
        where = self.present(ref)
        limit_line(where, self.job.line)
        with self._lock(ref):
            check_header(ref, where)
            identity = store_id(where)
            known = self._open.get(identity)
            if known is not None and known.place.where == where:
                check_keys(ref, known)
                return known
            passphrase = self._passphrase(identity, where)
            try:
                opened = open_counted(self._context, where, passphrase)
            except WrongPassphraseError:
                self._refuse(identity, passphrase)
                raise
            check_keys(ref, opened)
            self._open[identity] = opened
            pin_in_settings(self._context.here.settings, self.job.id, ref, opened)
            with self._guard:
                self.job = knowing(self.job, ref, opened)
            return opened

    def _passphrase(self, identity: StoreId, where: StorePlace) -> str | None:
        """What was typed; or what the passphrase file or the key ring has; or what a person types now.

        :param where: where the header with the key slots lies.
        """
        hint = locked_hint(where)
        if hint is None:
            return None
        found = self._passphrases.known(identity)
        if found is None:
            try:
                found = kept_passphrase(self.job, identity, self._context.ring)
            except PersonError as error:
                self._passphrases.unreadable(error)
        if found is None:
            found = self._passphrases.ask(where.called, hint)
        if found is not None and self._refused.get(identity) == found:
            raise WrongPassphraseError(
                tr("The passphrase that is kept no longer opens this store"),
                tr("Type the one that holds now"),
            )
        return found

    def locked(self) -> list[StoreRef]:
        """The stores here that nobody can open by himself: encrypted, not open, and their passphrase is kept
        nowhere, or no longer opens them."""
        return [ref for ref in self.here() if ref.encrypted and ref.store and not self._opens(ref)]

    def _opens(self, ref: StoreRef) -> bool:
        """Whether a passphrase is known for a store. The key ring is asked once a minute, and no more once it
        had one."""
        if ref.store in self._open:
            return True
        found, asked = self._passphrases.known(ref.store), self._asked.get(ref.store)
        if found is None and asked is not None and (asked[0] or time.monotonic() - asked[1] < _ASK_AGAIN):
            return asked[0]
        if found is None:
            try:
                found = kept_passphrase(self.job, ref.store, self._context.ring)
            except PersonError:
                found = None
        opens = found is not None and self._refused.get(ref.store) != found
        self._asked[ref.store] = opens, time.monotonic()
        return opens

    def _refuse(self, identity: StoreId, passphrase: str | None) -> None:
        self._asked.pop(identity, None)
        if passphrase is not None:
            self._refused[identity] = passphrase

    def area(self, ref: StoreRef) -> areas.HoldingArea:
        """The holding area of a store whose disk is away.

        Raises:
            GoodTideError: there is none, or it cannot be opened.
        """
        holdings = self._context.here.holdings
        with self._lock(ref):
            if not areas.has_area(holdings, ref):
                raise self._context.whereabouts.away(ref)
            identity = areas.store_of_area(holdings, ref)
            passphrase = self._passphrase(identity, areas.slots_place(holdings, ref))
            return self._area(ref, identity, passphrase)

    def _area(self, ref: StoreRef, identity: StoreId, passphrase: str | None) -> areas.HoldingArea:
        here = self._context.here
        known = catalog_names(here.cache, identity)
        if passphrase is None:
            return areas.open_area(here.holdings, ref, None, self.job.holding, known)
        counter = AttemptCounter(here.state, identity, self._context.clock)
        try:
            return counter.counted(
                lambda: areas.open_area(here.holdings, ref, passphrase, self.job.holding, known)
            )
        except WrongPassphraseError:
            self._refuse(identity, passphrase)
            raise

    def looked_into(self, ref: StoreRef) -> Store:
        """A store as its history is looked into: with what the holding area has besides, or that alone while
        the disk is away.

        Raises:
            GoodTideError: it cannot be opened.
        """
        if self.place_of(ref) is None:
            return self.area(ref)
        store, holdings = self.store(ref), self._context.here.holdings
        if areas.held_count(holdings, ref):
            return areas.area_for(holdings, ref, store, self.job.holding)
        return store

    def unlock(self, ref: StoreRef, passphrase: str) -> StoreId:
        """Open a store, or the holding area while its disk is away, with a passphrase. Returns its id.

        Raises:
            WrongPassphraseError: it does not open.
            PlaceError: too many wrong ones lately, or neither is here.
        """
        holdings = self._context.here.holdings
        with self._lock(ref):
            if self.place_of(ref) is None and areas.has_area(holdings, ref):
                identity = areas.store_of_area(holdings, ref)
                self._area(ref, identity, passphrase)
                return identity
            present = self.present(ref)
            check_header(ref, present)
            store = open_counted(self._context, present, passphrase)
            check_keys(ref, store)
            self._open[store.header.store] = store
            return store.header.store
