"""Starting the window, in this process."""

from __future__ import annotations

import os
from pathlib import Path

from good_tide.core.errors import PlaceError
from good_tide.operations.workplace import this_workplace
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.starting import start_agent_early


def run_window(settings: Path | None, job: str = "", place: str = "") -> int:
    """Open the window, at a place of a job if they are named.

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

    return application.run_window(socket, folder, job, place)


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


def render_views(settings: Path, target: Path, theme: str = "") -> list[Path]:
    """Paint the main views into PNG files in ``target``, without a display."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from good_tide.desktop.shell import application  # as above

    return application.render_views(agent_socket(this_workplace().runtime, settings), settings, target, theme)


def render_set_up(settings: Path, target: Path, theme: str = "") -> list[Path]:
    """Paint the set-up of a machine without a job into PNG files in ``target``, without a display."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from good_tide.desktop.shell import application  # as above

    return application.render_set_up(
        agent_socket(this_workplace().runtime, settings), settings, target, theme
    )


def has_display() -> bool:
    """Whether there is a display, or Qt was told to do without."""
    return any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"))
