"""What is known of a folder on a server for a moment, and what is asked for ahead, so that reading many small
things takes as long as reading one.

What a folder was seen to hold outlives neither a few seconds nor anything that is written or removed from
here: whoever leaves a mark and then looks, sees what others did before. Contents, which do not change under
their names, are kept a little longer, and not so long that who reads a store back reads its own memory.
"""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from collections.abc import Callable
from typing import Generic, TypeVar

from good_tide.lines.client import Line, LineError
from good_tide.lines.wire import Found, Read, Tree

A = TypeVar("A")

_LISTING_SECONDS = 3.0
"""How long what a folder was seen to hold is taken for what it holds."""
_EXPECTED_SECONDS = 60.0
"""The same of a folder that was asked for ahead, which may be long."""
_CONTENT_SECONDS = 60.0
"""The same of what is in a file. More than a slow line takes for all that is asked for ahead."""
_FOLDERS = (
    *("keys", "snapshots", "index", "summaries", "pins", "damage", "doomed", "writers", "lease", "tmp"),
    *("copies/keys", "copies/snapshots", "copies/index", "copies/pins"),
)
"""Folders of few files, listed together."""
_HEADS = ("store.json", "copies/store.json", "recover.py")
"""Files that a run reads and that are in none of these folders."""
_SMALL = 256 * 1024
"""Files of more bytes are not read ahead."""
_FILES_AHEAD = 32
_KEPT_BYTES = 16 << 20

_BLOCK = 512 * 1024
"""Bytes of packs that are asked for at once at least."""
_KEPT_BLOCKS = 64
"""Blocks that are kept: 32 MiB."""
_BLOCKS_AHEAD = 12
"""Blocks that are asked for ahead of who reads on: 6 MiB."""


class _Coming(Generic[A]):
    """An answer that was asked for, and when (seconds of the monotonic clock)."""

    def __init__(self, answer: Callable[[], A]) -> None:
        self.asked = time.monotonic()
        self._answer = answer
        self._guard = threading.Lock()
        self._value: list[A] = []

    def fresh(self, seconds: float) -> bool:
        """Whether it was asked for within so many seconds."""
        return time.monotonic() - self.asked <= seconds

    def value(self) -> A:
        """What came; raises ``LineError``."""
        with self._guard:
            if not self._value:
                self._value.append(self._answer())
            return self._value[0]


class ServerCache:
    """Of one folder on a server; all who use it in this process share one. Threads may use it at once."""

    def __init__(self, line: Line) -> None:
        self._line = line
        self._guard = threading.Lock()
        self._listings: dict[str, _Coming[list[Found]]] = {}
        self._expected: dict[str, _Coming[list[Found]]] = {}
        """Folders that are asked for ahead, each for one who wants to know."""
        self._files: OrderedDict[str, _Coming[bytes]] = OrderedDict()
        self._blocks: OrderedDict[tuple[str, int], _Coming[bytes]] = OrderedDict()
        self._last: OrderedDict[str, tuple[int, int]] = OrderedDict()
        """Of each pack that is being read: the last block, and how many are asked for ahead."""

    def changed(self, name: str) -> None:
        """A file was made from here, or will be: what folders were seen to hold before counts no more. Other
        files stay what they are: no name is used twice."""
        with self._guard:
            self._listings.clear()
            self._forget(name)

    def look_anew(self) -> None:
        """What folders were seen to hold counts no more."""
        with self._guard:
            self._listings.clear()
            self._expected.clear()

    def removed(self, name: str) -> None:
        """A file will be removed from here: what its folder was seen to hold counts no more."""
        with self._guard:
            self._listings.pop(name.rpartition("/")[0], None)
            self._forget(name)

    def _forget(self, name: str) -> None:
        self._files.pop(name, None)
        self._last.pop(name, None)
        for key in [key for key in self._blocks if key[0] == name]:
            del self._blocks[key]

    def expect(self, folder: str) -> None:
        """Ask for a folder that is not listed with the others; the next who wants to know takes that."""
        with self._guard:
            self._expected[folder] = _Coming(self._line.begin(Tree(folder)))

    def files(self, folder: str) -> list[Found]:
        """Files in a folder and those below; raises ``LineError``."""
        if folder not in _FOLDERS:
            with self._guard:
                expected = self._expected.pop(folder, None)
            fresh = expected is not None and expected.fresh(_EXPECTED_SECONDS)
            return expected.value() if expected is not None and fresh else self._line.ask(Tree(folder))
        with self._guard:
            found = self._listed(folder)
        try:
            return found.value()
        except LineError:
            with self._guard:
                self._listings.clear()
            raise

    def _listed(self, folder: str) -> _Coming[list[Found]]:
        """A folder's listing, asked for with all others where it is not fresh."""
        found = self._listings.get(folder)
        if found is None or not found.fresh(_LISTING_SECONDS):
            self._listings = {one: _Coming(self._line.begin(Tree(one))) for one in _FOLDERS}
            found = self._listings[folder]
        return found

    def small(self, name: str) -> bytes | None:
        """A small file, whole, and others of its folder asked for with it; None for one that is not small,
        or not there. Raises ``LineError``."""
        folder = name.rpartition("/")[0]
        ahead: dict[str, int | None]
        if name in _HEADS:
            ahead = dict.fromkeys(_HEADS)
        elif folder in _FOLDERS:
            few = {f"{folder}/{one.name}": one.size for one in self.files(folder) if one.size <= _SMALL}
            if name not in few:
                return None
            names = list(few)
            at = names.index(name)
            ahead = {one: few[one] for one in names[at : at + _FILES_AHEAD]}
        else:
            return None
        with self._guard:
            if name in _HEADS:
                self._listed("keys")  # whoever reads them opens the store
            for one, size in ahead.items():
                known = self._files.get(one)
                if known is None or not known.fresh(_CONTENT_SECONDS):
                    self._files[one] = _Coming(self._line.begin(Read(one, 0, size, _SMALL)))
            found = self._files[name]
            while len(self._files) * _SMALL > _KEPT_BYTES and next(iter(self._files)) != name:
                self._files.popitem(last=False)
        try:
            return found.value()
        except LineError:
            with self._guard:
                self._files.pop(name, None)
            return None  # who reads it alone is told why

    def part(self, name: str, offset: int, length: int) -> bytes:
        """Bytes of a pack; raises ``LineError``."""
        if length <= 0:
            return b""
        first, last = offset // _BLOCK, (offset + length - 1) // _BLOCK
        with self._guard:
            ahead = self._ahead(name, first, last)
            blocks = [self._block(name, number) for number in range(first, last + 1)]
            for number in range(last + 1, last + 1 + ahead):
                self._block(name, number)
            while len(self._blocks) > _KEPT_BLOCKS:
                self._blocks.popitem(last=False)
        parts = []
        for number, block in enumerate(blocks, first):
            try:
                parts.append(block.value())
            except LineError:
                with self._guard:
                    if self._blocks.get((name, number)) is block:
                        del self._blocks[name, number]
                raise
        whole = parts[0] if len(parts) == 1 else b"".join(parts)
        begin = offset - first * _BLOCK
        return whole[begin : begin + length]

    def _ahead(self, name: str, first: int, last: int) -> int:
        """How many blocks to ask for ahead: twice as many each time that somebody reads on."""
        before = self._last.pop(name, None)
        ahead = 0
        if before is not None and before[0] <= first <= before[0] + 1 and last > before[0]:
            ahead = min(_BLOCKS_AHEAD, 2 * before[1] or 2)
        elif before is not None and before[0] == last:
            ahead = before[1]
        self._last[name] = (last, ahead)
        while len(self._last) > _BLOCKS_AHEAD:
            self._last.popitem(last=False)
        return ahead

    def _block(self, name: str, number: int) -> _Coming[bytes]:
        found = self._blocks.pop((name, number), None)
        if found is None or not found.fresh(_CONTENT_SECONDS):
            found = _Coming(self._line.begin(Read(name, number * _BLOCK, _BLOCK)))
        self._blocks[name, number] = found
        return found
