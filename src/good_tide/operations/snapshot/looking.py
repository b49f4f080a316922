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
from collections.abc import Callable, Collection, Iterable, Iterator
from pathlib import Path
from typing import NamedTuple, Self

from good_tide.operations.snapshot.sightings import KeptLooks, key_of
from good_tide.source.sight import seen_in

_WORTH_A_HELPER = 40_000
"""Files and folders; starting a helper costs as much as looking at some ten thousands."""
BLOCK = 64
"""Folders after which a helper hands over what it found."""
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


def same_each(
    looks: KeptLooks, now: int, backwards: bool = False, only: Collection[bytes] | None = None
) -> Iterator[bytes]:
    """For each kept folder in order: ``SAME`` when it is as it was, or ``OTHER``.

    :param now: ns since 1970 UTC. :param only: keys of those that are looked at; the others are the same.
    """
    for path, look in looks.in_order(backwards):
        same = False
        if look is not None and (not look.until or now < look.until):
            if only is not None and path not in only:
                yield SAME
                continue
            with contextlib.suppress(OSError):
                same = seen_in(path) == look.seen
        yield SAME if same else OTHER


def look_again(
    file: Path, covered: Iterable[bytes], now: int, entries: int, tick: Callable[[], None]
) -> Clean:
    """Look at all folders of which a look is kept.

    :param file: where they are. :param now: ns since 1970 UTC.
    :param covered: the covered folders, which are walked in any case.
    :param entries: how much there is to look at, in files.
    :param tick: called now and then; what it raises ends the looking.
    """
    try:
        looks = KeptLooks(file)
    except sqlite3.Error:
        return NOTHING_CLEAN
    try:
        helped = entries >= _WORTH_A_HELPER and len(os.sched_getaffinity(0)) > 1
        with _Helper(file, now) if helped else contextlib.nullcontext() as helper:
            same = _all_same(looks, now, helper, tick)
        return _whole(looks, same, {key_of(path) for path in covered})
    except sqlite3.Error:
        return NOTHING_CLEAN
    finally:
        looks.close()


def look_at(file: Path, covered: Iterable[bytes], now: int, only: Collection[bytes]) -> Clean:
    """As ``look_again``, but only at some folders; the others are as they were.

    :param only: their keys.
    """
    with contextlib.suppress(sqlite3.Error), contextlib.closing(KeptLooks(file)) as looks:
        same = b"".join(same_each(looks, now, only=only))
        return _whole(looks, same, {key_of(path) for path in covered})
    return NOTHING_CLEAN


class _Helper:
    """A process that looks at the folders from the last one backwards. A context manager, which ends it."""

    def __init__(self, file: Path, now: int) -> None:
        module = "good_tide.operations.snapshot.look_helper"
        command: list[str | bytes] = [sys.executable, "-m", module, bytes(file), str(now)]
        self._process = subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE)
        self._answers = self._process.stdout
        assert self._answers is not None
        os.set_blocking(self._answers.fileno(), False)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *unused: object) -> None:
        self._process.kill()
        self._process.communicate()

    def answers(self) -> bytes:
        """Those that came since, the last folder's first."""
        assert self._answers is not None
        return self._answers.read() or b""


def _all_same(looks: KeptLooks, now: int, helper: _Helper | None, tick: Callable[[], None]) -> bytes:
    """For each folder in order whether it is the same. Looks from the first one on, until it meets the helper
    or the end; a helper that dies only makes it longer."""
    count = looks.count()
    first, last = bytearray(), bytearray()
    for answer in same_each(looks, now):
        first += answer
        if not len(first) % BLOCK:
            tick()
            last += helper.answers() if helper is not None else b""
        if len(first) + len(last) >= count:
            break
    return bytes(first) + bytes(last[: count - len(first)][::-1])


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

    for at, (key, look) in enumerate(looks.in_order()):
        while above and not key.startswith(above[-1].key):
            leave()
        clean = look is not None and same[at : at + 1] == SAME
        if not clean:
            changed.add(key)
        above.append(_Open(key, clean, look.files if look else 0, look.size if look else 0))
    while above:
        leave()
    return Clean(whole, changed)
