"""Stores on servers. Each file is made in memory and carried as one, so that a broken line is only a new try;
the process that does it is another one (``good_tide.servers``)."""

from __future__ import annotations

import threading
from collections.abc import Callable
from pathlib import Path
from types import TracebackType
from typing import Self, TypeVar

import msgspec

from good_tide.core.addresses import Address, address, looks_like_address
from good_tide.core.errors import (
    DamageError,
    KeptError,
    LoginError,
    NameTakenError,
    NotInPlaceError,
    PlaceAwayError,
    PlaceError,
    PlaceFullError,
    ServerKeyError,
)
from good_tide.core.places import UNTOLD_ROOM
from good_tide.core.settings import LineLimit
from good_tide.core.translation import tr
from good_tide.lines.client import Line, LineError, line_to
from good_tide.lines.wire import (
    TRIAL,
    AskRoom,
    Call,
    Failed,
    Make,
    Put,
    Read,
    Remove,
    Size,
    There,
    Things,
    Tree,
    Trouble,
)
from good_tide.storage.place import READ_LIMIT, TEMPORARY, NewFile, Place, StorePlace, clear
from good_tide.storage.server_cache import ServerCache

A = TypeVar("A")

_PACKS = "packs/"
_UNMEASURED = 32 << 20
"""So many bytes of a file are asked for without a look at how long it is."""
_COPIED = 1 << 20
"""Fewer bytes are copied when they are written: who wrote them may use the memory again."""


class ServerPlace(msgspec.Struct, frozen=True):
    """A folder on a server."""

    address: Address

    @classmethod
    def named(cls, words: str) -> Self | None:
        """The folder that an address names; None for what is no address.

        Raises:
            PersonError: an address that cannot be used.
        """
        return cls(address(words)) if looks_like_address(words) else None

    @property
    def called(self) -> str:
        return str(self.address)

    @property
    def folder(self) -> Path | None:
        return None

    def check_there(self) -> None:
        asked(self.address, There(), tr("Looking for {address}").format(address=self.called))

    def make(self) -> None:
        asked(self.address, Make(), tr("Making a store in {path}").format(path=self.called))

    def files(self, limit: int | None = None) -> Place:
        return SpoolingPlace(self.address)


def limit_line(where: StorePlace, limit: LineLimit) -> None:
    """Let no more than so much move over the line to a place, if there is one."""
    if isinstance(where, ServerPlace):
        line_to(where.address).limit_to(limit)


def asked(place: Address, call: Call[A], doing: str, payload: bytes | memoryview = b"") -> A:
    """Ask a server.

    Raises:
        PlaceError: one of its kinds, for whatever kept it from being done.
    """
    return waited(line_to(place).begin(call, payload), place, doing)


def waited(answer: Callable[[], A], place: Address, doing: str) -> A:
    """What a server answered.

    Raises:
        As ``asked``.
    """
    try:
        return answer()
    except LineError as error:
        raise place_error(error.failed, place, doing) from error


def place_error(failed: Failed, place: Address, doing: str) -> PlaceError | DamageError:
    """What a failure on a server means for who asked."""
    host, said = place.host, failed.said
    match failed.trouble:
        case Trouble.MISSING:
            return NotInPlaceError(
                tr("{doing}: it is not there").format(doing=doing),
                tr("Check that the folder on the server holds this store"),
            )
        case Trouble.TAKEN:
            return NameTakenError(
                tr("{doing}: it was made by another at the same moment").format(doing=doing),
                tr("Use that one"),
            )
        case Trouble.FULL:
            return PlaceFullError(
                tr("{doing}: no room left on the server").format(doing=doing),
                tr("Free some room there, or use another place; what was visible is whole"),
            )
        case Trouble.DENIED:
            return PlaceError(
                tr("{doing}: the server does not permit it").format(doing=doing),
                tr("Ask who runs it whether {login} may write there").format(login=place.login),
            )
        case Trouble.READ_ONLY:
            return PlaceError(
                tr("{doing}: the server gives it to read only").format(doing=doing),
                tr("Ask who runs it whether {login} may write there").format(login=place.login),
            )
        case Trouble.LOGIN:
            return LoginError(
                tr("{host} does not let {user} in").format(host=host, user=place.user or tr("you"))
                + (f" ({said})" if said else ""),
                tr("Run “good-tide place try {address}” to give the password, or put a key there").format(
                    address=place
                )
                if place.by_key
                else tr("Run “good-tide place try {address}” to give the password").format(address=place),
            )
        case Trouble.LOCKED_KEY:
            return LoginError(
                tr("The key for {host} has a passphrase").format(host=host),
                tr("Run “good-tide place try {address}” to give it, or add the key to the agent").format(
                    address=place
                ),
                of_key=True,
            )
        case Trouble.MORE_ASKED:
            return LoginError(
                tr("{host} asks for more than a password ({said})").format(host=host, said=said),
                tr("Runs that begin by themselves cannot answer: use a key, or another login"),
            )
        case Trouble.NEW_KEY:
            return ServerKeyError(
                tr("This machine does not trust the certificate that {host} shows: {shown}").format(
                    host=host, shown=failed.shown
                )
                if place.by_certificate
                else tr("{host} is not known yet; it shows the key {shown}").format(
                    host=host, shown=failed.shown
                ),
                tr(
                    "Compare it with what who runs the server says, then run “good-tide place try"
                    " {address} --fingerprint {shown}”"
                ).format(address=place, shown=failed.shown),
                failed.shown,
            )
        case Trouble.CHANGED_KEY:
            return ServerKeyError(
                tr("{host} shows another certificate than before: {shown}, and not {known}").format(
                    host=host, shown=failed.shown, known=failed.known
                )
                if place.by_certificate
                else tr("{host} shows another key than before: {shown}, and not {known}").format(
                    host=host, shown=failed.shown, known=failed.known
                ),
                tr(
                    "Somebody may stand in between: nothing was sent. Ask who runs the server; if it has a"
                    " new key, run “good-tide place try {address} --fingerprint {shown}”"
                ).format(shown=failed.shown, address=place),
                failed.shown,
                failed.known,
            )
        case Trouble.NO_FOLDER:
            return PlaceAwayError(
                tr("There is no folder {path} on {host}").format(path=place.path, host=host),
                tr("Check the address, and whether the server has all its disks"),
            )
        case Trouble.NOT_SPOKEN:
            return PlaceAwayError(
                tr("{host} does not speak {kind} on port {port}").format(
                    host=host, kind=place.kind, port=place.port
                )
                + (f" ({said})" if said else ""),
                tr("Check the address"),
            )
        case Trouble.AWAY:
            return PlaceAwayError(
                tr("{host} does not answer").format(host=host) + (f" ({said})" if said else ""),
                tr("Check the network and whether the server runs; it goes on by itself"),
            )
        case Trouble.OTHER:
            if said == "too large":
                return DamageError(tr("{doing}: larger than any file that is read whole").format(doing=doing))
            return PlaceError(
                f"{doing}: {said or failed.trouble}", tr("Ask who runs the server, then try again")
            )


class SpoolingPlace:
    """The files of a folder on a server. Threads may use it at once."""

    def __init__(self, place: Address) -> None:
        self._address = place
        self._line: Line = line_to(place)
        self._cache = _cache_of(place)

    @property
    def title(self) -> str:
        return str(self._address)

    @property
    def where(self) -> StorePlace:
        return ServerPlace(self._address)

    def _ask(self, call: Call[A], doing: str, payload: bytes | memoryview = b"") -> A:
        return waited(self._line.begin(call, payload), self._address, doing)

    def _at(self, name: str) -> str:
        return f"{self.title}/{name}" if name else self.title

    def names(self, folder: str) -> list[str]:
        doing = tr("Listing {root}").format(root=self._at(folder))
        found = waited(lambda: self._cache.files(folder), self._address, doing)
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
            return waited(lambda: self._cache.part(name, offset, count), self._address, doing)
        small = waited(lambda: self._cache.small(name), self._address, doing)
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
            raise place_error(error.failed, self._address, doing) from error

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


_caches: dict[Address, ServerCache] = {}
_guard = threading.Lock()


def _cache_of(place: Address) -> ServerCache:
    with _guard:
        return _caches.setdefault(place, ServerCache(line_to(place)))


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
