"""Wrong passphrases slow further tries down, across restarts of the program."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

import msgspec

from good_tide.core.clock import SECOND, Clock
from good_tide.core.errors import PlaceError, WrongPassphraseError
from good_tide.core.identifiers import StoreId, local_name
from good_tide.core.translation import tr
from good_tide.core.words import duration_words

Opened = TypeVar("Opened")

_FREE_TRIES = 3
_LONGEST_WAIT = 300
_guard = threading.Lock()
"""Threads may try at once; each counts."""


class _Attempts(msgspec.Struct):
    wrong: int = 0
    last: int = 0


class AttemptCounter:
    """Counts the wrong tries at one store in a small file in the person's state folder."""

    def __init__(self, state: Path, store: StoreId, clock: Clock) -> None:
        self._file, self._clock = state / "tries" / f"{local_name(store)}.json", clock

    def _read(self) -> _Attempts:
        with contextlib.suppress(OSError, msgspec.MsgspecError):
            return msgspec.json.decode(self._file.read_bytes(), type=_Attempts)
        return _Attempts()

    def _write(self, tries: _Attempts) -> None:
        with contextlib.suppress(OSError):
            self._file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            self._file.write_bytes(msgspec.json.encode(tries))

    def seconds_to_wait(self) -> float:
        """How long until the next try is taken: nothing for the first three, then 2, 4, 8 … seconds, at most
        five minutes."""
        tries = self._read()
        if tries.wrong < _FREE_TRIES:
            return 0.0
        wait = min(_LONGEST_WAIT, 2 ** min(20, tries.wrong - _FREE_TRIES + 1))
        since = (self._clock.now() - tries.last) / SECOND
        return max(0.0, wait - since) if since >= 0 else float(wait)

    def counted(self, attempt: Callable[[], Opened]) -> Opened:
        """Try to open something with a passphrase, and count it.

        Raises:
            PlaceError: the try comes too soon. WrongPassphraseError: it does not open.
        """
        self.check()
        try:
            opened = attempt()
        except WrongPassphraseError:
            self.wrong()
            raise
        self.right()
        return opened

    def check(self) -> None:
        """Refuse a try that comes too soon.

        Raises:
            PlaceError: how long to wait.
        """
        wait = self.seconds_to_wait()
        if wait > 0:
            raise PlaceError(
                tr("Too many wrong passphrases"),
                tr("Wait {wait}, then try again; the hint may help").format(wait=duration_words(wait + 1)),
            )

    def wrong(self) -> None:
        """A passphrase was wrong."""
        with _guard:
            self._write(_Attempts(self._read().wrong + 1, self._clock.now()))

    def right(self) -> None:
        """A passphrase opened the store."""
        with contextlib.suppress(OSError):
            self._file.unlink(missing_ok=True)
