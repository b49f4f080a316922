"""What differs between two snapshots."""

from __future__ import annotations

from collections.abc import Hashable, Mapping, Sequence

from good_tide.core.deep import Deep, walked
from good_tide.core.differences import Differences, What
from good_tide.core.entries import Entry, Kind
from good_tide.core.progress import Control
from good_tide.core.records import Snapshot
from good_tide.operations.history.browse import check_depth, entry_at, readable_children
from good_tide.operations.history.differ import Differ, size_of, standing
from good_tide.operations.history.moves import Moving
from good_tide.storage.store import Store


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
    differ = Differ(store, control)
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
            differ.differs(path, What.CHANGED, after.kind.value, size_of(before), size_of(after))
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
            differ.differs(path, What.CHANGED, after.kind.value, size_of(before), size_of(after))
        elif not _same_metadata(before, after):
            differ.differs(path, What.METADATA, after.kind.value, size_of(before), size_of(after))
    return differ.done()


def _note_moving(store: Store, entry: Entry, path: bytes, side: list[Moving]) -> Deep[tuple[Hashable, int]]:
    """Note what is gone or new, with everything below it, to be recognised elsewhere; what it has for
    content, and how many files that are."""
    if entry.kind is not Kind.FOLDER:
        content = entry.digest if entry.kind is Kind.FILE and entry.stat.size else b""
        side.append(Moving(path, entry.kind.value, size_of(entry), content))
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
