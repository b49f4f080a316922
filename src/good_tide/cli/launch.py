"""Starting the window, in this process."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable
from pathlib import Path

from good_tide.core.errors import PlaceError
from good_tide.core.translation import tr
from good_tide.operations.workplace import this_workplace
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.starting import start_agent_early
from good_tide.protocol.wishes import Wish, hand_over
from good_tide.system.application_service import ApplicationService, Asked
from good_tide.system.bus import Bus
from good_tide.system.jobs import own_settings_folder
from good_tide.system.service import own_command
from good_tide.system.type_size import desktop_type

_ACTIONS = {"snapshot": ("snapshot",), "end-of-day": ("run-due", "--then", "power-off")}
"""What the actions of the desktop entry do, by command."""


def run_window(
    settings: Path | None, wish: Wish | None = None, size: float | None = None, activated: bool = False
) -> int:
    """Open the window, with what is wished for.

    :param size: how large type is from now on; 0: as the desktop says; None: as it was chosen before.
    :param activated: the session's bus starts the program, and says next what is wanted.

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
    wish = wish or Wish()
    if size is None and not activated and hand_over(socket, wish):
        return 0
    start_agent_early(socket, folder)
    from good_tide.desktop.shell import application  # Qt loads while the agent does
    from good_tide.desktop.shell.type_size import choose_type

    if size is not None:
        choose_type(size)
    own = folder == own_settings_folder()
    return application.run_window(
        socket,
        folder,
        wish,
        desktop_type=lambda: desktop_type(Bus("session")),
        listen=_listen if own else None,
        waits=activated,
    )


def _listen(wanted: Callable[[Wish], None]) -> None:
    """Let desktops and file managers reach the window by the session's bus."""

    def asked(one: Asked) -> None:
        if one.action in _ACTIONS:
            subprocess.Popen([*own_command(), *_ACTIONS[one.action]], start_new_session=True)
        elif not one.action:
            view = "timeline" if one.path else ""
            wanted(Wish(view=view, path=one.path, token=one.token))

    ApplicationService(asked).begin()


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
