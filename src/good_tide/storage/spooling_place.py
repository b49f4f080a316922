"""Places that another process asks for: on servers, and on shares that are mounted. Each file is made in
memory and carried as one, so that a broken line is only a new try."""

from __future__ import annotations

import threading
from collections.abc import Callable
from types import TracebackType
from typing import Protocol, Self, TypeVar

from good_tide.core.errors import DamageError, KeptError, PlaceError
from good_tide.core.places import UNTOLD_ROOM
from good_tide.core.translation import tr
from good_tide.lines.client import Line, LineError
from good_tide.lines.wire import (
    TRIAL,
    AskRoom,
    Call,
    Failed,
    Put,
    Read,
    Remove,
    Size,
    Things,
    Tree,
    Trouble,
)
from good_tide.storage.place import READ_LIMIT, TEMPORARY, NewFile, StorePlace, clear
from good_tide.storage.server_cache import ServerCache

A = TypeVar("A")

_PACKS = "packs/"
_UNMEASURED = 32 << 20
"""So many bytes of a file are asked for without a look at how long it is."""
_COPIED = 1 << 20
"""Fewer bytes are copied when they are written: who wrote them may use the memory again."""


class FarPlace(StorePlace, Protocol):
    """Where a store is, when another process asks for it."""

    @property
    def line(self) -> Line:
        """The line of this process to it."""
        ...

    def error(self, failed: Failed, doing: str) -> PlaceError | DamageError:
        """What a failure means for who asked."""
        ...


def asked(where: FarPlace, call: Call[A], doing: str) -> A:
    """Ask.

    Raises:
        PlaceError: one of its kinds, for whatever kept it from being done.
    """
    return waited(where, where.line.begin(call), doing)


def waited(where: FarPlace, answer: Callable[[], A], doing: str) -> A:
    """What was answered.

    Raises:
        As ``asked``.
    """
    try:
        return answer()
    except LineError as error:
        raise where.error(error.failed, doing) from error


class SpoolingPlace:
    """The files of a folder that another process asks for. Threads may use it at once."""

    def __init__(self, where: FarPlace) -> None:
        self._where = where
        self._line = where.line
        self._cache = _cache_of(where.line)

    @property
    def title(self) -> str:
        return self._where.called

    @property
    def where(self) -> StorePlace:
        return self._where

    def _ask(self, call: Call[A], doing: str, payload: bytes | memoryview = b"") -> A:
        return self._waited(self._line.begin(call, payload), doing)

    def _waited(self, answer: Callable[[], A], doing: str) -> A:
        return waited(self._where, answer, doing)

    def _at(self, name: str) -> str:
        return f"{self.title}/{name}" if name else self.title

    def names(self, folder: str) -> list[str]:
        doing = tr("Listing {root}").format(root=self._at(folder))
        found = self._waited(lambda: self._cache.files(folder), doing)
        return [one.name for one in found]

    def expect(self, folder: str) -> None:
        self._cache.expect(folder)

    def look_anew(self) -> None:
        self._cache.look_anew()

    def size(self, name: str) -> int:
        return self._ask(Size(name), tr("Looking at {root}").format(root=self._at(name)))

    def read(self, name: str, offset: int = 0, length: int | None = None) -> bytes:
        doing = tr("Reading {root}").format(root=self._at(name))
        if length is not None and length > _UNMEASURED:  # nobody asks for parts that are not there
            length = min(length, max(0, self.size(name) - offset))
        if name.startswith(_PACKS) and length is not None:
            count = length
            return self._waited(lambda: self._cache.part(name, offset, count), doing)
        small = self._waited(lambda: self._cache.small(name), doing)
        if small is not None:
            return small[offset : None if length is None else offset + length]
        return self._ask(Read(name, offset, length, READ_LIMIT), doing)

    def create(self, name: str, owner: str) -> NewFile:
        return _SpooledFile(self._put, name, owner)

    def _put(self, name: str, owner: str, data: bytes | memoryview, exclusive: bool) -> None:
        self._cache.changed(name)
        self._ask(Put(name, owner, exclusive), tr("Writing to {root}").format(root=self.title), data)
        self._cache.changed(name)

    def clear_temporary(self, owner: str) -> None:
        for name in self.names(TEMPORARY):
            if name.startswith(owner) and "/" not in name:
                clear(self, f"{TEMPORARY}/{name}")

    def remove(self, name: str) -> None:
        self._cache.removed(name)
        doing = tr("Removing {root}").format(root=self._at(name))
        try:
            self._line.ask(Remove(name))
        except LineError as error:
            if error.failed.trouble is Trouble.DENIED:
                raise KeptError(
                    tr("{doing}: the server lets nothing be deleted by this login").format(doing=doing),
                    tr("Let a machine do it whose login may delete"),
                ) from error
            raise self._where.error(error.failed, doing) from error

    def total_bytes(self) -> int:
        return sum(one.size for one in self._ask(Tree(""), tr("Listing {root}").format(root=self.title)))

    def room(self) -> tuple[int, int]:
        room = self._ask(AskRoom(), tr("Asking for the room of {root}").format(root=self.title))
        return (room.free, room.total) if room.free >= 0 else (UNTOLD_ROOM, UNTOLD_ROOM)

    def things(self) -> list[str]:
        doing = tr("Looking into {root}").format(root=self.title)
        return [one.name for one in self._ask(Things(""), doing) if not one.name.startswith(TRIAL)]

    def holds_only_files(self, folder: str) -> bool:
        doing = tr("Looking into {inside}").format(inside=self._at(folder))
        kinds = {one.name: one.kind for one in self._ask(Things(""), doing)}
        return kinds.get(folder) == "folder" and all(
            one.kind == "file" for one in self._ask(Things(folder), doing)
        )


_caches: dict[Line, ServerCache] = {}
_guard = threading.Lock()


def _cache_of(line: Line) -> ServerCache:
    with _guard:
        return _caches.setdefault(line, ServerCache(line))


class _SpooledFile:
    """A file that is made in memory, and carried when it is whole."""

    def __init__(
        self, put: Callable[[str, str, bytes | memoryview, bool], None], name: str, owner: str
    ) -> None:
        self._put, self._name, self._owner = put, name, owner
        self._parts: list[bytes | memoryview] | None = []
        self.size = 0

    def write(self, data: bytes | memoryview) -> None:
        self._open_parts().append(bytes(data) if len(data) < _COPIED else data)
        self.size += len(data)

    def commit(self, exclusive: bool = False) -> None:
        parts = self._open_parts()
        self._put(self._name, self._owner, parts[0] if len(parts) == 1 else b"".join(parts), exclusive)
        self._parts = None

    def discard(self) -> None:
        self._parts = None

    def _open_parts(self) -> list[bytes | memoryview]:
        if self._parts is None:
            raise ValueError("the file is already committed or discarded")
        return self._parts

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.discard()
