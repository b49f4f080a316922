"""Lets a person choose the program for a file: the desktop's own dialog, by its portal
(org.freedesktop.portal.OpenURI)."""

from __future__ import annotations

import os
from pathlib import Path

from good_tide.core.errors import PlaceError
from good_tide.core.translation import tr
from good_tide.system.bus import Bus, BusError

_PORTAL, _PATH = "org.freedesktop.portal.Desktop", "/org/freedesktop/portal/desktop"
_SECONDS = 10.0


class ProgramChoice:
    """Asks with which program a file is opened."""

    def __init__(self, session: Bus) -> None:
        self._session = session

    def open_with(self, file: Path) -> None:
        """Ask, and have the file opened; nothing waits for what is chosen.

        Raises:
            PlaceError: this desktop does not ask.
        """
        from dbus_fast import Variant  # loads the bus library

        handle = os.open(file, os.O_RDONLY | os.O_CLOEXEC)
        try:
            self._session.call(
                _PORTAL,
                _PATH,
                "org.freedesktop.portal.OpenURI",
                "OpenFile",
                "sha{sv}",
                ["", 0, {"ask": Variant("b", True), "writable": Variant("b", False)}],
                _SECONDS,
                handles=(handle,),
            )
        except BusError as error:
            raise PlaceError(
                tr("This desktop does not ask which program to use ({error})").format(error=error.what),
                tr("The copy is {file}; “Open a copy” takes the usual program").format(file=file),
            ) from error
        finally:
            os.close(handle)
