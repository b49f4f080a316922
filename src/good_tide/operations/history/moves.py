"""Recognising what was moved or renamed among what is gone here and new there."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Hashable, Iterator, Sequence

import msgspec

from good_tide.core.differences import Differing, What

_FOLDER = "d"


class Moving(msgspec.Struct, frozen=True):
    """Something that is gone from a path, or new at one. ``content`` is the same for the same content; empty
    where that would mean nothing."""

    path: bytes
    kind: str
    size: int
    content: Hashable
    files: int = 1


def with_moves(items: Sequence[Differing], gone: Sequence[Moving], new: Sequence[Moving]) -> list[Differing]:
    """What differs, in order of the paths, with what was moved told as that: where one thing with a content
    is gone and one is new, and folders all of whose files went together."""
    moved = _pairs(gone, new)
    rest = _without(items, [path for pair in moved for path in (pair.path, pair.other)], moved)
    return sorted(_gathered(rest, moved), key=lambda one: one.path.split(b"/"))


def _pairs(gone: Sequence[Moving], new: Sequence[Moving]) -> list[Differing]:
    before: dict[Hashable, list[Moving]] = {}
    after: dict[Hashable, list[Moving]] = {}
    for side, ones in ((before, gone), (after, new)):
        for one in ones:
            if one.content:
                side.setdefault((one.kind, one.content), []).append(one)
    pairs = [
        (before[key][0], ones[0]) for key, ones in after.items() if len(ones) == 1 == len(before.get(key, ()))
    ]
    folders = tuple(old.path + b"/" for old, _ in pairs if old.kind == _FOLDER)
    return [
        Differing(now.path, What.MOVED, now.kind, old.size, now.size, old.path, old.files)
        for old, now in pairs
        if not old.path.startswith(folders)
    ]


def _without(
    items: Sequence[Differing], paths: Sequence[bytes], moved: Sequence[Differing]
) -> list[Differing]:
    """Items but for those at some paths, and below folders that were moved."""
    at = set(paths)
    below = tuple(path + b"/" for pair in moved if pair.kind == _FOLDER for path in (pair.path, pair.other))
    return [one for one in items if one.path not in at and not one.path.startswith(below)]


class _Sorted:
    """Things by their paths, so that those below a folder are found at once."""

    def __init__(self, things: Sequence[tuple[bytes, Differing]]) -> None:
        self._things = sorted(things, key=lambda pair: pair[0])
        self._paths = [path for path, _ in self._things]

    def below(self, folder: bytes) -> Iterator[tuple[bytes, Differing]]:
        """Those below a folder, each with its path from there."""
        at = bisect_left(self._paths, folder + b"/")
        while at < len(self._paths) and self._paths[at].startswith(folder + b"/"):
            yield self._paths[at][len(folder) :], self._things[at][1]
            at += 1


def _gathered(rest: Sequence[Differing], moved: Sequence[Differing]) -> list[Differing]:
    """Folders that went with all their files become one item."""
    old = _Sorted([(one.other, one) for one in moved])
    new = _Sorted([(one.path, one) for one in moved])
    left = _Sorted([(one.path, one) for one in rest])
    fresh = {one.path for one in rest if one.kind == _FOLDER and one.what is What.NEW}
    folders: list[Differing] = []
    done: tuple[bytes, ...] = ()
    for one in sorted(rest, key=lambda one: one.path):
        if one.kind != _FOLDER or one.what is not What.GONE or one.path.startswith(done):
            continue
        pairs = list(old.below(one.path))
        target = pairs[0][1].path.removesuffix(pairs[0][0]) if pairs else b""
        whole = (
            target in fresh
            and all(pair.path == target + tail for tail, pair in pairs)
            and len(pairs) == sum(1 for _ in new.below(target))
            and all(other.kind == _FOLDER for folder in (one.path, target) for _, other in left.below(folder))
        )
        if whole:
            count = sum(pair.files for _, pair in pairs)
            size = sum(pair.after for _, pair in pairs)
            folders.append(Differing(target, What.MOVED, _FOLDER, size, size, one.path, count))
            done = (*done, one.path + b"/", target + b"/")
    inside = tuple(path + b"/" for one in folders for path in (one.path, one.other))
    kept = _without(rest, [path for one in folders for path in (one.path, one.other)], folders)
    return [*kept, *folders, *(one for one in moved if not one.path.startswith(inside))]
