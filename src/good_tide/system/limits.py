"""What this process may use, and what must not get out of it."""

from __future__ import annotations

import contextlib
import os
import resource
import threading

_HANDLES = 16_384
"""Open files and folders: each level of a deep tree holds one open."""


def set_process_limits() -> None:
    """Allow as many open handles as deep trees need, and no picture of the memory, with keys in it, when the
    process dies (core(5))."""
    with contextlib.suppress(OSError, ValueError):
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = _HANDLES if hard == resource.RLIM_INFINITY else min(_HANDLES, hard)
    if soft != resource.RLIM_INFINITY and soft < wanted:
        with contextlib.suppress(OSError, ValueError):
            resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, hard))


def exit_after(seconds: float, code: int) -> threading.Timer:
    """End this process with an exit code after a while, whatever holds it up; unless the timer is cancelled,
    or the process ends before."""
    timer = threading.Timer(seconds, os._exit, (code,))
    timer.daemon = True
    timer.start()
    return timer
