"""A command that meets an agent of another version."""

from __future__ import annotations

import threading

from good_tide.core.errors import PlaceError
from good_tide.operations.workplace import this_workplace
from good_tide.protocol.client import agent_client
from good_tide.protocol.schedule_calls import ReadStandings
from good_tide.protocol.server import Server
from good_tide.protocol.sockets import agent_socket
from tests.support.base import GoodTideTest, program


class OtherVersionTest(GoodTideTest):
    """An agent that knows none of the calls of today."""

    def setUp(self) -> None:
        super().setUp()
        here = this_workplace()
        self.socket = agent_socket(here.runtime, here.settings)
        server = Server(self.socket, (), lambda count: None)
        thread = threading.Thread(target=server.serve)
        thread.start()
        self.addCleanup(thread.join)
        self.addCleanup(server.close)

    def test_it_is_said_what_to_do(self) -> None:
        with (
            agent_client(self.socket) as agent,
            self.assertRaisesRegex(PlaceError, "another version.*[Rr]estart it"),
        ):
            assert agent is not None
            agent.ask(ReadStandings())

    def test_what_a_command_does_by_itself_is_done(self) -> None:
        self.assertEqual(program("pause", "--for", "2h").returncode, 0)
        self.assertEqual(program("resume").returncode, 0)
