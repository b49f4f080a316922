"""Identifiers and format facts as types.

All are plain ``bytes`` or ``int`` at run time, so they cost nothing in loops over many files.
"""

from __future__ import annotations

import hashlib
import secrets
from typing import NewType

from good_tide.core.errors import DamageError
from good_tide.core.translation import tr

ChunkId = NewType("ChunkId", bytes)
"""Keyed BLAKE3 of a chunk's plain bytes, 32 bytes."""

PageId = NewType("PageId", bytes)
"""Where a page of a folder's listing lies: the identity of its chunk, and where it is a part of that, offset
and length in it (4 bytes each, little-endian). The same for as long as the page is stored."""

ContentDigest = NewType("ContentDigest", bytes)
"""Identity of one file's content within a store, 16 bytes (see ``docs/format.md``, "Content digest")."""

PackId = NewType("PackId", bytes)
"""Random name of a pack, 16 bytes."""

SnapshotId = NewType("SnapshotId", str)
"""Random name of a snapshot: 32 hexadecimal digits, which are also its file's name in a store."""

StoreId = NewType("StoreId", str)
"""Random name of a store, in its header: 32 hexadecimal digits."""

MachineId = NewType("MachineId", str)
"""Whose history snapshots belong to: drawn once for a machine, and for each further job of it."""

JobId = NewType("JobId", str)
"""A job of this machine, whatever it is called: drawn once and kept in its settings file."""

PlanId = NewType("PlanId", int)
"""A restore plan of the agent, given back to carry it out."""

HistoryId = NewType("HistoryId", str)
"""Stands for the snapshots of one machine in a store and their order (``core.history.history_id``)."""

Nanoseconds = NewType("Nanoseconds", int)
"""A time as nanoseconds since 1970-01-01 00:00 UTC."""

CHUNK_ID_BYTES = 32
DIGEST_BYTES = 16
NAME_BYTES = 16
_JOB_ID_BYTES = 8


def page_id(chunk: ChunkId, offset: int, length: int) -> PageId:
    """Names a page by an extent; of length 0: the whole chunk.

    Raises:
        DamageError: no chunk is as long as that.
    """
    if not length:
        return PageId(chunk)
    try:
        return PageId(chunk + offset.to_bytes(4, "little") + length.to_bytes(4, "little"))
    except OverflowError as error:
        raise DamageError(tr("A folder listing contradicts itself")) from error


def chunk_of(page: PageId) -> ChunkId:
    """The chunk that a page lies in."""
    return ChunkId(page[:CHUNK_ID_BYTES])


def part_of(page: PageId) -> tuple[int, int]:
    """Offset and length of a page in its chunk; of length 0: the whole chunk."""
    return (
        int.from_bytes(page[CHUNK_ID_BYTES : CHUNK_ID_BYTES + 4], "little"),
        int.from_bytes(page[CHUNK_ID_BYTES + 4 :], "little"),
    )


def new_job_id() -> JobId:
    """An identity for a job that is made now."""
    return JobId(secrets.token_hex(_JOB_ID_BYTES))


def job_id_of_name(name: str) -> JobId:
    """The identity of a job whose settings are of a time when jobs had only names: the same for everybody who
    works it out, so that it matters to nobody who keeps it first."""
    digest = hashlib.sha256(f"good-tide job called {name.casefold()}".encode()).hexdigest()
    return JobId(digest[: 2 * _JOB_ID_BYTES])


def local_name(identity: StoreId) -> str:
    """The name of this machine's own files about a store: a digest of the store's id, so that no id leads
    anywhere else."""
    return hashlib.sha256(f"good-tide store {identity}".encode()).hexdigest()[: 2 * NAME_BYTES]


FORMAT_VERSION = 2
"""Version of the store format that new stores get, and the newest that this program reads."""
