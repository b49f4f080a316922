"""Passphrases that cost a test next to nothing: what makes a slot makes it with a small cost, and opening it
takes what the slot says."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from unittest import mock

from good_tide.crypto.slots import STRONG, Cost
from good_tide.storage import header, keyslots

CHEAP = Cost(memory_kib=64, passes=1, lanes=1)
_MAKERS = (
    header.create_store,
    keyslots.change_passphrase,
    keyslots.add_passphrase,
    keyslots.add_recovery,
)


@contextlib.contextmanager
def cheap_keys() -> Iterator[None]:
    """New slots are cheap in this process."""
    with contextlib.ExitStack() as patches:
        for maker in _MAKERS:
            assert maker.__defaults__ is not None
            cheap = tuple(CHEAP if value is STRONG else value for value in maker.__defaults__)
            patches.enter_context(mock.patch.object(maker, "__defaults__", cheap))
        yield
