"""The ledger of a store: which snapshots need which chunks, for what would come back if some went. A local
file that can be thrown away.

It is brought up to date by what changed between one snapshot of a machine and the next: pages of listings
that are referred to for the first time, or no more, are read, all others are not. Numbers come from it, and
nothing else: what may be deleted is for the sweep to say.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import tempfile
import zipfile
from collections.abc import Callable, Collection, Mapping, Sequence
from pathlib import Path
from typing import TypeVar

import msgspec
import numpy as np
from numpy.typing import NDArray

from good_tide.core.entries import Entry
from good_tide.core.entries import Kind as EntryKind
from good_tide.core.errors import DamageError
from good_tide.core.identifiers import CHUNK_ID_BYTES, MachineId, PageId, SnapshotId, chunk_of, part_of
from good_tide.core.kinds import kind_of
from good_tide.core.ledger import EVENT, ROW, Numbers, Reckoning, Rows, applied, netted, without
from good_tide.core.pages import Page
from good_tide.core.progress import Control, Progress
from good_tide.core.records import Snapshot
from good_tide.storage.chunk_keys import Keys, keys_of
from good_tide.storage.leaning import leaning_places, stands_alone
from good_tide.storage.store import Store
from good_tide.storage.summaries import known_snapshots

_VERSION = 1
_MOST_EVENTS = 2_000_000
LISTING = "listings"
OTHER = "other"
_Value = TypeVar("_Value")
_Place = tuple[PageId, bytes, bytes]
"""A page, and the part of the contents that it is referred to from: the covered folder, and the folder right
inside it."""


class Label(msgspec.Struct, frozen=True, array_like=True):
    """The part of the contents that needs a chunk: a covered folder, the folder right inside it (or none),
    and the kind of file."""

    root: bytes
    inside: bytes
    kind: str


class _Chain(msgspec.Struct):
    """A machine's snapshots by their names, in the order in which the ledger took them in."""

    machine: MachineId
    names: list[SnapshotId]


class _Heading(msgspec.Struct):
    version: int
    labels: list[Label]
    chains: list[_Chain]


class Ledger:
    """The ledger of an open store, brought up to date when it is made. What cannot be read is not in it.

    :param file: the local file; written anew when something changed.

    Raises:
        StoppedError: the person stopped it.
    """

    def __init__(self, file: Path, store: Store, control: Control) -> None:
        self._store, self._control = store, control
        self._labels: dict[Label, int] = {}
        self._partial = False
        """Whether listings could not be read: what they name is missing, and the file is not written."""
        self._chains: list[_Chain] = []
        self._rows: Rows = np.empty(0, dtype=ROW)
        self._read(file)
        if self._update(known_snapshots(store)[0]) and not self._partial:
            with contextlib.suppress(OSError):  # a cache: where it cannot be kept it is made again
                self._write(file)
        self._reckoning: Reckoning | None = None

    def _read(self, file: Path) -> None:
        """Read the file; one that is missing, damaged or of another version is as good as an empty one."""
        try:
            with np.load(file, allow_pickle=False) as stored:
                heading = msgspec.msgpack.decode(stored["heading"].tobytes(), type=_Heading)
                rows = stored["rows"]
        except (OSError, ValueError, KeyError, EOFError, zipfile.BadZipFile, msgspec.MsgspecError):
            return
        if heading.version == _VERSION and rows.dtype == ROW:
            self._labels = {label: number for number, label in enumerate(heading.labels)}
            self._chains, self._rows = heading.chains, rows

    def _write(self, file: Path) -> None:
        heading = msgspec.msgpack.encode(_Heading(_VERSION, list(self._labels), self._chains))
        file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        with tempfile.NamedTemporaryFile(dir=file.parent, prefix=file.name, delete=False) as fresh:
            try:
                np.savez(fresh, heading=np.frombuffer(heading, dtype=np.uint8), rows=self._rows)
                fresh.flush()
                os.replace(fresh.name, file)
            except BaseException:
                os.unlink(fresh.name)
                raise

    def _update(self, present: Sequence[Snapshot]) -> bool:
        """Bring the rows to what the store holds; whether anything changed."""
        names = {snapshot.id for snapshot in present}
        changed = self._forget(names)
        known = {name for chain in self._chains for name in chain.names}
        fresh = [snapshot for snapshot in present if snapshot.id not in known]
        by_machine: dict[MachineId, list[Snapshot]] = {}
        for snapshot in fresh:
            by_machine.setdefault(snapshot.machine.id, []).append(snapshot)
        for machine, own in by_machine.items():
            try:
                self._take(self._chain(machine), own)
            except (
                DamageError,
                ValueError,
            ):  # what stood before is no longer in the store: begin this machine anew
                number = self._chain(machine)
                self._clear(number)
                self._take(number, [snapshot for snapshot in present if snapshot.machine.id == machine])
        return changed or bool(fresh)

    def _forget(self, present: Collection[str]) -> bool:
        """Take out snapshots that are gone from the store; whether there were any."""
        stays = [np.array([name in present for name in chain.names], dtype=bool) for chain in self._chains]
        if all(stay.all() for stay in stays):
            return False
        for number, stay in enumerate(stays):
            if len(stay) and not stay[-1]:  # the open rows belong to a snapshot that is gone
                self._clear(number)
                stays[number] = np.zeros(0, dtype=bool)
        self._rows = without(self._rows, stays)
        for chain in self._chains:
            chain.names = [name for name in chain.names if name in present]
        return True

    def _clear(self, number: int) -> None:
        self._rows = self._rows[self._rows["chain"] != number]
        self._chains[number].names = []

    def _chain(self, machine: MachineId) -> int:
        number = next((number for number, chain in enumerate(self._chains) if chain.machine == machine), None)
        if number is None:
            number = len(self._chains)
            self._chains.append(_Chain(machine, []))
        return number

    def _take(self, number: int, snapshots: Sequence[Snapshot]) -> None:
        """Take in snapshots of one machine."""
        chain = self._chains[number]
        before = self._store.roots(self._store.read_snapshot(chain.names[-1]).record) if chain.names else []
        changes = _Changes(self._store, self._labels, number, self._rows)
        for count, snapshot in enumerate(snapshots):
            self._control.checkpoint()
            self._control.report(Progress("Reckoning", count, len(snapshots)))
            after = self._store.roots(snapshot.record)
            changes.step(before, after, len(chain.names) + count)
            before = after
            if changes.size > _MOST_EVENTS:
                self._rows = applied(self._rows, changes.events())
        self._rows = applied(self._rows, changes.events())
        self._partial = self._partial or bool(changes.unread)
        chain.names += [snapshot.id for snapshot in snapshots]

    @property
    def _places(self) -> list[SnapshotId]:
        return [name for chain in self._chains for name in chain.names]

    def _reckon(self) -> Reckoning:
        if self._reckoning is None:
            tables = list(self._store.index.packs())
            keys = keys_of(b"".join(table.ids for table in tables))
            stored = np.concatenate([np.empty(0, dtype=np.int64), *(table.room() for table in tables)])
            self._reckoning = Reckoning(
                self._with_bases(), [len(chain.names) for chain in self._chains], keys, stored
            )
        return self._reckoning

    def _with_bases(self) -> Rows:
        """The rows, and for each chunk that leans on others the same rows of those: who needs the one needs
        the others."""
        added, rows = [], self._rows
        keys = np.ascontiguousarray(rows["key"])
        for table, number in leaning_places(self._store):
            identity = table.chunk_id(number)
            if not stands_alone(self._store, identity):
                key = keys_of(identity)[0]
                begin, end = np.searchsorted(keys, key), np.searchsorted(keys, key, "right")
                for base in keys_of(table.bases_of(number)).tolist():
                    own = rows[begin:end].copy()
                    own["key"] = base
                    added.append(own)
        if not added:
            return rows
        joined = np.concatenate([rows, *added])
        return joined[np.argsort(joined["key"], kind="stable")]

    @property
    def total(self) -> int:
        """Stored bytes of all that is needed."""
        return self._reckon().total

    def gain(self, names: Collection[SnapshotId]) -> int:
        """Stored bytes that nothing needs but the snapshots of these names."""
        return self._reckon().gain(np.array([name in names for name in self._places], dtype=bool))

    def alone(self) -> dict[SnapshotId, int]:
        """For each snapshot the stored bytes that only it needs."""
        return dict(zip(self._places, self._reckon().each().tolist(), strict=True))

    def by_snapshot(self, group: Mapping[SnapshotId, str]) -> dict[str, tuple[int, int]]:
        """For groups of snapshots, given by the snapshots' names: stored bytes that only the group needs, and
        those that others need too."""
        numbers, titles = _numbered(self._places, group.__getitem__)
        return _parts(titles, *self._reckon().by_place(numbers, len(titles)))

    def by_label(self, group: Callable[[Label], str]) -> dict[str, tuple[int, int]]:
        """The same for groups of labels."""
        numbers, titles = _numbered(list(self._labels), group)
        return {
            title: part
            for title, part in _parts(titles, *self._reckon().by_label(numbers, len(titles))).items()
            if any(part)
        }


def _numbered(values: Sequence[_Value], group: Callable[[_Value], str]) -> tuple[NDArray[np.intp], list[str]]:
    """The number of each value's group, and the groups' names."""
    titles: dict[str, int] = {}
    numbers = [titles.setdefault(group(value), len(titles)) for value in values]
    return np.array(numbers, dtype=np.intp), list(titles)


def _parts(titles: Sequence[str], alone: Numbers, shared: Numbers) -> dict[str, tuple[int, int]]:
    return dict(zip(titles, zip(alone.tolist(), shared.tolist(), strict=True), strict=True))


class _Changes:
    """What the snapshots of a chain refer to and no longer refer to, one after the other.

    References are counted: to a page, from all listings of one part of the contents; to a chunk, from all
    pages that are referred to. Only a page that is referred to for the first time, or for the last, is read.
    """

    def __init__(self, store: Store, labels: dict[Label, int], chain: int, rows: Rows) -> None:
        self._store, self._labels, self._chain = store, labels, chain
        listings = np.array([label.kind == LISTING for label in labels], dtype=bool)
        own = rows[(rows["chain"] == chain) & (rows["count"] > 0)]
        pages = own[listings[own["label"]]] if len(own) else own
        columns = (pages["key"].tolist(), pages["label"].tolist(), pages["count"].tolist())
        self._pages = {(key, label): count for key, label, count in zip(*columns, strict=True)}
        self._listings: dict[tuple[bytes, bytes], int] = {}
        self._steps: list[Rows] = []
        self._parts: list[Rows] = []
        self._moved: dict[tuple[int, int], int] = {}
        self.size = 0
        """Events that wait to be applied."""
        self.unread: set[int] = set()
        """Keys of pages that could not be read when they were first referred to."""

    def events(self) -> Rows:
        """What changed since this was last asked."""
        found = netted(np.concatenate([np.empty(0, dtype=EVENT), *self._steps]))
        self._steps, self.size = [], 0
        return found

    def step(self, before: Sequence[Entry], after: Sequence[Entry], at: int) -> None:
        """From one snapshot to the next, which stands at position ``at``."""
        self._parts, self._moved = [], {}
        for roots, sign in (
            (after, 1),
            (before, -1),
        ):  # in this order: what stays is never without a reference
            for root in roots:
                if root.kind is EntryKind.FOLDER:
                    self._refer([(page, root.name, b"") for page in root.pages], sign)
                elif root.pages:
                    chunks = b"".join(chunk_of(page) for page in root.pages)
                    self._note(keys_of(chunks), self._label(root.name, b"", _kind(root.name)), sign)
        nodes = [(key, label, delta) for (key, label), delta in self._moved.items() if delta]
        pages = np.zeros(len(nodes), dtype=EVENT)
        for number, name in enumerate(("key", "label", "delta")):
            pages[name] = [node[number] for node in nodes]
        step = np.concatenate([pages, *self._parts])
        step["chain"], step["at"] = self._chain, at
        step = netted(step)
        self._steps.append(step)
        self.size += len(step)

    def _label(self, root: bytes, inside: bytes, kind: str) -> int:
        return self._labels.setdefault(Label(root, inside, kind), len(self._labels))

    def _note(self, keys: Keys, label: int | NDArray[np.uint32], sign: int) -> None:
        part = np.zeros(len(keys), dtype=EVENT)
        part["key"], part["label"], part["delta"] = keys, label, sign
        self._parts.append(part)

    def _refer(self, waiting: list[_Place], sign: int) -> None:
        """One reference more, or less, to pages in parts of the contents; and where it is the first or the
        last, what they refer to."""
        pages, moved, listings = self._pages, self._moved, self._listings
        while waiting:
            page, root, inside = waiting.pop()
            label = listings.get((root, inside))
            if label is None:
                label = listings[root, inside] = self._label(root, inside, LISTING)
            node = _key(page), label
            before = pages.get(node, 0)
            pages[node] = before + sign
            moved[node] = moved.get(node, 0) + sign
            if before == (0 if sign > 0 else 1):
                if part_of(page)[1]:  # its own key is that of no chunk
                    self._note(keys_of(chunk_of(page)), label, sign)
                self._page(page, root, inside, sign, waiting)
                if sign < 0:
                    del pages[node]

    def _page(self, page: PageId, root: bytes, inside: bytes, sign: int, waiting: list[_Place]) -> None:
        """What a page refers to; nothing if it cannot be read when it is first referred to."""
        key = _key(page)
        try:
            if sign > 0 or key not in self.unread:
                self._contents(self._store.page(page), root, inside, sign, waiting)
        except DamageError:
            if sign < 0:
                raise
            self.unread.add(key)

    def _contents(self, page: Page, root: bytes, inside: bytes, sign: int, waiting: list[_Place]) -> None:
        folders = page.sub_folders()
        for number, pages in folders.items():
            waiting += [(one, root, inside or page.names[number]) for one in pages]
        owners, chunks = page.references()
        if folders:
            files = ~np.isin(owners, list(folders))
            owners, chunks = owners[files], chunks[files]
        if len(owners):
            kinds = {kind: self._label(root, inside, kind) for kind in map(_kind, page.names)}
            labels = np.array([kinds[_kind(name)] for name in page.names], dtype=np.uint32)
            self._note(keys_of(page.chunk_ids)[chunks], labels[owners], sign)


def _key(page: PageId) -> int:
    """A number for a page: for one that is a whole chunk the chunk's key."""
    whole = len(page) == CHUNK_ID_BYTES
    return int.from_bytes((page if whole else hashlib.blake2b(page).digest())[:8], "big")


def _kind(name: bytes) -> str:
    return kind_of(os.fsdecode(name)) or OTHER
