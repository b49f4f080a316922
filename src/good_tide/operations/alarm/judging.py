"""What a snapshot changed, in numbers: by comparing its listings with those of the one before, where they
differ, and samples of the contents."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Collection, Iterator, Sequence
from typing import NamedTuple

from good_tide.core.alarm import Judged
from good_tide.core.entries import Entry, Kind
from good_tide.core.errors import DamageError
from good_tide.core.identifiers import ContentDigest, PageId
from good_tide.core.progress import Control
from good_tide.core.records import Snapshot
from good_tide.operations.alarm.noise import became_noise
from good_tide.storage.content import read_stretch
from good_tide.storage.store import Store

_SAMPLE, _STRETCH = 16 * 1024, 8 * 1024
"""Bytes that are looked at of a file's beginning, and of three stretches inside a longer one."""
_MOST_SAMPLED = 160
"""So many rewritten files are looked into; of more, evenly spread ones, and the rest is estimated."""
_MOST_PATHS = 50
_ALIKE = 5
"""So many files with one and the same new content were overwritten alike."""
_NEAR = 0.2
"""How far sizes may be apart for a file to be taken for another one's new self."""


class _Pair(NamedTuple):
    """A file as it was and as it is, under ``path``; perhaps by another name."""

    path: bytes
    before: Entry
    after: Entry


def judge(store: Store, before: Snapshot, after: Snapshot, control: Control) -> Judged:
    """What a snapshot changed. Listings that cannot be read count for nothing.

    Raises:
        PlaceError: the disk gives nothing any more. StoppedError: the person stopped it.
    """
    return _Judge(store, control).judge(before, after)


class _Judge:
    def __init__(self, store: Store, control: Control) -> None:
        self._store, self._control = store, control
        self._rewritten: list[_Pair] = []
        self._gone: list[tuple[bytes, Entry]] = []
        self._new: list[tuple[bytes, Entry]] = []

    def judge(self, before: Snapshot, after: Snapshot) -> Judged:
        """Compare, pair, and count."""
        then = {entry.name: entry for entry in self._store.roots(before.record)}
        now = {entry.name: entry for entry in self._store.roots(after.record)}
        waiting = [(name, then[name], now[name]) for name in then.keys() & now.keys()]
        while waiting:
            self._control.checkpoint()
            waiting += self._folder(*waiting.pop())
        kept = {entry.digest for _, entry in self._new}
        gone = [(path, entry) for path, entry in self._gone if entry.digest not in kept]
        renamed = list(self._paired(gone))
        pairs = [*self._rewritten, *renamed]
        noise, noisy = self._noise(pairs)
        alike = self._alike(pairs)
        endings = Counter(_new_ending(pair) for pair in renamed if _new_ending(pair))
        ending, ended = endings.most_common(1)[0] if endings else ("", 0)
        return Judged(
            time=after.time,
            snapshot=after.id,
            before=before.id,
            known=before.tally.files,
            rewritten=len(pairs),
            noise=noise,
            emptied=len(alike),
            gone=len(gone) - len(renamed),
            ending=ending if noise else "",
            ended=ended,
            paths=tuple([*noisy, *alike][:_MOST_PATHS]),
        )

    def _folder(self, path: bytes, before: Entry, after: Entry) -> list[tuple[bytes, Entry, Entry]]:
        """Compare two listings; the folders in both whose listings differ as well."""
        if before.kind is not Kind.FOLDER or after.kind is not Kind.FOLDER or before.pages == after.pages:
            return []
        shared = set(before.pages) & set(after.pages)
        then = self._entries(before, shared)
        now = self._entries(after, shared)
        below = []
        for name in then.keys() | now.keys():
            inside = path.rstrip(b"/") + b"/" + name
            old, new = then.get(name), now.get(name)
            if old is not None and new is not None and old.kind is new.kind:
                if old.kind is Kind.FOLDER:
                    below.append((inside, old, new))
                elif old.kind is Kind.FILE and old.digest != new.digest:
                    self._rewritten.append(_Pair(inside, old, new))
                continue
            self._gone += self._files(inside, old)
            self._new += self._files(inside, new)
        return below

    def _entries(self, folder: Entry, without: Collection[PageId]) -> dict[bytes, Entry]:
        found: dict[bytes, Entry] = {}
        for page in folder.pages:
            if page not in without:
                try:
                    found |= {entry.name: entry for entry in self._store.page(page).entries()}
                except DamageError:
                    continue
        return found

    def _files(self, path: bytes, entry: Entry | None) -> Iterator[tuple[bytes, Entry]]:
        """The files of an entry, and of all below it."""
        waiting = [(path, entry)] if entry is not None else []
        while waiting:
            self._control.checkpoint()
            where, one = waiting.pop()
            if one.kind is Kind.FILE and one.stat.size:
                yield where, one
            elif one.kind is Kind.FOLDER:
                waiting += [(where + b"/" + name, child) for name, child in self._entries(one, ()).items()]

    def _paired(self, gone: Sequence[tuple[bytes, Entry]]) -> Iterator[_Pair]:
        """Files that are gone, each with a new one of the same folder that seems to be its new self: by its
        name with another ending, or else by its size."""
        digests = {entry.digest for _, entry in self._gone}
        fresh: dict[bytes, list[Entry]] = {}
        for path, entry in self._new:
            if entry.digest not in digests:
                fresh.setdefault(os.path.dirname(path), []).append(entry)
        for path, entry in gone:
            candidates = fresh.get(os.path.dirname(path), [])
            stem = os.path.splitext(entry.name)[0]
            new = next(
                (
                    one
                    for one in candidates
                    if one.name.startswith(entry.name) or os.path.splitext(one.name)[0] == stem
                ),
                None,
            ) or next(
                (
                    one
                    for one in candidates
                    if abs(one.stat.size - entry.stat.size) <= _NEAR * entry.stat.size
                ),
                None,
            )
            if new is not None:
                candidates.remove(new)
                yield _Pair(path, entry, new)

    def _noise(self, pairs: Sequence[_Pair]) -> tuple[int, list[bytes]]:
        """How many files became noise, and which of those that were looked into."""
        step = max(1, -(-len(pairs) // _MOST_SAMPLED))
        looked_into = pairs[::step]
        found = []
        for pair in looked_into:
            self._control.checkpoint()
            try:
                if became_noise(self._samples(pair.before), self._samples(pair.after)):
                    found.append(pair.path)
            except DamageError:
                continue
        return round(len(found) * len(pairs) / max(1, len(looked_into))), found

    def _samples(self, entry: Entry) -> list[bytes]:
        """The beginning of a file, and of a longer one three stretches."""
        size = entry.stat.size
        read = self._store.read_chunk
        samples = [read_stretch(read, entry.extents, 0, min(size, _SAMPLE))]
        if size > 4 * _SAMPLE:
            samples += [read_stretch(read, entry.extents, size * part // 4, _STRETCH) for part in (1, 2, 3)]
        return samples

    def _alike(self, pairs: Sequence[_Pair]) -> list[bytes]:
        """Files that were something, and are empty, or have all one content, now."""
        same: Counter[ContentDigest] = Counter(pair.after.digest for pair in pairs)
        return [
            pair.path
            for pair in pairs
            if pair.before.stat.size
            and (
                not pair.after.stat.size
                or (same[pair.after.digest] >= _ALIKE and self._is_first(pair, pairs))
                or self._is_one_byte(pair.after)
            )
        ]

    @staticmethod
    def _is_first(pair: _Pair, pairs: Sequence[_Pair]) -> bool:
        """Whether files that became alike were not alike before, as copies of one file that changed are."""
        then = {one.before.digest for one in pairs if one.after.digest == pair.after.digest}
        return len(then) >= _ALIKE

    def _is_one_byte(self, entry: Entry) -> bool:
        """Whether a file holds nothing but one byte again and again."""
        try:
            data = read_stretch(self._store.read_chunk, entry.extents, 0, 4096)
        except DamageError:
            return False
        return len(data) > 64 and data.count(data[:1]) == len(data)


def _new_ending(pair: _Pair) -> str:
    """The ending that a renamed file got."""
    before, after = os.fsdecode(pair.before.name), os.fsdecode(pair.after.name)
    if after.startswith(before + "."):
        return after[len(before) :]
    ending = os.path.splitext(after)[1]
    return ending if ending != os.path.splitext(before)[1] else ""
