"""Bringing dated copies into a history: a snapshot of each, as if it had been taken then."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from good_tide.core.entries import NO_STAT, NOTHING_EXTRA, Entry, Kind, Stat
from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Control
from good_tide.core.records import Machine, Snapshot
from good_tide.core.translation import tr
from good_tide.core.words import harmless
from good_tide.operations.context import Context
from good_tide.operations.dated_copies.archive_taking import ArchiveTaking
from good_tide.operations.dated_copies.members import members_of, spool
from good_tide.operations.dated_copies.planning import Copy
from good_tide.operations.records.store_memory import StoreMemory
from good_tide.operations.snapshot.listing_drafts import LateEntry, LateFolder, draft_after
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.snapshot.run_memory import RunMemory
from good_tide.operations.snapshot.run_notes import RunNotes
from good_tide.operations.snapshot.unchanged import Was, was_at
from good_tide.operations.snapshot.walk import Walk
from good_tide.operations.stores.opening import Store, open_catalog
from good_tide.storage.gathering import gather_index
from good_tide.storage.pins import LONGEST_LABEL, pin, read_pins
from good_tide.storage.runs import RunLock
from good_tide.storage.summaries import known_snapshots, summarise
from good_tide.storage.writer import WriteSession

_MEMORY_FOLDER = "dated-copies"
_PLAIN_FOLDER = Stat(mode=0o755)


class Target(NamedTuple):
    """Where copies go: the history of a machine in a store, and the path there that they are copies of.

    :param pinned: thinning never releases them.
    """

    store: Store
    machine: Machine
    into: bytes
    pinned: bool


def history_of(store: Store, machine: Machine) -> list[Snapshot]:
    """The snapshots of a machine in a store, oldest first."""
    return [one for one in known_snapshots(store)[0] if one.machine.id == machine.id]


def bring_in(
    context: Context, target: Target, copies: Sequence[Copy], control: Control
) -> Iterator[Snapshot]:
    """Take each copy in, the oldest first; each is visible before the next one is begun.

    Raises:
        PersonError: a copy cannot be read, or has become another than it was when it was looked into.
        PlaceError: the store cannot be written, or a snapshot of this machine is just being taken.
        StoppedError: the person stopped it. Copies that were taken in before stay.
    """
    for copy in copies:
        yield _bring_in(context, target, copy, control)


def pin_again(target: Target, copies: Sequence[Copy]) -> int:
    """Pin what was brought in of copies and has no pin: a kill between a snapshot and its pin must not leave
    it to thinning. How many there were.

    Raises:
        PlaceError: the store cannot be written.
    """
    if not target.pinned:
        return 0
    labels = {copy.moment: _label(copy) for copy in copies if copy.is_there}
    pinned = {known.snapshot for known in read_pins(target.store).values()}
    bare = [
        one
        for one in history_of(target.store, target.machine)
        if one.id not in pinned and labels.get(Nanoseconds(one.time)) == one.label
    ]
    for one in bare:
        pin(target.store, one.id, one.label)
    return len(bare)


def _bring_in(context: Context, target: Target, copy: Copy, control: Control) -> Snapshot:
    store, machine, state = target.store, target.machine, context.here.state
    catalog = open_catalog(store, context.here.cache)
    known = catalog.stored_small if catalog.count() else None
    with RunLock(state, store.header.store, machine.id) as owner:
        around = _Around.of(store, machine, copy)
        memory = StoreMemory(state, store.header.store) if store.shared else None
        if memory is not None:
            memory.note_coming({machine.id: copy.moment})
        request = CaptureRequest(
            (Path(os.fsdecode(target.into)),), machine, label=_label(copy), at=copy.moment
        )
        notes = RunNotes(control, around.like, copy.tally)
        with (
            WriteSession(store, owner) as session,
            RunMemory(state / _MEMORY_FOLDER, store, request) as kept,
            Walk(store, session, notes, around.like, known, kept) as walk,
            walk.begun(request, copy.moment),
        ):
            kept.sightings.begin_anew()
            own = store.place.where.folder
            walk.leave_out_own((context.here.holdings, *([own] if own is not None else [])))
            root = _root(walk, notes, kept.scratch, target.into, copy, around)
            taken = walk.publish(around.with_rest(walk, root, target.into), request, copy.moment)
            kept.log.finished()
            gather_index(store, owner)
            summarise(store, owner)
    if memory is not None:
        memory.note_taken(taken)
    if target.pinned:
        pin(store, taken.id, taken.label)
    return taken


def _label(copy: Copy) -> str:
    return harmless(copy.path.name)[:LONGEST_LABEL]


def _root(walk: Walk, notes: RunNotes, scratch: Path, into: bytes, copy: Copy, around: _Around) -> LateFolder:
    """The covered folder as a copy has it."""
    if copy.is_archive and copy.path.is_file():
        with spool(scratch) as spooled:
            taking = ArchiveTaking(walk, notes, into, around.was(into), spooled)
            return taking.take(members_of(copy.path), copy.top)
    root = walk.root(into, os.path.join(os.fsencode(copy.path), copy.top), around.was(into))
    if not isinstance(root, LateFolder):
        raise PersonError(
            tr("The copy {path} cannot be read").format(path=copy.path),
            tr("Check who may read it, and whether its disk is connected"),
        )
    return root


class _Around(NamedTuple):
    """The snapshots of a history before and after a moment; None where there is none."""

    store: Store
    before: Snapshot | None
    after: Snapshot | None

    @classmethod
    def of(cls, store: Store, machine: Machine, copy: Copy) -> _Around:
        """Those around a copy.

        Raises:
            PlaceError: one of just that moment is there.
        """
        own = history_of(store, machine)
        if any(one.time == copy.moment for one in own):
            raise PlaceError(
                tr("The history has a snapshot of the moment of {path} already").format(path=copy.path),
                tr("It was brought in meanwhile; begin again"),
            )
        before = [one for one in own if one.time < copy.moment]
        after = [one for one in own if one.time > copy.moment]
        return cls(store, before[-1] if before else None, after[0] if after else None)

    @property
    def like(self) -> Snapshot | None:
        """The one that is likely to have the same content."""
        return self.before or self.after

    def roots(self) -> list[Entry]:
        """The covered folders of it."""
        return self.store.roots(self.like.record) if self.like is not None else []

    def was(self, path: bytes) -> Was:
        """What it has at a path."""
        way = self._way(path)
        return Was(path, way[-1]) if way else was_at(path, None)

    def _way(self, path: bytes) -> list[Entry | None]:
        """The covered folder that a path is in, each folder on the way to it, and what is there; None for
        what is not there. Empty: it is in none."""
        for root in self.roots():
            if path == root.name:
                return [root]
            if path.startswith(root.name.rstrip(b"/") + b"/"):
                way: list[Entry | None] = [root]
                for part in path[len(root.name.rstrip(b"/")) + 1 :].split(b"/"):
                    way.append(self._inside(way[-1], part))
                return way
        return []

    def _inside(self, folder: Entry | None, name: bytes) -> Entry | None:
        listed = self._listed(folder)
        return next((one for one in listed if one.name == name and one.kind is Kind.FOLDER), None)

    def _listed(self, folder: Entry | None) -> list[Entry]:
        return self.store.listing(folder.pages) if folder is not None else []

    def with_rest(self, walk: Walk, copied: LateFolder, into: bytes) -> list[LateEntry | Entry]:
        """The covered folders of a snapshot in which one folder is as a copy has it, and what is not in the
        copy as the snapshot before has it; nothing, where there is none before."""
        way, roots = self._way(into), self.roots()
        below = into.rstrip(b"/") + b"/"
        others = [root for root in roots if root not in way and not root.name.startswith(below)]
        if len(way) < 2:
            return [copied, *(others if self.before is not None else [])]
        root = way[0]
        assert root is not None
        above = root.name.rstrip(b"/")
        names = into[len(above) + 1 :].split(b"/")
        folder = LateFolder(names[-1], copied.child, copied.stat, copied.extra)
        for depth in range(len(names) - 1, -1, -1):
            was = way[depth]
            path = b"/".join([above, *names[:depth]])
            pages = walk.listings.pages(Was(path, was))
            rest = self._listed(was) if self.before is not None else []
            draft = draft_after(path, len(rest) + 1, pages, was.pages if was is not None else ())
            for one in rest:
                if one.name != folder.name:
                    draft.add(one)
            draft.add(folder)
            walk.finished(draft)
            known = was.stat if was is not None and was.stat != NO_STAT else _PLAIN_FOLDER
            name = names[depth - 1] if depth else root.name
            folder = LateFolder(name, draft, known, was.extra if was is not None else NOTHING_EXTRA)
        return [folder, *(others if self.before is not None else [])]
