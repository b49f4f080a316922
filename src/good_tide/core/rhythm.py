"""When a job's snapshots are due: recurrence rules, other occasions, and the hours that are allowed.

A rule is written as RFC 5545 has it: a ``DTSTART`` line and an ``RRULE`` line. Rules that repeat by minutes
or hours count elapsed time from their start and never drift; all others count in wall-clock time of their
zone. A wall-clock time that daylight saving leaves out is taken with the offset before the gap, and one that
comes twice means its first coming (RFC 5545, section 3.3.5).
"""

from __future__ import annotations

import functools
import hashlib
import re
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import msgspec
from dateutil.rrule import rrule, rrulestr

from good_tide.core.clock import SECOND
from good_tide.core.errors import PersonError
from good_tide.core.hours import Hours, day_words, days_of, days_text
from good_tide.core.translation import tr
from good_tide.core.words import listed, number_words

SHORTEST_MINUTES = 10
LONGEST_MINUTES = 24 * 60
DAYS = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")
_UNITS = {"m": 1, "min": 1, "minute": 1, "minutes": 1, "h": 60, "hour": 60, "hours": 60}
_START = re.compile(r"DTSTART(?:;TZID=(?P<zone>[^:]+))?:(?P<time>\d{8}T\d{6})(?P<utc>Z?)$")
_ELAPSED = {"MINUTELY": 60, "HOURLY": 3600}
_SHIFTED = {"DAILY": 1, "WEEKLY": 7}
_AROUND_CHANGE = timedelta(hours=4)
"""More than any zone's clock is ever moved at once."""


def every(minutes: int, offset_minutes: int = 0) -> str:
    """The rule “every N minutes”, counted from 1970 UTC and an offset.

    Raises:
        PersonError: oftener than every ten minutes, or more seldom than daily.
    """
    if not SHORTEST_MINUTES <= minutes <= LONGEST_MINUTES:
        raise PersonError(
            tr("A snapshot every {minutes} min is out of range").format(minutes=number_words(minutes)),
            tr("Choose from ten minutes to a day, or times of the day"),
        )
    start = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(minutes=offset_minutes % minutes)
    return f"DTSTART:{start:%Y%m%dT%H%M%S}Z\nRRULE:FREQ=MINUTELY;INTERVAL={minutes}"


def at_times(days: tuple[int, ...], hour: int, minute: int, zone: str) -> str:
    """The rule “on these days at this time”; days count from Monday, 0."""
    names = ",".join(DAYS[day] for day in sorted(set(days)))
    by_day = "" if len(set(days)) == 7 else f";BYDAY={names}"
    frequency = "DAILY" if not by_day else "WEEKLY"
    return f"DTSTART;TZID={zone}:20200106T{hour:02}{minute:02}00\nRRULE:FREQ={frequency}{by_day}"


EVERY_HOUR = every(60)


class Considerate(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """What automatic runs wait for. ``battery_below`` in percent, 0: never; ``load``: wait while the machine
    is busy with other work, but no longer than ``load_at_most_minutes`` after a run was due."""

    battery_below: int = 25
    metered: bool = True
    presenting: bool = True
    load: bool = True
    load_at_most_minutes: int = 120


class Rhythm(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """When a job runs by itself. With no rule and no occasion it runs by hand only.

    :param rules: recurrence rules, each a ``DTSTART`` and an ``RRULE`` line.
    :param on_disk: also when the job's disk came, after ``settle_seconds``; what waits for it in the holding
        area is brought then in any case, unless it runs by hand.
    :param on_change: also when files came to rest: nothing changed for ``quiet_seconds``, at most every
        ``at_most_minutes``. Changes of files above ``large_bytes`` and in ``timed_only`` folders are left to
        the rules.
    :param allowed: hours of the week in which the job may run by itself, such as ``mon-fri 08:00-20:00``;
        empty: at all times.
    :param spread_seconds: runs begin up to so much later, each machine by its own steady share; None: 4
        minutes for shares, else 0.
    """

    rules: tuple[str, ...] = (EVERY_HOUR,)
    on_disk: bool = False
    settle_seconds: int = 60
    on_change: bool = False
    quiet_seconds: int = 20
    at_most_minutes: int = 10
    large_bytes: int = 256 * 1024 * 1024
    timed_only: tuple[str, ...] = ()
    allowed: tuple[str, ...] = ()
    spread_seconds: int | None = None
    considerate: Considerate = Considerate()

    @property
    def by_hand(self) -> bool:
        """Whether nothing makes it run by itself."""
        return not (self.rules or self.on_disk or self.on_change)

    def check(self) -> None:
        """Whether everything in it can be understood.

        Raises:
            PersonError: something cannot.
        """
        for rule in self.rules:
            _parsed(rule)
        Hours.of(self.allowed)
        if self.considerate.battery_below not in range(101):
            raise PersonError(
                tr("{battery_below} percent of battery makes no sense").format(
                    battery_below=self.considerate.battery_below
                ),
                tr("Choose from 0 to 100"),
            )
        if self.considerate.load_at_most_minutes < 0:
            raise PersonError(tr("load_at_most_minutes is below 0"), tr("Choose 0 or more"))
        for name in ("settle_seconds", "quiet_seconds", "at_most_minutes", "spread_seconds"):
            if (getattr(self, name) or 0) < 0:
                raise PersonError(tr("{name} is below 0").format(name=name), tr("Choose 0 or more"))

    def due_times(self, after: int) -> Iterator[int]:
        """Due times after a moment, in order, each once. Times are nanoseconds since 1970 UTC."""
        while (time := self.next_due(after)) is not None:
            yield time
            after = time

    def next_due(self, after: int) -> int | None:
        """The first due time after a moment."""
        found = [time for rule in self.rules if (time := _parsed(rule).after(after)) is not None]
        return min(found, default=None)

    def last_due(self, upto: int) -> int | None:
        """The last due time not after a moment."""
        found = [time for rule in self.rules if (time := _parsed(rule).upto(upto)) is not None]
        return max(found, default=None)

    def starts(self, after: int, spread: int, zone: str) -> Iterator[int]:
        """When runs will begin: due times and their share of the spread, put off to allowed hours, each
        once."""
        hours, last = Hours.of(self.allowed), -1
        for due in self.due_times(after - spread):
            start = hours.next_open(due + spread, zone)
            if start is None:
                return
            if start > last and start > after:
                yield start
                last = start

    def words(self) -> str:
        """The rhythm in words, as a sentence's part."""
        parts = [rule_words(rule) for rule in self.rules]
        parts += [tr("when the disk comes")] if self.on_disk else []
        parts += [tr("when files came to rest")] if self.on_change else []
        if not parts:
            return tr("only by hand")
        hours = f", {Hours.of(self.allowed).words()}" if self.allowed else ""
        return listed(parts) + hours


class _Rule:
    """One recurrence rule, read."""

    def __init__(self, text: str) -> None:
        head, _, tail = text.strip().partition("\n")
        start = _START.match(head.strip())
        if start is not None and not start["zone"] and not start["utc"]:
            raise PersonError(
                tr("The rule {text!r} has no time zone").format(text=text),
                tr("Write DTSTART with TZID=… or with Z at its end, as in RFC 5545"),
            )
        if start is None or not tail.strip().startswith("RRULE:"):
            raise PersonError(
                tr("The rule {text!r} cannot be read").format(text=text),
                tr("It needs a DTSTART and an RRULE line as in RFC 5545"),
            )
        self.start = datetime.strptime(start["time"], "%Y%m%dT%H%M%S")
        try:
            self.zone = ZoneInfo(start["zone"] or "UTC")
            made = rrulestr(tail.strip(), dtstart=self.start)
        except (ZoneInfoNotFoundError, ValueError, OSError) as error:
            raise PersonError(
                tr("The rule {strip} cannot be read ({error})").format(strip=tail.strip(), error=error),
                tr("Write it as RFC 5545 has it"),
            ) from error
        if not isinstance(made, rrule):
            raise PersonError(
                tr("The rule {strip} is a set of rules").format(strip=tail.strip()), tr("Write one rule each")
            )
        self.parts = dict(
            part.split("=", 1)
            for part in tail.strip().removeprefix("RRULE:").upper().split(";")
            if "=" in part
        )
        self.frequency = self.parts.get("FREQ", "")
        self.interval = int(self.parts.get("INTERVAL", "1"))
        self._step = (
            _ELAPSED.get(self.frequency, 0) * self.interval * SECOND
            if set(self.parts) <= {"FREQ", "INTERVAL"}
            else 0
        )
        if self.frequency == "SECONDLY" or 0 < self._step < SHORTEST_MINUTES * 60 * SECOND:
            raise PersonError(
                tr("The rule {strip} comes oftener than every ten minutes").format(strip=tail.strip()),
                tr("Choose ten minutes or more"),
            )
        self._first = self._instant(self.start)
        self._made = made

    def _instant(self, wall: datetime) -> int:
        aware = wall.replace(tzinfo=self.zone, fold=0)
        return int(aware.timestamp()) * SECOND

    def _wall(self, moment: int) -> datetime:
        return datetime.fromtimestamp(moment // SECOND, self.zone).replace(tzinfo=None, fold=0)

    def _near(self, wall: datetime) -> rrule:
        """The rule begun as late as gives the same times around a moment, so that years are not counted
        through."""
        days = _SHIFTED.get(self.frequency)
        if days is None or "COUNT" in self.parts or wall - self.start < timedelta(days=60):
            return self._made
        step = timedelta(days=days * self.interval)
        return self._made.replace(dtstart=self.start + ((wall - self.start) // step - 2) * step)

    def after(self, moment: int) -> int | None:
        if self._step:
            return self._first + max(0, (moment - self._first) // self._step + 1) * self._step
        wall = self._wall(moment) - _AROUND_CHANGE
        made = self._near(wall)
        for found in made.xafter(wall, inc=True):
            time = self._instant(found)
            if time > moment:
                return time
        return None

    def upto(self, moment: int) -> int | None:
        if self._step:
            steps = (moment - self._first) // self._step
            return None if steps < 0 else self._first + steps * self._step
        wall = self._wall(moment) + _AROUND_CHANGE
        made = self._near(self._wall(moment))
        while (found := made.before(wall, inc=True)) is not None:
            time = self._instant(found)
            if time <= moment:
                return time
            wall = found - timedelta(microseconds=1)
        return None


@functools.lru_cache(maxsize=256)
def _parsed(text: str) -> _Rule:
    return _Rule(text)


def spread_share(machine: str, job: str, seconds: int) -> int:
    """This machine's steady share of a spread, in nanoseconds below ``seconds``."""
    if seconds <= 0:
        return 0
    digest = hashlib.blake2b(f"{machine}/{job}".encode(), digest_size=8).digest()
    return int.from_bytes(digest, "big") % (seconds * 1000) * (SECOND // 1000)


def parse_every(text: str) -> int:
    """Minutes, from ``1h``, ``30 min``, ``2 hours``.

    Raises:
        PersonError: it is none, or out of range.
    """
    found = re.fullmatch(r"(\d+)\s*([a-z]+)", text.strip().lower())
    if found is None or found[2] not in _UNITS:
        raise PersonError(
            tr("“{text}” is no interval").format(text=text), tr("Write such as 30 min, 1h or 2 hours")
        )
    minutes = int(found[1]) * _UNITS[found[2]]
    every(minutes)
    return minutes


def parse_at(text: str, zone: str) -> tuple[str, ...]:
    """Rules, from ``weekdays 12:30``, ``daily 09:00,17:00``, ``mon,wed-fri 18:15``.

    Raises:
        PersonError: it cannot be understood.
    """
    days, _, times = text.strip().lower().rpartition(" ")
    found = [re.fullmatch(r"([01]?\d|2[0-3]):([0-5]\d)", time.strip()) for time in times.split(",")]
    if not days or not all(found):
        raise PersonError(
            tr("“{text}” is no day and time").format(text=text),
            tr("Write such as “weekdays 12:30” or “mon,thu 09:00”"),
        )
    chosen = days_of(days)
    return tuple(at_times(chosen, int(one[1]), int(one[2]), zone) for one in found if one is not None)


def rule_words(rule: str) -> str:
    """A rule in words, as a sentence's part; one that the program does not write itself is quoted."""
    read = _parsed(rule)
    if is_every(rule):
        minutes = read.interval * (60 if read.frequency == "HOURLY" else 1)
        if minutes == 60:
            return tr("every hour")
        return (
            tr("every {minutes} hours").format(minutes=minutes // 60)
            if minutes % 60 == 0
            else tr("every {minutes} minutes").format(minutes=minutes)
        )
    if read.frequency in ("DAILY", "WEEKLY") and set(read.parts) <= {"FREQ", "BYDAY"}:
        return tr("{day_words} at {start:%H:%M}").format(day_words=day_words(_days(read)), start=read.start)
    return tr("by the rule {partition}").format(partition=rule.partition("RRULE:")[2])


def at_text(rule: str) -> str:
    """What ``parse_at`` reads a rule from, such as ``weekdays 12:30``; empty for other rules."""
    read = _parsed(rule)
    if read.frequency not in ("DAILY", "WEEKLY") or not set(read.parts) <= {"FREQ", "BYDAY"}:
        return ""
    if "BYDAY" in read.parts and not set(read.parts["BYDAY"].split(",")) <= set(DAYS):
        return ""
    return f"{days_text(_days(read))} {read.start:%H:%M}"


def _days(read: _Rule) -> tuple[int, ...]:
    """The days of the week of a daily or weekly rule."""
    if "BYDAY" in read.parts:
        return tuple(sorted(DAYS.index(name) for name in read.parts["BYDAY"].split(",")))
    return tuple(range(7)) if read.frequency == "DAILY" else (read.start.weekday(),)


def every_minutes_of(rhythm: Rhythm) -> int | None:
    """The minutes of the rhythm's “every” rule, None if it has none."""
    for rule in rhythm.rules:
        if is_every(rule):
            read = _parsed(rule)
            return read.interval * _ELAPSED[read.frequency] // 60
    return None


def is_every(rule: str) -> bool:
    """Whether a rule is one of those that ``every`` makes."""
    read = _parsed(rule)
    return read.frequency in _ELAPSED and set(read.parts) <= {"FREQ", "INTERVAL"}
