"""Lines that lose packets, as radio does."""

from __future__ import annotations

import contextlib
import socket
from typing import Any

_BY_WHAT_ARRIVES = b"bbr"


def expect_loss(connected: socket.socket | Any) -> None:
    """Let the system send as fast as packets arrive (BBR, draft-ietf-ccwg-bbr), not more slowly with each one
    that is lost; where it has no such way, or keeps it for itself, nothing changes.

    :param connected: a socket of TCP, or what stands for one.
    """
    with contextlib.suppress(OSError):
        connected.setsockopt(socket.IPPROTO_TCP, socket.TCP_CONGESTION, _BY_WHAT_ARRIVES)
