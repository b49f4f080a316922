"""Going on with another disk where a store was replaced or emptied."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from good_tide.protocol.setup_calls import MadeView
from good_tide.protocol.store_calls import StoreCall


class ReplacedView(msgspec.Struct, frozen=True):
    """What a person is asked before going on with what is in the place of a store.

    :param where: how the place is called.
    :param waiting: snapshots that wait on this machine for the old store.
    :param left: snapshots that waited for an even older one, and could not be carried over.
    :param encrypted: the old store was; ``hint`` of its passphrase; ``known``: it need not be asked for.
    :param other: another store is in its place; ``other_hint`` of that one's passphrase, None: it needs none.
    """

    where: str
    waiting: int = 0
    left: int = 0
    encrypted: bool = False
    hint: str = ""
    known: bool = False
    other: bool = False
    other_hint: str | None = None


class LookAtReplaced(StoreCall[ReplacedView], frozen=True):
    """What is in the place of the store, and what waits for it."""

    may_block: ClassVar[bool] = True


class ReplaceStore(StoreCall[MadeView], frozen=True):
    """Go on with what is in the place of the store: the store there, or a new one that is made at once. Then
    begins to take a snapshot into it, and to carry over what waits.

    :param passphrase: of the old store; empty: the one that is known.
    :param of_other: of the store that is there; empty: the same.
    """

    may_block: ClassVar[bool] = True
    passphrase: str = ""
    of_other: str = ""


class CarryLeft(StoreCall[None], frozen=True):
    """Begin to try again to carry over what was left behind.

    :param passphrase: of the old store; empty: the one that is known.
    """

    may_block: ClassVar[bool] = True
    passphrase: str = ""


class LetLeftGo(StoreCall[None], frozen=True):
    """Forget what was left behind."""

    may_block: ClassVar[bool] = True
