"""Finding the snapshot, and the path, that a person means."""

from __future__ import annotations

import difflib
import itertools
import os
import re
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime

from dateutil import parser as dates
from dateutil.relativedelta import relativedelta

from good_tide.core.errors import PersonError
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.records import Snapshot
from good_tide.core.words import time_words

_SHORTEST_START = 4
_PERIOD = re.compile(
    r"\d{4}(?P<month>-?\d\d)?(?P<day>-?\d\d)?([T"
    r" ](?P<hour>\d\d)(?::?(?P<minute>\d\d)(?::?(?P<second>\d\d)(?:[.,](?P<fraction>\d+))?)?)?"
    r"(Z|[+-]\d\d(:?\d\d)?)?)?"
)
_LONG_FRACTION = re.compile(r"([.,]\d{6})(\d+)")


def by_start(snapshots: Sequence[Snapshot], wanted: str) -> Snapshot | None:
    """The snapshot whose id begins so; None if none does, or it is too short for one.

    Raises:
        PersonError: several do.
    """
    if len(wanted) < _SHORTEST_START:
        return None
    starts = [snapshot for snapshot in snapshots if snapshot.id.startswith(wanted.lower())]
    if len(starts) > 1:
        raise PersonError(f"{wanted} is the start of {len(starts)} snapshots", "Give more of its characters")
    return starts[0] if starts else None


_SHORT = 12
_FIRST_YEAR, _LAST_YEAR = 1970, 2200


def short_length(names: Iterable[str]) -> int:
    """How many characters of snapshots' names tell each from all others; at least twelve."""
    ordered = sorted(set(names))
    length = _SHORT
    for name, following in itertools.pairwise(ordered):
        while name[:length] == following[:length]:
            length += 1
    return length


def last_in(snapshots: Sequence[Snapshot], wanted: str, end: int | None) -> Snapshot:
    """The last snapshot before ``end``, nanoseconds since 1970 UTC; the newest for None.

    :param snapshots: of one history, in order of time; at least one.

    Raises:
        PersonError: all are younger.
    """
    before = [snapshot for snapshot in snapshots if end is None or snapshot.record.time < end]
    if not before:
        raise PersonError(
            f"The first snapshot is younger than {wanted}", "See the history for the times there are"
        )
    return before[-1]


def parse_period(text: str) -> tuple[int, int]:
    """Begin and end, in nanoseconds since 1970 UTC, of the year, month, day, hour, minute, second or part of
    a second that a time in ISO 8601 names; without a zone it is local. So a time that was printed to the
    second names what happened in that second.

    Raises:
        PersonError: it is no time.
    """
    begin = parse_time(text)
    parts = _PERIOD.fullmatch(text.strip())
    if parts is None:
        return begin, begin + 1
    if parts["fraction"]:
        return begin, begin + 10 ** max(0, 9 - len(parts["fraction"]))
    for unit, seconds in (("second", 1), ("minute", 60), ("hour", 3600)):
        if parts[unit]:
            return begin, begin + seconds * 1_000_000_000
    local = datetime.fromtimestamp(begin // 1_000_000_000)
    step = (
        relativedelta(days=1)
        if parts["day"]
        else relativedelta(months=1)
        if parts["month"]
        else relativedelta(years=1)
    )
    return begin, int((local + step).timestamp()) * 1_000_000_000


def parse_time(text: str) -> Nanoseconds:
    """A time in ISO 8601; without a zone it is local time.

    Raises:
        PersonError: it is none.
    """
    text, beyond = text.strip(), 0
    fraction = _LONG_FRACTION.search(text)
    if fraction is not None:  # nanoseconds: datetime knows microseconds
        beyond = int(fraction[2].ljust(3, "0")[:3])
        text = text[: fraction.start()] + fraction[1] + text[fraction.end() :]
    try:
        moment = dates.isoparse(text)
    except (ValueError, OverflowError):
        raise PersonError(
            f"{text} is not a time", "Write it like 2026-11-03T14:00 or 2026-11-03T14:00:00+01:00"
        ) from None
    if not _FIRST_YEAR <= moment.year <= _LAST_YEAR:
        raise PersonError(
            f"{text} is a time that no snapshot has", f"Write one from {_FIRST_YEAR} to {_LAST_YEAR}"
        )
    if moment.tzinfo is None:
        moment = moment.astimezone()
    since = moment.astimezone(UTC) - datetime(1970, 1, 1, tzinfo=UTC)
    return Nanoseconds(
        (since.days * 86400 + since.seconds) * 1_000_000_000 + since.microseconds * 1000 + beyond
    )


def no_longer_kept(time: int, kept: Sequence[int], now: int) -> PersonError:
    """The error for a snapshot that was chosen and is not there any more: it was released, or written anew
    without something.

    :param time: when it was taken; 0: not known.
    :param kept: when those that are there were.
    """
    what = (
        f"The snapshot of {time_words(time, now)} is no longer kept"
        if time
        else "This snapshot is no longer kept"
    )
    nearest = min(kept, key=lambda one: abs(one - time)) if kept and time else None
    return PersonError(
        what,
        "Choose another one"
        + (f"; the nearest is of {time_words(nearest, now)}" if nearest is not None else ""),
    )


def not_in_snapshot(path: bytes, time: int, known: Iterable[bytes]) -> PersonError:
    """The error for a path that a snapshot does not hold, with the nearest names that it does.

    :param time: when the snapshot was taken.
    """
    near = _near(path, known)
    return PersonError(
        f"{os.fsdecode(path)!r} is not in the snapshot of {time_words(time, time)}",
        (
            "Nearest names in it: " + near
            if near
            else "See its contents for what there is, and “versions” for when it was there"
        ),
    )


def never_seen(path: bytes, known: Iterable[bytes]) -> PersonError:
    """The error for a path that was never in a snapshot, with the nearest names offered."""
    near = _near(path, known)
    return PersonError(
        f"{os.fsdecode(path)!r} was never in a snapshot",
        "Nearest names: " + near if near else "See the contents of a snapshot for what there is",
    )


def _near(path: bytes, known: Iterable[bytes]) -> str:
    names = [os.fsdecode(name) for name in known]
    return ", ".join(map(repr, difflib.get_close_matches(os.fsdecode(path), names, n=3, cutoff=0.5)))
