"""What is known of each pack of a store, for a picture of its health."""

from __future__ import annotations

import enum

import msgspec


class PackState(enum.StrEnum):
    """How a pack is, as far as is known."""

    UNREAD = "unread"
    """It was not read back yet."""
    WHOLE = "whole"
    MENDED = "mended"
    """It was damaged, and put right."""
    DAMAGED = "damaged"
    """It is damaged, and nothing needs what it lost."""
    LOST = "lost"
    """Something that snapshots need is nowhere else."""


class PackView(msgspec.Struct, frozen=True, array_like=True):
    """A pack: its name, bytes, since when it is known here, when it was last read back (seconds since 1970
    UTC, 0: never), and how it is."""

    name: str
    size: int
    since: int
    read: int
    state: PackState
