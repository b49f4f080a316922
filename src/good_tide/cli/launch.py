"""Starting the window, in this process."""

from __future__ import annotations

import os
from pathlib import Path

from good_tide.core.errors import PlaceError
from good_tide.operations.workplace import this_workplace
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.starting import start_agent_early


def run_window(settings: Path | None, job: str = "", view: str = "") -> int:
    """Open the window, at a view of a job if they are named.

    Raises:
        PlaceError: there is no display.
    """
    if not has_display():
        raise PlaceError("There is no display to open a window on", "Use the other commands, or set DISPLAY")
    here = this_workplace()
    folder = settings or here.settings
    socket = agent_socket(here.runtime, folder)
    start_agent_early(socket, folder)
    from good_tide.desktop.shell import application  # Qt loads while the agent does

    return application.run_window(socket, folder, job, view)


def run_panel() -> int:
    """Show the icon in the desktop's panel.

    Raises:
        PlaceError: there is no display.
    """
    if not has_display():
        raise PlaceError("There is no display with a panel", "Use the other commands, or set DISPLAY")
    here = this_workplace()
    socket = agent_socket(here.runtime, here.settings)
    start_agent_early(socket, here.settings)
    from good_tide.desktop.shell import application  # as above

    return application.run_panel(socket, here.settings)


def has_display() -> bool:
    """Whether there is a display, or Qt was told to do without."""
    return any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"))
