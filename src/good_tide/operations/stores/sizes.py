"""How much stores hold, counted without holding anybody up."""

from __future__ import annotations

import threading
import time

from good_tide.core.errors import GoodTideError
from good_tide.storage.folder_place import bytes_to_show
from good_tide.storage.place import StorePlace

_HOLDS = 3600.0
"""Seconds for which a count is good enough for a forecast."""
_PATIENCE = 3.0
"""Seconds that the first count is waited for."""


class StoreSizes:
    """Counts the bytes of stores in threads of their own, which their disks may hold up. Threads may use it
    at once."""

    def __init__(self) -> None:
        self._guard = threading.Lock()
        self._known: dict[str, tuple[float, int]] = {}
        """By the place: when it was counted, by the monotonic clock, and the bytes."""
        self._counting: dict[str, threading.Thread] = {}

    def bytes_in(self, where: StorePlace) -> int | None:
        """Bytes of the files of a store when they were last counted; None where they never were, as the disk
        takes its time."""
        name = where.called
        with self._guard:
            known, counting = self._known.get(name), self._counting.get(name)
            if known is not None and time.monotonic() - known[0] < _HOLDS:
                return known[1]
            begun = counting is None
            if counting is None:
                counting = self._counting[name] = threading.Thread(
                    target=self._count, args=(where,), name="size", daemon=True
                )
                counting.start()
        if begun and known is None:
            counting.join(_PATIENCE)
        with self._guard:
            known = self._known.get(name)
        return known[1] if known is not None else None

    def _count(self, where: StorePlace) -> None:
        try:
            counted = bytes_to_show(where.files())
        except GoodTideError:
            counted = None
        with self._guard:
            if counted is not None:
                self._known[where.called] = time.monotonic(), counted
            del self._counting[where.called]
