"""Files of a server that are kept open to read from them again."""

from __future__ import annotations

import asyncio
import contextlib
from collections import OrderedDict
from collections.abc import Awaitable, Callable
from typing import Generic, TypeVar

from good_tide.servers.server import LineBrokenError, ServerError

F = TypeVar("F")
_MOST = 16


class OpenFiles(Generic[F]):
    """Files by their names, each opened once however many ask for it at once; those that were not asked for
    longest are closed.

    :param opened: opens one. :param close: closes one.
    """

    def __init__(self, opened: Callable[[str], Awaitable[F]], close: Callable[[F], Awaitable[None]]) -> None:
        self._opened, self._close = opened, close
        self._files: OrderedDict[str, asyncio.Future[F]] = OrderedDict()
        self._closing: set[asyncio.Future[None]] = set()

    async def get(self, name: str) -> F:
        """A file, open.

        Raises:
            As what opens it.
        """
        file = self._files.get(name)
        if file is None:
            file = self._files[name] = asyncio.ensure_future(self._opened(name))
            while len(self._files) > _MOST:
                _, oldest = self._files.popitem(last=False)
                self._closing.add(closing := asyncio.ensure_future(self._end(oldest)))
                closing.add_done_callback(self._closing.discard)
        else:
            self._files.move_to_end(name)
        try:
            return await asyncio.shield(file)
        except BaseException:
            if file.done() and self._files.get(name) is file:
                del self._files[name]
            raise

    async def let_go(self, name: str) -> None:
        """Close a file, nothing if it is not open."""
        file = self._files.pop(name, None)
        if file is not None:
            await self._end(file)

    async def _end(self, file: asyncio.Future[F]) -> None:
        with contextlib.suppress(ServerError, LineBrokenError):  # of a line that broke they are closed
            await self._close(await file)

    def forget(self) -> None:
        """They are all closed: the line broke."""
        self._files.clear()
