"""What differs between two snapshots of a folder, or between a snapshot and what is on the disk now."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
from collections.abc import Hashable, Iterable, Mapping, Sequence

import msgspec

from good_tide.core.coverage import FolderState
from good_tide.core.deep import Deep, walked
from good_tide.core.differences import Differences, Differing, What
from good_tide.core.entries import Entry, Kind
from good_tide.core.errors import PersonError
from good_tide.core.identifiers import ChunkId
from good_tide.core.progress import Control, Progress
from good_tide.core.records import Snapshot
from good_tide.operations.coverage.selecting import Selector, state_of
from good_tide.operations.history.browse import check_depth, entry_at, readable_children
from good_tide.operations.history.moves import Moving, with_moves
from good_tide.operations.history.same_content import is_identical
from good_tide.source.folders import Found, open_folder, scan
from good_tide.source.own_places import NOTHING_OWN, OwnPlaces
from good_tide.storage.store import Store

_REPORT_EVERY = 512
_SET_ASIDE = b"Set aside "
"""So begin the folders in which restores keep what they replaced."""


class _Differ:
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
            self._control.report(Progress("Comparing", self._looked, current=os.fsdecode(path)))

    def differs(self, path: bytes, what: What, kind: str, before: int = 0, after: int = 0) -> None:
        """Keep a difference."""
        self.items.append(Differing(path, what, kind, before, after))

    def listing(self, entry: Entry, path: bytes, pages: Iterable[ChunkId]) -> dict[bytes, Entry]:
        """Entries of some pages of a folder; what cannot be read is noted."""
        only = set(pages)
        own = msgspec.structs.replace(
            entry, extents=tuple(extent for extent in entry.extents if extent.chunk in only)
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


def _same_metadata(one: Entry, other: Entry) -> bool:
    mine, theirs = one.stat, other.stat
    return (mine.mode, mine.uid, mine.gid) == (theirs.mode, theirs.uid, theirs.gid) and (
        one.kind is Kind.FOLDER or (mine.modified == theirs.modified and one.extra == other.extra)
    )


def differences(
    store: Store,
    then: Sequence[tuple[bytes, Entry | None]],
    against: Mapping[bytes, Entry | None],
    control: Control,
) -> Differences:
    """What differs between two snapshots. Folders with the same listing are passed over as a whole, and so
    are pages of listings that both have.

    :param then: paths, and what stood there at the first moment. :param against: the same for the second.

    Raises:
        PlaceError: the disk gives nothing any more. StoppedError: the person stopped it.
    """
    differ = _Differ(store, control)
    waiting = [(path, entry, against.get(path), 0) for path, entry in then]
    while waiting:
        path, before, after, depth = waiting.pop()
        differ.look(path)
        check_depth(depth)
        if before is None or after is None:
            one, what = (after, What.NEW) if before is None else (before, What.GONE)
            if one is not None and one.kind is not Kind.LEFT_OUT:
                differ.whole(one, path, what)
                walked(_note_moving(store, one, path, differ.new if what is What.NEW else differ.gone))
            continue
        if Kind.LEFT_OUT in (before.kind, after.kind):
            continue
        if before.kind is not after.kind:
            differ.differs(path, What.CHANGED, after.kind.value, _size(before), _size(after))
            continue
        if before.kind is Kind.FOLDER:
            if not _same_metadata(before, after):
                differ.differs(path, What.METADATA, "d")
            shared = set(before.pages) & set(after.pages)
            mine = differ.listing(before, path, set(before.pages) - shared)
            theirs = differ.listing(after, path, set(after.pages) - shared)
            waiting += [
                (path.rstrip(b"/") + b"/" + name, mine.get(name), theirs.get(name), depth + 1)
                for name in mine.keys() | theirs.keys()
                if mine.get(name) != theirs.get(name)
            ]
        elif (before.digest, before.extra.target) != (after.digest, after.extra.target):
            differ.differs(path, What.CHANGED, after.kind.value, _size(before), _size(after))
        elif not _same_metadata(before, after):
            differ.differs(path, What.METADATA, after.kind.value, _size(before), _size(after))
    return differ.done()


def _size(entry: Entry) -> int:
    return entry.stat.size if entry.kind is Kind.FILE else 0


def _note_moving(store: Store, entry: Entry, path: bytes, side: list[Moving]) -> Deep[tuple[Hashable, int]]:
    """Note what is gone or new, with everything below it, to be recognised elsewhere; what it has for
    content, and how many files that are."""
    if entry.kind is not Kind.FOLDER:
        content = entry.digest if entry.kind is Kind.FILE and entry.stat.size else b""
        side.append(Moving(path, entry.kind.value, _size(entry), content))
        return (entry.kind.value, entry.digest, entry.extra.target), 1
    inside: list[Hashable] = []
    files = 0
    for child in readable_children(store, entry)[0]:
        content_of, count = yield _note_moving(store, child, path + b"/" + child.name, side)
        inside.append((child.name, content_of))
        files += count
    whole = hash(tuple(inside)) if files else b""
    side.append(Moving(path, "d", 0, whole, files))
    return whole, files


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
        self._differ = _Differ(store, control)
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
                        self._is_new(path, found, handle, state)
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
        waiting = [(path, entry, found, os.dup(above), state, 0)]
        try:
            while waiting:
                path, entry, found, handle, state, depth = waiting.pop()
                try:
                    waiting += self._one(path, entry, found, handle, state, depth)
                finally:
                    os.close(handle)
        finally:
            for *_, handle, _, _ in waiting:
                os.close(handle)

    def _one(
        self, path: bytes, entry: Entry, found: Found, handle: int, state: FolderState | None, depth: int
    ) -> list[tuple[bytes, Entry, Found, int, FolderState | None, int]]:
        """Compare one path; the folders and files below that are to be compared, each with a handle."""
        differ, info = self._differ, found.info
        differ.look(path)
        check_depth(depth)
        if entry.kind is Kind.LEFT_OUT or self._own.has(info):
            return []
        if found.kind is not entry.kind:
            differ.differs(path, What.CHANGED, (found.kind or Kind.FILE).value, _size(entry), 0)
            return []
        if entry.kind is not Kind.FOLDER:
            self._file(path, entry, found, handle)
            return []
        if (stat.S_IMODE(info.st_mode), info.st_uid, info.st_gid) != (
            entry.stat.mode,
            entry.stat.uid,
            entry.stat.gid,
        ):
            differ.differs(path, What.METADATA, "d")
        try:
            inside = open_folder(found.name, handle)
        except OSError as error:
            differ.unclear.append((path, os.strerror(error.errno or 0)))
            return []
        below: list[tuple[bytes, Entry, Found, int, FolderState | None, int]] = []
        try:
            there = {one.name: one for one in scan(inside)[0]}
            states = self._states(list(there.values()), inside, state)
            known = differ.listing(entry, path, entry.pages)
            for name, child in known.items():
                where = path.rstrip(b"/") + b"/" + name
                one = there.pop(name, None)
                if one is None:
                    self._gone(where, child)
                elif child.kind is Kind.FOLDER and one.kind is Kind.FOLDER:
                    below.append((where, child, one, os.dup(inside), states.get(name), depth + 1))
                else:
                    self._one(where, child, one, inside, None, depth + 1)
            self._strange(path, list(there.values()), inside, state)
        except OSError as error:
            differ.unclear.append((path, os.strerror(error.errno or 0)))
        finally:
            os.close(inside)
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
            self._differ.differs(path, What.CHANGED, entry.kind.value, _size(entry), after)
        elif metadata or (touched and entry.kind is Kind.FILE):
            self._differ.differs(path, What.METADATA, entry.kind.value, _size(entry), after)

    def _states(
        self, found: Sequence[Found], handle: int, state: FolderState | None
    ) -> dict[bytes, FolderState]:
        """What the rules say of the folders in an open one."""
        if self._selector is None or state is None:
            return {}
        folders = [one for one in found if one.kind is Kind.FOLDER]
        return {one.name: self._selector.enter(state, one, handle, self._device) for one in folders}

    def _strange(self, path: bytes, found: list[Found], handle: int, state: FolderState | None) -> bool:
        """What is in a folder now and was not in the snapshot, unless the rules leave it out; whether there
        is anything."""
        found = [one for one in found if one.kind is not None and not one.name.startswith(_SET_ASIDE)]
        inside: dict[bytes, FolderState] = {}
        if self._selector is not None and state is not None:
            found, _, inside = self._selector.keep(found, (), handle, state, self._device)
        new = [
            self._is_new(path.rstrip(b"/") + b"/" + one.name, one, handle, inside.get(one.name))
            for one in found
        ]
        return any(new)

    def _is_new(self, path: bytes, found: Found, handle: int, state: FolderState | None) -> bool:
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
                    some = self._strange(path, scan(inside)[0], inside, state)
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


def between(
    store: Store, then: Snapshot, against: Snapshot, path: bytes | None, control: Control
) -> Differences:
    """What differs between two snapshots, in a path or in everything that is covered.

    Raises:
        PersonError: neither has the path. PlaceError: the disk gives nothing any more.
        StoppedError: the person stopped it.
    """
    mine, theirs = dict(standing(store, then, path)), dict(standing(store, against, path))
    if not mine and not theirs:
        assert path is not None
        entry_at(store, then, path)  # which says it
    places = [(one, mine.get(one)) for one in sorted({*mine, *theirs})]
    return differences(store, places, theirs, control)


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
