"""What a forecast says of a disk that fills. ``core.forecast`` makes it."""

from __future__ import annotations

import msgspec


class FullIn(msgspec.Struct, frozen=True):
    """In how many days a disk will be full: earliest, middle and latest day of the 80 % range; None: not
    within five years."""

    low: int | None
    mid: int | None
    high: int | None


class Curve(msgspec.Struct, frozen=True):
    """Bytes added by the end of each coming week: the range and the middle."""

    low: tuple[int, ...]
    mid: tuple[int, ...]
    high: tuple[int, ...]
