"""Which folders are as they were at the last run, with all that is in them.

Before a run walks, each folder of which a look is kept is looked at again: one digest of what is in it now is
compared with the one that is kept. Nothing is made of what it finds, and the work is shared between two
processes, so that this takes little more than naming the files. The run then goes only into folders that
changed, and those above them.
"""

from __future__ import annotations

import contextlib
import os
import sqlite3
import subprocess
import sys
from collections.abc import Callable, Collection, Iterable
from pathlib import Path
from typing import NamedTuple, Self

from good_tide.operations.snapshot.sightings import KeptLooks, key_of
from good_tide.source.folders import open_folder
from good_tide.source.sight import seen_in

_WORTH_A_HELPER = 40_000
"""Files and folders; starting a helper costs as much as looking at some ten thousands."""
FOLDER_COSTS = 4
"""Looking into a folder costs as much as looking at so many files."""
_CHECK_EACH = 256
_POLL_SECONDS = 0.1
SAME, OTHER = b"1", b"0"


class Within(NamedTuple):
    """What lies in a folder, with all folders inside it: files, their bytes, and folders."""

    files: int
    size: int
    folders: int


class Clean(NamedTuple):
    """What a look at all folders came to.

    :param whole: keys of folders with which everything inside is as it was; of those inside each other the
        outermost.
    :param changed: keys of those that are not as they were themselves.
    """

    whole: dict[bytes, Within]
    changed: set[bytes]


NOTHING_CLEAN = Clean({}, set())


class _OpenFolders:
    """Folders by their keys, each opened inside the one above, so that no link in place of a folder is
    followed, to wherever it may lead. Those above the last one stay open. A context manager.

    :param covered: keys of the covered folders, which are opened by their paths.
    """

    def __init__(self, covered: Iterable[bytes]) -> None:
        self._covered = sorted(covered, key=len)
        self._above: list[tuple[bytes, int]] = []

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *unused: object) -> None:
        self._leave(b"")

    def _leave(self, key: bytes) -> None:
        """Close what is not above a folder."""
        while self._above and not key.startswith(self._above[-1][0]):
            os.close(self._above.pop()[1])

    def open(self, key: bytes) -> int:
        """A handle of a folder, which stays open for those inside it.

        Raises:
            OSError: it is not there, or something else is in its place or in that of one above.
        """
        self._leave(key)
        if not self._above:
            top = next((one for one in self._covered if key.startswith(one)), None)
            if top is None:
                raise FileNotFoundError(key)
            self._above.append((top, os.open(top, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)))
        while self._above[-1][0] != key:
            above, handle = self._above[-1]
            name = key[len(above) :].partition(b"/")[0]
            self._above.append((above + name + b"/", open_folder(name, handle)))
        return self._above[-1][1]


def same_between(
    looks: KeptLooks,
    between: tuple[bytes, bytes | None],
    covered: Iterable[bytes],
    now: int,
    tick: Callable[[], None],
    only: Collection[bytes] | None = None,
) -> bytes:
    """For each kept folder between two keys (the second excluded; None: all that follow): ``SAME`` when it is
    as it was, or ``OTHER``.

    :param covered: keys of the covered folders. :param now: ns since 1970 UTC.
    :param tick: called now and then.
    :param only: keys of those that are looked at; the others are the same.
    """
    found = bytearray()
    with _OpenFolders(covered) as folders:
        for key, look in looks.between(*between):
            same = look is not None and (not look.until or now < look.until)
            if same and (only is None or key in only):
                try:
                    same = look is not None and seen_in(folders.open(key)) == look.seen
                except OSError:
                    same = False
            found += SAME if same else OTHER
            if not len(found) % _CHECK_EACH:
                tick()
    return bytes(found)


def look_again(
    file: Path, covered: Iterable[bytes], now: int, entries: int, tick: Callable[[], None]
) -> Clean:
    """Look at all folders of which a look is kept.

    :param file: where they are. :param now: ns since 1970 UTC.
    :param covered: the covered folders, which are walked in any case.
    :param entries: how much there is to look at, in files.
    :param tick: called now and then; what it raises ends the looking.
    """
    tops = [key_of(path) for path in covered]
    with contextlib.suppress(sqlite3.Error), contextlib.closing(KeptLooks(file)) as looks:
        if entries < _WORTH_A_HELPER or len(os.sched_getaffinity(0)) < 2:
            return _whole(looks, same_between(looks, (b"", None), tops, now, tick), tops)
        count, middle = _middle(looks)
        with _Helper(file, middle, tops, now) as helper:
            first = same_between(looks, (b"", middle), tops, now, tick)
            second = helper.answer(tick)
        if len(first) + len(second) != count:
            second = same_between(looks, (middle, None), tops, now, tick)
        return _whole(looks, first + second, tops)
    return NOTHING_CLEAN


def look_at(file: Path, covered: Iterable[bytes], now: int, only: Collection[bytes]) -> Clean:
    """As ``look_again``, but only at some folders; the others are as they were.

    :param only: their keys.
    """
    tops = [key_of(path) for path in covered]
    with contextlib.suppress(sqlite3.Error), contextlib.closing(KeptLooks(file)) as looks:
        return _whole(looks, same_between(looks, (b"", None), tops, now, lambda: None, only), tops)
    return NOTHING_CLEAN


def _middle(looks: KeptLooks) -> tuple[int, bytes]:
    """How many folders there are, and the key from which on about half of the work lies."""
    count = done = 0
    marks: list[tuple[int, bytes]] = []
    for key, look in looks.between(b"", None):
        if not count % _CHECK_EACH:
            marks.append((done, key))
        count += 1
        done += FOLDER_COSTS + (look.files if look is not None else 0)
    return count, next((key for at, key in marks if 2 * at >= done), marks[-1][1])


class _Helper:
    """A process that looks at the folders from a key on. A context manager, which ends it."""

    def __init__(self, file: Path, begin: bytes, covered: Iterable[bytes], now: int) -> None:
        module = "good_tide.operations.snapshot.look_helper"
        command: list[str | bytes] = [sys.executable, "-m", module, bytes(file), str(now), begin, *covered]
        self._process = subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *unused: object) -> None:
        self._process.kill()
        self._process.communicate()

    def answer(self, tick: Callable[[], None]) -> bytes:
        """What it found; waits for it."""
        while True:
            try:
                return self._process.communicate(timeout=_POLL_SECONDS)[0]
            except subprocess.TimeoutExpired:
                tick()


class _Open:
    """A folder whose inside is being added up."""

    __slots__ = ("clean", "files", "folders", "kept", "key", "size")

    def __init__(self, key: bytes, clean: bool, files: int, size: int) -> None:
        self.key, self.clean, self.files, self.size, self.folders = key, clean, files, size, 1
        self.kept: list[tuple[bytes, Within]] = []
        """Folders in it that are clean with all inside."""


def _whole(looks: KeptLooks, same: bytes, walked: Collection[bytes]) -> Clean:
    """The outermost folders that are clean with everything inside, without those that are walked."""
    whole: dict[bytes, Within] = {}
    changed: set[bytes] = set()
    above: list[_Open] = []

    def leave() -> None:
        done = above.pop()
        if not done.clean or done.key in walked:
            whole.update(done.kept)
            if above:
                above[-1].clean = False
            return
        within = Within(done.files, done.size, done.folders)
        if not above:
            whole[done.key] = within
            return
        parent = above[-1]
        parent.kept.append((done.key, within))
        parent.files += done.files
        parent.size += done.size
        parent.folders += done.folders

    for at, (key, look) in enumerate(looks.between(b"", None)):
        while above and not key.startswith(above[-1].key):
            leave()
        clean = look is not None and same[at : at + 1] == SAME
        if not clean:
            changed.add(key)
        above.append(_Open(key, clean, look.files if look else 0, look.size if look else 0))
    while above:
        leave()
    return Clean(whole, changed)
