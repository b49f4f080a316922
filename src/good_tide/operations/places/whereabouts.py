"""Where the stores of jobs are now."""

from __future__ import annotations

import threading
import time
from pathlib import Path
from typing import NamedTuple

from good_tide.core.places import DiskFacts
from good_tide.core.settings import StoreRef
from good_tide.operations.places.probing import probe_apart
from good_tide.storage.folder_place import FolderPlace
from good_tide.storage.place import StorePlace
from good_tide.storage.place_kinds import is_there, store_place
from good_tide.system.disks import Disks

_ANSWER_HOLDS = 20.0
"""Seconds for which a share that answered, or did not, is believed to do so still."""


class _Answer(NamedTuple):
    """Whether a share answered, and when it was asked, by the monotonic clock."""

    answered: bool
    asked: float

    @property
    def holds(self) -> bool:
        return time.monotonic() - self.asked <= _ANSWER_HOLDS


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

    def of(self, ref: StoreRef) -> StorePlace | None:
        """Where a store is now, None while its disk is away, or its share does not answer."""
        if ref.disk:
            disk = next((one for one in self._disks.disks() if ref.disk in (one.id, *one.aliases)), None)
            if disk is None or not disk.answers:
                return None
            inside = FolderPlace(Path(disk.path) / ref.inside)
            return inside if disk.kind != "network" or self._share_answers(disk, inside.path) else None
        where = store_place(ref.path)
        if where.folder is not None:
            disk = self._disks.of_folder(where.folder)
            if disk is not None and disk.kind == "network":
                return where if disk.answers and self._share_answers(disk, where.folder) else None
        return where if is_there(where) else None

    def answers(self, ref: StoreRef) -> bool:
        """Whether the disk of a store answers now, asked in a process of its own, whatever kind it is."""
        folder: Path | None
        if ref.disk:
            disk = next((one for one in self._disks.disks() if ref.disk in (one.id, *one.aliases)), None)
            folder = Path(disk.path) / ref.inside if disk is not None else None
        else:
            folder = store_place(ref.path).folder
        return folder is None or probe_apart(folder, frozenset()) is not None

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
                self._silent[disk.id] = known
            else:
                self._silent.pop(disk.id, None)
            return known.answered
