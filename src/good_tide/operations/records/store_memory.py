"""What this machine remembers of each store between openings, so that it notices a store that is older than
it was, and another machine that writes its history. A small file for each store in the person's state folder;
without it nothing is noticed, and nothing else is lost.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple

import msgspec

from good_tide.core.errors import GoodTideError, PlaceError
from good_tide.core.identifiers import MachineId, StoreId, local_name
from good_tide.core.records import Machine, Snapshot
from good_tide.core.translation import tr
from good_tide.core.words import number_words, time_words
from good_tide.storage.folders import INDEX_FOLDER, PACK_FOLDER
from good_tide.storage.header import SLOT_FOLDER
from good_tide.storage.store import Store
from good_tide.storage.summaries import known_snapshots, snapshot_names

_FOLDER = "stores"
_MOST_RETIRED = 5000
_SHOWN = 8
"""Characters of a name that are kept of index files: enough to tell a few thousand apart."""


class Taken(msgspec.Struct, frozen=True):
    """The newest snapshot of a machine that this one took into the store."""

    name: str
    time: int


class _Memory(msgspec.Struct):
    """``index`` and ``slots`` are those that were there; ``retired`` were there before and had been replaced
    or revoked since. ``taken``, ``coming`` and ``mixed`` by machine, in nanoseconds since 1970 UTC:
    ``coming`` is the time of the newest snapshot that this machine was about to put there, ``mixed`` since
    when somebody else writes the history."""

    taken: dict[str, Taken] = {}
    coming: dict[str, int] = {}
    mixed: dict[str, int] = {}
    index: list[str] = []
    retired_index: list[str] = []
    slots: dict[str, str] = {}
    retired_slots: dict[str, str] = {}


class Noticed(NamedTuple):
    """Something strange about a store: what, and what to do."""

    what: str
    todo: str


def others_write(machine: str) -> Noticed:
    """That another machine writes the history of this one."""
    return Noticed(
        tr(
            "Another machine writes snapshots as {machine}: one of them was made from an image of the other."
            " Nothing is released meanwhile"
        ).format(machine=machine),
        tr(
            "On the copy: good-tide machine --own-history. Here, when that is done: good-tide machine"
            " --accept"
        ),
    )


class StoreMemory:
    """The memory of one store.

    :param state: the person's state folder. :param identity: the store's id.
    """

    def __init__(self, state: Path, identity: StoreId) -> None:
        self._file = state / _FOLDER / f"{local_name(identity)}.json"

    def _read(self) -> _Memory:
        with contextlib.suppress(OSError, msgspec.MsgspecError):
            return msgspec.json.decode(self._file.read_bytes(), type=_Memory)
        return _Memory()

    def _write(self, memory: _Memory) -> bool:
        """Keep it, so that a power cut does not take it back; whether that went well."""
        new = self._file.with_suffix(".new")
        try:
            self._file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            with open(new, "wb") as file:
                file.write(msgspec.json.encode(memory))
                file.flush()
                os.fsync(file.fileno())
            new.replace(self._file)
            folder = os.open(self._file.parent, os.O_RDONLY | os.O_DIRECTORY)
            try:
                os.fsync(folder)
            finally:
                os.close(folder)
        except OSError:
            return False
        return True

    def look(self, store: Store) -> list[Noticed]:
        """Look at a store that was opened: what is strange about it, said once; from now on it is taken as it
        is.

        Raises:
            GoodTideError: it cannot be looked at.
        """
        memory = self._read()
        before = msgspec.json.encode(memory)
        found = [*self._older(memory, store), *self._index(memory, store), *self._slots(memory, store)]
        if msgspec.json.encode(memory) != before:
            self._write(memory)
        return found

    def _older(self, memory: _Memory, store: Store) -> list[Noticed]:
        """Whether a snapshot that this machine took last is gone, and none that is as young is there: nothing
        ever releases the newest."""
        found = []
        present = snapshot_names(store, {taken.name for taken in memory.taken.values()})
        for machine, taken in list(memory.taken.items()):
            if taken.name in present:
                continue
            own = [one for one in known_snapshots(store)[0] if one.machine.id == machine]
            newest = own[-1] if own else None
            if newest is None or newest.time < taken.time:
                then = time_words(taken.time, taken.time)
                now = (
                    tr("its newest is of {time}").format(time=time_words(newest.time, taken.time))
                    if newest is not None
                    else tr("it has none")
                )
                found.append(
                    Noticed(
                        tr(
                            "The store in {title} is older than when this machine last saw it: the snapshot"
                            " of {then} is gone, and {now}"
                        ).format(title=store.place.title, then=then, now=now),
                        tr("Find out who put an old copy there; what was taken since is missing from it"),
                    )
                )
            if newest is None:
                del memory.taken[machine]
            else:
                memory.taken[machine] = Taken(newest.id, newest.time)
        return found

    def _index(self, memory: _Memory, store: Store) -> list[Noticed]:
        """Whether index files that a sweep had replaced are back, or some are gone that none has replaced."""
        now = [name[:_SHOWN] for name in store.place.names(INDEX_FOLDER)]
        back = set(now) & set(memory.retired_index)
        gone = [name for name in memory.index if name not in now]
        fresh = set(now) - set(memory.index)
        found = []
        if back:
            found.append(
                Noticed(
                    tr("An old index was put back into the store in {title}").format(title=store.place.title),
                    tr("Run verify on it, and find out who did that"),
                )
            )
        elif gone and not fresh and _holds_unnamed_packs(store):
            found.append(
                Noticed(
                    tr("{gone} index files are missing from the store in {title}").format(
                        gone=number_words(len(gone)), title=store.place.title
                    ),
                    tr("Run verify on it, with --read-all"),
                )
            )
        memory.retired_index = [name for name in [*memory.retired_index, *gone] if name not in now][
            -_MOST_RETIRED:
        ]
        memory.index = now
        return found

    def _slots(self, memory: _Memory, store: Store) -> list[Noticed]:
        """Whether a key slot that had been revoked is back: a passphrase that was given up opens the store
        again."""
        now = {}
        for name in store.place.names(SLOT_FOLDER):
            with contextlib.suppress(GoodTideError):  # one that cannot be read opens nothing
                now[name] = hashlib.sha256(store.place.read(f"{SLOT_FOLDER}/{name}", 0, 1 << 16)).hexdigest()[
                    :_SHOWN
                ]
        back = [name for name, digest in now.items() if memory.retired_slots.get(name) == digest]
        memory.retired_slots |= {name: digest for name, digest in memory.slots.items() if name not in now}
        memory.retired_slots = {
            name: digest for name, digest in memory.retired_slots.items() if name not in now
        }
        memory.slots = now
        if not back:
            return []
        what = tr(
            "A passphrase or recovery key that had been revoked opens the store in {title} again"
        ).format(title=store.place.title)
        return [
            Noticed(
                what,
                tr("Find out who put keys/{back} back; revoke it anew with “good-tide store slots”").format(
                    back=back[0]
                ),
            )
        ]

    def note_coming(self, newest: Mapping[str, int]) -> None:
        """This machine is about to put snapshots there, up to these times by machine. A run that is killed
        between putting one there and noting it must not be taken for another machine's; where that cannot be
        kept, nothing is noticed rather than something wrong."""
        memory = self._read()
        fresh = {
            machine: time
            for machine, time in newest.items()
            if machine in memory.taken and time > memory.coming.get(machine, 0)
        }
        memory.coming |= fresh
        if fresh and not self._write(memory) and not memory.mixed:
            with contextlib.suppress(OSError):
                self._file.unlink()

    def note_taken(self, snapshot: Snapshot) -> None:
        """This machine took a snapshot into the store."""
        memory = self._read()
        before = memory.taken.get(snapshot.machine.id)
        if before is None or before.time <= snapshot.time:
            memory.taken[snapshot.machine.id] = Taken(snapshot.id, snapshot.time)
            self._write(memory)

    def is_mixed(self, machine: MachineId) -> bool:
        """Whether somebody else writes a machine's history: until a person has looked nothing of it is
        released."""
        return machine in self._read().mixed

    def notice_others(self, machine: MachineId, newest: Snapshot | None, now: int) -> bool:
        """Before a snapshot of a machine is taken: whether its newest one is younger than the one that this
        machine took last, so that another machine has the same identity. True when it is noticed now."""
        memory = self._read()
        taken = memory.taken.get(machine)
        if newest is None or taken is None or machine in memory.mixed or newest.id == taken.name:
            return False
        if newest.time <= max(taken.time, memory.coming.get(machine, 0)):
            return False
        memory.mixed[machine] = now
        self._write(memory)
        return True

    def accept(self, machine: MachineId, newest: Snapshot | None) -> None:
        """A person has looked: a machine's history, as it is, is its own."""
        memory = self._read()
        memory.mixed.pop(machine, None)
        if newest is not None:
            memory.taken[machine] = Taken(newest.id, newest.time)
        self._write(memory)


def is_mixed(state: Path, store: Store, machine: MachineId) -> bool:
    """Whether somebody else writes a machine's history in a store (``StoreMemory.is_mixed``)."""
    return StoreMemory(state, store.header.store).is_mixed(machine)


def refuse_mixed(state: Path, store: Store, machine: Machine) -> None:
    """Refuse to release anything of a history that somebody else writes too.

    Raises:
        PlaceError: somebody does.
    """
    if is_mixed(state, store, machine.id):
        raise PlaceError(*others_write(machine.name))


def _holds_unnamed_packs(store: Store) -> bool:
    """Whether there are packs that no index names, as where an index file was taken away; a sweep leaves
    none."""
    store.refresh()
    named = {pack.hex() for pack in (*store.index.tables, *store.avoided)}
    return any(name.rpartition("/")[2] not in named for name in store.place.names(PACK_FOLDER))
