"""Content-defined chunk borders, found with NumPy.

A border is a place whose 32 preceding bytes satisfy a keyed condition, so that bytes inserted or removed in a
file move the borders along with the content and only the chunks around the edit are new. The condition is
tested in two stages, because testing all positions with 64-bit arithmetic would be several times slower:

1. an 8-bit fingerprint of the preceding 16 bytes, built by four doublings (1, 2, 4, 8, 16 bytes) on ``uint8``
   arrays; one position in 256 survives;
2. for each survivor, a 64-bit mix of the four 8-byte words before it, compared with a threshold.

Both stages take their multipliers from the store's secret: without it, chunk lengths tell nothing about
content.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import blake3
import numpy as np
from numpy.typing import NDArray

Bytes = NDArray[np.uint8]

_WINDOW = 32
"""Bytes before a border that decide about it."""


@dataclass(frozen=True, slots=True)
class ChunkSizes:
    """Limits of chunk lengths, in bytes. ``mean_extra`` is the expected length beyond ``minimum``."""

    minimum: int = 256 * 1024
    mean_extra: int = 512 * 1024
    maximum: int = 4 * 1024 * 1024
    block: int = 256 * 1024
    """Positions tested at once; a block of ``uint8`` and its temporaries stay in the processor's cache."""

    def __post_init__(self) -> None:
        if not _WINDOW <= self.minimum < self.maximum or self.mean_extra < 256:
            raise ValueError("chunk sizes must satisfy 32 <= minimum < maximum and mean_extra >= 256")


DEFAULT_SIZES = ChunkSizes()


class Chunker:
    """Finds chunk borders for one store.

    :param secret: 32 bytes known only to holders of the store's key.
    """

    def __init__(self, secret: bytes, sizes: ChunkSizes = DEFAULT_SIZES) -> None:
        self.sizes = sizes
        stream = blake3.blake3(b"chunk borders", key=secret).digest(length=4 + 4 * 8 + 1)
        self._doubling = [np.uint8(value | 1) for value in stream[:4]]
        self._start = np.uint8(stream[36])
        self._mix = np.frombuffer(stream[4:36], dtype="<u8") | np.uint64(1)
        self._threshold = np.uint64(
            (1 << 64) * 256 // sizes.mean_extra - 1 if sizes.mean_extra > 256 else (1 << 64) - 1
        )
        self._ping = np.empty(sizes.block + 16, dtype=np.uint8)
        self._pong = np.empty(sizes.block + 16, dtype=np.uint8)

    def lengths(self, data: Bytes, at_end: bool) -> Iterator[int]:
        """Yield the lengths of the chunks at the front of ``data`` (a contiguous ``uint8`` array).

        Unless ``at_end``, stops before a chunk whose border could lie beyond the data; the caller moves what
        is left to the front of its buffer and refills it. The buffer must hold more than ``sizes.maximum``
        bytes.
        """
        position, total = 0, len(data)
        while position < total:
            limit = position + self.sizes.maximum
            border = self._first_border(data, position + self.sizes.minimum, min(limit, total))
            if border is None:
                if limit <= total:
                    border = limit
                elif at_end:
                    border = total
                else:
                    return
            yield border - position
            position = border

    def _first_border(self, data: Bytes, start: int, stop: int) -> int | None:
        """The first border ``b`` with ``start <= b < stop``, or None."""
        for low in range(start, stop, self.sizes.block):
            survivors = self._survivors(data, low, min(low + self.sizes.block, stop))
            if len(survivors):
                chosen = survivors[self._passes(data, survivors)]
                if len(chosen):
                    return int(chosen[0])
        return None

    def _survivors(self, data: Bytes, low: int, high: int) -> NDArray[np.int64]:
        """Positions in ``low..high-1`` whose preceding 16 bytes have the fingerprint zero."""
        source = data[low - 16 : high - 1]
        width = 1
        targets = (self._ping, self._pong)
        for step, multiplier in enumerate(self._doubling):
            size = len(source) - width
            target = targets[step % 2][:size]
            np.multiply(source[:size], multiplier, out=target)
            np.add(target, source[width:], out=target)
            source, width = target, width * 2
        return np.flatnonzero(source == self._start) + low

    def _passes(self, data: Bytes, positions: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Whether the 64-bit mix of the 32 bytes before each position lies under the threshold."""
        view: NDArray[np.uint64] = np.ndarray((len(data) - 7,), dtype="<u8", buffer=data, strides=(1,))
        mixed = np.zeros(len(positions), dtype=np.uint64)
        for index, multiplier in enumerate(self._mix):
            mixed ^= view[positions - _WINDOW + 8 * index]
            mixed *= multiplier
            mixed ^= mixed >> np.uint64(29)
        return mixed <= self._threshold
