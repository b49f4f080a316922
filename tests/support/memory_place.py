"""A place in memory that can be cut off at any operation and then loses all that was not committed."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from pathlib import Path

from good_tide.core.errors import NameTakenError, NotInPlaceError, PlaceFullError
from good_tide.storage.place import NewFile, Place, StorePlace


class PowerCutError(BaseException):
    """The machine has lost power. Not an ``Exception``: nothing may handle it."""


@dataclass(frozen=True, eq=True)
class InMemory:
    """A place that is no folder: in the memory of this process."""

    place: MemoryPlace
    called: str = "memory"
    folder: Path | None = None

    def check_there(self) -> None:
        """It always is."""

    def make(self) -> None:
        """Nothing needs to be done."""

    def files(self, limit: int | None = None) -> Place:
        return self.place


class MemoryPlace:
    """A full implementation of ``Place``.

    :param cut_after: operations until the power goes; None: never.
    :param limit: bytes it holds.
    """

    title = "memory"

    def __init__(self, cut_after: int | None = None, limit: int = 1 << 40) -> None:
        self.files: dict[str, bytes] = {}
        self.volatile: dict[str, bytearray] = {}
        self.cut_after, self.limit = cut_after, limit

    def tick(self) -> None:
        """One operation."""
        if self.cut_after is not None:
            self.cut_after -= 1
            if self.cut_after < 0:
                raise PowerCutError

    def after_power_cut(self) -> MemoryPlace:
        """What is left when the power comes back: committed files only."""
        place = MemoryPlace()
        place.files = dict(self.files)
        return place

    def expect(self, folder: str) -> None:
        """Nothing has to be asked for ahead."""

    def look_anew(self) -> None:
        """Nothing is remembered."""

    def names(self, folder: str) -> list[str]:
        begin = f"{folder}/" if folder else ""
        return sorted(name[len(begin) :] for name in self.files if name.startswith(begin))

    def size(self, name: str) -> int:
        return len(self.read(name))

    def read(self, name: str, offset: int = 0, length: int | None = None) -> bytes:
        if name not in self.files:
            raise NotInPlaceError(f"{name} is not there")
        data = self.files[name]
        return data[offset:] if length is None else data[offset : offset + length]

    def create(self, name: str, owner: str) -> NewFile:
        self.tick()
        return _MemoryFile(self, name, f"{owner}{secrets.token_hex(4)}")

    def clear_temporary(self, owner: str) -> None:
        for name in [name for name in self.volatile if name.startswith(owner)]:
            del self.volatile[name]

    def remove(self, name: str) -> None:
        self.tick()
        self.files.pop(name, None)

    @property
    def where(self) -> StorePlace:
        return InMemory(self)

    def room(self) -> tuple[int, int]:
        return self.limit - self.total_bytes(), self.limit

    def things(self) -> list[str]:
        return sorted({name.partition("/")[0] for name in self.files})

    def holds_only_files(self, folder: str) -> bool:
        return not any("/" in name for name in self.names(folder))

    def total_bytes(self) -> int:
        return sum(map(len, self.files.values())) + sum(map(len, self.volatile.values()))


class _MemoryFile:
    def __init__(self, place: MemoryPlace, name: str, temporary: str) -> None:
        self._place, self._name, self._temporary = place, name, temporary
        place.volatile[temporary] = bytearray()
        self.size = 0

    def write(self, data: bytes | memoryview) -> None:
        self._place.tick()
        if self._place.total_bytes() + len(data) > self._place.limit:
            raise PlaceFullError("no room")
        self._place.volatile[self._temporary] += data
        self.size += len(data)

    def commit(self, exclusive: bool = False) -> None:
        self._place.tick()
        if exclusive and self._name in self._place.files:
            raise NameTakenError("taken")
        self._place.files[self._name] = bytes(self._place.volatile.pop(self._temporary))
        self._place.tick()

    def discard(self) -> None:
        self._place.volatile.pop(self._temporary, None)

    def __enter__(self) -> _MemoryFile:
        return self

    def __exit__(self, *_: object) -> None:
        self.discard()
