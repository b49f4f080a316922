"""No more bytes move than somebody allows, in the hours in which that holds."""

from __future__ import annotations

import asyncio
import time
import unittest

from good_tide.core.settings import LineLimit
from good_tide.servers.server import Progress

_AT_ONCE = 10.0
"""Seconds in which, on a machine that is busy too, all is done that does not wait; with the limits below it
would take a minute at least."""


class PaceTest(unittest.TestCase):
    def setUp(self) -> None:
        self.signs = 0

    def sign(self) -> None:
        """Something moves, or waits because no more may."""
        self.signs += 1

    def seconds(self, progress: Progress, sent: int = 0, received: int = 0, parts: int = 4) -> float:
        """How long some parts of so many bytes take."""

        async def move() -> None:
            await asyncio.gather(*(progress.pace(sent, received) for _ in range(parts)))

        began = time.monotonic()
        asyncio.run(move())
        return time.monotonic() - began

    def test_each_direction_has_a_limit_of_its_own(self) -> None:
        progress = Progress(self.sign, LineLimit(up_bytes=1_000_000))
        self.assertTrue(progress.limited)
        self.assertGreater(self.seconds(progress, sent=100_000), 0.28)
        self.assertLess(self.seconds(progress, received=100_000_000), _AT_ONCE)
        self.assertGreater(self.signs, 0, "who waits because of a limit is not taken for dead")

    def test_without_one_nothing_waits(self) -> None:
        progress = Progress(self.sign)
        self.assertFalse(progress.limited)
        self.assertLess(self.seconds(progress, 1 << 40, 1 << 40), _AT_ONCE)

    def test_it_holds_in_its_hours_only(self) -> None:
        today = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")[time.localtime().tm_wday]
        others = ",".join(day for day in ("mon", "tue", "wed", "thu", "fri", "sat", "sun") if day != today)
        away = "00:00-00:01" if time.localtime().tm_hour else "23:00-24:00"
        closed = LineLimit(up_bytes=1, hours=(f"{today} {away}",))
        self.assertLess(self.seconds(Progress(self.sign, closed), sent=100), _AT_ONCE)
        always = LineLimit(up_bytes=1000, hours=(f"{today} 00:00-24:00", f"{others} 00:00-24:00"))
        self.assertGreater(self.seconds(Progress(self.sign, always), sent=100), 0.28)

    def test_another_limit_is_heeded_by_who_waits(self) -> None:
        progress = Progress(self.sign, LineLimit(up_bytes=1))

        async def change() -> None:
            waiting = asyncio.ensure_future(progress.pace(sent=1000))
            await asyncio.sleep(0.05)
            progress.limit_to(LineLimit())
            await waiting

        began = time.monotonic()
        asyncio.run(change())
        self.assertLess(time.monotonic() - began, 3)
