"""Starting the window, in this process."""

from __future__ import annotations

import os
from pathlib import Path

from good_tide.core.errors import PlaceError
from good_tide.desktop import application
from good_tide.operations.workplace import this_workplace
from good_tide.protocol.sockets import agent_socket


def run_window(settings: Path | None) -> int:
    """Open the window on a job.

    Raises:
        PlaceError: there is no display.
    """
    if not has_display():
        raise PlaceError("There is no display to open a window on", "Use the other commands, or set DISPLAY")
    here = this_workplace()
    folder = settings or here.settings
    return application.run_window(agent_socket(here.runtime, folder), folder)


def render_views(settings: Path, target: Path, theme: str = "") -> list[Path]:
    """Paint the main views into PNG files in ``target``, without a display."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    return application.render_views(agent_socket(this_workplace().runtime, settings), settings, target, theme)


def render_set_up(settings: Path, target: Path, theme: str = "") -> list[Path]:
    """Paint the set-up of a machine without a job into PNG files in ``target``, without a display."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    return application.render_set_up(agent_socket(this_workplace().runtime, settings), settings, target, theme)


def has_display() -> bool:
    """Whether there is a display, or Qt was told to do without."""
    return application.has_display() or bool(os.environ.get("QT_QPA_PLATFORM"))
