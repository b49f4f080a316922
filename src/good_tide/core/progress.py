"""How far a long piece of work has come, and how it is paused and stopped."""

from __future__ import annotations

import enum
import threading
import time
from collections.abc import Callable
from typing import Protocol

import msgspec

from good_tide.core.errors import StoppedError
from good_tide.core.translation import tr

_EASY_STRETCH, _LONGEST_REST = 0.02, 1.0
"""Seconds of work before a rest, and of the longest rest, so that a stop is soon obeyed."""


class WorkKind(enum.StrEnum):
    """A kind of long work."""

    SNAPSHOT = "snapshot"
    RESTORE = "restore"
    UNDO = "undo"
    CARRY = "carry"
    RUN_DUE = "run-due"
    RELEASE = "release"
    PURGE = "purge"
    PROOF = "proof"
    REPAIR = "repair"
    REPLACE = "replace"
    HAND_OUT = "hand-out"


class Stage(enum.StrEnum):
    """Where a piece of work stands, as far as something depends on it."""

    UNDER_WAY = "under way"
    LAST_PART = "last part"
    """A snapshot is being written to its end: the machine is kept from sleeping meanwhile."""
    LAST_MINUTE = "last minute"
    """The machine is about to sleep or to be switched off."""


class Progress(msgspec.Struct, frozen=True):
    """One report of a long piece of work, ``phase`` in words. Totals are 0 while they are not known."""

    phase: str
    files_done: int = 0
    files_total: int = 0
    bytes_done: int = 0
    bytes_total: int = 0
    current: str = ""
    stage: Stage = Stage.UNDER_WAY


class Control(Protocol):
    """What an operation asks of the one who runs it, often and cheaply."""

    def report(self, progress: Progress) -> None:
        """Take notice of ``progress``."""
        ...

    def checkpoint(self) -> None:
        """Wait while paused.

        Raises:
            StoppedError: the person asked to stop.
        """
        ...


class Silent:
    """Runs to the end and tells nobody."""

    def report(self, progress: Progress) -> None:
        """Ignore ``progress``."""

    def checkpoint(self) -> None:
        """Never stops."""


class Steering:
    """A control that another thread can pause, resume and stop.

    :param listener: called with every report, in the working thread.
    """

    def __init__(self, listener: Callable[[Progress], None] | None = None) -> None:
        self._listener = listener
        self._worked_since = self._sign = time.monotonic()
        self._resting = False
        self._stopping = threading.Event()
        self.easy = False
        """Whether the work takes it easy: it rests twice as long as it works, so that a machine in use does
        not notice it."""
        self._running = threading.Event()
        self._running.set()
        self._stopped = False

    def report(self, progress: Progress) -> None:
        self._sign = time.monotonic()
        if self._listener is not None:
            self._listener(progress)

    def checkpoint(self) -> None:
        self._resting = True
        self._running.wait()
        if self.easy and not self._stopped:
            worked = time.monotonic() - self._worked_since
            if worked > _EASY_STRETCH:
                self._stopping.wait(min(2 * worked, _LONGEST_REST))
                self._worked_since = time.monotonic()
        self._sign, self._resting = time.monotonic(), False
        if self._stopped:
            raise StoppedError(
                tr("Stopped before the end"),
                tr("What was written so far is kept, and the next run goes on from it"),
            )

    def rest(self, seconds: float) -> None:
        """Do nothing for a while, or until the person asks to stop."""
        self._resting = True
        self._stopping.wait(seconds)
        self._sign, self._resting = time.monotonic(), False

    @property
    def quiet_seconds(self) -> float:
        """How long the work has given no sign; 0 while it is let wait or rests. Long, where a disk hangs."""
        return 0.0 if self._resting else time.monotonic() - self._sign

    @property
    def paused(self) -> bool:
        """Whether the work waits to be resumed."""
        return not self._running.is_set()

    def pause(self) -> None:
        """Let the work wait at its next checkpoint."""
        self._running.clear()

    def resume(self) -> None:
        """Let the work go on."""
        self._running.set()

    def stop(self) -> None:
        """End the work at its next checkpoint."""
        self._stopped = True
        self._stopping.set()
        self._running.set()
