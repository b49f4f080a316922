"""How fast long work goes, and how long it will still take."""

from __future__ import annotations

import math

_HALF_LIFE = 6.0
"""Seconds after which what was measured counts half."""
_FIRST_WORD = 1.0
"""Seconds of work before anything is said of its speed."""


class Pace:
    """The speed of some work, measured as it goes: half of it what it was lately, half what it was on the
    whole, so that a stretch of large or of small files moves the time left, but does not throw it about.
    """

    def __init__(self) -> None:
        self._began: float | None = None
        self._first = self._last_done = 0
        self._last = self._recent = self._weight = 0.0

    def add(self, seconds: float, done: int) -> None:
        """Take notice that ``done`` bytes, or files, are done at a moment; seconds count from any fixed point
        and never go back."""
        if self._began is None or done < self._last_done:
            self._began, self._first, self._recent, self._weight = seconds, done, 0.0, 0.0
        elif seconds > self._last:
            step = seconds - self._last
            keep = math.exp(-math.log(2) * step / _HALF_LIFE)
            self._recent = keep * self._recent + (1 - keep) * (done - self._last_done) / step
            self._weight = keep * self._weight + (1 - keep)
        self._last, self._last_done = seconds, done

    @property
    def rate(self) -> float | None:
        """Bytes or files a second; None while nothing can be said."""
        if self._began is None or self._last - self._began < _FIRST_WORD or not self._weight:
            return None
        whole = (self._last_done - self._first) / (self._last - self._began)
        return (self._recent / self._weight + whole) / 2

    def left(self, total: int) -> float | None:
        """Seconds until ``total`` is done; None while nothing can be said."""
        rate = self.rate
        if not rate or total <= 0:
            return None
        return max(0.0, total - self._last_done) / rate
