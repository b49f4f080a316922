"""How large a desktop wants its type: GNOME and those that follow it tell it by the settings portal
(org.freedesktop.portal.Settings), others by the resolution that they name for fonts, which Qt reads
itself."""

from __future__ import annotations

from good_tide.system.bus import Bus, BusError

_PORTAL, _PATH = "org.freedesktop.portal.Desktop", "/org/freedesktop/portal/desktop"
_SECONDS = 0.5
"""The window does not wait longer for it."""


def desktop_type(session: Bus) -> float:
    """How many times as large as usual type is to be; 1.0 where the desktop does not say."""
    wanted = ["org.gnome.desktop.interface", "text-scaling-factor"]
    try:
        found = session.call(
            _PORTAL, _PATH, "org.freedesktop.portal.Settings", "ReadOne", "ss", wanted, _SECONDS
        )[0]
        return float(found.value)
    except (BusError, AttributeError, TypeError, ValueError, IndexError):
        return 1.0
