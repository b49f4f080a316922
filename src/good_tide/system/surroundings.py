"""What the machine is doing besides: battery (UPower), metered network (NetworkManager), presentations
(inhibitors), load.

The interfaces are those that org.freedesktop.UPower, org.freedesktop.NetworkManager, org.freedesktop.login1
and org.freedesktop.PowerManagement.Inhibit publish. What a service does not tell does not hinder.
"""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from good_tide.core.planning import Conditions
from good_tide.system.bus import Bus, BusError
from good_tide.system.disk_traffic import DiskTraffic

_HOLDS_SECONDS = 20.0
_METERED = frozenset((1, 3))
"""``NMMetered``: yes, and guessed yes."""
_UPOWER, _UPOWER_PATH = "org.freedesktop.UPower", "/org/freedesktop/UPower"
_NETWORK, _NETWORK_PATH = "org.freedesktop.NetworkManager", "/org/freedesktop/NetworkManager"
_LOGIN, _LOGIN_PATH = "org.freedesktop.login1", "/org/freedesktop/login1"
_SCREEN, _SCREEN_PATH = "org.freedesktop.PowerManagement.Inhibit", "/org/freedesktop/PowerManagement/Inhibit"


class Surroundings(Protocol):
    """Tells what the machine is doing besides."""

    def conditions(self) -> Conditions:
        """What it is doing now."""
        ...

    def traffic(self, folder: Path) -> Callable[[], float]:
        """Watch the disk of a folder: answers, each time it is called, how many bytes a second other programs
        moved on it since the last time."""
        ...


class SystemSurroundings:
    """Asks the system's services; the answer holds for some seconds."""

    def __init__(self, system: Bus, session: Bus) -> None:
        self._system, self._session = system, session
        self._known: tuple[float, Conditions] | None = None

    def conditions(self) -> Conditions:
        now = time.monotonic()
        if self._known is None or now - self._known[0] > _HOLDS_SECONDS:
            load = os.getloadavg()[0] / (os.cpu_count() or 1)
            self._known = now, Conditions(self._battery(), self._metered(), self._presenting(), load)
        return self._known[1]

    def traffic(self, folder: Path) -> Callable[[], float]:
        return DiskTraffic(folder).others

    def _battery(self) -> float | None:
        with contextlib.suppress(BusError):
            if self._system.property(_UPOWER, _UPOWER_PATH, _UPOWER, "OnBattery"):
                device = f"{_UPOWER_PATH}/devices/DisplayDevice"
                return float(self._system.property(_UPOWER, device, f"{_UPOWER}.Device", "Percentage"))
        return None

    def _metered(self) -> bool:
        with contextlib.suppress(BusError):
            return self._system.property(_NETWORK, _NETWORK_PATH, _NETWORK, "Metered") in _METERED
        return False

    def _presenting(self) -> bool:
        """Whether some program keeps the screen from going dark."""
        with contextlib.suppress(BusError):
            listed = self._system.call(_LOGIN, _LOGIN_PATH, f"{_LOGIN}.Manager", "ListInhibitors")[0]
            if any("idle" in what.split(":") and mode == "block" for what, _, _, mode, *_ in listed):
                return True
        with contextlib.suppress(BusError):
            return bool(self._session.call(_SCREEN, _SCREEN_PATH, _SCREEN, "HasInhibit")[0])
        return False
