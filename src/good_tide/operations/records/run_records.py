"""What is remembered of each job's runs between starts of the agent, in the person's state folder.

One small file, written whole. The command line changes it too (a pause), so it is read anew whenever it
changed.
"""

from __future__ import annotations

import contextlib
import threading
from pathlib import Path

import msgspec

from good_tide.core.planning import Book

_FILE = "rhythm.json"


class _Shelf(msgspec.Struct, omit_defaults=True):
    """``paused_until`` in nanoseconds since 1970 UTC, 0: not paused; ``away`` by job: since when its disk is
    away; ``reported`` by job: when its last report was sent; ``swept`` by store: when it was last swept;
    ``released``: stores of which something was released since."""

    paused_until: int = 0
    books: dict[str, Book] = {}
    away: dict[str, int] = {}
    reported: dict[str, int] = {}
    swept: dict[str, int] = {}
    released: list[str] = []


class Books:
    """The books of all jobs."""

    def __init__(self, state: Path) -> None:
        self._path = state / _FILE
        self._lock = threading.RLock()
        self._stamp: tuple[int, int] | None = None
        self._shelf = _Shelf()

    def _read(self) -> _Shelf:
        try:
            info = self._path.stat()
            stamp = (info.st_mtime_ns, info.st_ino)
            if stamp != self._stamp:
                self._shelf = msgspec.json.decode(self._path.read_bytes(), type=_Shelf)
                self._stamp = stamp
        except FileNotFoundError:
            self._shelf, self._stamp = _Shelf(), None
        except (OSError, msgspec.MsgspecError):
            # what was read last still holds; a file that was never readable counts as empty, and runs are
            # made up once
            pass
        return self._shelf

    def _write(self) -> None:
        with contextlib.suppress(OSError):
            self._path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            new = self._path.with_suffix(".new")
            new.write_bytes(msgspec.json.encode(self._shelf))
            new.replace(self._path)
            info = self._path.stat()
            self._stamp = (info.st_mtime_ns, info.st_ino)

    def book(self, job: str) -> Book | None:
        """A job's book, None for one that is new."""
        with self._lock:
            return self._read().books.get(job)

    def keep(self, job: str, book: Book) -> None:
        """Keep a job's book."""
        with self._lock:
            if self._read().books.get(job) != book:
                self._shelf.books[job] = book
                self._write()

    def forget(self, jobs: set[str]) -> None:
        """Forget all jobs but these."""
        with self._lock:
            shelf = self._read()
            if set(shelf.books) - jobs or set(shelf.away) - jobs:
                shelf.books = {name: book for name, book in shelf.books.items() if name in jobs}
                shelf.away = {name: since for name, since in shelf.away.items() if name in jobs}
                self._write()

    def rename(self, before: str, name: str) -> None:
        """What is remembered of a job belongs to another name from now on."""
        with self._lock:
            shelf = self._read()
            if before in shelf.books:
                shelf.books[name] = shelf.books.pop(before)
            for kept in (shelf.away, shelf.reported):
                if before in kept:
                    kept[name] = kept.pop(before)
            self._write()

    @property
    def paused_until(self) -> int:
        """Until when nothing runs by itself; 0: not paused."""
        with self._lock:
            return self._read().paused_until

    def pause(self, until: int) -> None:
        """Let nothing run by itself until a moment; 0: go on."""
        with self._lock:
            self._read().paused_until = until
            self._write()

    def reported(self, job: str) -> int:
        """When a job's last report was sent; 0: never."""
        with self._lock:
            return self._read().reported.get(job, 0)

    def note_reported(self, job: str, when: int) -> None:
        """Note that a report was sent."""
        with self._lock:
            self._read().reported[job] = when
            self._write()

    def swept(self, store: str) -> int:
        """When this machine last swept a store; 0: never."""
        with self._lock:
            return self._read().swept.get(store, 0)

    def has_released(self, store: str) -> bool:
        """Whether something of a store was released since its last sweep."""
        with self._lock:
            return store in self._read().released

    def note_released(self, store: str) -> None:
        """Note that something of a store was released."""
        with self._lock:
            if store not in self._read().released:
                self._shelf.released.append(store)
                self._write()

    def note_swept(self, store: str, when: int, waits: bool) -> None:
        """Note that a store was swept; ``waits``: part of what was released could not be given back yet."""
        with self._lock:
            shelf = self._read()
            shelf.swept[store] = when
            shelf.released = [one for one in shelf.released if one != store or waits]
            self._write()

    def away_since(self, job: str) -> int:
        """Since when a job's disk is away; 0: it is here."""
        with self._lock:
            return self._read().away.get(job, 0)

    def note_away(self, job: str, since: int) -> None:
        """Note that a job's disk is away since a moment; 0: it is here."""
        with self._lock:
            if self._read().away.get(job, 0) != since:
                self._shelf.away[job] = since
                if not since:
                    del self._shelf.away[job]
                self._write()
