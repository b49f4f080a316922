"""Stand-ins for what a desktop session has: surroundings that are set by hand, notices that are kept, a
machine that never sleeps."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import msgspec

from good_tide.core.planning import Conditions, Then
from good_tide.system.bus import Bus
from good_tide.system.notices import Urgency
from good_tide.system.power import Power

_NO_BUS = "unix:path=/nonexistent/good-tide-stand-in"


class StandInSurroundings:
    """Surroundings as they are set."""

    def __init__(self) -> None:
        self.now, self.moved = Conditions(), 0.0

    def conditions(self) -> Conditions:
        return self.now

    def traffic(self, folder: Path) -> Callable[[], float]:
        return lambda: self.moved


class Told(msgspec.Struct, frozen=True):
    """A notice that was shown."""

    title: str
    words: str
    urgency: Urgency
    action: str
    act: Callable[[], None] | None


class StandInNotices:
    """Keeps what people were told."""

    def __init__(self) -> None:
        self.told: list[Told] = []

    def tell(
        self,
        title: str,
        words: str,
        urgency: Urgency = "normal",
        action: str = "",
        act: Callable[[], None] | None = None,
    ) -> bool:
        self.told.append(Told(title, words, urgency, action, act))
        return True


class StandInPower(Power):
    """Writes down what the machine was told to do."""

    def __init__(self) -> None:
        super().__init__(Bus("system", _NO_BUS))
        self.asked: list[Then] = []

    def end_of_day(self, then: Then) -> None:
        self.asked.append(then)
