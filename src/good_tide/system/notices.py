"""Notifications of the desktop (org.freedesktop.Notifications, specification 1.2), with an action that leads
to a place."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable, Sequence
from typing import Any, Literal, Protocol

from good_tide.system.bus import Bus, BusError

Urgency = Literal["low", "normal", "critical"]
_SERVICE, _PATH = "org.freedesktop.Notifications", "/org/freedesktop/Notifications"
_URGENCIES = {"low": 0, "normal": 1, "critical": 2}


class Notices(Protocol):
    """Tells the person at the screen something."""

    def tell(
        self,
        title: str,
        words: str,
        urgency: Urgency = "normal",
        action: str = "",
        act: Callable[[], None] | None = None,
    ) -> bool:
        """Show a notification; ``act`` is called when its action is chosen. Whether a desktop took it."""
        ...


class DesktopNotices:
    """The notifications of this session."""

    def __init__(self, session: Bus) -> None:
        self._session = session
        self._acts: dict[int, Callable[[], None]] = {}
        self._listens = False

    def tell(
        self,
        title: str,
        words: str,
        urgency: Urgency = "normal",
        action: str = "",
        act: Callable[[], None] | None = None,
    ) -> bool:
        from dbus_fast import Variant  # loads the bus library; only needed when something is told

        hints = {"urgency": Variant("y", _URGENCIES[urgency]), "desktop-entry": Variant("s", "good-tide")}
        actions = ["default", action, "show", action] if action and act is not None else []
        body: list[Any] = ["Good Tide", 0, "good-tide", title, words, actions, hints, -1]
        with contextlib.suppress(BusError):
            if not self._listens:
                self._session.listen(_SERVICE, self._heard)
                self._listens = True
            number = self._session.call(_SERVICE, _PATH, _SERVICE, "Notify", "susssasa{sv}i", body)[0]
            if act is not None:
                self._acts[number] = act
            return True
        return False

    def _heard(self, member: str, body: Sequence[Any]) -> None:
        if member == "ActionInvoked" and body[0] in self._acts:
            threading.Thread(target=self._acts[body[0]], name="notice", daemon=True).start()
        elif member == "NotificationClosed":
            self._acts.pop(body[0], None)
