"""Finding the snapshot, and the path, that a person means."""

from __future__ import annotations

import difflib
import os
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime

from dateutil import parser as dates

from good_tide.core.errors import PersonError
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.records import Snapshot
from good_tide.core.words import time_words

_SHORTEST_START = 4


def choose_snapshot(snapshots: Sequence[Snapshot], wanted: str) -> Snapshot:
    """The snapshot named by an id, an unambiguous start of one, ``latest``, or a time (the last at or before it).

    :param snapshots: in order of time.

    Raises:
        PersonError: none or several fit.
    """
    if not snapshots:
        raise PersonError("There is no snapshot in this store yet", "Take one first")
    if wanted == "latest":
        return snapshots[-1]
    starts = [snapshot for snapshot in snapshots if snapshot.name.startswith(wanted.lower())]
    if len(wanted) >= _SHORTEST_START and starts:
        if len(starts) > 1:
            raise PersonError(f"{wanted} is the start of {len(starts)} snapshots", "Give more of its characters")
        return starts[0]
    try:
        moment = parse_time(wanted)
    except PersonError:
        raise PersonError(
            f"No snapshot is called {wanted}", 'Give the start of its name (at least four characters), a time, or "latest"'
        ) from None
    before = [snapshot for snapshot in snapshots if snapshot.record.time <= moment]
    if not before:
        raise PersonError(f"The first snapshot is younger than {wanted}", "See the history for the times there are")
    return before[-1]


def parse_time(text: str) -> Nanoseconds:
    """A time in ISO 8601; without a zone it is local time.

    Raises:
        PersonError: it is none.
    """
    try:
        moment = dates.isoparse(text)
    except (ValueError, OverflowError):
        raise PersonError(f"{text} is not a time", "Write it like 2026-11-03T14:00 or 2026-11-03T14:00:00+01:00") from None
    if moment.tzinfo is None:
        moment = moment.astimezone()
    since = moment.astimezone(UTC) - datetime(1970, 1, 1, tzinfo=UTC)
    return Nanoseconds((since.days * 86400 + since.seconds) * 1_000_000_000 + since.microseconds * 1000)


def no_longer_kept(time: int, kept: Sequence[int], now: int) -> PersonError:
    """The error for a snapshot that was chosen and is not there any more: it was released, or written anew without something.

    :param time: when it was taken; 0: not known. :param kept: when those that are there were.
    """
    what = f"The snapshot of {time_words(time, now)} is no longer kept" if time else "This snapshot is no longer kept"
    nearest = min(kept, key=lambda one: abs(one - time)) if kept and time else None
    return PersonError(what, "Choose another one" + (f"; the nearest is of {time_words(nearest, now)}" if nearest is not None else ""))


def never_seen(path: bytes, known: Iterable[bytes]) -> PersonError:
    """The error for a path that was never in a snapshot, with the nearest names offered."""
    shown = os.fsdecode(path)
    names = [os.fsdecode(name) for name in known]
    near = difflib.get_close_matches(shown, names, n=3, cutoff=0.5)
    return PersonError(
        f"{shown!r} was never in a snapshot",
        "Nearest names: " + ", ".join(map(repr, near)) if near else "See the contents of a snapshot for what there is",
    )
