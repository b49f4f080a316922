"""Clocks. Everything that needs the time is given one of these."""

from __future__ import annotations

import time
from typing import Protocol

from good_tide.core.identifiers import Nanoseconds

SECOND = 1_000_000_000
"""Nanoseconds in a second."""


class Clock(Protocol):
    """Tells the time."""

    def now(self) -> Nanoseconds:
        """The time now, in nanoseconds since 1970 UTC."""
        ...


class SystemClock:
    """The computer's clock."""

    def now(self) -> Nanoseconds:
        return Nanoseconds(time.time_ns())


class SetClock:
    """A clock that stands where it is put: for tests, for dated copies, and for the demo's ten weeks."""

    def __init__(self, now: Nanoseconds) -> None:
        self._now = now

    def now(self) -> Nanoseconds:
        return self._now

    def set(self, now: Nanoseconds) -> None:
        """Put the clock to ``now``, forwards or backwards."""
        self._now = now
