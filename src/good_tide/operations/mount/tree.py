"""All moments of one history as a tree of folders, which is made as it is looked into.

``moments/2026-11-17 12.00/home/ada/…``: what a snapshot holds.
``files/home/ada/plan.txt/2026-11-17 12.00.txt``: all versions of a path beside each other.
``gone/home/ada/…``: what is no longer there, as it was last.
"""

from __future__ import annotations

import functools
import os
import time
from collections import OrderedDict
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Protocol, TypeVar

from good_tide.core.clock import Clock
from good_tide.core.entries import Entry, Extra, Kind, Stat
from good_tide.core.errors import GoodTideError, PlaceError
from good_tide.core.history import Lifeline, Span, TidePoint
from good_tide.core.identifiers import MachineId, SnapshotId
from good_tide.core.records import Snapshot
from good_tide.core.translation import tr
from good_tide.core.words import local
from good_tide.operations.history.browse import entry_at
from good_tide.operations.history.moments import free_name, moment_names, own_snapshots
from good_tide.operations.history.path_history import path_life
from good_tide.operations.mount.stored_folder import Item, StoredFolder
from good_tide.operations.stores.opened import snapshot_of
from good_tide.operations.stores.opening import synced_catalog
from good_tide.storage.store import Store

MOMENTS, FILES, GONE = b"moments", b"files", b"gone"
_MOST_ENTRIES = 60_000
"""Entries of listings that are kept in memory: about 40 MiB."""
_FRESH_SECONDS = 2.0
"""New snapshots are looked for no more often."""
_FOLDER, _READ_ONLY = 0o555, 0o444
_ALL = b"/"
"""Covered, there is no folder above it."""
_CACHE_TAG = b"Signature: 8a477f597d28d172789f06886806bc55\\n# Earlier versions: not to be taken in again.\\n"
_FOREIGN = ("CACHEDIR.TAG", ".trackerignore", ".nomedia")
"""By these, programs that follow every folder pass over it (the first: bford.info/cachedir)."""


Answer = TypeVar("Answer")


class Patience(Protocol):
    """Calls what asks a disk, and raises ``TimeoutError`` when that does not answer."""

    def __call__(self, call: Callable[[], Answer]) -> Answer: ...


def nothing_hangs(call: Callable[[], Answer]) -> Answer:
    """Patience without end."""
    return call()


class PastTree:
    """The tree of one history.

    :param machine: whose history.
    :param cache: the folder of the catalog.
    :param patience: calls what asks the disk, and gives up when it does not answer.
    """

    def __init__(
        self,
        store: Store,
        machine: MachineId,
        cache: Path,
        clock: Clock,
        patience: Patience = nothing_hangs,
    ) -> None:
        self._store, self._machine, self._cache, self._clock = store, machine, cache, clock
        self._catalog, _ = synced_catalog(store, cache)
        self._patience = patience
        self._known: OrderedDict[bytes, Mapping[bytes, Item]] = OrderedDict()
        self._known_entries = 0
        self._snapshots: list[Snapshot] = []
        self._ids: list[SnapshotId] = []
        self._looked = -_FRESH_SECONDS
        self.has_no_lists = self._catalog.has_no_lists(machine)
        """Whether it is known that nothing in this history has an access control list."""
        self.began = clock.now()
        self._top = self._folder(b"", self._first)

    def item(self, path: bytes) -> Item:
        """What is under a path, which begins with a slash.

        Raises:
            FileNotFoundError: nothing. GoodTideError: it cannot be read.
        """
        if path == b"/":
            return self._top
        above, _, name = path.rpartition(b"/")
        found = self.inside(above or b"/").get(name)
        if found is None:
            raise FileNotFoundError
        return found

    def inside(self, path: bytes) -> Mapping[bytes, Item]:
        """What is in the folder under a path, by name.

        Raises:
            FileNotFoundError: there is no such folder. GoodTideError: it cannot be read.
        """
        if time.monotonic() - self._looked >= _FRESH_SECONDS:
            self._refresh()
        known = self._get(path)
        if known is not None:
            return known
        found, at = self._get(b"/") or self._make(b"/", self._top), b""
        for part in path.split(b"/")[1:] if path != b"/" else ():
            at += b"/" + part
            found = self._get(at) or self._make(at, found.get(part))
        return found

    def _get(self, path: bytes) -> Mapping[bytes, Item] | None:
        known = self._known.get(path)
        if known is not None:
            self._known.move_to_end(path)
        return known

    def _make(self, path: bytes, item: Item | None) -> Mapping[bytes, Item]:
        if item is None or item.below is None:
            raise FileNotFoundError
        found = self._patience(item.below)
        self._known[path] = found
        self._known_entries += len(found)
        while self._known_entries > _MOST_ENTRIES and len(self._known) > 1:
            self._known_entries -= len(self._known.popitem(last=False)[1])
        return found

    def _refresh(self) -> None:
        """Look for new snapshots. While the disk does not answer, what is known can be looked at still."""
        self._looked = time.monotonic()
        try:
            news = self._patience(self._news)
        except (GoodTideError, TimeoutError):
            return
        if news is not None:
            self._ids, self._snapshots = news
            self.has_no_lists = self._catalog.has_no_lists(self._machine)
            self._known.clear()
            self._known_entries = 0

    def _news(self) -> tuple[list[SnapshotId], list[Snapshot]] | None:
        """All snapshots, and those of this history; None: they are those that are known."""
        ids = self._store.snapshot_ids()
        if ids == self._ids or not ids:  # a disk that has gone has none
            return None
        self._store.refresh()
        self._catalog.sync(self._store)
        return ids, own_snapshots(self._store, self._machine)

    def _folder(self, name: bytes, below: Callable[[], Mapping[bytes, Item]], modified: int = 0) -> Item:
        stat = Stat(_FOLDER, modified=modified or self.began)
        return Item(Entry(name, Kind.FOLDER, stat), below)

    def _first(self) -> dict[bytes, Item]:
        found = {
            MOMENTS: self._folder(MOMENTS, self._moments),
            FILES: self._folder(FILES, functools.partial(self._covered, self._versions_in)),
            GONE: self._folder(GONE, functools.partial(self._covered, self._gone_in)),
        }
        for text in _FOREIGN:
            content = _CACHE_TAG if text == "CACHEDIR.TAG" else b""
            name = text.encode()
            stat = Stat(_READ_ONLY, size=len(content), modified=self.began)
            found[name] = Item(Entry(name, Kind.FILE, stat), content=content)
        return found

    # moments

    def _moments(self) -> dict[bytes, Item]:
        found: dict[bytes, Item] = {}
        names = moment_names(self._snapshots)
        for snapshot in self._snapshots:
            name = names[snapshot.id]
            found[name] = self._folder(name, functools.partial(self._moment, snapshot), snapshot.time)
        today = local(self._clock.now()).date()
        for snapshot in self._snapshots:
            when = local(snapshot.time)
            if when.date() == today:
                short = f"today {when:%H.%M}".encode()
                found[short] = _link(short, names[snapshot.id], snapshot.time)
        if self._snapshots:
            newest = self._snapshots[-1]
            found[b"latest"] = _link(b"latest", names[newest.id], newest.time)
        return found

    def _moment(self, snapshot: Snapshot) -> Mapping[bytes, Item]:
        """The covered folders of a snapshot, in the folders above them."""
        roots = {root.name: root for root in self._store.roots(snapshot.record)}
        if _ALL in roots:
            return self._inside(snapshot, roots[_ALL])
        return self._above(b"", roots, lambda root: self._stored(snapshot, root), snapshot.time)

    def _above(
        self,
        path: bytes,
        roots: Mapping[bytes, Entry | Lifeline],
        make: Callable[[Entry], Item],
        modified: int,
    ) -> dict[bytes, Item]:
        """What leads to covered folders below a path, or is one."""
        found: dict[bytes, Item] = {}
        for name, root in roots.items():
            if name.startswith(path + b"/"):
                part = name[len(path) + 1 :].split(b"/")[0]
                inside = path + b"/" + part
                if inside == name:
                    item = make(root)  # type: ignore[arg-type]
                    found[part] = item._replace(entry=_named(item.entry, part))
                elif part not in found:
                    below = functools.partial(self._above, inside, roots, make, modified)
                    found[part] = self._folder(part, below, modified)
        return found

    def _stored(self, snapshot: Snapshot, entry: Entry) -> Item:
        """Something as a snapshot has it."""
        group = entry.extra.link_group
        below = functools.partial(self._inside, snapshot, entry) if entry.kind is Kind.FOLDER else None
        return Item(entry, below, group=None if group is None else (snapshot.id, *group))

    def _inside(self, snapshot: Snapshot, entry: Entry) -> Mapping[bytes, Item]:
        make = functools.partial(self._stored, snapshot)
        return StoredFolder(self._store, snapshot.id, entry, make)

    # files and gone

    def _covered(self, below: Callable[[bytes], dict[bytes, Item]]) -> dict[bytes, Item]:
        """All folders that were ever covered, in the folders above them."""
        roots = {root.name: root for root in self._catalog.roots(self._machine)}
        if _ALL in roots:
            return below(_ALL)

        def make(root: Entry | Lifeline) -> Item:
            return self._folder(root.name, functools.partial(below, root.name))

        return self._above(b"", roots, make, 0)

    def _lines(self, path: bytes) -> list[Lifeline]:
        folder = self._catalog.folder(self._machine, path)
        return self._catalog.lifelines(folder) if folder is not None else []

    def _versions_in(self, path: bytes) -> dict[bytes, Item]:
        """Everything that ever was in a folder: a folder for each, of what was in it or of its versions."""
        found: dict[bytes, Item] = {}
        for line in self._lines(path):
            if any(span.kind != Kind.LEFT_OUT for span in line.spans):
                inside = path.rstrip(b"/") + b"/" + line.name
                below = functools.partial(self._versions_of, inside, line)
                found[line.name] = self._folder(line.name, below, line.spans[-1].modified)
        return found

    def _versions_of(self, path: bytes, line: Lifeline) -> dict[bytes, Item]:
        found = self._versions_in(path) if any(span.kind == Kind.FOLDER for span in line.spans) else {}
        points = self._points()
        taken: set[bytes] = set(found)
        ending = os.path.splitext(line.name)[1]
        for where, span in path_life(self._catalog, self._machine, path):
            if span.kind in (Kind.FILE, Kind.LINK) and span.first in points:
                name = free_name(points[span.first].time, ending, taken)
                found[name] = self._version(name, where, span, points[span.first].name)
        return found

    def _version(self, name: bytes, path: bytes, span: Span, snapshot: SnapshotId) -> Item:
        """A version of a file or link, of which the entry is read when it is opened."""
        stat = Stat(_READ_ONLY, size=span.size, modified=span.modified)
        return Item(Entry(name, Kind(span.kind), stat), stored=functools.partial(self._entry, snapshot, path))

    def _entry(self, snapshot: SnapshotId, path: bytes) -> Entry:
        return entry_at(self._store, snapshot_of(self._store, snapshot), path)

    def _points(self) -> dict[int, TidePoint]:
        return {point.seq: point for point in self._catalog.tide(self._machine)}

    def _gone_in(self, path: bytes) -> dict[bytes, Item]:
        """What is no longer in a folder as it was last, and the folders in which something may be gone."""
        found: dict[bytes, Item] = {}
        points: dict[int, TidePoint] = {}
        for line in self._lines(path):
            inside = path.rstrip(b"/") + b"/" + line.name
            if not line.gone:
                if line.kind == Kind.FOLDER and len(line.inside) > 1:
                    found[line.name] = self._folder(line.name, functools.partial(self._gone_in, inside))
                continue
            points = points or self._points()
            last = next((span for span in reversed(line.spans) if span.kind != Kind.LEFT_OUT), None)
            if last is not None and last.last in points:
                found[line.name] = self._last(line.name, inside, last, points[last.last].name)
        return found

    def _last(self, name: bytes, path: bytes, span: Span, snapshot: SnapshotId) -> Item:
        if span.kind != Kind.FOLDER:
            return self._version(name, path, span, snapshot)

        def below() -> Mapping[bytes, Item]:
            taken = snapshot_of(self._store, snapshot)
            return self._inside(taken, entry_at(self._store, taken, path))

        return self._folder(name, below, span.modified)

    def check(self) -> None:
        """Look whether the store is there.

        Raises:
            GoodTideError: it is not.
        """
        if not self._store.snapshot_ids():
            raise PlaceError(tr("The store is not there any more"), tr("Connect its disk"))


def _named(entry: Entry, name: bytes) -> Entry:
    return Entry(name, entry.kind, entry.stat, entry.digest, entry.extents, entry.extra)


def _link(name: bytes, target: bytes, modified: int) -> Item:
    stat = Stat(0o777, size=len(target), modified=modified)
    return Item(Entry(name, Kind.LINK, stat, extra=Extra(target=target)))
