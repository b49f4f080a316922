"""What somebody wants to see who opens the window, and handing that to the window that is open already: by a
socket beside the agent's, without loading what draws windows."""

from __future__ import annotations

import socket
from pathlib import Path

import msgspec

from good_tide.protocol.sockets import is_own_process, make_private

WISH_END = b"\n"
_SECONDS = 2.0


class Wish(msgspec.Struct, frozen=True):
    """What is to be shown; all of it may be empty, and then what is shown stays.

    :param job: its identity or name. :param view: by the name of its icon.
    :param path: absolute, as the system has it. :param before: in the last snapshot before this time,
        nanoseconds since 1970 UTC; 0: in the newest.
    :param missing: what is missing in the folder ``path``.
    :param token: by which the desktop lets the window come to the front (the xdg-activation protocol of
        Wayland, or startup notification).
    """

    job: str = ""
    view: str = ""
    path: bytes = b""
    before: int = 0
    missing: bool = False
    token: str = ""


def window_door(agent: Path) -> Path:
    """Where the window of an agent, given by its socket, takes wishes."""
    return agent.with_name(f"{agent.stem}.window")


def hand_over(agent: Path, wish: Wish) -> bool:
    """Let a window that is open already show what is wished for; whether there is one.

    Raises:
        PlaceError: somebody else could listen there.
    """
    make_private(agent.parent)
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as window:
        window.settimeout(_SECONDS)
        try:
            window.connect(str(window_door(agent)))
            if not is_own_process(window.fileno()):
                return False
            window.sendall(msgspec.json.encode(wish) + WISH_END)
        except OSError:
            return False
    return True
