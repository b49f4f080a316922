"""The developer's log: what the program did, for whoever looks for a fault in it.

It lies in the state folder, one file for each kind of process, and is bounded. Names of people's files, and
what errors say, which may contain some, are left out unless they were asked for: whoever sends it to somebody
shows nothing of anybody's work.
"""

from __future__ import annotations

import logging
import logging.handlers
import os
import sys
import threading
import traceback
from io import TextIOWrapper
from pathlib import Path
from types import TracebackType

_BYTES, _OLDER = 1 << 20, 2
"""Bytes of each file, and how many older ones are kept."""
_FORM = "%(asctime)s %(process)d %(threadName)s %(name)s: %(message)s"

logger = logging.getLogger("good_tide")
logger.addHandler(logging.NullHandler())
logger.propagate = False


class Private:
    """Something that is in the log only if it was asked for: a path, or what an error says."""

    shown = False

    def __init__(self, value: object) -> None:
        self._value = value

    def __str__(self) -> str:
        return str(self._value) if Private.shown else "…"


class _Formatter(logging.Formatter):
    """Shows where an exception came from and of which kind it is; what it says only if that was asked for."""

    def formatException(  # noqa: N802
        self, ei: tuple[type[BaseException], BaseException, TracebackType | None] | tuple[None, None, None]
    ) -> str:
        if Private.shown:
            return super().formatException(ei)
        kind, error, where = ei
        frames = traceback.extract_tb(where)
        lines = [f"  {Path(one.filename).name}:{one.lineno} in {one.name}" for one in frames]
        number = f" {error.errno}" if isinstance(error, OSError) else ""
        return "\n".join([*lines, f"{kind.__name__ if kind is not None else 'nothing'}{number}"])


class _File(logging.handlers.RotatingFileHandler):
    """A file of one's own; a disk that does not take it is no reason not to go on."""

    def _open(self) -> TextIOWrapper:
        Path(self.baseFilename).parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        return open(
            self.baseFilename, "a", encoding="utf-8", opener=lambda path, flags: os.open(path, flags, 0o600)
        )

    def emit(self, record: logging.LogRecord) -> None:
        try:
            super().emit(record)
        except OSError:
            return

    def handleError(self, record: logging.LogRecord) -> None:  # noqa: N802
        """As above."""


def start_log(folder: Path, kind: str, verbose: bool) -> None:
    """Write the log of this process.

    :param folder: where it lies.
    :param kind: what kind of process this is, which names the file.
    :param verbose: write everything, with names of files and what errors say, to standard error too.
    """
    Private.shown = verbose
    logger.setLevel(logging.DEBUG if verbose else logging.INFO)
    handlers: list[logging.Handler] = [
        _File(folder / f"{kind}.log", maxBytes=_BYTES, backupCount=_OLDER, encoding="utf-8", delay=True)
    ]
    if verbose:
        handlers.append(logging.StreamHandler(sys.stderr))
    for handler in handlers:
        handler.setFormatter(_Formatter(_FORM))
        logger.addHandler(handler)
    before, before_thread = sys.excepthook, threading.excepthook

    def fault(kind: type[BaseException], error: BaseException, where: TracebackType | None) -> None:
        logger.error("A fault in the program", exc_info=(kind, error, where))
        before(kind, error, where)

    def fault_in_thread(given: threading.ExceptHookArgs) -> None:
        if given.exc_value is not None:
            logger.error(
                "A fault in a thread", exc_info=(given.exc_type, given.exc_value, given.exc_traceback)
            )
        before_thread(given)

    sys.excepthook, threading.excepthook = fault, fault_in_thread


def end_log() -> None:
    """Write nothing more."""
    for handler in list(logger.handlers):
        if not isinstance(handler, logging.NullHandler):
            logger.removeHandler(handler)
            handler.close()
