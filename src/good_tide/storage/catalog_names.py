"""Every name that the catalog of a store ever had, laid out so that it is found by any part of it.

Names lie in blocks, one after the other and each behind a zero byte, once folded (``core.name_query``) and
once as they are. Looking through a million takes some twenty milliseconds, so that no index of parts is
needed. A name may lie there twice, or longer than any snapshot has it: whoever finds one looks whether it has
versions.
"""

from __future__ import annotations

import array
import functools
import itertools
import re
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from good_tide.core.name_query import NameQuery, Word, folded_name, nearness

SCHEMA = """CREATE TABLE IF NOT EXISTS names
    (id INTEGER PRIMARY KEY, machine INTEGER, folded BLOB, plain BLOB, folders BLOB)"""
"""``folders``: for each name twice the number of its folder, and one more if it was a folder itself."""
_BLOCK_BYTES = 1 << 18
_FEW = 400
"""So many names are looked at one by one sooner than the text of a block as a whole."""
_NEAR = 0.45
_BETWEEN = re.compile(rb"[^a-z0-9\x80-\xff]+")
"""What parts the words of a folded name."""
_NEAR_HITS = 3000


class NameAt(NamedTuple):
    """A name in a folder, by the folder's number; folded and as it is; and whether it was a folder."""

    folder: int
    folded: bytes
    name: bytes
    is_folder: bool


class NewName(NamedTuple):
    """A name that is new in a folder, given by its number."""

    folder: int
    name: bytes
    is_folder: bool


class CatalogNames:
    """The names of one machine, in a catalog that is open and locked.

    :param machine: its number.
    """

    def __init__(self, db: sqlite3.Connection, machine: int) -> None:
        self._db, self._machine = db, machine

    def complete(self) -> None:
        """Take in all names, where the catalog is of a version that did not keep them; within the caller's
        transaction."""
        if self._db.execute("SELECT 1 FROM names WHERE machine = ? LIMIT 1", (self._machine,)).fetchone():
            return
        query = """SELECT DISTINCT span.folder, span.name, kind = 'd' FROM span JOIN folder
            ON folder.id = span.folder WHERE folder.machine = ?1
            UNION SELECT DISTINCT folder, name, kind = 'd' FROM span WHERE folder = -?1"""
        self.add(NewName(*row) for row in self._db.execute(query, (self._machine,)).fetchall())

    def add(self, names: Iterable[NewName]) -> None:
        """Add names; within the caller's transaction."""
        block: _Block | None = None
        for new in names:
            block = block or self._last_block()
            block.add(new)
            if block.size > _BLOCK_BYTES:
                self._keep(block)
                block = _Block()
        if block is not None and block.size:
            self._keep(block)

    def _last_block(self) -> _Block:
        """The one that is not full yet, or a new one."""
        row = self._db.execute(
            "SELECT id, folded, plain, folders FROM names WHERE machine = ? ORDER BY id DESC LIMIT 1",
            (self._machine,),
        ).fetchone()
        return _Block(*row) if row is not None and len(row[1]) <= _BLOCK_BYTES else _Block()

    def _keep(self, block: _Block) -> None:
        row = (block.number, self._machine, *block.parts())
        self._db.execute("INSERT OR REPLACE INTO names VALUES (?, ?, ?, ?, ?)", row)

    def find(self, query: NameQuery, folders: FolderNames) -> Iterator[NameAt]:
        """Names that a query finds, in no order: every word is in the name or in the path of its folder, and
        one at least in the name."""
        for block in self._blocks():
            words: Sequence[Word] = query.words
            if len(words) > 1:  # the rarest first
                words = sorted(words, key=lambda word: block.folded.count(word.anchor))
            found = np.ones(len(block.folders), dtype=bool)
            own = np.zeros(len(found), dtype=bool) if words else found
            for word in words:
                named = _in_names(word, block, folders, found)
                own = own | named
                if len(words) > 1:
                    named = named | folders.of(block.folders, folders.with_in_path(word))
                found &= named
                if not found.any():
                    break
            for number in np.flatnonzero(found & own):
                yield block.name_at(int(number))

    def _blocks(self) -> Iterator[_Laid]:
        rows = self._db.execute(
            "SELECT id, folded, folders FROM names WHERE machine = ? ORDER BY id", (self._machine,)
        )
        for row in rows:
            yield _Laid(self._db, *row)

    def _with(self, text: bytes) -> Iterator[NameAt]:
        """Names that have a text in them, folded."""
        for block in self._blocks():
            for number in block.with_text(text):
                yield block.name_at(int(number))

    def near(self, text: bytes, most: int) -> list[NameAt]:
        """Names that are near to a text which no name has, the nearest first."""
        parts = {text[at : at + 3] for at in range(max(1, len(text) - 2))}
        found: dict[tuple[int, bytes], tuple[float, NameAt]] = {}
        for part in parts:
            for one in itertools.islice(self._with(part), _NEAR_HITS):
                stem = one.folded.rpartition(b".")[0] or one.folded
                how = max(nearness(text, part) for part in (one.folded, stem, *_BETWEEN.split(stem)))
                if how > _NEAR:
                    found[one.folder, one.name] = how, one
        ranked = sorted(found.values(), key=lambda pair: (-pair[0], pair[1].folded))
        return [one for _, one in ranked[:most]]


class _Block:
    """Names that are kept together. ``number``: of the row, None for a new one."""

    def __init__(
        self, number: int | None = None, folded: bytes = b"\0", plain: bytes = b"\0", folders: bytes = b""
    ) -> None:
        self.number = number
        self._folded, self._plain = bytearray(folded), bytearray(plain)
        self._folders = array.array("q", folders)

    @property
    def size(self) -> int:
        """Bytes of its folded names; 0 without any."""
        return len(self._folded) if self._folders else 0

    def add(self, new: NewName) -> None:
        self._folded += folded_name(new.name) + b"\0"
        self._plain += new.name + b"\0"
        self._folders.append(new.folder * 2 + bool(new.is_folder))

    def parts(self) -> tuple[bytes, bytes, bytes]:
        """As they lie in the row."""
        return bytes(self._folded), bytes(self._plain), self._folders.tobytes()


class _Laid:
    """A block as it is read."""

    def __init__(self, db: sqlite3.Connection, number: int, folded: bytes, folders: bytes) -> None:
        self._db, self._number, self.folded = db, number, folded
        self._marked = np.frombuffer(folders, dtype=np.int64)
        self.folders = self._marked >> 1

    @functools.cached_property
    def _ends(self) -> NDArray[np.int64]:
        return np.flatnonzero(np.frombuffer(self.folded, dtype=np.uint8) == 0)

    @functools.cached_property
    def _names(self) -> list[bytes]:
        query = "SELECT plain FROM names WHERE id = ?"
        plain: bytes = self._db.execute(query, (self._number,)).fetchone()[0]
        return plain.split(b"\0")[1:-1]

    def with_text(self, text: bytes) -> NDArray[np.int64]:
        """Numbers of the names that have a text; a zero byte at its beginning stands for the beginning of
        the name."""
        if text not in self.folded:
            return np.empty(0, dtype=np.int64)
        begins = [found.start() for found in re.finditer(re.escape(text), self.folded)]
        at = np.array(begins, dtype=np.int64) + text.startswith(b"\0")
        return np.unique(np.searchsorted(self._ends, at, side="right") - 1)

    def folded_name(self, number: int) -> bytes:
        """One of its names, folded."""
        return self.folded[int(self._ends[number]) + 1 : int(self._ends[number + 1])]

    def name_at(self, number: int) -> NameAt:
        """One of its names."""
        marked = int(self._marked[number])
        return NameAt(marked >> 1, self.folded_name(number), self._names[number], bool(marked & 1))


def _in_names(word: Word, block: _Laid, folders: FolderNames, among: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """For each name of a block whether it has a word; for one with a slash, whether the path has it and ends
    with the name.

    :param among: the names that are asked about.
    """
    head, slash, tail = word.text.rpartition(b"/")
    found = np.zeros(len(block.folders), dtype=bool)
    if slash and not word.wild:
        inside = folders.of(block.folders, folders.ending(head + slash))
        if inside.any():
            found[block.with_text(b"\0" + tail)] = True
        return found & inside
    few = not word.in_path and np.count_nonzero(among) <= _FEW
    if few or not word.anchor:
        candidates = np.flatnonzero(among)
        if not word.wild:
            named = [word.in_name(block.folded_name(int(one))) for one in candidates]
            candidates = candidates[np.array(named, dtype=bool)]
    else:
        candidates = block.with_text(word.anchor)
    if word.wild:
        candidates = np.array(
            [one for one in candidates if _is_wild_match(word, block, int(one), folders)], dtype=np.int64
        )
    found[candidates] = True
    return found


def _is_wild_match(word: Word, block: _Laid, number: int, folders: FolderNames) -> bool:
    name = block.folded_name(number)
    if not word.in_path:
        return word.in_name(name)
    folder = folders.path(int(block.folders[number]))
    return word.in_whole(folder + b"/" + name) and not word.in_whole(folder)


class FolderNames:
    """The folders of a machine, by their numbers; read when they are first asked for."""

    def __init__(self, db: sqlite3.Connection, machine: int) -> None:
        self._db, self._machine = db, machine
        self._with: dict[Word, NDArray[np.bool_]] = {}
        self._is_below: NDArray[np.bool_] = np.empty(0, dtype=bool)

    @functools.cached_property
    def _rows(self) -> list[tuple[int, int, bytes]]:
        """Number, that of the folder above, and folded name; those above come first. The name of a covered
        folder is its path."""
        query = "SELECT id, parent, name FROM folder WHERE machine = ? ORDER BY id"
        return [
            (one, above, folded_name(name)) for one, above, name in self._db.execute(query, (self._machine,))
        ]

    @functools.cached_property
    def _paths(self) -> dict[int, bytes]:
        """Folded paths."""
        paths = {0: b"", -self._machine: b""}
        for one, above, name in self._rows:
            paths[one] = paths.get(above, b"").rstrip(b"/") + b"/" + name if above else name
        return paths

    def path(self, folder: int) -> bytes:
        """The folded path of a folder; empty above the covered ones."""
        return self._paths.get(folder, b"")

    def of(self, numbers: NDArray[np.int64], among: NDArray[np.bool_]) -> NDArray[np.bool_]:
        """For each of some folders whether it is among those that ``among`` says for the rows."""
        if not among.any():
            return np.zeros(len(numbers), dtype=bool)
        at = np.minimum(np.searchsorted(self._numbers, numbers), len(among) - 1)
        found: NDArray[np.bool_] = among[at] & (self._numbers[at] == numbers)
        return found

    def ending(self, text: bytes) -> NDArray[np.bool_]:
        """For each row whether its path, with a slash behind, ends with a text."""
        word = Word(text)
        if word not in self._with:
            ends = [(self._paths[one] + b"/").endswith(text) for one, *_ in self._rows]
            self._with[word] = np.array(ends, dtype=bool)
        return self._with[word]

    def with_in_path(self, word: Word) -> NDArray[np.bool_]:
        """For each row whether its path has a word."""
        if word not in self._with:
            if word.in_path:
                inside = [word.in_whole(self._paths[one]) for one, *_ in self._rows]
                self._with[word] = np.array(inside, dtype=bool)
            else:
                self._with[word] = self._at_or_below(word)
        return self._with[word]

    def _at_or_below(self, word: Word) -> NDArray[np.bool_]:
        """For each row whether it, or a folder above it, has a word in its name."""
        rows = self._rows
        found = np.zeros(len(rows), dtype=bool)
        if word.anchor in self._text:
            begins = [one.start() for one in re.finditer(re.escape(word.anchor), self._text)]
            for number in np.unique(np.searchsorted(self._ends, begins, side="right") - 1).tolist():
                _, above, name = rows[number]
                found[number] = word.in_name(name) if above else word.in_whole(name)
        above = self._above
        while True:
            inside = found | (found[above] & self._is_below)
            if (inside == found).all():
                return found
            found = inside

    @functools.cached_property
    def _text(self) -> bytes:
        return b"\0" + b"\0".join(name for *_, name in self._rows) + b"\0"

    @functools.cached_property
    def _ends(self) -> NDArray[np.int64]:
        return np.flatnonzero(np.frombuffer(self._text, dtype=np.uint8) == 0)

    @functools.cached_property
    def _numbers(self) -> NDArray[np.int64]:
        return np.array([one for one, *_ in self._rows], dtype=np.int64)

    @functools.cached_property
    def _above(self) -> NDArray[np.int64]:
        """For each row that of the folder above; of a covered folder any."""
        above = np.array([one for _, one, _ in self._rows], dtype=np.int64)
        self._is_below = above > 0
        return np.minimum(np.searchsorted(self._numbers, above), max(0, len(above) - 1))
