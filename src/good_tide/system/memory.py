"""Giving memory back to the system after work: a process that idles for hours should be small."""

from __future__ import annotations

import ctypes
import gc


def release_memory() -> None:
    """Collect garbage, and return free memory to the system where the C library offers that
    (malloc_trim(3))."""
    gc.collect()
    trim = getattr(ctypes.CDLL(None), "malloc_trim", None)
    if trim is not None:
        trim(0)
