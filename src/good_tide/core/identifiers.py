"""Identifiers and format facts as types.

All are plain ``bytes`` or ``int`` at run time, so they cost nothing in loops over many files.
"""

from __future__ import annotations

import hashlib
from typing import NewType

ChunkId = NewType("ChunkId", bytes)
"""Keyed BLAKE3 of a chunk's plain bytes, 32 bytes."""

ContentDigest = NewType("ContentDigest", bytes)
"""Identity of one file's content within a store, 16 bytes (see ``docs/format.md``, "Content digest")."""

PackId = NewType("PackId", bytes)
"""Random name of a pack, 16 bytes."""

SnapshotId = NewType("SnapshotId", bytes)
"""Random name of a snapshot, 16 bytes; shown as 32 hexadecimal digits."""

Nanoseconds = NewType("Nanoseconds", int)
"""A time as nanoseconds since 1970-01-01 00:00 UTC."""

CHUNK_ID_BYTES = 32
DIGEST_BYTES = 16
NAME_BYTES = 16


def local_name(identity: str) -> str:
    """The name of this machine's own files about a store: a digest of the store's id, so that no id leads
    anywhere else."""
    return hashlib.sha256(f"good-tide store {identity}".encode()).hexdigest()[: 2 * NAME_BYTES]


FORMAT_VERSION = 1
"""Version of the store format that this program writes, and the newest it reads."""
