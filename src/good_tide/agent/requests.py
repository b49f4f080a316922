"""What clients ask of the agent, beyond what the desks declare."""

from __future__ import annotations

import msgspec

from good_tide.core.settings import StoreUse
from good_tide.protocol.messages import PickedItem


class PathRequest(msgspec.Struct):
    """One path."""

    path: bytes


class PathAtRequest(msgspec.Struct):
    """A path in the snapshot of a number."""

    path: bytes
    seq: int


class WordsRequest(msgspec.Struct):
    """Some words: a name, a folder, a search."""

    words: str


class PlanRequest(msgspec.Struct):
    """What is to be restored, and where to; empty: to where it was."""

    items: tuple[PickedItem, ...]
    into: str = ""
    existing: str = "set-aside"


class NumberRequest(msgspec.Struct):
    """The number of a plan."""

    number: int


class UnlockRequest(msgspec.Struct):
    """A passphrase, to be remembered or not."""

    words: str
    remember: bool = False


class CoverageRequest(msgspec.Struct):
    """Folders and rules to be kept."""

    folders: tuple[str, ...]
    rules: tuple[str, ...]


class WhyRequest(msgspec.Struct):
    """A path that is asked about under some folders and rules."""

    path: bytes
    folders: tuple[str, ...]
    rules: tuple[str, ...]
    home: str = ""


class UseRequest(msgspec.Struct):
    """How several stores are used."""

    use: StoreUse


class TwoRequest(msgspec.Struct):
    """Two paths."""

    one: str
    other: str


class CarryRequest(msgspec.Struct):
    """Folders of the stores to carry from and to."""

    source: str
    target: str
