"""The system's own log: journald and every syslog read ``/dev/log`` (RFC 3164 messages)."""

from __future__ import annotations

import logging
import logging.handlers
from pathlib import Path

from good_tide.core.happenings import Event

_SOCKET = "/dev/log"
_LEVELS = {"good": logging.INFO, "note": logging.WARNING, "trouble": logging.ERROR}
_logger: logging.Logger | None = None


def to_system_log(event: Event, socket: str = _SOCKET) -> None:
    """Write an event to the system's log too, where there is one."""
    global _logger
    if _logger is None:
        _logger = logging.Logger("good-tide")
        _logger.addHandler(_handler(socket))
    parts = (f"{event.name}: " if event.name else "", event.what, f". {event.todo}" if event.todo else "")
    _logger.log(_LEVELS[event.level], "%s", "".join(parts))


def _handler(socket: str) -> logging.Handler:
    if Path(socket).is_socket():
        try:
            made = logging.handlers.SysLogHandler(socket)
        except OSError:
            return logging.NullHandler()
        made.ident = "good-tide: "
        return made
    return logging.NullHandler()
