"""Reading chunks out of packs, and mending packs by their parity."""

from __future__ import annotations

import threading
from collections.abc import Callable

from good_tide.core.errors import DamageError, Harm
from good_tide.core.identifiers import ChunkId, PackId
from good_tide.core.translation import tr
from good_tide.crypto.seals import StoreKeys
from good_tide.storage.envelope import FileKind, head
from good_tide.storage.failing_disk import OneFile, damage_of, read_around
from good_tide.storage.index import Location, location_in
from good_tide.storage.kept_here import NOTHING_KEPT, NothingKept
from good_tide.storage.mending import Mending
from good_tide.storage.packed import Form, Packed, Prepared, open_body, open_chunk, pack_file
from good_tide.storage.packs import Holds, PackTable, piece_name, read_from_pack, read_table, stored_in
from good_tide.storage.place import Place
from good_tide.storage.stripes import is_whole, mended


class PackReader:
    """Reads the packs of a store. Threads may use it at once."""

    def __init__(self, place: Place, keys: StoreKeys, mending: Mending) -> None:
        self._place, self._keys, self._mending = place, keys, mending
        self._beyond: set[PackId] = set()
        """Packs that parity cannot mend."""
        self._held: tuple[PackId, bytes] | None = None
        """A pack that was mended in memory, on a disk that does not take it."""
        self._lock = threading.Lock()
        self.kept: NothingKept = NOTHING_KEPT
        """What this machine keeps of listings."""
        self.proves = False
        """Whether the seal of each chunk is looked at, though its identity says that its bytes are right."""

    def chunk(self, identity: ChunkId, location: Location, leans_on: bytes = b"") -> bytes:
        """A chunk from one of the places where it lies.

        :param leans_on: the plain bytes of the chunks that it leans on there, one after the other.

        Raises:
            DamageError: it is not there whole, and parity does not help.
            PlaceError: the disk gives nothing any more.
        """
        chunk = location.packed(identity)
        return self._read(location, lambda sealed: self._open(chunk, location, sealed, leans_on))

    def prepared(self, table: PackTable, number: int) -> Prepared:
        """A chunk of a pack as it was sealed, authenticated, to be sealed again in another pack.

        Raises:
            DamageError: it is not there whole. PlaceError: the disk gives nothing any more.
        """
        chunk = table.packed(number)

        def body(sealed: bytes) -> bytes:
            self._proved(chunk, table.pack, number, sealed)
            return open_body(self._keys, table.pack, number, sealed, chunk)

        return Prepared(chunk, self._read(location_in(table, number), body))

    def _open(self, chunk: Packed, location: Location, sealed: bytes, leans_on: bytes) -> bytes:
        pack, number, by_identity = location.pack, location.number, not self.proves
        return open_chunk(self._keys, pack, number, sealed, chunk, leans_on, by_identity)

    def _proved(self, chunk: Packed, pack: PackId, number: int, sealed: bytes) -> None:
        """Look at a chunk as far as can be without those that it leans on.

        Raises:
            DamageError: it is not what was written.
        """
        if chunk.form is Form.LEANING:
            open_body(self._keys, pack, number, sealed, chunk)
        else:
            open_chunk(self._keys, pack, number, sealed, chunk)

    def _read(self, location: Location, use: Callable[[bytes], bytes]) -> bytes:
        """What ``use`` makes of the sealed bytes of a chunk; of those that parity gives where it refuses
        them."""
        file = pack_file(location.pack)

        def read() -> bytes:
            with damage_of(self._place, file):
                return read_from_pack(self._place, file, location.size, location.offset, location.stored)

        try:
            if location.holds is Holds.TREE:
                return self.kept.held(piece_name(location.pack, location.number), use, read)
            return use(read())
        except DamageError as error:
            whole = self._mended(location.pack, location.size, error)
        return use(stored_in(whole, location.offset, location.stored))

    def _mended(self, pack: PackId, size: int, error: DamageError) -> bytes:
        """A damaged pack as it was.

        Raises:
            DamageError: ``error``, because it has no parity, is gone, or too much of it is lost.
        """
        whole = self.mend(pack, size) if size and error.harm is not Harm.MISSING else None
        if whole is None:
            raise error
        return whole

    def mend(self, pack: PackId, size: int) -> bytes | None:
        """A pack with parity as it was, put right on the disk too where that takes it; None if too much of it
        is lost.

        :param size: bytes of its file.
        """
        with self._lock:
            if self._held is not None and self._held[0] == pack:
                return self._held[1]
            if pack in self._beyond:
                return None
            file = pack_file(pack)
            data = read_around(self._place, file, size)
            whole = mended(data, head(FileKind.PACK, self._keys.encrypted, 2, parity=True), size)
            if whole is None or not self._all_seals_hold(pack, whole):
                self._beyond.add(pack)
                return None
            if not self._mending.put_right(file, whole):
                self._held = pack, whole
            return whole

    def _all_seals_hold(self, pack: PackId, whole: bytes) -> bool:
        """Whether all seals of a pack in memory hold."""
        try:
            table = read_table(OneFile(pack_file(pack), whole), self._keys, pack)
            for number in range(len(table)):
                location = location_in(table, number)
                sealed = stored_in(whole, location.offset, location.stored)
                self._proved(table.packed(number), pack, number, sealed)
        except DamageError:
            return False
        return True

    def table(self, pack: PackId, size: int | None) -> PackTable:
        """The table at the end of a pack.

        :param size: bytes of its file if it has parity, 0 if it has none; None: not known.

        Raises:
            DamageError: it is not there whole. PlaceError: the disk gives nothing any more.
        """
        file = pack_file(pack)
        try:
            with damage_of(self._place, file):
                return read_table(self._place, self._keys, pack)
        except DamageError as error:
            if size is None and error.harm is not Harm.MISSING:
                with damage_of(self._place, file):
                    size = self._place.size(file)
            whole = self._mended(pack, size or 0, error)
        return read_table(OneFile(file, whole), self._keys, pack)

    def put_parity_right(self, table: PackTable) -> None:
        """Read a pack with parity as it lies, and mend it if any of its units, parity included, is not what
        it was.

        Raises:
            DamageError: it is gone, or too much of it is lost. PlaceError: the disk gives nothing any more.
        """
        file = pack_file(table.pack)
        with damage_of(self._place, file):
            self._place.size(file)
        if not is_whole(read_around(self._place, file, table.size), table.size):
            error = DamageError(
                tr("More of {file} is damaged than its parity can mend").format(file=file), file=file
            )
            self._mended(table.pack, table.size, error)
