"""Sizes, times and counts in words, the same everywhere."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Sequence
from datetime import datetime, timedelta

from good_tide.core.clock import SECOND
from good_tide.core.translation import locale_of_words, several, tr

_EARLIEST, _LATEST = -62_135_510_400, 253_402_128_000
"""Seconds since 1970 of the second day of the year 1, and of the last but one of 9999: whatever the zone,
these are in the calendar."""
_UNITS = ("B", "KiB", "MiB", "GiB", "TiB", "PiB")


def number_words(number: float, decimals: int = 0, thousands: bool = True) -> str:
    """A number, with marks between thousands by choice: ``1,204``."""
    where = locale_of_words()
    if not where:
        return f"{number:,.{decimals}f}" if thousands else f"{number:.{decimals}f}"
    from babel.numbers import format_decimal  # only where a language has it otherwise than English

    pattern = ("#,##0" if thousands else "0") + (f".{'0' * decimals}" if decimals else "")
    return format_decimal(number, pattern, locale=where)


def size_words(size: float) -> str:
    """Bytes in binary steps with one decimal: ``14.2 KiB``."""
    step = 0
    while abs(size) >= 1024 and step < len(_UNITS) - 1:
        size, step = size / 1024, step + 1
    return f"{number_words(size, 1 if step else 0, False)} {_UNITS[step]}"


def _date(when: datetime, english: str, skeleton: str) -> str:
    """A date as the language writes it.

    :param english: as ``strftime`` has it, for English. :param skeleton: which parts it has, as Unicode
        Technical Standard 35 names them, for the others.
    """
    where = locale_of_words()
    if not where:
        return when.strftime(english)
    from babel.dates import format_skeleton  # only where a language has it otherwise than English

    return format_skeleton(skeleton, when, locale=where)


def local(moment: int) -> datetime:
    """A stored time (nanoseconds since 1970 UTC) as local time. One that no calendar has, from a store or
    settings that are damaged, as the nearest that it has."""
    return datetime.fromtimestamp(min(max(moment // SECOND, _EARLIEST), _LATEST)).astimezone()


def iso(moment: int, precise: bool = False) -> str:
    """A stored time in ISO 8601 with the local zone, to the second or to the nanosecond."""
    text = local(moment).isoformat(timespec="seconds")
    return f"{text[:19]}.{moment % SECOND:09d}{text[19:]}" if precise else text


def iso_all(moments: Sequence[int]) -> list[str]:
    """Times in ISO 8601, each as precise as it takes to name only itself among them."""
    seconds = Counter(moment // SECOND for moment in set(moments))
    return [iso(moment, seconds[moment // SECOND] > 1) for moment in moments]


def exact_words(moment: int) -> str:
    """A stored time in full, for tool tips."""
    where = locale_of_words()
    if not where:
        return local(moment).strftime("%A %d %B %Y, %H:%M:%S %Z")
    from babel.dates import format_datetime  # only where a language has it otherwise than English

    return format_datetime(local(moment), "full", locale=where)


def time_words(moment: int, now: int, seconds: bool = False) -> str:
    """A stored time as people say it: ``today 14:00``, ``Tue 3 Nov, 09:00``, with the year if it is
    another."""
    when, today = local(moment), local(now)
    clock = f"{when:%H:%M:%S}" if seconds else f"{when:%H:%M}"
    if when.date() == today.date():
        return tr("today {clock}").format(clock=clock)
    if when.date() == today.date() - timedelta(days=1):
        return tr("yesterday {clock}").format(clock=clock)
    if when.date() == today.date() + timedelta(days=1):
        return tr("tomorrow {clock}").format(clock=clock)
    same_year = when.year == today.year
    day = _date(when, "%a %-d %b" if same_year else "%a %-d %b %Y", "MMMEd" if same_year else "yMMMEd")
    return tr("{day}, {clock}").format(day=day, clock=clock)


def moment_name(name: bytes, moment: int, number: int = 1) -> bytes:
    """A file's name with a stored time in it: ``plan (Tue 17 Nov 2026 12.00).txt``; with a number, where it
    is not the first. No longer than file systems take (255 bytes)."""
    stem, ending = os.path.splitext(os.fsdecode(name))
    when = local(moment)
    words = f" ({when:%a} {when.day} {when:%b %Y %H.%M})" + (f" {number}" if number > 1 else "")
    while len(os.fsencode(stem + words + ending)) > 255 and stem:
        stem = stem[:-1]
    return os.fsencode(stem + words + ending)[:255]


def tomorrow_morning(now: int) -> int:
    """Six in the morning of the next day, in nanoseconds since 1970 UTC: until when people mean “until
    tomorrow”."""
    morning = (local(now) + timedelta(days=1)).replace(hour=6, minute=0, second=0, microsecond=0)
    return int(morning.timestamp()) * SECOND


def duration_words(seconds: float) -> str:
    """A length of time in its two largest units: ``2 h 5 min``."""
    whole = int(seconds)
    if whole < 60:
        return tr("{seconds} s").format(seconds=whole)
    if whole < 600:
        return tr("{minutes} min {seconds} s").format(minutes=whole // 60, seconds=whole % 60)
    if whole < 3600:
        return tr("{minutes} min").format(minutes=whole // 60)
    if whole < 86400:
        return tr("{hours} h {minutes} min").format(hours=whole // 3600, minutes=whole % 3600 // 60)
    return count_words(whole // 86400, "day")


def count_words(count: int, thing: str, things: str = "") -> str:
    """``1 file``, ``1,204 files``, in the plural form that the language has for the count. Each thing that is
    counted is two texts of the catalogs: ``{count} file`` and ``{count} files``."""
    one, many = f"{{count}} {thing}", f"{{count}} {things or thing + 's'}"
    return several(one, many, count).format(count=number_words(count))


def listed(items: Sequence[str]) -> str:
    """``a``, ``a and b``, ``a, b and c``."""
    if len(items) < 2:
        return "".join(items)
    return tr("{items} and {last}").format(items=", ".join(items[:-1]), last=items[-1])


def printable(path: bytes) -> str:
    """A name or path as text: bytes that are no UTF-8, and control characters, as backslash escapes."""
    return harmless(path.decode("utf-8", "backslashreplace"))


def harmless(text: str, lines: bool = False) -> str:
    """Text that somebody else may have made up, for a terminal: control characters as backslash escapes, but
    for line ends by choice."""
    if text.isprintable():
        return text
    return "".join(
        one
        if one.isprintable() or (lines and one == "\n")
        else one.encode("unicode_escape", "surrogatepass").decode()
        for one in text
    )


def from_home(path: bytes, home: str) -> str:
    """A path as text, with the home folder as ``~``."""
    start = os.fsencode(home)
    return printable(
        b"~" + path[len(start) :] if home and (path == start or path.startswith(start + b"/")) else path
    )


def is_text(path: str) -> bool:
    """Whether a path, as the operating system gave it, is text that can be written down as UTF-8."""
    return not any("\udc80" <= character <= "\udcff" for character in path)
