"""Known damage of a store: which of its files, and which chunks of its packs, are missing or not what was
written. ``docs/format.md`` ("Known damage") gives the files.

What is known here counts as absent: nothing is built on it, and the next snapshot stores it again.
"""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Iterable

import msgspec

from good_tide.core.errors import DamageError, GoodTideError, Harm
from good_tide.core.identifiers import NAME_BYTES, PackId
from good_tide.core.translation import tr
from good_tide.crypto.seals import StoreKeys
from good_tide.storage.decoding import unpacked
from good_tide.storage.envelope import FileKind, open_whole, seal_new
from good_tide.storage.place import Place

DAMAGE_FOLDER = "damage"
_OWNER = "damage-"
_PACKS = "packs/"


class Damaged(msgspec.Struct, frozen=True):
    """What is known of one damaged file.

    :param chunks: numbers of the damaged chunks of a pack, from 0; none: the whole file.
    :param lost: no way was found to mend it, and a person or the agent has been told what that costs.
    """

    file: str
    harm: Harm
    chunks: tuple[int, ...] = ()
    lost: bool = False

    def joined(self, other: Damaged) -> Damaged:
        """What both say of the same file; of how it is damaged the other has the word."""
        whole = not self.chunks or not other.chunks
        chunks = () if whole else tuple(sorted({*self.chunks, *other.chunks}))
        return Damaged(self.file, other.harm, chunks, self.lost or other.lost)


class KnownDamage:
    """All that is known to be damaged in a store: from its records, and noted since by this process. Threads
    may use it at once."""

    def __init__(self, place: Place, keys: StoreKeys) -> None:
        self._place, self._keys = place, keys
        self._records: dict[str, list[Damaged]] = {}
        """What each record file says."""
        self._files: dict[str, Damaged] = {}
        self._packs: dict[PackId, frozenset[int]] = {}
        """Damaged chunks of each damaged pack; an empty set: all of them."""
        self._unwritten: set[str] = set()
        self._lock = threading.RLock()

    def refresh(self) -> None:
        """Take notice of records that others wrote or removed. One that cannot be read says nothing.

        Raises:
            PlaceError: the disk cannot be looked into.
        """
        present = self._place.names(DAMAGE_FOLDER)
        with self._lock:
            if self._records.keys() == set(present):
                return
            own = [self._files[file] for file in self._unwritten]
            self._records = {name: self._records.get(name) or self._read(name) for name in present}
            self._files, self._packs = {}, {}
            for one in (*(one for known in self._records.values() for one in known), *own):
                self._take(one)

    def _read(self, name: str) -> list[Damaged]:
        file = f"{DAMAGE_FOLDER}/{name}"
        with contextlib.suppress(GoodTideError, ValueError):
            plain = open_whole(self._keys, FileKind.DAMAGE, bytes.fromhex(name), self._place.read(file), file)
            return unpacked(plain, list[Damaged], file, tr("a record of damage"))
        return []

    def _take(self, one: Damaged) -> None:
        known = self._files.get(one.file)
        joined = one if known is None else known.joined(one)
        self._files[one.file] = joined
        pack = pack_of(one.file)
        if pack is not None:
            self._packs[pack] = frozenset(joined.chunks)

    def __bool__(self) -> bool:
        return bool(self._files)

    @property
    def files(self) -> dict[str, Damaged]:
        """The damaged files, by their names."""
        with self._lock:
            return dict(self._files)

    @property
    def packs(self) -> dict[PackId, frozenset[int]]:
        """Numbers of the damaged chunks of each damaged pack; an empty set stands for all of them."""
        return self._packs

    def is_bad(self, pack: PackId, number: int) -> bool:
        """Whether a chunk, by its number in its pack, is known to be damaged there."""
        known = self._packs.get(pack)
        return known is not None and (not known or number in known)

    def note(self, error: DamageError, chunk: int | None = None) -> None:
        """Remember that a file was found damaged.

        :param chunk: the number of the chunk of a pack that is; None: the whole file.
        """
        if error.file:
            self.add([Damaged(error.file, error.harm, () if chunk is None else (chunk,))])

    def add(self, found: Iterable[Damaged]) -> None:
        """Remember damaged files; ``keep`` writes them into the store."""
        with self._lock:
            for one in found:
                before = self._files.get(one.file)
                self._take(one)
                if self._files[one.file] != before:
                    self._unwritten.add(one.file)

    def keep(self) -> None:
        """Write what was noted into the store, for all machines.

        Raises:
            PlaceError: the disk does not take it; it stays noted.
        """
        with self._lock:
            if not self._unwritten:
                return
            self._write([self._files[file] for file in sorted(self._unwritten)])
            self._unwritten = set()

    def _write(self, known: list[Damaged]) -> None:
        name, data = seal_new(self._keys, FileKind.DAMAGE, msgspec.msgpack.encode(known))
        with self._place.create(f"{DAMAGE_FOLDER}/{name.hex()}", _OWNER) as file:
            file.write(data)
            file.commit()
        self._records[name.hex()] = known

    def forget(self, files: Iterable[str]) -> None:
        """Files were mended, or are of no more use: what is known of them goes.

        Raises:
            PlaceError: the disk does not let go of the records.
        """
        gone = set(files)
        with self._lock:
            for file in gone & self._files.keys():
                del self._files[file]
                pack = pack_of(file)
                if pack is not None:
                    del self._packs[pack]
            self._unwritten -= gone
            old = [name for name, known in self._records.items() if any(one.file in gone for one in known)]
            stays = [one for name in old for one in self._records[name] if one.file not in gone]
            if stays:
                self._write(stays)
            for name in old:
                self._place.remove(f"{DAMAGE_FOLDER}/{name}")
                del self._records[name]


def pack_of(file: str) -> PackId | None:
    """The pack that a store file is; None if it is none."""
    name = file.rpartition("/")[2]
    if not file.startswith(_PACKS) or len(name) != 2 * NAME_BYTES:
        return None
    with contextlib.suppress(ValueError):
        return PackId(bytes.fromhex(name))
    return None
