"""Looking into a snapshot."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence

from good_tide.core.entries import DEEPEST, Entry, Kind
from good_tide.core.errors import DamageError, PersonError
from good_tide.core.records import Snapshot
from good_tide.core.selection import not_in_snapshot
from good_tide.core.translation import tr
from good_tide.storage.content import read_whole
from good_tide.storage.store import Store

_HOLE_PIECE = 1 << 20


def tidy(path: str | bytes) -> bytes:
    """A path as it is kept in snapshots: absolute, without trailing slash, ``.`` or ``..``."""
    return os.path.normpath(os.path.abspath(os.fsencode(path)))


def entry_at(store: Store, snapshot: Snapshot, path: bytes) -> Entry:
    """What a snapshot holds under an absolute path.

    Raises:
        PersonError: nothing; the nearest names are offered.
    """
    for root in store.roots(snapshot.record):
        if path == root.name:
            return root
        if path.startswith(root.name.rstrip(b"/") + b"/"):
            return _below(store, snapshot, root, path)
    raise not_in_snapshot(path, snapshot.time, [root.name for root in store.roots(snapshot.record)])


def _below(store: Store, snapshot: Snapshot, root: Entry, path: bytes) -> Entry:
    entry, where = root, root.name.rstrip(b"/")
    for part in path[len(where) + 1 :].split(b"/"):
        listing, damage = readable_children(store, entry)
        found = next((child for child in listing if child.name == part), None)
        if found is None and damage:
            raise damage[0]
        if found is None:
            raise not_in_snapshot(path, snapshot.time, [where + b"/" + child.name for child in listing])
        entry, where = found, where + b"/" + part
    return entry


def readable_children(store: Store, entry: Entry) -> tuple[list[Entry], list[DamageError]]:
    """The listing of a folder as far as it can be read, and what is wrong with the rest."""
    found: list[Entry] = []
    damage: list[DamageError] = []
    for page in entry.pages if entry.kind is Kind.FOLDER else ():
        try:
            found += store.page(page).entries()
        except DamageError as error:
            damage.append(error)
    return found, damage


def walk(
    store: Store, entry: Entry, path: bytes, unread: list[tuple[bytes, DamageError]]
) -> Iterator[tuple[bytes, Entry]]:
    """Everything below ``entry``, parents before their contents, with absolute paths.

    :param unread: takes the folders of which a listing cannot be read.
    """

    def listed(folder: bytes, entry: Entry) -> Iterator[Entry]:
        found, damage = readable_children(store, entry)
        unread.extend((folder, error) for error in damage)
        return iter(found)

    waiting = [(path, listed(path, entry))]
    while waiting:
        folder, listing = waiting[-1]
        child = next(listing, None)
        if child is None:
            waiting.pop()
            continue
        where = folder.rstrip(b"/") + b"/" + child.name
        yield where, child
        if child.kind is Kind.FOLDER:
            check_depth(len(waiting))
            waiting.append((where, listed(where, child)))


def check_depth(depth: int) -> None:
    """Refuse folders that are nested more deeply than any snapshot has them: nobody made them but to do harm.

    Raises:
        DamageError: they are.
    """
    if depth > DEEPEST + 1:
        raise DamageError(
            tr("Folders are nested more deeply than any snapshot has them"), tr("Restore what is above them")
        )


def contents(
    store: Store,
    snapshot: Snapshot,
    path: bytes | None,
    deep: bool,
    unread: list[tuple[bytes, DamageError]] | None = None,
) -> list[tuple[bytes, Entry]]:
    """Entries in a folder of a snapshot, or below it when ``deep``; the covered folders without a path; a
    file itself.

    :param unread: takes the folders of which a listing cannot be read, with what is wrong; None: the first
        one is raised.

    Raises:
        PersonError: there is nothing under the path. DamageError: what leads there cannot be read.
    """
    damaged: list[tuple[bytes, DamageError]] = []
    found = list(each_content(store, snapshot, path, deep, damaged if unread is None else unread))
    if damaged:
        raise damaged[0][1]
    return found


def each_content(
    store: Store,
    snapshot: Snapshot,
    path: bytes | None,
    deep: bool,
    unread: list[tuple[bytes, DamageError]],
) -> Iterator[tuple[bytes, Entry]]:
    """As ``contents``, one after the other.

    :param unread: takes the folders of which a listing cannot be read, as they come.
    """
    if path is not None:
        yield from _inside(store, entry_at(store, snapshot, path), path, deep, unread)
        return
    for root in store.roots(snapshot.record):
        yield root.name, root
        if deep:
            yield from walk(store, root, root.name, unread)


def _inside(
    store: Store, entry: Entry, path: bytes, deep: bool, damaged: list[tuple[bytes, DamageError]]
) -> Iterable[tuple[bytes, Entry]]:
    if entry.kind is not Kind.FOLDER:
        return [(path, entry)]
    if deep:
        return walk(store, entry, path, damaged)
    found, wrong = readable_children(store, entry)
    damaged += [(path, error) for error in wrong]
    above = path.rstrip(b"/") + b"/"
    return [(above + child.name, child) for child in found]


def parts_of_file(store: Store, entry: Entry) -> Iterator[bytes]:
    """The content of a file in a snapshot, a part after the other.

    Raises:
        PersonError: it is no file. DamageError: a part of it is lost.
    """
    if entry.kind is not Kind.FILE:
        raise PersonError(tr("{path!r} is no file").format(path=os.fsdecode(entry.name)), tr("Choose a file"))
    for extent in entry.extents:
        if extent.chunk is not None:
            yield store.read_chunk(extent.chunk)[extent.offset : extent.offset + extent.length]
            continue
        left = extent.length
        while left:
            piece = min(left, _HOLE_PIECE)
            yield bytes(piece)
            left -= piece


def meant(store: Store, snapshot: Snapshot, paths: Sequence[bytes]) -> list[bytes]:
    """Paths in a snapshot: for one above the covered folders all those below it; all covered folders for
    none."""
    roots = [root.name for root in store.roots(snapshot.record)]
    found: list[bytes] = []
    for path in paths:
        below = [root for root in roots if root.startswith(path.rstrip(b"/") + b"/")]
        found += below or [path]
    return list(dict.fromkeys(found)) if paths else roots


def read_file(store: Store, entry: Entry, limit: int) -> bytes:
    """Up to ``limit`` bytes of a file in a snapshot.

    Raises:
        PersonError: it is no file.
    """
    if entry.kind is not Kind.FILE:
        raise PersonError(tr("{path!r} is no file").format(path=os.fsdecode(entry.name)), tr("Choose a file"))
    return read_whole(store.read_chunk, entry.extents, limit)
