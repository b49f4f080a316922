"""Sleep and shutdown, over org.freedesktop.login1: held off for moments, or asked for."""

from __future__ import annotations

import contextlib
import os
import threading

from good_tide.core.errors import PlaceError
from good_tide.core.planning import Then
from good_tide.core.translation import tr
from good_tide.system.bus import Bus, BusError

LONGEST_HOLD = 20.0
"""Seconds for which sleep and shutdown are ever held off. logind allows 5 by itself (InhibitDelayMaxSec)."""
_LOGIN, _PATH = "org.freedesktop.login1", "/org/freedesktop/login1"
_MEMBERS = {"suspend": "Suspend", "power-off": "PowerOff"}


class Power:
    """Sleep and shutdown of this machine."""

    def __init__(self, system: Bus) -> None:
        self._system = system

    def hold_off(self, why: str, seconds: float = LONGEST_HOLD) -> Hold:
        """Hold sleep and shutdown off until the hold is let go, at most so long. Where logind is not there,
        nothing is held off."""
        handle = None
        with contextlib.suppress(BusError):
            body = ["sleep:shutdown", "Good Tide", why, "delay"]
            handle = self._system.call(_LOGIN, _PATH, f"{_LOGIN}.Manager", "Inhibit", "ssss", body)[0]
        return Hold(handle, seconds)

    def end_of_day(self, then: Then) -> None:
        """Suspend the machine or power it off.

        Raises:
            PlaceError: logind is not there, or refused.
        """
        try:
            self._system.call(
                _LOGIN, _PATH, f"{_LOGIN}.Manager", _MEMBERS[then], "b", [False], seconds=20.0, patient=True
            )
        except BusError as error:
            raise PlaceError(
                tr("The machine could not {replace} ({what})").format(
                    replace=then.replace("-", " "), what=error.what
                ),
                tr("Do it by hand; everything was run"),
            ) from error


class Hold:
    """Sleep and shutdown held off, until ``let_go`` or the time is over."""

    def __init__(self, handle: int | None, seconds: float) -> None:
        self._handle, self._lock = handle, threading.Lock()
        self._timer = threading.Timer(seconds, self.let_go)
        self._timer.daemon = True
        if handle is not None:
            self._timer.start()

    @property
    def held(self) -> bool:
        """Whether it still holds."""
        return self._handle is not None

    def let_go(self) -> None:
        """Let the machine sleep or shut down."""
        with self._lock:
            if self._handle is not None:
                os.close(self._handle)
                self._handle = None
        self._timer.cancel()
