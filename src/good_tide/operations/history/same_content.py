"""Whether a file on the disk has the content that a snapshot has."""

from __future__ import annotations

import os
import stat

from good_tide.core.entries import Entry, Kind
from good_tide.source.folders import open_file
from good_tide.storage.content import SMALL_FILE_BYTES, ContentHasher, listed_digest, small_digest
from good_tide.storage.store import Store

_PIECE_BYTES = 1 << 20


def is_identical(store: Store, entry: Entry, name: str, folder: int, info: os.stat_result) -> bool:
    """Whether what stands under a name in an open folder has the content of ``entry``. Metadata is not
    compared."""
    if entry.kind is Kind.LINK:
        return (
            stat.S_ISLNK(info.st_mode) and os.fsencode(os.readlink(name, dir_fd=folder)) == entry.extra.target
        )
    if entry.kind is not Kind.FILE or not stat.S_ISREG(info.st_mode) or info.st_size != entry.stat.size:
        return False
    try:
        handle = open_file(name, folder)
    except OSError:
        return False
    try:
        return _same_bytes(store, entry, handle)
    finally:
        os.close(handle)


def _same_bytes(store: Store, entry: Entry, handle: int) -> bool:
    if entry.stat.size <= SMALL_FILE_BYTES:
        return small_digest(store.keys, os.pread(handle, SMALL_FILE_BYTES + 1, 0)) == entry.digest
    if listed_digest(store.keys, entry.extents) == entry.digest:
        return _same_chunks(store, entry, handle)
    hasher, at = ContentHasher(), 0
    while piece := os.pread(handle, _PIECE_BYTES, at):
        hasher.update(memoryview(piece))
        at += len(piece)
    return hasher.digest(store.keys) == entry.digest


def _same_chunks(store: Store, entry: Entry, handle: int) -> bool:
    """The same for a file whose digest is one of its chunks, as earlier versions made it."""
    at = 0
    for extent in entry.extents:
        if extent.chunk is None:
            same = _only_zeros(handle, at, extent.length)
        else:
            same = store.keys.chunk_id(os.pread(handle, extent.length, at)) == extent.chunk
        if not same:
            return False
        at += extent.length
    return True


def _only_zeros(handle: int, begin: int, length: int) -> bool:
    at, end = begin, begin + length
    while at < end:
        piece = os.pread(handle, min(_PIECE_BYTES, end - at), at)
        if not piece or piece.count(0) != len(piece):
            return False
        at += len(piece)
    return True
