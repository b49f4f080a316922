"""Calls are carried out again while the line breaks, and a connection that stands still is given up, unless
the server makes durable what it has."""

from __future__ import annotations

import asyncio
import io
import unittest
from collections.abc import Awaitable, Callable
from unittest import mock

import msgspec

from good_tide.lines.wire import Answered, Asked, Begin, Failed, Put, Trouble, read_frame
from good_tide.servers import helper
from good_tide.servers.server import LineBrokenError, ServerError

Act = Callable[["_Server"], Awaitable[None]]


class _Server:
    """Plays a server: each put is the next of what it was told to do."""

    def __init__(self, *acts: Act) -> None:
        self.acts = list(acts)
        self.again: list[bool] = []
        self.closed = 0
        self.serving: helper._Serving

    async def put(self, name: str, owner: str, data: bytes, exclusive: bool, again: bool) -> None:
        self.again.append(again)
        await self.acts.pop(0)(self)

    async def close(self) -> None:
        self.closed += 1


async def _broken(server: _Server) -> None:
    raise LineBrokenError("reset")


async def _refused(server: _Server) -> None:
    raise ServerError(Trouble.FULL, "no room")


async def _well(server: _Server) -> None:
    """Nothing goes wrong."""


async def _silent(server: _Server) -> None:
    await asyncio.sleep(30)


async def _settling(server: _Server) -> None:
    with server.serving._progress.settling():
        await asyncio.sleep(2.5)


class ServingTest(unittest.TestCase):
    def carried_out(self, server: _Server, patient: bool) -> Answered | Failed:
        """What a put is answered."""
        serving = helper._Serving(Begin("sftp://harbour/store"))
        serving._server, server.serving = server, serving  # type: ignore[assignment]
        out = io.BytesIO()
        with (
            mock.patch.object(helper, "_FIRST_PAUSE", 0.01),
            mock.patch.object(helper, "_TRY_SECONDS", 3.0),
            mock.patch.object(helper, "_STILL_SECONDS", 0.5),
            mock.patch.object(helper, "_AT_ONCE_SECONDS", 0.5),
            mock.patch("sys.stdout", mock.Mock(buffer=out)),
        ):
            asyncio.run(serving.carry_out(Asked(1, Put("packs/x", "me-"), patient), bytearray(b"x")))
        out.seek(0)
        came = read_frame(out)
        assert came is not None
        return msgspec.msgpack.decode(came.message, type=Answered | Failed)

    def test_a_broken_line_is_tried_again_and_the_server_is_told_so(self) -> None:
        server = _Server(_broken, _broken, _broken, _well)
        self.assertEqual(self.carried_out(server, True), Answered(1))
        self.assertEqual(server.again, [False, True, True, True])

    def test_who_does_not_wait_is_told_after_one_more_try(self) -> None:
        server = _Server(_broken, _broken, _well)
        self.assertEqual(self.carried_out(server, False), Failed(1, Trouble.AWAY, "reset"))
        self.assertEqual(server.again, [False, True])

    def test_what_a_server_refuses_is_not_tried_again(self) -> None:
        server = _Server(_refused, _well)
        self.assertEqual(self.carried_out(server, True), Failed(1, Trouble.FULL, "no room"))

    def test_a_connection_that_stands_still_is_given_up(self) -> None:
        server = _Server(_silent, _well)
        self.assertEqual(self.carried_out(server, True), Answered(1))
        self.assertEqual((server.again, server.closed), ([False, True], 1))

    def test_a_server_that_makes_durable_what_it_has_is_waited_for(self) -> None:
        server = _Server(_settling)
        self.assertEqual(self.carried_out(server, True), Answered(1))
        self.assertEqual(server.closed, 0)
