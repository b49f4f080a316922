"""Where the stores of jobs are now."""

from __future__ import annotations

import logging
import threading
import time
from pathlib import Path
from typing import NamedTuple

from good_tide.core.errors import PlaceAwayError, PlaceError
from good_tide.core.places import DiskFacts
from good_tide.core.settings import StoreRef
from good_tide.core.translation import tr
from good_tide.operations.places.probing import probe_apart
from good_tide.storage.place import StorePlace
from good_tide.storage.place_kinds import folder_place, is_there, store_place
from good_tide.system.disks import Disks

_log = logging.getLogger(__name__)

_ANSWER_HOLDS = 20.0
"""Seconds for which a share that answered, or did not, is believed to do so still."""


_TIMES_AS_LONG = 5
"""A server that hangs holds up who looks for one part in so many of the time."""


class _Answer(NamedTuple):
    """Whether a share answered, and when it was asked, by the monotonic clock."""

    answered: bool
    asked: float

    @property
    def holds(self) -> bool:
        return time.monotonic() - self.asked <= _ANSWER_HOLDS


class _Server(NamedTuple):
    """Whether a server's folder could be used, why not, and how many seconds it took to find out."""

    answer: _Answer
    refusal: PlaceError | None
    took: float

    @property
    def holds(self) -> bool:
        """Whether it is believed still: the longer, the longer it held up who asked."""
        return self.answer.holds or time.monotonic() - self.answer.asked <= _TIMES_AS_LONG * self.took


class Whereabouts:
    """Finds stores by what is known of them. Shares are asked in a process of their own, as one whose server
    is gone holds up whoever touches it, for ever; every other touch of a store comes after this one. Threads
    may use it at once; who asks after a share that is being asked waits for that answer.

    Locks: one for each disk, held while it is asked (``docs/concurrency.md``).
    """

    def __init__(self, disks: Disks) -> None:
        self._disks = disks
        self._guard = threading.Lock()
        self._asking: dict[str, threading.Lock] = {}
        self._silent: dict[str, _Answer] = {}
        """Disks that did not answer."""
        self._answers: dict[Path, _Answer] = {}
        self._servers: dict[str, _Server] = {}

    def of(self, ref: StoreRef) -> StorePlace | None:
        """Where a store is now, None while its disk is away, or its share does not answer."""
        where, disk = self._looked_up(ref)
        if where is None or (disk is not None and not disk.answers):
            return None
        if where.folder is None:
            return where if self._why_not(where) is None else None
        if disk is not None and disk.kind == "network":
            return where if self._share_answers(disk, where.folder) else None
        return where if ref.disk or is_there(where) else None

    def away(self, ref: StoreRef) -> PlaceError:
        """Why a store that is away is."""
        if ref.on_server:
            where = self.untouched(ref)
            why = self._why_not(where) if where is not None else None
            return why or PlaceAwayError(
                tr("{called} could not be used a moment ago").format(called=ref.called), tr("Try again")
            )
        return PlaceError(tr("The disk {called} is not here").format(called=ref.called), tr("Connect it"))

    def untouched(self, ref: StoreRef) -> StorePlace | None:
        """Where a store would be now, without touching its disk; None while the disk is not mounted."""
        return self._looked_up(ref)[0]

    def answers(self, ref: StoreRef) -> bool:
        """Whether the disk of a store answers now, asked in a process of its own, whatever kind it is."""
        where, _ = self._looked_up(ref)
        folder = where.folder if where is not None else None
        return folder is None or probe_apart(folder, frozenset()) is not None

    def _looked_up(self, ref: StoreRef) -> tuple[StorePlace | None, DiskFacts | None]:
        """Where a store would be, and on which disk, by the mount table alone."""
        if not ref.disk:
            where = store_place(ref.path)
            return where, self._disks.of_folder(where.folder) if where.folder is not None else None
        disk = next((one for one in self._disks.disks() if ref.disk in (one.id, *one.aliases)), None)
        return (folder_place(Path(disk.path) / ref.inside), disk) if disk is not None else (None, None)

    def _why_not(self, where: StorePlace) -> PlaceError | None:
        """Why a server's folder cannot be used now; None when it can. Its process ends by itself what
        hangs."""
        with self._guard:
            asking = self._asking.setdefault(where.called, threading.Lock())
        with asking:
            known = self._servers.get(where.called)
            if known is None or not known.holds:
                refusal, began = None, time.monotonic()
                try:
                    where.check_there()
                except PlaceError as error:
                    _log.warning("a server cannot be used")
                    refusal = error
                now = time.monotonic()
                known = _Server(_Answer(refusal is None, now), refusal, now - began)
                self._servers[where.called] = known
            return known.refusal

    def look_again(self, called: str) -> None:
        """Ask a server's folder anew: what was in the way may be gone."""
        self._servers.pop(called, None)

    def _share_answers(self, disk: DiskFacts, folder: Path) -> bool:
        with self._guard:
            asking = self._asking.setdefault(disk.id, threading.Lock())
        with asking:
            silent, known = self._silent.get(disk.id), self._answers.get(folder)
            if silent is not None and silent.holds:
                return False
            if known is None or not known.holds:
                known = _Answer(probe_apart(folder, frozenset()) is not None, time.monotonic())
                self._answers[folder] = known
            if not known.answered:
                _log.warning("a share does not answer")
                self._silent[disk.id] = known
            else:
                self._silent.pop(disk.id, None)
            return known.answered
