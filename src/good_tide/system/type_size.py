"""How large a desktop wants its type: GNOME and those that follow it tell it by the settings portal
(org.freedesktop.portal.Settings). On X11 desktops name a resolution for fonts instead, which Qt follows
itself."""

from __future__ import annotations

import os

from good_tide.system.bus import Bus, BusError

_PORTAL, _PATH = "org.freedesktop.portal.Desktop", "/org/freedesktop/portal/desktop"
_SECONDS = 0.5
"""The window does not wait longer for it."""


def desktop_type(session: Bus) -> float:
    """How many times as large as usual type is to be; 1.0 where the desktop does not say."""
    if not os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM", "").startswith("xcb"):
        return 1.0
    wanted = ["org.gnome.desktop.interface", "text-scaling-factor"]
    try:
        found = session.call(
            _PORTAL, _PATH, "org.freedesktop.portal.Settings", "ReadOne", "ss", wanted, _SECONDS
        )[0]
        return float(found.value)
    except (BusError, AttributeError, TypeError, ValueError, IndexError):
        return 1.0
