"""Starting the window, in this process."""

from __future__ import annotations

import os
from pathlib import Path

from good_tide.core.errors import PlaceError
from good_tide.core.translation import tr
from good_tide.operations.workplace import this_workplace
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.starting import start_agent_early
from good_tide.system.bus import Bus
from good_tide.system.type_size import desktop_type


def run_window(settings: Path | None, job: str = "", view: str = "", size: float | None = None) -> int:
    """Open the window, at a view of a job if they are named.

    :param size: how large type is from now on; 0: as the desktop says; None: as it was chosen before.

    Raises:
        PlaceError: there is no display.
    """
    if not has_display():
        raise PlaceError(
            tr("There is no display to open a window on"), tr("Use the other commands, or set DISPLAY")
        )
    here = this_workplace()
    folder = settings or here.settings
    socket = agent_socket(here.runtime, folder)
    start_agent_early(socket, folder)
    from good_tide.desktop.shell import application  # Qt loads while the agent does
    from good_tide.desktop.shell.type_size import choose_type

    if size is not None:
        choose_type(size)
    return application.run_window(
        socket, folder, job, view, desktop_type=lambda: desktop_type(Bus("session"))
    )


def run_panel() -> int:
    """Show the icon in the desktop's panel.

    Raises:
        PlaceError: there is no display.
    """
    if not has_display():
        raise PlaceError(tr("There is no display with a panel"), tr("Use the other commands, or set DISPLAY"))
    here = this_workplace()
    socket = agent_socket(here.runtime, here.settings)
    start_agent_early(socket, here.settings)
    from good_tide.desktop.shell import application  # as above

    return application.run_panel(socket, here.settings)


def has_display() -> bool:
    """Whether there is a display, or Qt was told to do without."""
    return any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"))
