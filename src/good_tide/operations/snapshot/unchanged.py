"""Whether files and folders are as the last snapshot has them."""

from __future__ import annotations

import difflib
import os
from bisect import bisect_left
from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np

from good_tide.core.columns import signed
from good_tide.core.entries import Entry, Kind
from good_tide.core.identifiers import PageId
from good_tide.core.pages import Page
from good_tide.operations.snapshot.listing_drafts import LateFolder
from good_tide.operations.snapshot.small_files import NOTHING_BEFORE, Before
from good_tide.source.folders import (
    Found,
    stat_of,
)

_MOST_COMPARED = 1000
"""So many names of folders that are new and that are gone are compared with one another at most."""


class Was(NamedTuple):
    """A folder in the last snapshot: its path there, and its entry; None where it is not there."""

    path: bytes
    entry: Entry | None

    @property
    def pages(self) -> tuple[PageId, ...]:
        """The pages of its listing."""
        return self.entry.pages if self.entry is not None and self.entry.kind is Kind.FOLDER else ()


def was_at(path: bytes, entry: Entry | None, inside: bool = False) -> Was:
    """What was in a folder of that path, or at the path itself."""
    return Was(path + b"/" + entry.name if inside and entry is not None else path, entry)


def looks_unchanged(found: Sequence[Found], pages: Sequence[Page]) -> bool:
    """Whether names, kinds and metadata are those of the last snapshot, compared as a whole."""
    if not pages or sum(len(page.names) for page in pages) != len(found):
        return False
    if [name for page in pages for name in page.names] != [item.name for item in found]:
        return False
    if "".join(page.kinds for page in pages) != "".join([item.kind or "x" for item in found]):
        return False
    numbers: list[int] = []
    for _, _, _, info in found:
        numbers += (
            info.st_mode & 0o7777,
            info.st_uid,
            info.st_gid,
            info.st_size,
            info.st_mtime_ns,
            info.st_ctime_ns,
            info.st_ino,
        )
    seen = signed(numbers).reshape(-1, 7)
    if len(pages) == 1 and pages[0].has_stats(seen):
        return True
    known = pages[0].stats if len(pages) == 1 else np.concatenate([page.stats for page in pages])
    same = seen == known
    if same.all():
        return True
    folders = np.array([item.kind is Kind.FOLDER for item in found])
    return bool(same[~folders].all())


class Replaced:
    """What in the last snapshot a file or folder may share content with: what had its name in the same
    folder, or what is gone from there: a file with the same ending, as when somebody saves under a new name;
    a folder that was renamed, or has much the same name, as those of releases have.

    :param known: the folder's entries in the last snapshot, by name.
    """

    def __init__(self, found: Sequence[Found], known: Mapping[bytes, Entry]) -> None:
        self._known = known
        names = {item.name for item in found} if known else set()
        gone = [entry for entry in known.values() if entry.name not in names]
        self._files: dict[bytes, list[Entry]] = {}
        for entry in gone:
            if entry.kind is Kind.FILE:
                self._files.setdefault(_ending(entry.name), []).append(entry)
        self._inodes = {entry.stat.inode: entry for entry in gone if entry.kind is Kind.FILE}
        for alike in self._files.values():
            alike.sort(key=_size)
        self._folders = [entry for entry in gone if entry.kind is Kind.FOLDER]
        new = (
            sum(item.kind is Kind.FOLDER and item.name not in known for item in found) if self._folders else 0
        )
        self._by_name = new * len(self._folders) <= _MOST_COMPARED

    def before(self, item: Found) -> Before:
        """What the last snapshot has of a file."""
        if not self._known:
            return NOTHING_BEFORE
        own = self._known.get(item.name)
        renamed = self._inodes.get(item.info.st_ino) if own is None else None
        if renamed is not None:
            return Before(None, renamed)
        alike = self._files.get(_ending(item.name), []) if own is None and item.kind is Kind.FILE else []
        at = bisect_left(alike, item.info.st_size, key=_size)
        nearest = min(
            alike[max(0, at - 1) : at + 1],
            key=lambda entry: abs(_size(entry) - item.info.st_size),
            default=own,
        )
        return Before(own, nearest)

    def folder(self, item: Found) -> Entry | None:
        """What the last snapshot has of a folder, or of the one that it replaces."""
        own = self._known.get(item.name)
        if own is not None or not self._folders:
            return own
        found = next((one for one in self._folders if one.stat.inode == item.info.st_ino), None)
        if found is None and self._by_name:
            names = {os.fsdecode(entry.name): entry for entry in self._folders}
            found = next(map(names.__getitem__, difflib.get_close_matches(item.text, names, n=1)), None)
        if found is not None:
            self._folders.remove(found)
        return found


def _size(entry: Entry) -> int:
    return entry.stat.size


def _ending(name: bytes) -> bytes:
    return os.path.splitext(name)[1].lower()


def same_folder(entry: LateFolder, old: Entry) -> bool:
    """Whether a folder that was walked is as the last snapshot has it."""
    return entry.child.pages == old.pages and entry.stat == old.stat and entry.extra == old.extra


def is_same(item: Found, before: Entry | None) -> bool:
    """Whether a file or link is as the last snapshot has it, and was kept well there."""
    return (
        before is not None
        and before.kind is item.kind
        and before.stat == stat_of(item.info)
        and not before.extra.unsteady
    )
