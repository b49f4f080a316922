"""Finding the snapshot, and the path, that a person means."""

from __future__ import annotations

import difflib
import itertools
import os
import re
import time
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime, timedelta

from dateutil import parser as dates
from dateutil.relativedelta import relativedelta

from good_tide.core.errors import PersonError
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.records import Snapshot
from good_tide.core.translation import tr
from good_tide.core.words import time_words

_SHORTEST_START = 4
_PERIOD = re.compile(
    r"\d{4}(?P<month>-?\d\d)?(?P<day>-?\d\d)?([T"
    r" ](?P<hour>\d\d)(?::?(?P<minute>\d\d)(?::?(?P<second>\d\d)(?:[.,](?P<fraction>\d+))?)?)?"
    r"(Z|[+-]\d\d(:?\d\d)?)?)?"
)
_DAYS_AGO = {"today": 0, "yesterday": 1, "tomorrow": -1}
_WEEKDAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_PRINTED = re.compile(
    r"(?:(?P<named>today|yesterday|tomorrow)|"
    rf"(?:(?P<weekday>{'|'.join(_WEEKDAYS)}),? )?(?P<number>\d\d?) (?P<month>{'|'.join(_MONTHS)})(?:"
    r" (?P<year>\d{4}))?)?"
    r",? ?(?:(?P<clock>\d\d?:\d\d(?::\d\d)?))?",
    re.IGNORECASE,
)
"""As ``words.time_words`` writes times, or a time of today alone."""
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
        raise PersonError(
            tr("{wanted} is the start of {starts} snapshots").format(wanted=wanted, starts=len(starts)),
            tr("Give more of its characters"),
        )
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
    before = [snapshot for snapshot in snapshots if end is None or snapshot.time < end]
    if not before:
        raise PersonError(
            tr("The first snapshot is younger than {wanted}").format(wanted=wanted),
            tr("See the history for the times there are"),
        )
    return before[-1]


def parse_period(text: str, now: int | None = None) -> tuple[int, int]:
    """Begin and end, in nanoseconds since 1970 UTC, of the year, month, day, hour, minute, second or part of
    a second that a time names, as ``parse_time`` takes it. So a time that was printed to the second names
    what happened in that second.

    Raises:
        PersonError: it is no time.
    """
    text = _as_printed(text, now) or text
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


def _as_printed(text: str, now: int | None) -> str | None:
    """A time as it is printed for people (``words.time_words``) in ISO 8601; None where it is not one."""
    found = _PRINTED.fullmatch(text.strip())
    if found is None or not text.strip():
        return None
    today = datetime.fromtimestamp((time.time_ns() if now is None else now) // 1_000_000_000)
    clock = f"T{found['clock'].rjust(5, '0')}" if found["clock"] else ""
    if not found["number"]:
        ago = _DAYS_AGO[(found["named"] or "today").lower()]
        return f"{today - timedelta(days=ago):%Y-%m-%d}{clock}"
    month = 1 + _MONTHS.index(found["month"].lower())
    day = f"{int(found['year'] or today.year):04}-{month:02}-{int(found['number']):02}"
    try:
        meant = datetime.fromisoformat(day)
    except ValueError:
        return None
    if found["weekday"] and _WEEKDAYS[meant.weekday()] != found["weekday"].lower():
        raise PersonError(
            tr("{day} {meant:%b %Y} is no {capitalize}").format(
                day=meant.day, meant=meant, capitalize=found["weekday"].capitalize()
            ),
            tr("Leave the day away, or name the year"),
        )
    return day + clock


def parse_time(text: str, now: int | None = None) -> Nanoseconds:
    """A time in ISO 8601, which is local without a zone; or as times are printed for people: ``today 10:40``,
    ``yesterday``, ``Tue 3 Nov, 09:00``.

    :param now: what “today” means, nanoseconds since 1970 UTC; None: what the clock says.

    Raises:
        PersonError: it is none.
    """
    text, beyond = (_as_printed(text, now) or text).strip(), 0
    fraction = _LONG_FRACTION.search(text)
    if fraction is not None:  # nanoseconds: datetime knows microseconds
        beyond = int(fraction[2].ljust(3, "0")[:3])
        text = text[: fraction.start()] + fraction[1] + text[fraction.end() :]
    try:
        moment = dates.isoparse(text)
    except (ValueError, OverflowError):
        raise PersonError(
            tr("{text} is not a time").format(text=text),
            tr("Write it like 2026-11-03T14:00, or as times are printed: “today 14:00”, “Tue 3 Nov, 14:00”"),
        ) from None
    if not _FIRST_YEAR <= moment.year <= _LAST_YEAR:
        raise PersonError(
            tr("{text} is a time that no snapshot has").format(text=text),
            tr("Write one from {FIRST_YEAR} to {LAST_YEAR}").format(
                FIRST_YEAR=_FIRST_YEAR, LAST_YEAR=_LAST_YEAR
            ),
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
        tr("The snapshot of {time} is no longer kept").format(time=time_words(time, now))
        if time
        else tr("This snapshot is no longer kept")
    )
    nearest = min(kept, key=lambda one: abs(one - time)) if kept and time else None
    return PersonError(
        what,
        tr("Choose another one")
        + (
            "; " + tr("the nearest is of {nearest}").format(nearest=time_words(nearest, now))
            if nearest is not None
            else ""
        ),
    )


def not_in_snapshot(path: bytes, time: int, known: Iterable[bytes]) -> PersonError:
    """The error for a path that a snapshot does not hold, with the nearest names that it does.

    :param time: when the snapshot was taken.
    """
    near = _near(path, known)
    return PersonError(
        tr("{path!r} is not in the snapshot of {time}").format(
            path=os.fsdecode(path), time=time_words(time, time)
        ),
        (
            tr("Nearest names in it:") + " " + near
            if near
            else tr("See its contents for what there is, and “versions” for when it was there")
        ),
    )


def never_seen(path: bytes, known: Iterable[bytes]) -> PersonError:
    """The error for a path that was never in a snapshot, with the nearest names offered."""
    near = _near(path, known)
    return PersonError(
        tr("{path!r} was never in a snapshot").format(path=os.fsdecode(path)),
        tr("Nearest names:") + " " + near if near else tr("See the contents of a snapshot for what there is"),
    )


def _near(path: bytes, known: Iterable[bytes]) -> str:
    names = [os.fsdecode(name) for name in known]
    return ", ".join(map(repr, difflib.get_close_matches(os.fsdecode(path), names, n=3, cutoff=0.5)))
