"""The priority of a thread: Linux keeps both kinds for each thread (setpriority(2), ioprio_set(2)); processes
it starts inherit them."""

from __future__ import annotations

import contextlib
import os
import threading

_LOWEST = 19


def lower_priority() -> None:
    """Give the calling thread the lowest priority for the processor and the disks. It cannot be raised again
    without rights."""
    with contextlib.suppress(OSError):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), _LOWEST)
    import psutil  # loads slowly, and only who works in the background needs it

    with contextlib.suppress(OSError, psutil.Error):
        psutil.Process(threading.get_native_id()).ionice(psutil.IOPRIO_CLASS_IDLE)
