"""Small chunks, so that little content has many."""

from __future__ import annotations

import numpy as np

from good_tide.storage.chunker import Chunker, ChunkSizes

SMALL = ChunkSizes(minimum=512, mean_extra=1024, maximum=8192, block=4096)


def lengths(data: bytes, secret: bytes = b"s" * 32, sizes: ChunkSizes = SMALL) -> list[int]:
    return list(Chunker(secret, sizes).lengths(np.frombuffer(data, dtype=np.uint8), True))
