"""Keeping secrets out of swap, as far as the system allows it."""

from __future__ import annotations

import ctypes

_libc = ctypes.CDLL(None, use_errno=True)


def keep_in_memory(secret: bytes) -> bool:
    """Ask that the page with a secret is never written to swap (mlock(2)); whether that was granted.

    Copies that libraries make for themselves are not reached: a machine whose swap somebody may read wants it
    encrypted.
    """
    at = ctypes.cast(ctypes.c_char_p(secret), ctypes.c_void_p)
    return bool(_libc.mlock(at, ctypes.c_size_t(len(secret))) == 0)
