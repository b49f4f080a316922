"""What this machine keeps of its runs into a store."""

from __future__ import annotations

import contextlib
import hashlib
import os
import shutil
import time
from collections.abc import Callable
from pathlib import Path
from types import TracebackType
from typing import Self

import msgspec

from good_tide import __version__
from good_tide.core.clock import SECOND
from good_tide.core.identifiers import Nanoseconds, local_name
from good_tide.core.records import Snapshot
from good_tide.operations.snapshot.known_cuts import KnownCuts
from good_tide.operations.snapshot.looking import FOLDER_COSTS, NOTHING_CLEAN, Clean, look_again, look_at
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.snapshot.resume_log import ResumeLog
from good_tide.operations.snapshot.sightings import Ground, Sightings
from good_tide.storage.folders import INDEX_FOLDER
from good_tide.storage.store import Store

_LOOK_AT_ALL = 24 * 3600 * SECOND
"""Of what a watch does not tell nothing is missed for longer."""
_UNUSED_SECONDS = 400 * 24 * 3600
"""What nobody wrote to for so long is forgotten."""


class RunMemory:
    """A context manager, under the run's lock.

    :ivar log: what a run that was cut off had read.
    :ivar cuts: how files that lie in pieces are cut.
    :ivar sightings: what was seen in each folder.
    :ivar scratch: a folder for what a run needs meanwhile.
    """

    def __init__(self, state: Path, store: Store, request: CaptureRequest) -> None:
        own = f"{local_name(store.header.store)}-{request.machine.id}"
        self._store, self._request = store, request
        self.log = ResumeLog(state / "resume" / f"{own}.log", store.has)
        self.cuts = KnownCuts(state / "cuts" / f"{own}.db", store.keys)
        self.sightings = Sightings(state / "sightings" / f"{own}.db")
        self.scratch = state / "scratch" / own
        self._open = contextlib.ExitStack()
        self._looked = 0

    def __enter__(self) -> Self:
        self._clear()  # what a run left that was cut off
        self._forget_unused()
        for one in (self.log, self.cuts, self.sightings):
            self._open.enter_context(one)
        return self

    def _forget_unused(self) -> None:
        """What is kept for stores and jobs that are no more goes some day; without it a run is only
        slower."""
        for folder in (self.sightings.file.parent, self.cuts.file.parent):
            with contextlib.suppress(OSError):
                for item in list(os.scandir(folder)):
                    if time.time() - item.stat(follow_symlinks=False).st_mtime > _UNUSED_SECONDS:
                        os.unlink(item.path)

    def _clear(self) -> None:
        shutil.rmtree(self.scratch, ignore_errors=True)

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._open.close()
        self._clear()

    def look(self, last: Snapshot | None, now: Nanoseconds, tick: Callable[[], None]) -> Clean:
        """Look at all folders that are known from the last run.

        :param now: the moment of the snapshot. :param tick: called now and then.
        """
        self._looked = now
        ground, touched = self.sightings.ground, self._request.touched
        if last is None or ground is None or not self._stands(ground, last):
            self.sightings.begin_anew()
            return NOTHING_CLEAN
        covered = [os.fsencode(folder) for folder in self._request.folders]
        if touched is not None and 0 <= now - ground.looked < _LOOK_AT_ALL:
            only = touched(Nanoseconds(last.time))
            if only is not None:
                self._looked = ground.looked
                return look_at(self.sightings.file, covered, now, only)
        tally = last.tally
        return look_again(self.sightings.file, covered, now, tally.files + FOLDER_COSTS * tally.folders, tick)

    def finished(self, taken: Snapshot, clean: Clean) -> None:
        """A snapshot was published."""
        index = tuple(sorted(self._store.index_files or self._store.own_names(INDEX_FOLDER)))
        ground = Ground(taken.id, _terms(self._store, self._request), index, self._looked)
        self.sightings.finish(ground, clean.changed)
        self.log.finished()

    def _stands(self, ground: Ground, last: Snapshot) -> bool:
        """Whether what was seen at the last run still says what is in the last snapshot, and all of that is
        in the store as far as is known."""
        store = self._store
        return (
            ground.snapshot == last.id
            and ground.terms == _terms(store, self._request)
            and store.index_files.issuperset(ground.index)
            and not store.damage.packs
        )


def _terms(store: Store, request: CaptureRequest) -> bytes:
    """A digest of what decides what is in, apart from the folders' contents."""
    said = (
        __version__,
        [os.fsencode(folder) for folder in request.folders],
        [rule.text for rule in request.rules],
        {name: list(endings) for name, endings in sorted(request.kinds.items())},
        request.home,
        sorted(request.network),
        [os.fsencode(folder) for folder in (*request.own, store.place.where.folder) if folder is not None],
    )
    return hashlib.blake2b(msgspec.msgpack.encode(said), digest_size=16).digest()
