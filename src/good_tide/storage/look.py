"""What a thread saw of a store's snapshots at one moment."""

from __future__ import annotations

import threading
import time

from good_tide.core.identifiers import SnapshotId

_HOLDS_S = 10.0


class Look(threading.local):
    """For each thread its own: what another one works on at the same time stays as that saw it.

    ``names`` are the snapshots, None while nobody works on what was seen; ``depth`` counts who does.
    """

    names: set[SnapshotId] | None = None
    depth = 0
    _at = 0.0

    def saw(self, names: set[SnapshotId]) -> None:
        """The snapshots were listed."""
        self.names, self._at = names, time.monotonic()

    @property
    def is_old(self) -> bool:
        """Whether others may have added or released some since, as after a long run."""
        return time.monotonic() - self._at > _HOLDS_S

    def note(self, name: SnapshotId) -> None:
        """A snapshot was added by whoever looked."""
        if self.names is not None:
            self.names.add(name)
