"""What is known of a login: what was given a moment ago, what files keep, and what the key ring has."""

from __future__ import annotations

import asyncio

from good_tide.core.errors import PlaceError
from good_tide.lines.wire import Begin, Trouble
from good_tide.servers.server import ServerError
from good_tide.system import logins
from good_tide.system.keyrings import KeyRing

_RING_SECONDS = 20.0


class Answers:
    """Answers what a server asks of who logs in.

    :param server: the address without its path.
    """

    def __init__(self, server: str, given: Begin, kept: logins.Login, ring: KeyRing) -> None:
        self._server, self._given, self._kept, self._ring = server, given, kept, ring
        self._ring_said = ""

    async def known_password(self) -> str | None:
        """The password, where there is one."""
        known = self._given.password or self._kept.password
        return known if known is not None else await self._recall(logins.ring_name(self._server))

    async def _recall(self, name: str) -> str | None:
        """What the key ring has; nothing where nobody unlocks it in time."""
        try:
            return await asyncio.wait_for(asyncio.to_thread(self._ring.recall, name), _RING_SECONDS)
        except PlaceError as error:
            self._ring_said = error.what
        except TimeoutError:
            self._ring_said = ""
        return None

    def refusal(self, said: str = "") -> ServerError:
        """Why it does not let in."""
        return ServerError(Trouble.LOGIN, self._ring_said or said)
