"""Where the agent listens, and that nobody else listens there: passphrases go over this socket."""

from __future__ import annotations

import hashlib
import os
import socket
import stat
import struct
from pathlib import Path

from good_tide.core.errors import PlaceError
from good_tide.core.translation import tr

NOT_OURS = tr("A process of somebody else answers in place of the agent")
_CREDENTIALS = "3i"
"""Process, user and group of the other end (unix(7), SO_PEERCRED)."""


def agent_socket(runtime: Path, settings: Path) -> Path:
    """The socket of the agent that serves the job in a settings folder. Short: the system allows 107
    bytes."""
    return runtime / f"agent-{hashlib.sha256(os.fsencode(os.path.abspath(settings))).hexdigest()[:12]}.sock"


def make_private(folder: Path) -> None:
    """Make the folder for sockets, unless it is there already and one's own.

    Raises:
        PlaceError: it is somebody else's, or open to others.
    """
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    check_private(folder)


def check_private(folder: Path) -> None:
    """Refuse a folder for sockets in which somebody else could listen.

    Raises:
        PlaceError: it is somebody else's, open to others, or a link. OSError: it is not there.
    """
    info = os.lstat(folder)
    if not stat.S_ISDIR(info.st_mode) or info.st_uid != os.geteuid() or info.st_mode & 0o077:
        raise PlaceError(
            tr(
                "{folder}, where the agent is spoken with, is not a folder of your own that nobody else can"
                " enter"
            ).format(folder=folder),
            tr("Remove it if it is yours, or set XDG_RUNTIME_DIR to a folder of your own with mode 0700"),
        )


def is_own_process(handle: int) -> bool:
    """Whether the other end of a connected Unix socket, given by its handle, is a process of the same
    user."""
    with socket.socket(fileno=os.dup(handle)) as connected:
        answer = connected.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, struct.calcsize(_CREDENTIALS))
    return bool(struct.unpack(_CREDENTIALS, answer)[1] == os.geteuid())


def answers(path: Path) -> bool:
    """Whether somebody accepts connections on a socket."""
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as probe:
        try:
            probe.connect(str(path))
        except OSError:
            return False
        return True
