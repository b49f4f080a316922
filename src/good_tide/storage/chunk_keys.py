"""Keys of chunks: the first eight bytes of their identities, in columns.

Of a million chunks, two have the same key once in 10^7 stores, and are then taken for one.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from good_tide.core.identifiers import CHUNK_ID_BYTES, ChunkId

Keys = NDArray[np.uint64]


def keys_of(identities: bytes) -> Keys:
    """The keys of identities that lie one after the other."""
    return np.frombuffer(identities, dtype=">u8").reshape(-1, CHUNK_ID_BYTES // 8)[:, 0].astype(np.uint64)


def are_among(keys: Keys, among: Keys) -> NDArray[np.bool_]:
    """Which keys are among some that rise, however many those are."""
    if not len(among):
        return np.zeros(len(keys), dtype=bool)
    at = np.minimum(np.searchsorted(among, keys), len(among) - 1)
    found: NDArray[np.bool_] = among[at] == keys
    return found


def each_id(identities: bytes) -> Iterator[ChunkId]:
    """Identities that lie one after the other, one by one."""
    for at in range(0, len(identities), CHUNK_ID_BYTES):
        yield ChunkId(identities[at : at + CHUNK_ID_BYTES])
