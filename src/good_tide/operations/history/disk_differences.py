"""What differs between a snapshot and what is on the disk now."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from good_tide.core.coverage import FolderState
from good_tide.core.deep import Deep, walked
from good_tide.core.differences import Differences, What
from good_tide.core.entries import Entry, Kind
from good_tide.core.progress import Control
from good_tide.core.records import Snapshot
from good_tide.core.restoring import is_set_aside
from good_tide.operations.coverage.selecting import Selector, state_of
from good_tide.operations.history.browse import check_depth, entry_at, readable_children
from good_tide.operations.history.differ import Differ, size_of, standing
from good_tide.operations.history.moves import Moving
from good_tide.operations.history.same_content import is_identical
from good_tide.source.folders import Found, open_folder, scan
from good_tide.source.own_places import NOTHING_OWN, OwnPlaces
from good_tide.storage.store import Store


class _Below(NamedTuple):
    """A folder that stands on both sides, and what the rules say of it."""

    entry: Entry
    found: Found
    state: FolderState | None


class _Level(NamedTuple):
    """An open folder, and those in it that are to be compared."""

    path: bytes
    handle: int
    folders: Iterator[_Below]


class DiskDifferences:
    """What differs between a snapshot and what is on the disk now.

    :param selector: what the rules of a job leave out is not new; None: everything counts.
    :param covered: the covered folders.
    :param own: folders that are passed over: this program's own records.
    """

    def __init__(
        self,
        store: Store,
        control: Control,
        selector: Selector | None,
        covered: Sequence[bytes],
        own: OwnPlaces = NOTHING_OWN,
    ) -> None:
        self._store, self._selector, self._covered, self._own = store, selector, covered, own
        self._differ = Differ(store, control)
        self._gone_files: dict[tuple[int, int], list[tuple[bytes, Entry]]] = {}
        self._new_files: list[tuple[bytes, Found]] = []
        self._device = 0

    def compare(self, places: Sequence[tuple[bytes, Entry | None]]) -> Differences:
        """Compare paths with what stood there in the snapshot.

        Raises:
            PlaceError: the disk of the store gives nothing any more. StoppedError: the person stopped it.
        """
        for path, entry in places:
            parent, name = os.path.split(path)
            try:
                handle = open_folder(parent or b"/")
            except OSError:
                self._gone(path, entry)
                continue
            try:
                found = _look(name, handle) if name else None
                if found is None:
                    self._gone(path, entry)
                else:
                    self._device = found.info.st_dev
                    of = path if found.kind is Kind.FOLDER else parent
                    state = state_of(self._selector, self._covered, of, self._device)
                    if entry is None:
                        walked(self._is_new(path, found, handle, state))
                    else:
                        self._both(path, entry, found, handle, state)
            finally:
                os.close(handle)
        self._recognise()
        return self._differ.done()

    def _gone(self, path: bytes, entry: Entry | None) -> None:
        if entry is None or entry.kind is Kind.LEFT_OUT:
            return
        self._differ.whole(entry, path, What.GONE)
        waiting = [(entry, path)]
        while waiting:
            one, where = waiting.pop()
            if one.kind is Kind.FOLDER:
                waiting += [
                    (child, where + b"/" + child.name) for child in readable_children(self._store, one)[0]
                ]
            elif one.kind is Kind.FILE and one.stat.size:
                self._gone_files.setdefault((one.stat.size, one.stat.modified), []).append((where, one))

    def _both(self, path: bytes, entry: Entry, found: Found, above: int, state: FolderState | None) -> None:
        """Compare what stands on both sides, and everything below. Of each level a handle is held open."""
        waiting: list[_Level] = []
        try:
            level = self._one(path, entry, found, above, state, 0)
            waiting += [level] if level is not None else []
            while waiting:
                level = waiting[-1]
                below = next(level.folders, None)
                if below is None:
                    os.close(waiting.pop().handle)
                    continue
                where = level.path.rstrip(b"/") + b"/" + below.entry.name
                deeper = self._one(where, below.entry, below.found, level.handle, below.state, len(waiting))
                waiting += [deeper] if deeper is not None else []
        finally:
            for level in waiting:
                os.close(level.handle)

    def _one(
        self, path: bytes, entry: Entry, found: Found, handle: int, state: FolderState | None, depth: int
    ) -> _Level | None:
        """Compare one path; of a folder also the files in it, and what is below is still to be compared."""
        differ, info = self._differ, found.info
        differ.look(path)
        check_depth(depth)
        if entry.kind is Kind.LEFT_OUT or self._own.has(info):
            return None
        if found.kind is not entry.kind:
            differ.differs(path, What.CHANGED, (found.kind or Kind.FILE).value, size_of(entry), 0)
            return None
        if entry.kind is not Kind.FOLDER:
            self._file(path, entry, found, handle)
            return None
        mine = entry.stat
        if (stat.S_IMODE(info.st_mode), info.st_uid, info.st_gid) != (mine.mode, mine.uid, mine.gid):
            differ.differs(path, What.METADATA, "d")
        try:
            inside = open_folder(found.name, handle)
        except OSError as error:
            differ.unclear.append((path, os.strerror(error.errno or 0)))
            return None
        try:
            return _Level(path, inside, iter(self._inside(path, entry, inside, state, depth)))
        except BaseException:
            os.close(inside)
            raise

    def _inside(
        self, path: bytes, entry: Entry, inside: int, state: FolderState | None, depth: int
    ) -> list[_Below]:
        """Compare the files in an open folder; its sub-folders that stand on both sides."""
        below: list[_Below] = []
        try:
            there = {one.name: one for one in scan(inside)[0]}
            states = self._states(list(there.values()), inside, state)
            for name, child in self._differ.listing(entry, path, entry.pages).items():
                where = path.rstrip(b"/") + b"/" + name
                one = there.pop(name, None)
                if one is None:
                    self._gone(where, child)
                elif child.kind is Kind.FOLDER and one.kind is Kind.FOLDER:
                    below.append(_Below(child, one, states.get(name)))
                else:
                    self._one(where, child, one, inside, None, depth + 1)
            walked(self._strange(path, list(there.values()), inside, state))
        except OSError as error:
            self._differ.unclear.append((path, os.strerror(error.errno or 0)))
        return below

    def _file(self, path: bytes, entry: Entry, found: Found, handle: int) -> None:
        info, mine = found.info, entry.stat
        touched = info.st_mtime_ns != mine.modified
        same = info.st_size == mine.size and entry.kind is Kind.FILE and not touched
        if not same:
            try:
                same = is_identical(self._store, entry, found.text, handle, info)
            except OSError as error:
                self._differ.unclear.append((path, os.strerror(error.errno or 0)))
                return
        metadata = (stat.S_IMODE(info.st_mode), info.st_uid, info.st_gid) != (mine.mode, mine.uid, mine.gid)
        after = info.st_size if entry.kind is Kind.FILE else 0
        if not same:
            self._differ.differs(path, What.CHANGED, entry.kind.value, size_of(entry), after)
        elif metadata or (touched and entry.kind is Kind.FILE):
            self._differ.differs(path, What.METADATA, entry.kind.value, size_of(entry), after)

    def _states(
        self, found: Sequence[Found], handle: int, state: FolderState | None
    ) -> dict[bytes, FolderState]:
        """What the rules say of the folders in an open one."""
        if self._selector is None or state is None:
            return {}
        folders = [one for one in found if one.kind is Kind.FOLDER]
        return {one.name: self._selector.enter(state, one, handle, self._device) for one in folders}

    def _strange(self, path: bytes, found: list[Found], handle: int, state: FolderState | None) -> Deep[bool]:
        """What is in a folder now and was not in the snapshot, unless the rules leave it out; whether there
        is anything."""
        found = [one for one in found if one.kind is not None and not is_set_aside(one.name)]
        inside: dict[bytes, FolderState] = {}
        if self._selector is not None and state is not None:
            found, _, inside = self._selector.keep(found, (), handle, state, self._device)
        some = False
        for one in found:
            where = path.rstrip(b"/") + b"/" + one.name
            counts = yield self._is_new(where, one, handle, inside.get(one.name))
            some = some or counts
        return some

    def _is_new(self, path: bytes, found: Found, handle: int, state: FolderState | None) -> Deep[bool]:
        """Something that was not in the snapshot; whether it counts: a folder that is left out counts only
        with something in it that is not."""
        self._differ.look(path)
        if self._own.has(found.info):
            return False
        assert found.kind is not None
        size = found.info.st_size if found.kind is Kind.FILE else 0
        number = len(self._differ.items)
        self._differ.differs(path, What.NEW, found.kind.value, 0, size)
        if found.kind is Kind.FILE and size:
            self._new_files.append((path, found))
        if found.kind is Kind.FOLDER:
            some = False
            with contextlib.suppress(OSError):
                inside = open_folder(found.name, handle)
                try:
                    some = yield self._strange(path, scan(inside)[0], inside, state)
                finally:
                    os.close(inside)
            left_out = state is not None and state.out
            if not some and (left_out or self._own.is_above(found.info)):
                del self._differ.items[number:]
                return False
        return True

    def _recognise(self) -> None:
        """Files that are new here and gone there, by size, time and then content: moved or renamed."""
        for path, found in self._new_files:
            key = found.info.st_size, found.info.st_mtime_ns
            candidates = self._gone_files.get(key, [])
            candidates.sort(key=lambda one: os.path.basename(one[0]) != found.name)
            for number, (_, entry) in enumerate(candidates):
                parent = os.path.dirname(path)
                with contextlib.suppress(OSError):
                    handle = open_folder(parent)
                    try:
                        same = is_identical(self._store, entry, found.text, handle, found.info)
                    finally:
                        os.close(handle)
                    if same:
                        before, _ = candidates.pop(number)
                        self._differ.gone.append(Moving(before, "f", entry.stat.size, path))
                        self._differ.new.append(Moving(path, "f", entry.stat.size, path))
                        break


def _look(name: bytes, handle: int) -> Found | None:
    """What stands under a name in an open folder."""
    kinds = {stat.S_IFREG: Kind.FILE, stat.S_IFDIR: Kind.FOLDER, stat.S_IFLNK: Kind.LINK}
    try:
        info = os.stat(name, dir_fd=handle, follow_symlinks=False)
    except OSError as error:
        if error.errno in (errno.ENOENT, errno.ENOTDIR):
            return None
        raise
    return Found(name, os.fsdecode(name), kinds.get(stat.S_IFMT(info.st_mode)), info)


def since(
    store: Store,
    then: Snapshot,
    path: bytes | None,
    selector: Selector | None,
    control: Control,
    own: OwnPlaces = NOTHING_OWN,
) -> Differences:
    """What differs between a snapshot and what is on the disk now.

    :param selector: what the rules of a job leave out is not new; None: everything counts.
    :param own: as for ``DiskDifferences``.

    Raises:
        As ``between``; a path that the snapshot does not have is new where it is on the disk.
    """
    places: list[tuple[bytes, Entry | None]] = list(standing(store, then, path))
    disk = DiskDifferences(store, control, selector, [root.name for root in store.roots(then.record)], own)
    if not places:
        assert path is not None
        if not os.path.lexists(path):
            entry_at(store, then, path)
        places = [(path, None)]
    return disk.compare(places)
