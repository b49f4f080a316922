"""The ledger against a slow and obvious count, over any history."""

from __future__ import annotations

import itertools
import random
import secrets
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from good_tide.core.entries import Entry, Extent, Kind, Stat, page_extents
from good_tide.core.errors import DamageError
from good_tide.core.identifiers import ChunkId, ContentDigest, MachineId, PageId, page_id
from good_tide.core.kinds import KINDS, kind_of
from good_tide.core.ledger import EVENT, ROW, applied
from good_tide.core.pages import encode_page
from good_tide.core.progress import Silent
from good_tide.core.records import Machine, Snapshot, SnapshotRecord
from good_tide.storage import ledger as ledger_module
from good_tide.storage.folders import SNAPSHOT_FOLDER
from good_tide.storage.ledger import LISTING, OTHER, Label, Ledger
from good_tide.storage.store import Store
from good_tide.storage.writer import Ticket, WriteSession
from tests.support.base import GoodTideTest, create_store, open_store
from tests.support.memory_place import MemoryPlace

MACHINES = (Machine(MachineId("aa" * 16), "desk"), Machine(MachineId("bb" * 16), "stage"))
_NAMES = (b"a.txt", b"b.mp4", b"c", b"d")
_files = st.integers(0, 6)
_tree: st.SearchStrategy[Any] = st.recursive(
    _files, lambda inner: st.dictionaries(st.sampled_from(_NAMES), inner, max_size=3), max_leaves=8
)
_roots = st.dictionaries(st.sampled_from((b"/home/a", b"/home/b")), _tree, min_size=1, max_size=2)
_step = st.one_of(
    st.tuples(st.just("snapshot"), st.sampled_from(MACHINES), _roots),
    st.tuples(st.just("release"), st.integers(0, 20), st.none()),
    st.tuples(st.just("ask"), st.integers(0, 1 << 20), st.none()),
)
Need = tuple[ChunkId, Label]


class History:
    """A store whose snapshots are made of trees: a number is a file with content of its own, a mapping is a
    folder.

    :param joined: listings side by side in a folder share a chunk.
    """

    def __init__(self, folder: Path, joined: bool = False) -> None:
        self.joined = joined
        root = folder / secrets.token_hex(4)
        create_store(root, None)
        opened = open_store(root, None)
        self.store, self.file = (
            Store(MemoryPlace(), opened.header, opened.keys),
            root / "cache" / "ledger.npz",
        )
        self.taken: list[Snapshot] = []

    def snapshot(self, machine: Machine, roots: dict[bytes, Any]) -> None:
        with WriteSession(self.store, "test-") as session:
            page = encode_page(self._entries(session, roots))
            time = len(self.taken) + 1
            self.taken.append(
                session.publish(lambda new, stored: SnapshotRecord(time=time, machine=machine, roots=page))
            )

    def _entries(self, session: WriteSession, tree: dict[bytes, Any]) -> list[Entry]:
        folders = {
            name: encode_page(self._entries(session, inner))
            for name, inner in tree.items()
            if isinstance(inner, dict)
        }
        places = dict(zip(folders, self._places(session, list(folders.values())), strict=True))
        return [
            Entry(name, Kind.FOLDER, extents=page_extents([places[name]]))
            if name in places
            else self._file(session, name, inner)
            for name, inner in sorted(tree.items())
        ]

    def _places(self, session: WriteSession, pages: list[bytes]) -> list[PageId]:
        """Where listings lie that were written: joined into one chunk, or each in its own."""
        if not self.joined or not pages:
            return [PageId(session.put_page(page)) for page in pages]
        chunk = session.put_page(b"".join(pages))
        ends = list(itertools.accumulate(map(len, pages)))
        return [page_id(chunk, end - len(page), len(page)) for end, page in zip(ends, pages, strict=True)]

    def _file(self, session: WriteSession, name: bytes, seed: int) -> Entry:
        content = random.Random(seed).randbytes(100 + 10 * seed)
        ticket = Ticket()
        ticket.chunk = self.store.keys.chunk_id(content)
        session.put(content, ticket=ticket)
        return Entry(
            name,
            Kind.FILE,
            Stat(size=len(content)),
            ContentDigest(content[:16]),
            (Extent(ticket.chunk, 0, len(content)),),
        )

    def release(self, number: int) -> None:
        if self.taken:
            self.store.place.remove(f"{SNAPSHOT_FOLDER}/{self.taken.pop(number % len(self.taken)).id}")

    def ledger(self) -> Ledger:
        return Ledger(self.file, self.store, Silent())


def slow_needs(store: Store, snapshot: Snapshot) -> set[Need]:
    """Everything that a snapshot needs, with the label that needs it."""
    found: set[Need] = set()

    def look(entry: Entry, root: bytes, inside: bytes) -> None:
        chunks = [extent.chunk for extent in entry.extents if extent.chunk is not None]
        kind = (
            LISTING if entry.kind is Kind.FOLDER else kind_of(entry.name.decode().rpartition("/")[2]) or OTHER
        )
        found.update((chunk, Label(root, inside, kind)) for chunk in chunks)
        if entry.kind is Kind.FOLDER:
            for inner in store.listing(entry.pages):
                is_folder = inner.kind is Kind.FOLDER
                look(inner, root, inside or (inner.name if is_folder else b""))

    for root in store.roots(snapshot.record):
        look(root, root.name, b"")
    return found


class LedgerTest(GoodTideTest):
    def assert_true(self, history: History, choice: int) -> None:
        """Everything that the ledger says is what a slow count says."""
        store, ledger = history.store, history.ledger()
        needs = {snapshot.id: slow_needs(store, snapshot) for snapshot in history.taken}
        sizes = {
            chunk: int(store.index.tables[location.pack].room()[location.number])
            for chunk, _ in set().union(*needs.values())
            if (location := store.index.find(chunk))
        }

        def total(chunks: Iterable[ChunkId]) -> int:
            return sum(sizes[chunk] for chunk in set(chunks))

        def split(groups: Mapping[Any, set[ChunkId]]) -> dict[str, tuple[int, int]]:
            every = [chunk for chunks in groups.values() for chunk in chunks]
            alone = {
                title: [chunk for chunk in chunks if every.count(chunk) == 1]
                for title, chunks in groups.items()
            }
            return {
                title: (total(alone[title]), total(chunks) - total(alone[title]))
                for title, chunks in groups.items()
            }

        chunks = {name: {chunk for chunk, _ in own} for name, own in needs.items()}
        chosen = {name for number, name in enumerate(chunks) if choice >> number & 1}
        rest = set().union(*(own for name, own in chunks.items() if name not in chosen))
        self.assertEqual(ledger.gain(chosen), total(set().union(*(chunks[name] for name in chosen)) - rest))
        self.assertEqual(ledger.alone(), {name: alone for name, (alone, _) in split(chunks).items()})
        groups: dict[str, set[ChunkId]] = {}
        for number, own in enumerate(chunks.values()):
            groups.setdefault(f"{number % 3}", set()).update(own)
        titles = {name: f"{number % 3}" for number, name in enumerate(chunks)}
        self.assertEqual(ledger.by_snapshot(titles), split(groups))
        for part in (lambda label: label.kind, lambda label: f"{label.root!r} {label.inside!r}"):
            groups = {}
            for chunk, label in set().union(*needs.values()):
                groups.setdefault(part(label), set()).add(chunk)
            self.assertEqual(ledger.by_label(part), split(groups))

    @given(st.lists(_step, max_size=14), st.sampled_from((1, 2_000_000)), st.booleans())
    @settings(max_examples=120, deadline=None)
    def test_it_says_what_a_slow_count_says(
        self, steps: list[tuple[str, Any, Any]], most: int, joined: bool
    ) -> None:
        history = History(self.folder, joined)
        with mock.patch.object(ledger_module, "_MOST_EVENTS", most):
            for what, one, other in (*steps, ("ask", 5, None)):
                if what == "snapshot":
                    history.snapshot(one, other)
                elif what == "release":
                    history.release(one)
                else:
                    self.assert_true(history, one)

    def test_a_file_that_cannot_be_read_is_made_anew(self) -> None:
        history = History(self.folder)
        for content in range(4):
            history.snapshot(MACHINES[0], {b"/home/a": {b"a.txt": content, b"b.mp4": 5}})
        self.assert_true(history, 3)
        whole = history.file.read_bytes()
        for damaged in (
            b"",
            b"nothing",
            whole[: len(whole) // 2],
            whole[:-900] + bytes(900),
            whole.replace(b"rows", b"raws"),
        ):
            history.file.write_bytes(damaged)
            self.assert_true(history, 3)
        self.assertEqual([one.name for one in history.file.parent.iterdir()], [history.file.name])

    def test_only_what_changed_is_read(self) -> None:
        history = History(self.folder)
        tree: dict[bytes, Any] = {
            b"%03d" % number: {b"a.txt": number % 7, b"%d" % number: 1} for number in range(60)
        }
        history.snapshot(MACHINES[0], {b"/home/a": tree})
        history.ledger()
        history.snapshot(MACHINES[0], {b"/home/a": {**tree, b"003": {b"a.txt": 2}}})
        with mock.patch.object(history.store, "page", side_effect=history.store.page) as read:
            history.ledger()
        self.assertEqual(read.call_count, 4)
        with mock.patch.object(history.store, "page") as read:
            history.ledger()
        read.assert_not_called()

    def test_history_whose_newest_snapshot_went_is_read_anew(self) -> None:
        history = History(self.folder)
        for content in range(3):
            history.snapshot(MACHINES[0], {b"/home/a": {b"a.txt": content}})
        history.ledger()
        history.release(2)
        self.assert_true(history, 1)
        history.release(0)
        history.release(0)
        self.assertEqual(history.ledger().alone(), {})

    def test_a_ledger_without_what_could_not_be_read_is_not_kept(self) -> None:
        history = History(self.folder)
        history.snapshot(MACHINES[0], {b"/home/a": {b"a.txt": 1}})
        with mock.patch.object(history.store, "page", side_effect=DamageError("gone")):
            history.ledger()
        self.assertFalse(history.file.exists())
        self.assert_true(history, 1)

    def test_kinds_are_told_by_ending_then_by_name(self) -> None:
        for name in (
            "a.txt",
            "B.MP4",
            "core",
            "x~",
            "~$letter.docx",
            ".~lock.a.odt#",
            "none",
            ".hidden",
            "a.tar.gz",
            "Thumbs.db",
        ):
            self.assertEqual(
                kind_of(name), next((word for word, kind in KINDS.items() if kind.catches(name)), None), name
            )

    def test_numbers_that_do_not_belong_together_are_refused(self) -> None:
        events = np.array([(1, 0, 0, 3, -1)], dtype=EVENT)
        with self.assertRaises(ValueError):
            applied(np.empty(0, dtype=ROW), events)
