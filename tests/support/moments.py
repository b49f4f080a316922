"""Local moments, as numbers."""

from __future__ import annotations

from datetime import datetime
from zoneinfo import ZoneInfo

from good_tide.core.clock import SECOND

ZONE = "Europe/Berlin"


BERLIN = ZoneInfo(ZONE)


MINUTE, HOUR, DAY = 60 * SECOND, 3600 * SECOND, 86400 * SECOND


def at(text: str, zone: ZoneInfo = BERLIN) -> int:
    return int(datetime.fromisoformat(text).replace(tzinfo=zone).timestamp()) * SECOND
