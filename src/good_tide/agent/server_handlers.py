"""Folders on servers, tried from the window."""

from __future__ import annotations

from collections.abc import Callable

from good_tide.core.addresses import address
from good_tide.core.places import Wanted
from good_tide.operations.context import Context
from good_tide.operations.places.servers import (
    Given,
    folders_in,
    give,
    keep_given,
    known_servers,
    try_server,
)
from good_tide.operations.stores.disks import known_store_ids
from good_tide.operations.workplace import load_jobs
from good_tide.protocol.contract import Handler
from good_tide.protocol.server_calls import ReadKnownServers, ServerView, TryServer
from good_tide.system.keyrings import answers


class ServerHandlers:
    """Tries servers, and keeps logins by choice.

    :param announced: addresses of servers that announce themselves in the network.
    """

    def __init__(self, context: Context, announced: Callable[[], list[str]]) -> None:
        self._context, self._announced = context, announced
        self._let_in: dict[str, Given] = {}
        """With what servers let in that nobody keeps, for other folders of theirs."""

    def handlers(self) -> tuple[Handler, ...]:
        """What clients may ask."""
        return (TryServer.by(self.try_server), ReadKnownServers.by(self.known))

    def try_server(self, wanted: TryServer) -> ServerView:
        """A folder on a server as the place of a store.

        Raises:
            PersonError: the address cannot be meant. PlaceError: the login cannot be kept.
        """
        context, place = self._context, address(wanted.address, whole=True)
        given = Given(wanted.password, wanted.key_passphrase, wanted.fingerprint)
        secret = given.password is not None or given.key_passphrase is not None
        if given == Given():
            given = self._let_in.get(place.server, given)
        if given != Given():
            give(place, given)
        known = known_store_ids(load_jobs(context.here.settings), context.whereabouts)
        tried = try_server(place, Wanted(), known, False)
        if tried.refused and secret:
            give(place, Given())  # what does not let in is not tried by others
        elif secret:
            self._let_in[place.server] = given
        if wanted.keep and not tried.refused:
            keep_given(
                context.here.settings, context.ring, place, given, "ring" if answers(context.ring) else "file"
            )
        context.whereabouts.look_again(str(place))
        return ServerView(
            str(place),
            tried.disk.name,
            tried.checks,
            tried.need,
            tried.shown,
            tried.refused,
            tried.missing,
            tuple(folders_in(place)) if not tried.refused and not tried.missing else (),
        )

    def known(self, wanted: ReadKnownServers) -> list[str]:
        """Addresses that this machine knows, and those that announce themselves."""
        known = known_servers(load_jobs(self._context.here.settings))
        return list(dict.fromkeys((*known, *self._announced())))
