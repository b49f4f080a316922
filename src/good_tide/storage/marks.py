"""Signs of life in a store: who is writing to it now, and who sweeps it. ``docs/format.md`` ("Marks") gives
the files.

A mark is a small file that its owner replaces by the next of a series while it is at work. Whoever else looks
only sees whether it moves: no clock of another machine is believed, and a machine that died leaves a mark
that stands still.
"""

from __future__ import annotations

import contextlib
import secrets
import threading
from collections.abc import Iterable
from types import TracebackType
from typing import Self

import msgspec

from good_tide.core.errors import DamageError, GoodTideError, NotInPlaceError
from good_tide.storage.decoding import unpacked
from good_tide.storage.place import Place, clear

WRITER_FOLDER, LEASE_FOLDER = "writers", "lease"
HOLDING_OWNER = "hold-"
"""Begins the marks that stand for holding areas, which build on a store while its disk is away."""
_MOVE_SECONDS = 60.0
_ID_BYTES = 8
_LONGEST_NUMBER = 18
_LONGEST = 1 << 20
"""Bytes of a mark that are read."""


class SeenMark(msgspec.Struct, frozen=True):
    """A mark as others see it: who, which of the series, and what it says (names of doomed lists that the
    writer heeds)."""

    owner: str
    number: int
    says: tuple[str, ...]

    @property
    def file(self) -> str:
        """Its name in the folder."""
        return f"{self.owner}.{self.number:08}"


class Mark:
    """One's own mark. Use as a context manager; it moves by itself, in a thread of its own.

    :param owner: begins its name, so that a later run of the same machine can take away what a crash left.
    """

    def __init__(self, place: Place, folder: str, owner: str) -> None:
        self._place, self._folder, self._prefix = place, folder, owner
        self.owner = f"{owner}{secrets.token_hex(_ID_BYTES)}"
        self._number = 0
        self._says: tuple[str, ...] = ()
        self._lock = threading.Lock()
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._move_on, name="mark", daemon=True)

    def __enter__(self) -> Self:
        for mark in seen_marks(self._place, self._folder):
            if mark.owner.startswith(self._prefix):
                clear(self._place, f"{self._folder}/{mark.file}")
        self.say(())
        self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._ended.set()
        self._thread.join()
        with contextlib.suppress(GoodTideError):
            self._place.remove(self._file())

    def _file(self) -> str:
        return f"{self._folder}/{self.owner}.{self._number:08}"

    def say(self, says: Iterable[str]) -> None:
        """Say something else.

        Raises:
            PlaceError: the disk does not take it.
        """
        with self._lock:
            self._says = tuple(says)
            self._move()

    def _move(self) -> None:
        """Put the next of the series in place of the last. Never over an existing file."""
        before = self._file() if self._number else ""
        self._number += 1
        with self._place.create(self._file(), self.owner) as file:
            file.write(msgspec.msgpack.encode(self._says))
            file.commit()
        if before:
            clear(self._place, before)

    def _move_on(self) -> None:
        while not self._ended.wait(_MOVE_SECONDS):
            with self._lock, contextlib.suppress(GoodTideError):
                if self.stands:
                    self._move()

    @property
    def stands(self) -> bool:
        """Whether it is still there: a mark that stood still for too long is taken away by a sweep."""
        try:
            return self._file().rpartition("/")[2] in self._place.names(self._folder)
        except GoodTideError:
            return False


def leave_mark(place: Place, folder: str, owner: str, says: Iterable[str]) -> None:
    """Leave a mark that stays, in place of the same owner's earlier ones.

    Raises:
        PlaceError: the disk does not take it.
    """
    before = [mark for mark in seen_marks(place, folder) if mark.owner == owner]
    number = max((mark.number for mark in before), default=0) + 1
    with place.create(f"{folder}/{owner}.{number:08}", owner) as file:
        file.write(msgspec.msgpack.encode(tuple(says)))
        file.commit()
    for mark in before:
        clear(place, f"{folder}/{mark.file}")


def remove_mark(place: Place, folder: str, owner: str) -> None:
    """Remove an owner's marks.

    Raises:
        PlaceError: the disk does not let go.
    """
    for name in place.names(folder):
        if name.rpartition(".")[0] == owner:
            clear(place, f"{folder}/{name}")


def seen_marks(place: Place, folder: str) -> list[SeenMark]:
    """All marks in a folder, of each owner the newest. One that cannot be read says nothing, and heeds
    nothing."""
    newest: dict[str, SeenMark] = {}
    for name in place.names(folder):
        owner, dot, number = name.rpartition(".")
        if not dot or not number.isascii() or not number.isdecimal() or len(number) > _LONGEST_NUMBER:
            continue
        says: tuple[str, ...] = ()
        try:
            says = unpacked(place.read(f"{folder}/{name}", 0, _LONGEST), tuple[str, ...], name, "a mark")
        except NotInPlaceError:
            if owner not in newest:
                newest[owner] = SeenMark(owner, int(number), ())
            continue
        except DamageError:
            pass
        if owner not in newest or newest[owner].number <= int(number):
            newest[owner] = SeenMark(owner, int(number), says)
    return list(newest.values())
