"""What a restore did."""

from __future__ import annotations

from pathlib import Path

import msgspec


class Problem(msgspec.Struct, frozen=True):
    """Something that could not be restored."""

    path: bytes
    reason: str


class RestoreReport(msgspec.Struct):
    """What a restore did. ``strange`` things were set aside that were not there then; ``bytes`` were written;
    ``records`` are folders by which what only created is undone; ``checked`` things were read again from the
    disk and are what the store has;
    ``set_aside`` holds what was replaced, None if nothing was."""

    created: int = 0
    replaced: int = 0
    identical: int = 0
    skipped: int = 0
    strange: int = 0
    bytes: int = 0
    set_aside: tuple[Path, ...] = ()
    records: tuple[Path, ...] = ()
    checked: int = 0
    problems: list[Problem] = []
    metadata_notes: list[Problem] = []
