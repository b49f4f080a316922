"""Restore: the plan, and the values it is made of. Carrying it out is in ``carry_out``."""

from __future__ import annotations

import contextlib
import errno
import itertools
import os
import stat
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

import msgspec

from good_tide.core.entries import Entry, Kind, Reason, Stat
from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.progress import Control, Progress
from good_tide.core.records import Snapshot
from good_tide.core.restoring import Action, Existing, Extent, is_set_aside
from good_tide.core.translation import tr
from good_tide.core.words import moment_name
from good_tide.operations.coverage.selecting import Selector, state_of
from good_tide.operations.history.browse import check_depth, entry_at, readable_children
from good_tide.operations.history.same_content import is_identical
from good_tide.operations.restore.steps import Relative, Step, Steps
from good_tide.source.folders import open_folder, scan
from good_tide.source.own_places import NOTHING_OWN, OwnPlaces
from good_tide.source.ways import open_way
from good_tide.storage.store import Store

NO_GAPS = frozenset(reason.value for reason in Reason if not reason.is_gap)
"""Why something is not in a snapshot that nobody would want back."""


class Elsewhere(msgspec.Struct, frozen=True):
    """Homes and owners that are called otherwise here than they were.

    :param homes: paths of homes as they were, and as they are here.
    :param owners: names of users and groups as they were, and as they are here.
    """

    homes: tuple[tuple[bytes, bytes], ...] = ()
    owners: dict[str, str] = {}


class Wish(msgspec.Struct, frozen=True):
    """One thing picked to be brought back: an absolute path, from one snapshot."""

    snapshot: Snapshot
    path: bytes


class Plan(msgspec.Struct, frozen=True):
    """What a restore would do, in the order it would do it: folders before what is in them."""

    steps: Steps
    notes: tuple[str, ...] = ()
    owners: dict[str, str] = {}

    def count(self, action: Action) -> int:
        """How many items have this action."""
        return self.steps.counts[action]

    @property
    def payload(self) -> int:
        """Bytes to be written."""
        return self.steps.payload

    def places(self) -> tuple[str, ...]:
        """The folders in which what is brought can be seen: for one thing the one that it is in."""
        tops: dict[str, None] = {}
        for step in self.steps.having(Action.CREATE, Action.REPLACE):
            where = step.shown
            if not any(where.startswith(os.fsencode(top).rstrip(b"/") + b"/") for top in tops):
                tops[os.fsdecode(os.path.dirname(where))] = None
        return tuple(tops)

    def without(self, paths: Sequence[bytes]) -> Plan:
        """The plan without some items, by the paths they would have, and without all below them."""
        if not paths:
            return self
        out, below = set(paths), tuple(path.rstrip(b"/") + b"/" for path in paths)
        kept = Steps()
        for step in self.steps:
            if (shown := step.shown) not in out and not shown.startswith(below):
                kept.append(step)
        return msgspec.structs.replace(self, steps=kept)


def plan_restore(
    store: Store,
    wishes: Sequence[Wish],
    into: Path | None,
    existing: Existing,
    control: Control,
    extent: Extent = Extent.ALL,
    selector: Selector | None = None,
    elsewhere: Elsewhere | None = None,
    own: OwnPlaces = NOTHING_OWN,
) -> Plan:
    """Work out what bringing back ``wishes`` would do.

    :param into: the folder to restore to; None puts everything where it was.
    :param extent: how much of it is brought back.
    :param elsewhere: with homes in it, what was below one goes below the other, and what was below none is
        left.
    :param own: folders that are left as they are: this program's own records.
    :param selector: what a job's rules leave out is not strange to any moment; None: everything may be.

    Raises:
        PersonError: nothing is wished for, or a path is not in its snapshot.
    """
    if not wishes:
        raise PersonError(tr("Nothing was chosen to restore"), tr("Choose a path"))
    planner = _Planner(store, existing, control, extent, selector, own)
    elsewhere = elsewhere or Elsewhere()
    notes: list[str] = []
    taken: set[Relative] = set()
    places: set[tuple[Path, Relative]] = set()
    for wish in wishes:
        entry = entry_at(store, wish.snapshot, wish.path)
        if into is None and elsewhere.homes:
            other = _place_in_home(store, wish, elsewhere.homes)
            if other is None:
                notes.append(
                    tr("{path!r} was below none of the homes, and is left").format(
                        path=os.fsdecode(wish.path)
                    )
                )
                continue
            target, relative = other
        elif into is None:
            target, relative = _place_it_had(store, wish)
        else:
            target = Path(os.path.abspath(into))
            relative, note = _own_name(wish.path, taken)
            notes += [note] if note else []
        taken.add(relative)
        if (target, relative) in places:
            note = tr("It is chosen from another moment as well, and only one can be there")
            planner.block(wish, entry, target, relative, note)
            continue
        places.add((target, relative))
        planner.wish(wish, entry, target, relative)
    return Plan(planner.steps, tuple(notes), elsewhere.owners)


def _place_in_home(
    store: Store, wish: Wish, homes: Sequence[tuple[bytes, bytes]]
) -> tuple[Path, Relative] | None:
    """The folder below another home that a path goes to, and the path below it; None where it was below no
    home."""
    root, below = _place_it_had(store, wish)
    covered = os.fsencode(root)
    for old, new in homes:
        if covered == old or covered.startswith(old + b"/"):
            return Path(os.fsdecode(new + covered[len(old) :])), below
        if wish.path == old or wish.path.startswith(old + b"/"):
            rest = wish.path[len(old) :].strip(b"/")
            return Path(os.fsdecode(new)), tuple(rest.split(b"/")) if rest else ()
        if old.startswith(wish.path.rstrip(b"/") + b"/"):
            raise PersonError(
                tr("{path!r} holds more than the home {path_2!r}").format(
                    path=os.fsdecode(wish.path), path_2=os.fsdecode(old)
                ),
                tr("Choose the home itself as the path to restore"),
            )
    return None


def _place_it_had(store: Store, wish: Wish) -> tuple[Path, Relative]:
    """The covered folder a path was in, and the path below it."""
    for root in store.roots(wish.snapshot.record):
        if wish.path == root.name or wish.path.startswith(root.name.rstrip(b"/") + b"/"):
            rest = wish.path[len(root.name.rstrip(b"/")) :].strip(b"/")
            return Path(os.fsdecode(root.name)), tuple(rest.split(b"/")) if rest else ()
    raise PersonError(
        tr("{path!r} is in none of the covered folders").format(path=os.fsdecode(wish.path)),
        tr("Choose where to restore it to"),
    )


def _own_name(path: bytes, taken: set[Relative]) -> tuple[Relative, str]:
    """The name a path gets in a chosen folder; a second of the same name gets as many parents before it as it
    needs."""
    parts = [part for part in path.split(b"/") if part] or [b"root"]
    for count in range(1, len(parts) + 1):
        relative = (b" - ".join(parts[-count:]),) if count > 1 else (parts[-1],)
        if relative not in taken:
            return relative, _renamed_words(path, relative[0]) if count > 1 else ""
    number = 2
    while (numbered := (parts[-1] + f" ({number})".encode(),)) in taken:
        number += 1
    return numbered, _renamed_words(path, numbered[0])


def _renamed_words(path: bytes, shown: bytes) -> str:
    return tr("{path!r} is restored as {shown!r}, because the other name is taken").format(
        path=os.fsdecode(path), shown=os.fsdecode(shown)
    )


class _Level(NamedTuple):
    """A folder whose contents are being planned; ``handle`` None: it is not there yet."""

    listing: Iterator[Entry]
    handle: int | None
    relative: Relative
    source: bytes

    def close(self) -> None:
        """Give the handle back."""
        if self.handle is not None:
            os.close(self.handle)


class _Planner:
    def __init__(
        self,
        store: Store,
        existing: Existing,
        control: Control,
        extent: Extent = Extent.ALL,
        selector: Selector | None = None,
        own: OwnPlaces = NOTHING_OWN,
    ) -> None:
        self.steps = Steps()
        self._own = own
        self._store, self._existing, self._control = store, existing, control
        self._extent, self._selector = extent, selector
        self._covered: list[bytes] = []

    def block(self, wish: Wish, entry: Entry, target: Path, relative: Relative, why: str) -> None:
        """A wish that cannot be fulfilled."""
        self._wish, self._target = wish, target
        self._step(Action.BLOCKED, relative, entry, wish.path, why)

    def wish(self, wish: Wish, entry: Entry, target: Path, relative: Relative) -> None:
        """Plan one wish: its parents are made when they are missing, and must not be links."""
        self._wish, self._target = wish, target
        self._covered = [root.name for root in self._store.roots(wish.snapshot.record)]
        handle: int | None = None
        try:
            with contextlib.suppress(FileNotFoundError):
                handle, _ = open_way(target)
            for name in relative[:-1]:
                if handle is None:
                    break
                outer, handle = handle, None
                try:
                    with contextlib.suppress(FileNotFoundError):
                        handle = open_folder(name, outer)
                finally:
                    os.close(outer)
        except OSError as error:
            why = tr("A folder on the way to it is a link or a file now ({strerror})").format(
                strerror=os.strerror(error.errno or 0)
            )
            self._step(Action.BLOCKED, relative, entry, wish.path, why)
            return
        except PlaceError as error:
            self._step(Action.BLOCKED, relative, entry, wish.path, error.what)
            return
        try:
            if relative:
                self._plan(entry, handle, relative, wish.path)
            else:
                self._step(Action.IDENTICAL if handle is not None else Action.CREATE, (), entry, wish.path)
                own = None if handle is None else os.dup(handle)
                self._contents(self._level(entry, own, (), wish.path))
        finally:
            if handle is not None:
                os.close(handle)

    def _step(self, action: Action, relative: Relative, entry: Entry, source: bytes, note: str = "") -> None:
        self._control.checkpoint()
        self.steps.append(Step(action, self._target, relative, entry, source, self._wish.snapshot, note))
        if len(self.steps) % 256 == 0:
            self._control.report(Progress(tr("Planning"), len(self.steps), current=os.fsdecode(source)))

    def _plan(self, entry: Entry, folder: int | None, relative: Relative, source: bytes) -> None:
        """Plan an entry that goes into an open folder (None: a folder that is not there yet), and everything
        below it."""
        below = self._item(entry, folder, relative, source)
        if below is not None:
            self._contents(below)

    def _contents(self, top: _Level) -> None:
        """Plan everything below a folder."""
        waiting = [top]
        try:
            while waiting:
                level = waiting[-1]
                child = next(level.listing, None)
                if child is None:
                    waiting.pop().close()
                    continue
                below = self._item(
                    child,
                    level.handle,
                    (*level.relative, child.name),
                    level.source.rstrip(b"/") + b"/" + child.name,
                )
                if below is not None:
                    check_depth(len(waiting))
                    waiting.append(below)
        finally:
            for level in waiting:
                level.close()

    def _item(self, entry: Entry, folder: int | None, relative: Relative, source: bytes) -> _Level | None:
        """Plan an entry alone. What is below it is to be planned where something is given back."""
        if entry.kind is Kind.LEFT_OUT and entry.extra.reason in NO_GAPS:
            return None
        if entry.kind is Kind.LEFT_OUT:
            self._step(
                Action.BLOCKED,
                relative,
                entry,
                source,
                tr("It could not be read when the snapshot was taken ({detail})").format(
                    detail=entry.extra.detail
                ),
            )
            return None
        name = os.fsdecode(relative[-1])
        info = _look(name, folder)
        if info is not None and self._own.has(info):
            self._step(
                Action.SKIP, relative, entry, source, tr("This program's own records stay as they are")
            )
            return None
        if (
            entry.kind is Kind.FOLDER
            and info is not None
            and stat.S_ISDIR(info.st_mode)
            and folder is not None
        ):
            self._step(Action.IDENTICAL, relative, entry, source)
            return self._level(entry, open_folder(name, folder), relative, source)
        if info is None:
            if self._extent is Extent.CHANGED:
                return None
            self._step(Action.CREATE, relative, entry, source)
        elif folder is not None and is_identical(self._store, entry, name, folder, info):
            self._step(Action.IDENTICAL, relative, entry, source)
        elif self._existing is Existing.SKIP or self._extent is Extent.MISSING:
            self._step(Action.SKIP, relative, entry, source)
            return None
        elif self._existing is Existing.KEEP_BOTH:
            beside, done = self._name_beside(entry, relative[-1], folder)
            relative = (*relative[:-1], beside)
            action = Action.IDENTICAL if done else Action.CREATE
            self._step(action, relative, entry, source, tr("What is there now is kept beside it"))
        else:
            self._step(Action.REPLACE, relative, entry, source)
        return self._level(entry, None, relative, source) if entry.kind is Kind.FOLDER else None

    def _level(self, entry: Entry, handle: int | None, relative: Relative, source: bytes) -> _Level:
        listing, damage = readable_children(self._store, entry)
        for error in damage:
            self._step(
                Action.BLOCKED,
                relative,
                entry,
                source,
                tr("Its listing, or a part of it, is lost: {what}").format(what=error.what),
            )
        if self._extent is Extent.EXACTLY and handle is not None and not damage:
            self._strange(listing, handle, relative, source)
        return _Level(iter(listing), handle, relative, source)

    def _strange(self, listing: list[Entry], handle: int, relative: Relative, source: bytes) -> None:
        """What is in an open folder now and was not then is set aside, unless the rules leave it out."""
        known = {entry.name for entry in listing}
        found = [one for one in scan(handle)[0] if one.name not in known and not is_set_aside(one.name)]
        state = state_of(self._selector, self._covered, source)
        if self._selector is not None and state is not None and found:
            found, _, inside = self._selector.keep(found, (), handle, state, os.fstat(handle).st_dev)
            found = [one for one in found if one.name not in inside or not inside[one.name].out]
        for one in found:
            kind = one.kind
            if kind is None or self._own.has(one.info) or self._own.is_above(one.info):
                continue
            entry = Entry(one.name, kind, Stat(size=one.info.st_size if kind is Kind.FILE else 0))
            where = source.rstrip(b"/") + b"/" + one.name
            self._step(
                Action.ASIDE, (*relative, one.name), entry, where, tr("It was not there at that moment")
            )

    def _name_beside(self, entry: Entry, name: bytes, folder: int | None) -> tuple[bytes, bool]:
        """A free name that says of when it is, like ``plan (Tue 17 Nov 2026 12.00).txt``; or the name that it
        was brought back under before, and that it was."""
        for number in itertools.count(1):
            beside = moment_name(name, self._wish.snapshot.time, number)
            info = _look(os.fsdecode(beside), folder)
            if info is None or folder is None:
                return beside, False
            if entry.kind is not Kind.FOLDER and is_identical(
                self._store, entry, os.fsdecode(beside), folder, info
            ):
                return beside, True
        raise AssertionError("there is always a free name")


def _look(name: str, folder: int | None) -> os.stat_result | None:
    if folder is None:
        return None
    try:
        return os.stat(name, dir_fd=folder, follow_symlinks=False)
    except OSError as error:
        if error.errno in (errno.ENOENT, errno.ENOTDIR):
            return None
        raise
