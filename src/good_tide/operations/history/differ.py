"""Keeping what differs between two sides, whatever they are."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable

import msgspec

from good_tide.core.differences import Differences, Differing, What
from good_tide.core.entries import Entry, Kind, page_extents
from good_tide.core.errors import PersonError
from good_tide.core.identifiers import PageId
from good_tide.core.progress import Control, Progress
from good_tide.core.records import Snapshot
from good_tide.core.translation import tr
from good_tide.operations.history.browse import check_depth, entry_at, readable_children
from good_tide.operations.history.moves import Moving, with_moves
from good_tide.storage.store import Store

_REPORT_EVERY = 512


class Differ:
    """Compares two sides folder by folder, and keeps what differs."""

    def __init__(self, store: Store, control: Control) -> None:
        self._store, self._control = store, control
        self.items: list[Differing] = []
        self.unclear: list[tuple[bytes, str]] = []
        self.gone: list[Moving] = []
        self.new: list[Moving] = []
        self._looked = 0

    def look(self, path: bytes) -> None:
        """Something is looked at: the person may stop here."""
        self._looked += 1
        if self._looked % _REPORT_EVERY == 0:
            self._control.checkpoint()
            self._control.report(Progress(tr("Comparing"), self._looked, current=os.fsdecode(path)))

    def differs(self, path: bytes, what: What, kind: str, before: int = 0, after: int = 0) -> None:
        """Keep a difference."""
        self.items.append(Differing(path, what, kind, before, after))

    def listing(self, entry: Entry, path: bytes, pages: Iterable[PageId]) -> dict[bytes, Entry]:
        """Entries of some pages of a folder; what cannot be read is noted."""
        only = set(pages)
        own = msgspec.structs.replace(
            entry, extents=page_extents(page for page in entry.pages if page in only)
        )
        found, damage = readable_children(self._store, own)
        self.unclear += [(path, error.what) for error in damage]
        return {one.name: one for one in found}

    def whole(self, entry: Entry, path: bytes, what: What) -> None:
        """An entry that is there on one side only, with all below it."""
        waiting = [(entry, path, 0)]
        while waiting:
            one, where, depth = waiting.pop()
            self.look(where)
            check_depth(depth)
            if one.kind is Kind.LEFT_OUT:
                continue
            size = one.stat.size if one.kind is Kind.FILE else 0
            gone = what is What.GONE
            self.differs(where, what, one.kind.value, size if gone else 0, 0 if gone else size)
            if one.kind is Kind.FOLDER:
                below = self.listing(one, where, one.pages)
                waiting += [(child, where + b"/" + name, depth + 1) for name, child in below.items()]

    def done(self) -> Differences:
        """Everything, in order of the paths, what was moved told as that."""
        return Differences(tuple(with_moves(self.items, self.gone, self.new)), tuple(self.unclear))


def size_of(entry: Entry) -> int:
    """Bytes of a file; 0 of anything else."""
    return entry.stat.size if entry.kind is Kind.FILE else 0


def standing(store: Store, snapshot: Snapshot, path: bytes | None) -> list[tuple[bytes, Entry]]:
    """What stood at a path in a snapshot; above the covered folders those below it, and all of them for None.
    Nothing where it was not there."""
    roots = [(root.name, root) for root in store.roots(snapshot.record)]
    if path is None:
        return roots
    below = [(name, root) for name, root in roots if (name + b"/").startswith(path.rstrip(b"/") + b"/")]
    if below:
        return below
    with contextlib.suppress(PersonError):
        return [(path, entry_at(store, snapshot, path))]
    return []
