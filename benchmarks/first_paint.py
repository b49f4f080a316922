"""Seconds from the start of a process to the first full paint of the window: ``first_paint.py SETTINGS
START``."""

from __future__ import annotations

import sys
import time
from pathlib import Path

from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.starting import start_agent_early
from good_tide.system.folders import runtime_folder


def main() -> None:
    """Open the window, wait for history and rows, paint them."""
    settings = Path(sys.argv[1])
    socket = agent_socket(runtime_folder(), settings)
    start_agent_early(socket, settings)
    # As the program does: Qt loads while the agent does.
    from tools.window_driver import Views, wait_until

    from good_tide.desktop.shell.application import make_application
    from good_tide.desktop.shell.window import MainWindow

    _, look = make_application("light")
    window = MainWindow(look, socket, settings)
    views = Views(window)
    window.show()
    window.start()
    wait_until(lambda: window.overview.state == "ready" and bool(views.timeline.model.rows()))
    window.grab()
    print(time.time() - float(sys.argv[2]))
    window.close()


if __name__ == "__main__":
    main()
