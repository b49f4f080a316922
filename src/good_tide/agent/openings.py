"""Finding and opening a job's stores and their holding areas, with what is known of their passphrases."""

from __future__ import annotations

import threading
import time
from pathlib import Path

from good_tide.core.clock import Clock
from good_tide.core.errors import PersonError, PlaceError, WrongPassphraseError
from good_tide.core.settings import Job, StoreRef
from good_tide.operations.jobs.making import open_counted, passphrase_for
from good_tide.operations.records.passphrase_tries import TryCounter
from good_tide.operations.snapshot import holding
from good_tide.operations.stores.disks import locate
from good_tide.operations.stores.opening import Store, catalog_names, store_id
from good_tide.operations.stores.pinning import check_header, check_keys, pin_in_settings
from good_tide.operations.stores.probing import probe_apart
from good_tide.operations.workplace import Workplace
from good_tide.system.disks import Disks
from good_tide.system.keyrings import KeyRing

_ANSWER_HOLDS = 20.0
"""Seconds for which a share that answered, or did not, is believed to do so still."""


class Openings:
    """The ways into a job's stores.

    :param typed: passphrases that were typed while this agent runs, by the stores' ids; shared by all jobs.
    """

    def __init__(
        self, job: Job, here: Workplace, clock: Clock, disks: Disks, ring: KeyRing, typed: dict[str, str]
    ) -> None:
        self.job = job
        self._here, self._clock, self._disks, self._ring, self._typed = here, clock, disks, ring, typed
        self._asked: dict[str, tuple[float, bool]] = {}
        self._open: dict[str, Store] = {}
        self._refused: dict[str, str] = {}
        """Kept passphrases that did not open a store, so that looking again is no further wrong try."""
        self._lock = threading.RLock()

    def folder_of(self, ref: StoreRef) -> Path | None:
        """Where one of the job's stores is now, None while its disk is away or its share does not answer."""
        folder = locate(ref, self._disks)
        if folder is not None and ref.disk.startswith("share:") and not self._answers(folder):
            return None
        return folder

    def _answers(self, folder: Path) -> bool:
        """Whether a share answers, asked in a process of its own; the answer holds for a while."""
        asked, answered = self._asked.get(str(folder), (-_ANSWER_HOLDS, False))
        if time.monotonic() - asked > _ANSWER_HOLDS:
            answered = probe_apart(folder, frozenset()) is not None
            self._asked[str(folder)] = (time.monotonic(), answered)
        return answered

    def present(self, ref: StoreRef) -> Path:
        """Where a store is now.

        Raises:
            PlaceError: its disk is away.
        """
        folder = self.folder_of(ref)
        if folder is None:
            raise PlaceError(f"The disk {ref.name or ref.path} is not here", "Connect it")
        return folder

    def store(self, ref: StoreRef, folder: Path) -> Store:
        """One of the job's stores, in its folder.

        Raises:
            GoodTideError: it cannot be opened.
        """
        with self._lock:
            check_header(ref, folder)
            identity = store_id(folder)
            known = self._open.get(identity)
            if known is not None and known.place.title == str(folder):
                check_keys(ref, known)
                return known
            passphrase = self._passphrase(identity, folder)
            opened = self._remembering(identity, passphrase, folder)
            check_keys(ref, opened)
            self._open[identity] = opened
            pin_in_settings(self._here.settings, self.job.name, ref, opened)
            return opened

    def _remembering(self, identity: str, passphrase: str | None, folder: Path) -> Store:
        try:
            return open_counted(folder, passphrase, self._here.state, self._clock)
        except WrongPassphraseError:
            self._refuse(identity, passphrase)
            raise

    def _passphrase(self, identity: str, folder: Path) -> str | None:
        """What was typed, or what the passphrase file or the key ring has; a file that cannot be read has
        nothing, and the person is asked."""
        found = self._typed.get(identity)
        if found is None:
            try:
                found = passphrase_for(self.job, folder, self._ring)
            except PersonError:
                found = None
        if found is not None and self._refused.get(identity) == found:
            raise WrongPassphraseError(
                "The passphrase that is kept no longer opens this store", "Type the one that holds now"
            )
        return found

    def _refuse(self, identity: str, passphrase: str | None) -> None:
        if passphrase is not None:
            self._refused[identity] = passphrase

    def area(self, ref: StoreRef) -> holding.HoldingArea:
        """The holding area of a store whose disk is away.

        Raises:
            GoodTideError: there is none, or it cannot be opened.
        """
        with self._lock:
            if not holding.has_area(self._here.holdings, ref):
                raise PlaceError(f"The disk {ref.name or ref.path} is not here", "Connect it")
            identity = holding.store_of_area(self._here.holdings, ref)
            return self._area(
                ref, identity, self._passphrase(identity, holding.slots_folder(self._here.holdings, ref))
            )

    def _area(self, ref: StoreRef, identity: str, passphrase: str | None) -> holding.HoldingArea:
        known = catalog_names(self._here.cache, identity)
        if passphrase is None:
            return holding.open_area(self._here.holdings, ref, None, self.job.holding, known)
        counter = TryCounter(self._here.state, identity, self._clock)
        try:
            return counter.counted(
                lambda: holding.open_area(self._here.holdings, ref, passphrase, self.job.holding, known)
            )
        except WrongPassphraseError:
            self._refuse(identity, passphrase)
            raise

    def looked_into(self, ref: StoreRef, folder: Path | None) -> Store:
        """A store as its history is looked into: with what the holding area has besides, or that alone while
        the disk is away.

        Raises:
            GoodTideError: it cannot be opened.
        """
        if folder is None:
            return self.area(ref)
        store = self.store(ref, folder)
        if holding.held_count(self._here.holdings, ref):
            return holding.area_for(self._here.holdings, ref, store, self.job.holding)
        return store

    def unlock(self, ref: StoreRef, passphrase: str) -> str:
        """Open a store, or the holding area while its disk is away, with a passphrase, kept in memory while
        the agent runs. Returns its id.

        Raises:
            WrongPassphraseError: it does not open. PlaceError: too many wrong ones lately, or neither is
                here.
        """
        with self._lock:
            folder = self.folder_of(ref)
            if folder is None and holding.has_area(self._here.holdings, ref):
                identity = holding.store_of_area(self._here.holdings, ref)
                self._area(ref, identity, passphrase)
            else:
                present = self.present(ref)
                check_header(ref, present)
                store = open_counted(present, passphrase, self._here.state, self._clock)
                check_keys(ref, store)
                identity = store.header.store
                self._open[identity] = store
            self._typed[identity] = passphrase
            return identity
