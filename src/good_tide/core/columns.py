"""Columns of integers as compact bytes.

A column of ``n`` signed 64-bit integers is stored as differences from the value before (the first from zero), each
difference folded to an unsigned number (0, -1, 1, -2 … become 0, 1, 2, 3 …), and the resulting little-endian
64-bit words transposed into eight planes of ``n`` bytes. Planes after the last one that is not all zero are left out.
The first byte says how many planes follow. Equal high bytes end up side by side, which is what compression wants.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from good_tide.core.errors import DamageError

Column = NDArray[np.int64]


def encode_column(values: Sequence[int] | Column) -> bytes:
    """The bytes of a column of signed 64-bit integers."""
    column = np.asarray(values, dtype=np.int64)
    if not len(column):
        return b"\0"
    steps = np.diff(column, prepend=np.int64(0))
    folded = ((steps << 1) ^ (steps >> 63)).astype("<u8")
    planes = np.ascontiguousarray(folded.view(np.uint8).reshape(-1, 8).T)
    used = int(np.flatnonzero(planes.any(axis=1)).max(initial=-1)) + 1
    return bytes([used]) + planes[:used].tobytes()


def decode_column(data: bytes, count: int) -> Column:
    """The ``count`` integers of an encoded column.

    Raises:
        DamageError: the length does not fit.
    """
    used = data[0] if data else 9
    if used > 8 or len(data) != 1 + used * count:
        raise DamageError("A column of numbers has the wrong length")
    planes = np.zeros((count, 8), dtype=np.uint8)
    if used:
        planes[:, :used] = np.frombuffer(data, dtype=np.uint8, offset=1).reshape(used, count).T
    folded = planes.reshape(-1).view("<u8")
    steps = (folded >> np.uint64(1)).astype(np.int64) ^ -(folded & np.uint64(1)).astype(np.int64)
    return np.cumsum(steps, dtype=np.int64)
