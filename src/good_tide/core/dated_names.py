"""Dates in the names of folders and archives, as people write them who keep copies."""

from __future__ import annotations

import re
from datetime import datetime

from good_tide.core.clock import SECOND
from good_tide.core.identifiers import Nanoseconds

_YEAR, _MONTH, _DAY = r"(?P<year>(?:19|20)\d\d)", r"(?P<month>0[1-9]|1[0-2])", r"(?P<day>0[1-9]|[12]\d|3[01])"
_CLOCK = (
    r"(?:(?:[T ,_-]|, | at )+(?P<hour>[01]\d|2[0-3])(?P<between>[-:._h]?)(?P<minute>[0-5]\d)"
    r"(?:(?P=between)(?P<second>[0-5]\d))?(?!\d))?"
)
_FORMS = (
    re.compile(rf"(?<!\d){_YEAR}(?P<sep>[-._]){_MONTH}(?P=sep){_DAY}(?!\d){_CLOCK}"),
    re.compile(rf"(?<!\d){_YEAR}{_MONTH}{_DAY}(?!\d){_CLOCK}"),
    re.compile(rf"(?<!\d){_DAY}\.{_MONTH}\.{_YEAR}(?!\d){_CLOCK}"),
)
"""Year, month and day with a sign between them, or without; or day, month and year with full stops. Two
numbers and a year with other signs are read as day and month in one country and as month and day in another:
those are no dates."""
_NOON = 12


def moment_in(name: str) -> Nanoseconds | None:
    """The moment that a name says, nanoseconds since 1970 UTC, in the local time of this machine; noon where
    it has no time of day. None: no date, or more than one."""
    found = [match for form in _FORMS for match in form.finditer(name)]
    if len(found) != 1:
        return None
    said = found[0].groupdict()
    year, month, day, minute, second = (
        int(said[part] or 0) for part in ("year", "month", "day", "minute", "second")
    )
    try:
        when = datetime(year, month, day, int(said["hour"] or _NOON), minute, second)
        return Nanoseconds(int(when.timestamp()) * SECOND)
    except (ValueError, OverflowError):  # a 31st of June
        return None
