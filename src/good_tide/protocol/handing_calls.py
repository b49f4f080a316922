"""Handing out what was: copies for other programs, archives."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from good_tide.protocol.contract import JobCall
from good_tide.protocol.restore_calls import PickedItem


class CopiesView(msgspec.Struct, frozen=True):
    """Copies of what was asked for.

    :param coming: there is so much, ``size`` bytes, that they are being made now: who asks again when that
        has ended gets them at once.
    :param problems: what could not be copied, with why, in sentences.
    """

    paths: tuple[str, ...]
    size: int = 0
    problems: tuple[str, ...] = ()
    coming: bool = False


class MakeCopies(JobCall[CopiesView], frozen=True):
    """Have copies of some things for other programs. They are cleared away after some days."""

    may_block: ClassVar[bool] = True
    items: tuple[PickedItem, ...]


class SaveArchive(JobCall[None], frozen=True):
    """Begin to save some things as an archive, which its ending says the kind of.

    :param sums: with a file of the SHA-256 of each file beside it.
    """

    may_block: ClassVar[bool] = True
    items: tuple[PickedItem, ...]
    target: str
    sums: bool = False
