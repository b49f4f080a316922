"""Calls about folders on servers."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from good_tide.core.places import Check, ServerNeed
from good_tide.protocol.contract import Call


class ServerView(msgspec.Struct, frozen=True):
    """A folder on a server, as a place for a store.

    :param address: as it is kept.
    :param server: what the server is called.
    :param need: what has to be given first; ``shown`` the fingerprint of its key, for ``ServerNeed.KEY``.
    :param refused: it does not answer, is not to be trusted, or does not let in.
    :param missing: the folder is not there yet; the nearest one that is was tried.
    :param folders: names of the folders in it.
    """

    address: str
    server: str
    checks: tuple[Check, ...]
    need: ServerNeed = ServerNeed.NOTHING
    shown: str = ""
    refused: bool = False
    missing: bool = False
    folders: tuple[str, ...] = ()


class TryServer(Call[ServerView], frozen=True):
    """Try a folder on a server, with what somebody gives for the login; that is kept once the server has let
    in, if ``keep`` says so: in the key ring, or without one in a file that only the person can read.

    :param fingerprint: of the server's key, which somebody has said to be the right one.
    """

    may_block: ClassVar[bool] = True
    address: str
    password: str | None = None
    key_passphrase: str | None = None
    fingerprint: str = ""
    keep: bool = False


class ReadKnownServers(Call[list[str]], frozen=True):
    """Addresses of folders on servers that this machine knows: of its stores, from the file manager's
    bookmarks, and those that announce themselves in the network, which may take a moment."""

    may_block: ClassVar[bool] = True
